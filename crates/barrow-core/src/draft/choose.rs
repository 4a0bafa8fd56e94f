//! Chooses a type for each column: the narrowest that holds every value.

use super::layout::Shape;
use super::patterns::KNOWN;
use super::profile::{MARKS, Profile};
use crate::spec::Type;

/// A column as a draft proposes it.
#[derive(Debug, Clone)]
pub struct Chosen {
    /// Its name, fit for SQL.
    pub name: String,
    /// The header's name, where it is another.
    pub from: Option<String>,
    /// What was chosen.
    pub choice: Choice,
    /// How many values, nulls, examples and so on, in one line.
    pub evidence: String,
    /// What cannot be decided, or stands against the choice.
    pub remarks: Vec<String>,
}

/// A type and how its values are written.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// The type.
    pub ty: Type,
    /// Beside an empty field.
    pub null_words: Vec<String>,
    /// Whether blanks around a value are taken off.
    pub trim: bool,
    /// The decimal mark and the group mark, where they are not the usual.
    pub marks: Option<(String, String)>,
    /// The pattern, where it is not the usual.
    pub pattern: Option<String>,
    /// The words for true and for false, where they are not the usual.
    pub words: Option<(String, String)>,
}

impl Choice {
    fn new(ty: Type) -> Choice {
        Choice {
            ty,
            null_words: Vec::new(),
            trim: false,
            marks: None,
            pattern: None,
            words: None,
        }
    }
}

/// Words for true and false that a draft knows, in small letters.
const TRUTHS: &[(&str, &str)] = &[
    ("true", "false"),
    ("t", "f"),
    ("yes", "no"),
    ("y", "n"),
    ("on", "off"),
    ("ja", "nein"),
    ("j", "n"),
];

/// Proposes every column.
pub fn columns(shape: &Shape, profiles: &[Profile], distinct: &[bool]) -> Vec<Chosen> {
    let by_name = shape.by_name();
    let each = profiles.iter().zip(distinct).enumerate();
    each.map(|(place, (profile, distinct))| {
        let name = shape.names[place].clone();
        let original = &shape.header[place];
        let (mut choice, remarks) = choose(profile);
        choice.trim &= profile.blanks > 0;
        Chosen {
            from: (by_name && *original != name).then(|| original.clone()),
            evidence: evidence(profile, &choice, *distinct),
            name,
            choice,
            remarks,
        }
    })
    .collect()
}

/// How many values may stand against a type that all others fit.
fn may_stand_against(values: u64) -> u64 {
    match values {
        0..10 => 0,
        _ => 2.max(values / 1_000).min(1_000),
    }
}

fn choose(p: &Profile) -> (Choice, Vec<String>) {
    let nulls: u64 = p.nulls.values().sum();
    let values = p.values - nulls;
    if values == 0 {
        return (text(p), Vec::new());
    }
    let mut remarks = Vec::new();
    let found = number(p, values, &mut remarks)
        .or_else(|| moment(p, values, &mut remarks))
        .or_else(|| truth(p, values))
        .or_else(|| other(p, values));
    match found {
        None => (text(p), remarks),
        Some(mut choice) => {
            let mut words: Vec<String> = p.nulls.keys().map(|word| (*word).to_string()).collect();
            words.sort();
            choice.null_words = words;
            choice.trim = true;
            (choice, remarks)
        }
    }
}

/// Names the values that stand against a type.
fn against(what: &str, count: u64, lines: &[(String, u64, String)], remarks: &mut Vec<String>) {
    if count == 0 {
        return;
    }
    let named: Vec<String> = lines
        .iter()
        .map(|(file, line, text)| {
            format!(
                "{file} line {line} \"{}\"",
                crate::visible::visible(text.as_bytes())
            )
        })
        .collect();
    let more = if count as usize > lines.len() {
        ", …"
    } else {
        ""
    };
    let are = if count == 1 {
        "1 value is".to_string()
    } else {
        format!("{count} values are")
    };
    remarks.push(format!("{are} {what}: {}{more}", named.join(", ")));
    remarks.push(format!(
        "they would be rejected: allow them with [rejects] tolerance = {count}, or make the column text"
    ));
}

fn number(p: &Profile, values: u64, remarks: &mut Vec<String>) -> Option<Choice> {
    if p.no_number.0 > may_stand_against(values) || p.leading_zeros > 0 {
        if p.leading_zeros > 0 && p.no_number.0 == 0 {
            let verb = if p.leading_zeros == 1 {
                "starts"
            } else {
                "start"
            };
            remarks.push(format!(
                "{} {verb} with a zero that a number would lose, so it is text",
                p.leading_zeros
            ));
        }
        return None;
    }
    let numbers = values - p.no_number.0;
    let ty = if p.whole == numbers {
        whole(p)?
    } else if p.exponents > 0 {
        Type::Double
    } else {
        return decimal(p, numbers, remarks);
    };
    against("no number", p.no_number.0, &p.no_number.1, remarks);
    Some(Choice::new(ty))
}

fn whole(p: &Profile) -> Option<Type> {
    let (least, most) = p.range?;
    let within = |low: i128, high: i128| least >= low && most <= high;
    Some(if within(i16::MIN.into(), i16::MAX.into()) {
        Type::SmallInt
    } else if within(i32::MIN.into(), i32::MAX.into()) {
        Type::Integer
    } else if within(i64::MIN.into(), i64::MAX.into()) {
        Type::BigInt
    } else if p.marks[0].whole <= 38 {
        Type::Decimal {
            precision: p.marks[0].whole as u8,
            scale: 0,
        }
    } else {
        return None;
    })
}

fn decimal(p: &Profile, numbers: u64, remarks: &mut Vec<String>) -> Option<Choice> {
    let fitting: Vec<usize> = (0..MARKS.len())
        .filter(|m| p.marks[*m].fits == numbers)
        .collect();
    let first = *fitting.first()?;
    if p.marks[first].alike == numbers {
        remarks.push(
            "text: every value has the same groups of three digits, as addresses and telephone \
             numbers do; as a number it would have a group_mark"
                .to_string(),
        );
        return None;
    }
    let of = |place: usize| {
        let marks = &p.marks[place];
        let (whole, scale) = (marks.whole, marks.fraction);
        (whole + scale <= 38).then_some(Type::Decimal {
            precision: (whole + scale).max(1) as u8,
            scale: scale as u8,
        })
    };
    let mut choice = Choice::new(of(first)?);
    if first > 0 {
        let (decimal, group) = MARKS[first];
        choice.marks = Some((decimal.into(), group.into()));
    }
    // The same text would be another number by another mark.
    let otherwise = fitting.iter().find(|m| MARKS[**m].0 != MARKS[first].0);
    if let Some(other) = otherwise {
        remarks.push(format!(
            "undecided: every value also reads with decimal_mark = \"{}\", group_mark = \"{}\"",
            MARKS[*other].0, MARKS[*other].1
        ));
    }
    against("no number", p.no_number.0, &p.no_number.1, remarks);
    Some(choice)
}

fn moment(p: &Profile, values: u64, remarks: &mut Vec<String>) -> Option<Choice> {
    if p.no_date.0 > may_stand_against(values) {
        return None;
    }
    let wanted = values - p.no_date.0;
    let mut fitting: Vec<usize> = p
        .patterns
        .iter()
        .filter(|(_, count)| *count == wanted)
        .map(|(place, _)| *place)
        .collect();
    fitting.sort_unstable();
    let first = &KNOWN[*fitting.first()?];
    let mut choice = Choice::new(first.ty);
    let usual = match first.ty {
        Type::Date => first.text == "%Y-%m-%d",
        Type::Time => first.text == "%H:%M:%S%.f" || first.text == "%H:%M",
        _ => first.text.starts_with("%Y-%m-%d") && first.text.contains("%H:%M:%S%.f"),
    };
    choice.pattern = (!usual).then(|| first.text.clone());
    let others: Vec<&str> = fitting[1..]
        .iter()
        .map(|place| KNOWN[*place].text.as_str())
        .collect();
    if !others.is_empty() {
        remarks.push(format!(
            "undecided: every value also fits {}",
            others.join(", ")
        ));
    }
    if first.text.contains("%y") {
        remarks.push("years have two digits: say two_digit_years_from, such as 1950".into());
    }
    let (count, lines) = (&p.no_date.0, &p.no_date.1);
    against(&format!("not as {}", first.text), *count, lines, remarks);
    Some(choice)
}

fn truth(p: &Profile, values: u64) -> Option<Choice> {
    if p.many_words
        || p.words.len() != 2
        || p.words.iter().map(|(_, count)| count).sum::<u64>() != values
    {
        return None;
    }
    let mut words: Vec<&String> = p.words.iter().map(|(word, _)| word).collect();
    words.sort();
    for (yes, no) in TRUTHS {
        let is = |word: &str, wanted: &str| word.trim().to_lowercase() == *wanted;
        let pair = match words.as_slice() {
            [a, b] if is(a, yes) && is(b, no) => (a, b),
            [a, b] if is(b, yes) && is(a, no) => (b, a),
            _ => continue,
        };
        let mut choice = Choice::new(Type::Boolean);
        if !matches!(*yes, "true" | "t" | "yes" | "y") {
            choice.words = Some((pair.0.trim().into(), pair.1.trim().into()));
        }
        return Some(choice);
    }
    None
}

fn other(p: &Profile, values: u64) -> Option<Choice> {
    match () {
        () if p.uuids == values => Some(Choice::new(Type::Uuid)),
        () if p.documents == values => Some(Choice::new(Type::Json)),
        () => None,
    }
}

/// Text of a length that leaves some room.
fn text(p: &Profile) -> Choice {
    const LENGTHS: [usize; 10] = [10, 20, 40, 60, 80, 100, 200, 500, 1_000, 4_000];
    Choice::new(match p.longest {
        0 => Type::VarChar(10),
        1 => Type::Char(1),
        longest => match LENGTHS.iter().find(|length| longest <= **length) {
            Some(length) => Type::VarChar(*length as u32),
            None => Type::Text,
        },
    })
}

/// What was seen of a column, in one line.
fn evidence(p: &Profile, choice: &Choice, distinct: bool) -> String {
    let null_words = !choice.null_words.is_empty();
    let nulls = p.empty
        + if null_words {
            p.nulls.values().sum()
        } else {
            0
        };
    let values = p.values
        - if null_words {
            p.nulls.values().sum::<u64>()
        } else {
            0
        };
    let mut parts = vec![format!(
        "{values} {}, {nulls} null",
        if values == 1 { "value" } else { "values" }
    )];
    // Short whole numbers are gathered as such alone.
    let whole = p.range.map(|(least, most)| (least as f64, most as f64));
    let numbers = match (p.numbers, whole) {
        (Some((a, b)), Some((c, d))) => Some((a.min(c), b.max(d))),
        (numbers, whole) => numbers.or(whole),
    };
    match (choice.ty, numbers, &p.ends) {
        (ty, Some((least, most)), _) if ty.is_number() => parts.push(format!("{least} to {most}")),
        (_, _, Some((least, most))) => {
            let short = |text: &str| short(text);
            parts.push(format!("{} to {}", short(least), short(most)));
        }
        _ => {}
    }
    if choice.ty.is_text() {
        parts.push(format!("longest {}", p.longest));
    }
    if distinct && values > 1 {
        parts.push(if nulls == 0 {
            "all distinct: a key?".into()
        } else {
            "all distinct".into()
        });
    }
    if !p.examples.is_empty() {
        let examples: Vec<String> = p.examples.iter().map(|e| short(e)).collect();
        parts.push(format!("such as {}", examples.join(", ")));
    }
    parts.join("; ")
}

fn short(text: &str) -> String {
    crate::visible::visible_short(text.as_bytes(), 24)
}
