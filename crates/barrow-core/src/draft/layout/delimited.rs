//! Which delimiter and which quotes a text is set apart by.

use crate::format::{DelimitedFormat, Escape};
use crate::records::delimited::fields;
use crate::records::mark::{Mark, State};
use crate::records::span::Span;
use crate::words::WhenDoubtful;

use super::super::value_kind::ValueKind;

/// Characters that set fields apart, the likelier first where two do as well.
const DELIMITERS: &[&str] = &[
    "\t", "|", ";", ",", "||", "~", "^", "\u{1f}", "\u{1}", "¦", "§",
];

/// Those that words and times have too: they need more to speak for them.
const WEAK: &[&str] = &[":", " "];

/// Lines above the header, at the most.
pub const MOST_TITLES: usize = 20;

/// A quoted field of the sample goes on over so many lines at the most.
const MOST_JOINED: usize = 40;

/// How fields are set apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Delimited {
    /// Between two fields.
    pub delimiter: String,
    /// Around a field; empty for none.
    pub quote: String,
    /// Before a quote inside quotes, or "doubled".
    pub escape: String,
    /// Spaces after a delimiter are no part of the field.
    pub skips_spaces: bool,
}

/// A record of the sample.
#[derive(Debug, Clone)]
pub struct Cut {
    /// Its first line, from 0.
    pub line: usize,
    /// Its fields; none where its quotes make no sense.
    pub fields: Option<Vec<String>>,
}

/// A delimiter with what it makes of the sample.
#[derive(Debug, Clone)]
pub struct Candidate {
    /// How fields are set apart.
    pub how: Delimited,
    /// The records, in their order.
    pub records: Vec<Cut>,
    /// How many fields a record has.
    pub width: usize,
    /// How many records come before the first with so many fields.
    pub titles: usize,
    /// Records after the titles that have so many.
    pub fits: usize,
    /// Records after the titles that have fewer, and more than one.
    pub short: usize,
    /// Whether the missing fields are rather the format than a fault.
    pub is_ragged: bool,
    /// Whether the records begin with names, as many as most records have fields: then lines
    /// of another number are faults.
    pub has_header: bool,
}

impl Delimited {
    /// As the plan of a reader.
    pub fn plan(&self) -> DelimitedFormat {
        DelimitedFormat {
            delimiter: self.delimiter.clone().into_bytes(),
            quote: self.quote.clone().into_bytes(),
            escape: match self.escape.as_str() {
                "doubled" => Escape::Doubled,
                escape => Escape::With(escape.as_bytes().to_vec()),
            },
            ending: Vec::new(),
            space: if self.skips_spaces {
                b" ".to_vec()
            } else {
                Vec::new()
            },
            when_doubtful: WhenDoubtful::default(),
            span_lines: true,
        }
    }
}

impl Candidate {
    fn new(lines: &[String], how: Delimited) -> Option<Candidate> {
        let records = cut(lines, &how.plan());
        let count = |record: &Cut| record.fields.as_ref().map_or(0, Vec::len);
        let counts: Vec<usize> = records.iter().map(count).collect();
        let mode = mode(&counts)?;
        // Where the last fields are missing in many records, the widest of those that
        // come again and again is the format's.
        let at_least = |width: usize| counts.iter().filter(|c| **c >= width).count();
        let again = counts.len().div_ceil(50).max(2);
        let widest = counts
            .iter()
            .copied()
            .filter(|c| *c > 1)
            .max()
            .unwrap_or(mode);
        let often = |width: &usize| counts.iter().filter(|c| *c == width).count() >= again;
        let wide = (mode..=widest.min(mode + 200))
            .rev()
            .find(often)
            .unwrap_or(mode);
        // Names that no record fills up are columns all the same.
        let first = records.first().and_then(|record| record.fields.as_ref());
        let named = first.filter(|names| {
            let mut seen = std::collections::HashSet::new();
            names.len() > wide && names.iter().all(|name| is_name(name) && seen.insert(name))
        });
        let named = named.map_or(0, Vec::len);
        let mut candidate = Candidate {
            how,
            records,
            width: mode,
            titles: 0,
            fits: 0,
            short: 0,
            is_ragged: false,
            has_header: false,
        };
        let few_beyond = at_least(wide + 1) * 20 <= counts.len();
        let starts_wide = counts.iter().take(2).any(|c| *c == wide);
        candidate.has_header = has_header(&candidate.records, &counts, mode);
        if candidate.has_header {
            candidate.count(&counts);
            return Some(candidate);
        }
        if wide > mode && few_beyond && (starts_wide || at_least(2) * 50 >= counts.len() * 49) {
            candidate.width = wide;
        }
        if named > 0 && at_least(named + 1) == 0 {
            candidate.width = named;
        }
        candidate.count(&counts);
        Some(candidate)
    }

    fn count(&mut self, counts: &[usize]) {
        let width = self.width;
        let first = counts.iter().position(|count| *count == width).unwrap_or(0);
        // A header may lack a name, or have a delimiter too many.
        let is_near = |count: usize| count > 1 && count.abs_diff(width) == 1;
        self.titles = match counts.first() {
            Some(count) if first > 0 && is_near(*count) && counts.get(1) == Some(&width) => 0,
            // Titles are above the header: with as many fields as a record has, a line that
            // comes later is none.
            _ if first <= MOST_TITLES => {
                let ragged = counts[..first].iter().all(|count| *count > 1);
                if ragged && first > 0 { 0 } else { first }
            }
            _ => 0,
        };
        let rest = &counts[self.titles..];
        self.fits = rest.iter().filter(|count| **count == width).count();
        self.short = rest
            .iter()
            .filter(|count| **count > 1 && **count < width)
            .count();
        let more = rest.len() - self.fits - self.short;
        self.is_ragged = !self.has_header
            && self.short * 50 > rest.len()
            && self.short >= 3
            && more * 20 <= rest.len();
    }

    /// Records after the titles.
    pub fn rest(&self) -> &[Cut] {
        &self.records[self.titles..]
    }

    /// How many records in a thousand this explains.
    fn share(&self) -> usize {
        let explained = self.fits + if self.is_ragged { self.short } else { 0 };
        explained * 1_000 / self.rest().len().max(1)
    }

    /// Whether nine records in ten are explained; or six, below what looks like a header.
    pub fn is_sure(&self) -> bool {
        let rest = self.rest();
        let header = rest.first().and_then(|record| record.fields.as_ref());
        let has_names = header.is_some_and(|names| {
            let mut seen = std::collections::HashSet::new();
            names.len() == self.width
                && names
                    .iter()
                    .all(|name| name.split_whitespace().count() <= 4)
                && names.iter().all(|name| is_name(name) && seen.insert(name))
        });
        let odd = rest.len() - self.fits - if self.is_ragged { self.short } else { 0 };
        self.width > 1
            && (self.share() >= 900
                || (odd <= 2 && self.fits >= 3 * odd && self.fits > 1)
                || (has_names && self.share() >= 600))
    }
}

/// Whether the first record that has as many fields as most has names in all of them, and the
/// others of that number are most of all.
fn has_header(records: &[Cut], counts: &[usize], mode: usize) -> bool {
    let most = counts.iter().filter(|count| **count == mode).count();
    let first = counts
        .iter()
        .take(MOST_TITLES)
        .position(|count| *count == mode);
    let names = first.and_then(|first| records[first].fields.as_ref());
    let mut seen = std::collections::HashSet::new();
    most * 2 > counts.len()
        && names.is_some_and(|names| names.iter().all(|name| is_name(name) && seen.insert(name)))
}

/// Whether a text may be a column's name.
pub fn is_name(text: &str) -> bool {
    let text = text.trim();
    text.chars().any(char::is_alphabetic)
        && text.chars().count() <= 100
        && ValueKind::of(text) == ValueKind::Text
}

/// The likeliest delimiter of some lines, comments left out.
pub fn find(lines: &[String]) -> Option<Candidate> {
    let mut best: Option<Candidate> = None;
    for delimiter in DELIMITERS {
        let Some(candidate) = with(lines, delimiter) else {
            continue;
        };
        if candidate.is_sure() && best.as_ref().is_none_or(|best| is_better(&candidate, best)) {
            best = Some(candidate);
        }
    }
    best.or_else(|| weak(lines))
}

/// Delimiters that words have too are taken where they explain nearly everything.
fn weak(lines: &[String]) -> Option<Candidate> {
    WEAK.iter().find_map(|delimiter| {
        let candidate = with(lines, delimiter)?;
        // A header may lack the name of the rows' names.
        let rest = &candidate.rest()[1..];
        let is_colon = *delimiter == ":";
        let fields = |record: &Cut| record.fields.clone().unwrap_or_default();
        let is_wide = |record: &&Cut| fields(record).len() == candidate.width;
        let fits = rest.iter().filter(is_wide).count();
        let is_full = |record: &&Cut| fields(record).iter().all(|text| !text.is_empty());
        let is_value = |record: &&Cut| ValueKind::of(&lines[record.line]) != ValueKind::Text;
        let all_full = is_colon || rest.iter().all(|record| is_full(&record));
        // Words of prose are as many in each line only by chance.
        let is_number = |place: usize| {
            let holds = |record: &&Cut| {
                let text = fields(record).get(place).cloned().unwrap_or_default();
                ValueKind::of(&text) == ValueKind::Number
            };
            rest.iter().filter(holds).count() * 10 >= rest.len() * 8
        };
        let is_sure = candidate.width >= if is_colon { 3 } else { 2 }
            && rest.len() > 1
            && fits * 100 >= rest.len() * 95
            && all_full
            && rest.iter().filter(is_value).count() * 2 <= rest.len()
            && (is_colon || (0..candidate.width).any(is_number));
        is_sure.then_some(candidate)
    })
}

/// What one delimiter makes of some lines, with the quotes that suit it.
pub fn with(lines: &[String], delimiter: &str) -> Option<Candidate> {
    let holds = lines.iter().filter(|line| line.contains(delimiter)).count();
    if holds * 2 < lines.len().min(3) || holds == 0 {
        return None;
    }
    let quote = quote(lines, delimiter);
    let how = |quote: &str, skips_spaces: bool| Delimited {
        delimiter: delimiter.to_string(),
        quote: quote.to_string(),
        escape: escape(lines, quote),
        skips_spaces,
    };
    let mut candidate = Candidate::new(lines, how(&quote, false))?;
    let skips = delimiter != " " && skips_spaces(&candidate);
    if skips {
        candidate = Candidate::new(lines, how(&quote, true))?;
    }
    // Quotes that make no sense more often than they do are none.
    let broken = candidate.records.iter().filter(|r| r.fields.is_none());
    let broken = broken.count();
    let opens =
        |line: &&String| line.starts_with(&quote) || line.contains(&format!("{delimiter}{quote}"));
    let quoted = lines.iter().filter(opens).count();
    if broken > 2 && broken * 2 >= quoted {
        let plain = Candidate::new(lines, how("", skips))?;
        if plain.width >= candidate.width && plain.share() > candidate.share() {
            candidate = plain;
        }
    }
    Some(candidate)
}

/// More lines explained are better, titles being none of them; then a header that fits;
/// then more fields.
fn is_better(new: &Candidate, best: &Candidate) -> bool {
    const SLACK: usize = 10;
    let explained = |candidate: &Candidate| {
        let short = if candidate.is_ragged {
            candidate.short
        } else {
            0
        };
        (candidate.fits + short) * 1_000 / candidate.records.len().max(1)
    };
    let (a, b) = (explained(new), explained(best));
    let is_near = a.abs_diff(b) <= SLACK;
    match (new.titles == 0, best.titles == 0) {
        _ if !is_near => a > b,
        (true, false) => true,
        (false, true) => false,
        _ => new.width > best.width,
    }
}

/// Whether spaces stand behind the delimiters as in print: nearly everywhere.
fn skips_spaces(candidate: &Candidate) -> bool {
    let (mut spaced, mut fields) = (0, 0);
    let mut quoted_after_space = false;
    for record in candidate.rest() {
        for field in record.fields.iter().flatten().skip(1) {
            if field.is_empty() {
                continue;
            }
            fields += 1;
            spaced += usize::from(field.starts_with(' '));
            quoted_after_space |=
                field.trim_start_matches(' ').starts_with('"') && field.starts_with(' ');
        }
    }
    fields > 0 && (spaced * 100 >= fields * 95 || (quoted_after_space && spaced * 2 > fields))
}

/// The records of some lines.
pub fn cut(lines: &[String], plan: &DelimitedFormat) -> Vec<Cut> {
    let mut records = Vec::new();
    let mut at = 0;
    while at < lines.len() {
        let first = at;
        at += 1;
        if let Some(fields) = split(&lines[first], plan) {
            records.push(Cut {
                line: first,
                fields: Some(fields),
            });
            continue;
        }
        let mut text = lines[first].clone();
        let mut found = None;
        for more in lines.iter().skip(first + 1).take(MOST_JOINED) {
            text.push('\n');
            text += more;
            at += 1;
            found = split(&text, plan);
            if found.is_some() {
                break;
            }
        }
        if found.is_none() {
            at = first + 1;
        }
        records.push(Cut {
            line: first,
            fields: found,
        });
    }
    records
}

/// A record's fields; none where its quotes make no sense.
fn split(text: &str, plan: &DelimitedFormat) -> Option<Vec<String>> {
    fields::count(plan, text.as_bytes()).ok()?;
    let mark = Mark::new(0..text.len(), text.len(), 0, State::Quoted);
    let mut spans = Vec::new();
    fields::split(plan, text.as_bytes(), &mark, &mut spans).ok()?;
    let text = |span: &Span| {
        let bytes = &text.as_bytes()[span.range()];
        let mut plain = Vec::new();
        match span.is_escaped() {
            true => fields::unescape(plan, span.is_quoted(), bytes, &mut plain),
            false => plain.extend_from_slice(bytes),
        }
        String::from_utf8_lossy(&plain).into_owned()
    };
    Some(spans.iter().map(text).collect())
}

/// The most frequent number of fields beyond one.
fn mode(counts: &[usize]) -> Option<usize> {
    let mut often: std::collections::BTreeMap<usize, usize> = std::collections::BTreeMap::new();
    for count in counts.iter().filter(|count| **count > 1) {
        *often.entry(*count).or_default() += 1;
    }
    let best = often
        .into_iter()
        .max_by_key(|(fields, often)| (*often, *fields));
    best.map(|(fields, _)| fields)
}

/// The character that stands around fields: double quotes unless only single ones do.
fn quote(lines: &[String], delimiter: &str) -> String {
    let around = |quote: char| {
        let opens = format!("{delimiter}{quote}");
        let closes = format!("{quote}{delimiter}");
        let both = |line: &&String| {
            (line.starts_with(quote) || line.contains(&opens))
                && (line.ends_with(quote) || line.contains(&closes))
        };
        lines.iter().filter(both).count()
    };
    match (around('"'), around('\'')) {
        (0, single) if single * 5 > lines.len() => "'".into(),
        _ => "\"".into(),
    }
}

/// Whether quotes inside quotes follow a backslash.
fn escape(lines: &[String], quote: &str) -> String {
    if quote.is_empty() {
        return "doubled".into();
    }
    let after = format!("\\{quote}");
    let doubled = format!("{quote}{quote}");
    let has = |text: &str| lines.iter().filter(|line| line.contains(text)).count();
    match has(&after) > 0 && has(&after) >= has(&doubled) {
        true => "\\".into(),
        false => "doubled".into(),
    }
}
