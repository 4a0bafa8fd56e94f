//! Chooses a type for each column: one that holds every value, with room for the next.

mod phrases;
mod sizes;

use self::phrases::{are, have, named, no_number, values_of};
use self::sizes::{decimal_of, is_usual, room, two_digits};
use crate::draft::inferred::{Chosen, Inferred};
use crate::draft::judge;
use crate::draft::judge::{Class, Judgement, Order};
use crate::draft::layout::{Heading, Layout, Part, Shape};
use crate::draft::patterns::KNOWN;
use crate::draft::profile::{MARKS, Profile};
use crate::draft::remark::Remark;
use crate::escape::escape_for_display;
use crate::types::Type;

/// Digits that binary floating point keeps, whatever they are.
const FLOAT_DIGITS: u32 = 15;

/// Proposes the columns of one part.
pub fn columns(
    shape: &Shape,
    part: &Part,
    profiles: &[Profile],
    distinct: &[bool],
    judgement: &Judgement,
    tight: bool,
) -> Vec<Chosen> {
    let by_name = shape.by_name();
    let each = profiles.iter().zip(distinct).enumerate();
    each.map(|(place, (profile, distinct))| {
        let name = part.names[place].clone();
        let original = &part.header[place];
        let class = judge::class(profile, judgement);
        let chooser = Chooser {
            p: profile,
            judgement,
            distinct: *distinct,
            tight,
            is_fixed: shape.layout == Layout::Fixed,
        };
        let (choice, mut remarks) = chooser.choose(class);
        for remark in &mut remarks {
            remark.column = Some(name.clone());
        }
        Chosen {
            from: (by_name && *original != name).then(|| original.clone()),
            evidence: crate::draft::evidence::line(profile, &choice, *distinct),
            is_nothing: original.trim().is_empty()
                && profile.values == 0
                && profile.quoted_empty == 0
                && shape.heading != Heading::None,
            name,
            choice,
            remarks,
        }
    })
    .collect()
}

struct Chooser<'p> {
    p: &'p Profile,
    judgement: &'p Judgement,
    distinct: bool,
    tight: bool,
    is_fixed: bool,
}

impl Chooser<'_> {
    fn choose(&self, class: Class) -> (Inferred, Vec<Remark>) {
        let p = self.p;
        let mut remarks = Vec::new();
        let mut choice = match class {
            Class::Number => self.number(&mut remarks),
            Class::Moment => self.moment(&mut remarks).unwrap_or_else(|| self.text()),
            Class::Truth => self.truth(),
            Class::Uuid => Inferred::new(Type::Uuid),
            Class::Json => Inferred::new(Type::Json),
            Class::Text | Class::Nothing => self.text(),
        };
        if choice.ty.is_text() {
            self.text_remarks(class, &mut choice, &mut remarks);
        } else {
            choice.trim = p.blanks > 0 && !self.judgement.trims && !self.is_fixed;
            // What stands for null here is said once, for all columns.
            choice.null_words = Vec::new();
        }
        (choice, remarks)
    }

    fn number(&self, remarks: &mut Vec<Remark>) -> Inferred {
        let p = self.p;
        let values = judge::told(p);
        let fitting = judge::fitting(p, values);
        let place = self.marks(&fitting);
        let is_whole = p.exponents == 0 && p.marks[place].fraction == 0;
        let mut choice = Inferred::new(match is_whole {
            true => self.whole(place, remarks),
            false => self.decimal(place),
        });
        if choice.ty.is_text() {
            return self.text();
        }
        if p.whole < values && place > 0 {
            let (decimal, group) = MARKS[place];
            choice.marks = Some((decimal.into(), group.into()));
        }
        self.undecided_marks(&fitting, place, remarks);
        choice.take_off = p.worn.iter().map(|(worn, _)| (*worn).to_string()).collect();
        if let Some((worn, times)) = p.worn.first() {
            let bare = values - times;
            remarks.push(Remark::new(
                match bare {
                    0 => {
                        format!("\"{worn}\" around the numbers is removed, and its meaning with it")
                    }
                    bare => {
                        format!("\"{worn}\" is removed, and {bare} of the {values} numbers lack it")
                    }
                },
                format!("type = \"varchar({})\"", room(p.longest)),
            ));
        }
        choice.sign = (p.in_parentheses > 0 || p.signs_behind > 0).then_some("any");
        choice
    }

    /// The marks to read by: those that another column proves, where this column fits both.
    fn marks(&self, fitting: &[usize]) -> usize {
        let proven = self.judgement.decimal;
        let by_proof = fitting
            .iter()
            .find(|place| Some(MARKS[**place].0) == proven);
        by_proof.or(fitting.first()).copied().unwrap_or(0)
    }

    /// The same text would be another number by another mark.
    fn undecided_marks(&self, fitting: &[usize], place: usize, remarks: &mut Vec<Remark>) {
        let p = self.p;
        if p.whole == judge::told(p) || self.judgement.decimal == Some(MARKS[place].0) {
            return;
        }
        let otherwise = fitting
            .iter()
            .find(|other| MARKS[**other].0 != MARKS[place].0);
        if let Some(other) = otherwise {
            let (decimal, group) = MARKS[*other];
            let example = p.examples.first().map_or("", String::as_str);
            remarks.push(Remark::new(
                format!(
                    "\"{}\" may have a decimal mark or a group mark; the decimal mark is taken for \"{}\"",
                    escape_for_display(example.as_bytes()),
                    MARKS[place].0
                ),
                match group {
                    "" => format!("decimal_mark = \"{decimal}\""),
                    group => format!("decimal_mark = \"{decimal}\", group_mark = \"{group}\""),
                },
            ));
        }
    }

    fn whole(&self, place: usize, remarks: &mut Vec<Remark>) -> Type {
        let p = self.p;
        let parted = p.marks[place]
            .range
            .map(|(low, high)| (low as i128, high as i128));
        let ranges = [p.range, parted].into_iter().flatten();
        let range = ranges.reduce(|(a, b), (c, d)| (a.min(c), b.max(d)));
        let (least, most) = range.unwrap_or((0, 0));
        let within = |low: i128, high: i128| least >= low && most <= high && p.beyond == 0;
        self.may_be_moments(least, most, remarks);
        if self.tight && within(i16::MIN.into(), i16::MAX.into()) {
            return Type::SmallInt;
        }
        // A key goes on; other numbers have room for four times as many.
        let fits_well = match self.tight {
            true => within(i32::MIN.into(), i32::MAX.into()),
            false => {
                within(i128::from(i32::MIN) / 4, i128::from(i32::MAX) / 4)
                    && !(self.distinct && judge::told(p) > 1)
            }
        };
        if fits_well {
            Type::Integer
        } else if within(i64::MIN.into(), i64::MAX.into()) {
            Type::BigInt
        } else {
            remarks.push(Remark::new(
                "whole numbers beyond 64 bits are kept as text, digit by digit",
                "type = \"decimal(38,0)\"",
            ));
            Type::Text
        }
    }

    /// Whole numbers may be days or moments, which nothing in them says.
    fn may_be_moments(&self, least: i128, most: i128, remarks: &mut Vec<Remark>) {
        let values = judge::told(self.p);
        let between = |low: i128, high: i128| least >= low && most <= high;
        let dates = self
            .p
            .patterns
            .iter()
            .any(|(place, count)| KNOWN[*place].text == "%Y%m%d" && *count == values);
        if dates && between(19_000_101, 21_001_231) {
            remarks.push(Remark::new(
                "every number is also a date, year first",
                "type = \"date\", format = \"%Y%m%d\"",
            ));
        } else if between(315_532_800, 2_524_608_000) && values > 1 {
            remarks.push(Remark::new(
                "every number may be seconds since 1970",
                "type = \"timestamp\", format = \"unix_seconds\"",
            ));
        } else if between(315_532_800_000, 2_524_608_000_000) && values > 1 {
            remarks.push(Remark::new(
                "every number may be milliseconds since 1970",
                "type = \"timestamp\", format = \"unix_milliseconds\"",
            ));
        }
    }

    fn decimal(&self, place: usize) -> Type {
        let p = self.p;
        let marks = &p.marks[place];
        let (whole, scale) = (marks.whole.max(1), marks.fraction);
        let digits = whole + scale;
        let is_even = marks.least_fraction == Some(scale) && p.whole == 0;
        let exact = p.exponents == 0 && digits <= 38 && p.beyond == 0;
        if self.tight && exact && digits <= FLOAT_DIGITS {
            return decimal_of(digits, scale);
        }
        // Binary floating point, written out, has as many digits as it takes.
        if !exact || !is_even || scale > 9 {
            return Type::Double;
        }
        match digits {
            // As much room as SQLite has for an exact number.
            0..FLOAT_DIGITS => decimal_of((digits + 4).clamp(10, FLOAT_DIGITS), scale),
            _ => decimal_of((digits + 4).min(38), scale),
        }
    }

    fn moment(&self, remarks: &mut Vec<Remark>) -> Option<Inferred> {
        let p = self.p;
        let values = judge::told(p);
        let mut fitting: Vec<usize> = p
            .patterns
            .iter()
            .filter(|(_, count)| *count == values)
            .map(|(place, _)| *place)
            .collect();
        fitting.sort_unstable();
        if fitting.is_empty() {
            return self.mixed(values, remarks);
        }
        let proven = self.judgement.order;
        let by_proof =
            |place: &&usize| proven.is_some() && judge::order_of(&KNOWN[**place].text) == proven;
        let place = *fitting.iter().find(by_proof).or(fitting.first())?;
        let known = &KNOWN[place];
        let mut choice = Inferred::new(known.ty);
        if !is_usual(known.ty, &known.text) {
            choice.patterns = vec![known.text.clone()];
        }
        let order = judge::order_of(&known.text);
        let otherwise = fitting
            .iter()
            .find(|other| **other != place && judge::order_of(&KNOWN[**other].text) != order);
        if let (Some(other), true) = (otherwise, order.is_none() || order != proven) {
            let example = p.examples.first().map_or("", String::as_str);
            let says = match order {
                Some(Order::DayFirst) => {
                    "the day is taken to come first, and every value reads the other way too"
                }
                Some(Order::MonthFirst) => {
                    "the month is taken to come first, and every value reads the other way too"
                }
                None => "every value reads in another way too",
            };
            remarks.push(Remark::new(
                format!("\"{}\": {says}", escape_for_display(example.as_bytes())),
                format!("format = \"{}\"", KNOWN[*other].text),
            ));
        }
        two_digits(&known.text, remarks);
        Some(choice)
    }

    /// Values of two patterns that share them all between them.
    fn mixed(&self, values: u64, remarks: &mut Vec<Remark>) -> Option<Inferred> {
        let mut counted = self.p.patterns.clone();
        counted.sort_by_key(|(place, count)| (std::cmp::Reverse(*count), *place));
        for (at, (first, count)) in counted.iter().enumerate() {
            for (second, more) in &counted[at + 1..] {
                let (a, b) = (&KNOWN[*first], &KNOWN[*second]);
                if a.ty != b.ty
                    || count + more != values
                    || judge::order_of(&a.text) != judge::order_of(&b.text)
                {
                    continue;
                }
                let mut choice = Inferred::new(a.ty);
                if !is_usual(a.ty, &a.text) || !is_usual(b.ty, &b.text) {
                    choice.patterns = vec![a.text.clone(), b.text.clone()];
                }
                two_digits(&a.text, remarks);
                return Some(choice);
            }
        }
        None
    }

    fn truth(&self) -> Inferred {
        let mut choice = Inferred::new(Type::Boolean);
        let Some((yes, no)) = judge::truth(self.p, self.judgement) else {
            return choice;
        };
        if !matches!(yes, "true" | "t" | "yes" | "y") {
            // Words that a spec names are matched exactly.
            let written = |wanted: &str| {
                let words = self.p.words.iter();
                let mut found: Vec<(&str, u64)> = words
                    .map(|(word, count)| (word.trim(), *count))
                    .filter(|(word, _)| word.to_lowercase() == wanted)
                    .collect();
                found.sort_by_key(|(word, count)| (std::cmp::Reverse(*count), *word));
                let mut spellings: Vec<String> = Vec::new();
                for (word, _) in found {
                    if !spellings.iter().any(|known| known == word) {
                        spellings.push(word.to_string());
                    }
                }
                if spellings.is_empty() {
                    spellings.push(wanted.to_string());
                }
                spellings
            };
            choice.words = Some((written(yes), written(no)));
        }
        choice
    }

    /// Text of a length that leaves some room.
    fn text(&self) -> Inferred {
        Inferred::new(match self.p.longest {
            longest if self.tight => match longest {
                0 | 1 => Type::Char(1),
                longest => Type::VarChar(longest as u32),
            },
            longest if longest > 400 => Type::Text,
            longest => Type::VarChar(room(longest)),
        })
    }

    fn text_remarks(&self, class: Class, choice: &mut Inferred, remarks: &mut Vec<Remark>) {
        let p = self.p;
        let values = judge::told(p);
        self.why_text(class, values, remarks);
        let proven = &self.judgement.nulls;
        let here: Vec<(&&str, &u64)> = p.nulls.iter().collect();
        let mut own = Vec::new();
        for (word, count) in here {
            let alike = self.looks_like_a_code(word);
            let verb = if *count == 1 { "is" } else { "are" };
            if !proven.contains(word) {
                remarks.push(Remark::new(
                    format!("{} {verb} \"{word}\" and kept as text", values_of(*count)),
                    format!("null_values = [\"\", \"{word}\"]"),
                ));
            } else if alike {
                own.push(*word);
                remarks.push(Remark::new(
                    format!(
                        "{} {verb} \"{word}\", which looks like the other values, and kept as text",
                        values_of(*count)
                    ),
                    format!("null_values = [\"\", \"{word}\"]"),
                ));
            } else {
                remarks.push(Remark::new(
                    format!(
                        "{} {verb} \"{word}\" and so null, as in columns of numbers or dates",
                        values_of(*count)
                    ),
                    "null_values = [\"\"]",
                ));
            }
        }
        if !own.is_empty() {
            let others = proven.iter().filter(|word| !own.contains(word));
            choice.null_words = [String::new()]
                .into_iter()
                .chain(others.map(|w| (*w).to_string()))
                .collect();
        }
        if p.quoted_empty > 0 && p.quoted_empty * 2 > p.quoted_empty + p.values {
            remarks.push(Remark::new(
                format!(
                    "{} empty in quotes: empty text, not null",
                    are(p.quoted_empty)
                ),
                "quoted_empty = \"null\"",
            ));
        }
        if p.blanks > 0 && !self.judgement.trims && !self.is_fixed {
            remarks.push(Remark::new(
                format!("{} spaces at an end, which are kept", have(p.blanks)),
                "trim = \"both\"",
            ));
        }
    }

    /// Why values that nearly all are numbers or dates stay text.
    fn why_text(&self, class: Class, values: u64, remarks: &mut Vec<Remark>) {
        let p = self.p;
        if class != Class::Text || values < 2 {
            return;
        }
        let key = |ty: &str| format!("type = \"{ty}\"");
        if p.leading_zeros > 0 && p.no_number.0 == 0 {
            let verb = if p.leading_zeros == 1 {
                "starts"
            } else {
                "start"
            };
            remarks.push(Remark::new(
                format!(
                    "{} {verb} with a zero that a number would lose, so it is text",
                    values_of(p.leading_zeros)
                ),
                key("bigint"),
            ));
        } else if p.no_number.0 > 0 && p.no_number.0 * 5 <= values && p.leading_zeros == 0 {
            remarks.push(Remark::new(
                format!(
                    "text, since {}: {}",
                    no_number(p.no_number.0),
                    named(p.no_number.0, &p.no_number.1)
                ),
                key(if p.whole + p.no_number.0 == values {
                    "bigint"
                } else {
                    "double"
                }),
            ));
        } else if p.no_number.0 == 0 && judge::are_alike(p, values) {
            remarks.push(Remark::new(
                "text: every value has the same groups of three digits, as addresses and telephone \
                 numbers do",
                "type = \"decimal(18,0)\" with a group_mark",
            ));
        } else if p.no_number.0 == 0 && !judge::wears_one_thing(p, values) {
            let worn: Vec<String> = p
                .worn
                .iter()
                .map(|(worn, times)| format!("{times} with \"{worn}\""))
                .collect();
            remarks.push(Remark::new(
                format!(
                    "text, since its numbers are not all of one measure: {}",
                    worn.join(", ")
                ),
                "strip",
            ));
        } else if p.no_number.0 == 0 {
            remarks.push(Remark::new(
                "text: its numbers look like codes",
                key("double"),
            ));
        } else if p.no_date.0 > 0 && p.no_date.0 * 5 <= values {
            remarks.push(Remark::new(
                format!(
                    "text, since {} no date or time: {}",
                    are(p.no_date.0),
                    named(p.no_date.0, &p.no_date.1)
                ),
                key("date"),
            ));
        }
    }

    /// Whether a word that often means null may be a value like the others: two capitals
    /// among countries of two capitals.
    fn looks_like_a_code(&self, word: &str) -> bool {
        let is_code = |text: &str| !text.is_empty() && text.chars().all(char::is_uppercase);
        let length = word.chars().count();
        let alike = self
            .p
            .examples
            .iter()
            .all(|text| is_code(text) && text.chars().count() == length);
        is_code(word) && alike && !self.p.examples.is_empty() && self.p.longest == length
    }
}
