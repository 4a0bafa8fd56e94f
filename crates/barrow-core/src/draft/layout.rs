//! How files are laid out, told from the start of the first one.

use std::collections::HashSet;

use super::names;
use super::patterns::{KNOWN, Skeleton};
use crate::error::Error;
use crate::records::ending::{FileEnding, Found};
use crate::records::fields;
use crate::records::start::open;
use crate::source::{Packing, SourceFile};
use crate::spec::plan::{DelimitedPlan, Escape};
use crate::spec::read_plan;
use crate::visible::visible;

/// How much of the first file is looked at, in bytes.
const SAMPLE: usize = 512 << 10;

/// The most that is looked at, where the first line is longer than that.
const LARGEST: usize = 256 << 20;

/// Lines that are looked at, at the most.
const LINES: usize = 3_000;

/// Lines above the header, at the most.
const MOST_TITLES: usize = 20;

/// Characters that set fields apart, the likelier first where two do as well.
const DELIMITERS: &[&str] = &[
    "\t", "|", ";", ",", "||", "~", "^", "\u{1f}", "\u{1}", "¦", "§", ":",
];

/// A spec that reads any file at all, line by line.
const ANY_FILE: &str = "[source]\nencoding = \"auto\"\n[records]\nheader = \"none\"\n\
    [delimited]\nquote = \"\"\n[columns]\nline = \"text\"\n";

/// How files are laid out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Layout {
    /// Fields are set apart.
    Delimited {
        /// By this.
        delimiter: String,
        /// In these quotes.
        quote: String,
        /// With this before a quote inside quotes, or doubled.
        escape: String,
    },
    /// Fields have set widths: each one's first character, 0-based, and its width.
    Fixed(Vec<(usize, usize)>),
    /// Neither: each line is one text.
    Lines,
}

/// All that is told from the start of the first file.
#[derive(Debug, Clone)]
pub struct Shape {
    /// The encoding's label, and why it was taken.
    pub encoding: (String, Vec<String>),
    /// How the first file is packed.
    pub packing: Packing,
    /// The layout.
    pub layout: Layout,
    /// The share of lines with the usual number of fields, in percent.
    pub share: u64,
    /// Lines before the header.
    pub preamble: u64,
    /// Whether there is a header.
    pub has_header: bool,
    /// The header's names, or names made up.
    pub header: Vec<String>,
    /// The columns' names, fit for SQL.
    pub names: Vec<String>,
    /// What a comment starts with.
    pub comment: Option<String>,
    /// Lines after the data.
    pub trailer: u64,
    /// A ruler over some lines of a fixed layout.
    pub ruler: Vec<String>,
}

impl Shape {
    /// Whether columns can be found by the header's names.
    pub fn by_name(&self) -> bool {
        let mut seen = HashSet::new();
        self.has_header
            && matches!(self.layout, Layout::Delimited { .. })
            && self
                .header
                .iter()
                .all(|name| seen.insert(name) && !name.is_empty())
    }
}

/// Looks at the start of a file.
///
/// # Errors
/// It cannot be read, or is empty.
pub fn find(source: &SourceFile) -> Result<Shape, Error> {
    let plan = read_plan(ANY_FILE)
        .map_err(|_| Error::Worker("the spec that reads any file is wrong".into()))?;
    let mut sample = SAMPLE;
    let (start, packing, lines) = loop {
        let (start, text, bytes) = open(&plan, source, sample)?;
        let ending = FileEnding::decide(&plan.records, &start.charset, &bytes, true)?;
        let mut decoded = Vec::new();
        let from = match text.transcoder {
            Some(_) => 0,
            None => start.mark,
        };
        let _ = start
            .charset
            .decode(&bytes[from..], Some("\u{FFFD}"), &mut decoded);
        let lines = lines(&decoded, ending.unwrap_or(FileEnding::Line), text.whole);
        if !lines.is_empty() || text.whole {
            break (start, text.input.packing(), lines);
        }
        if sample >= LARGEST {
            return Err(Error::NoFile(format!(
                "the first line of {} goes on for more than {} MiB, so there is nothing to tell \
                 its format by",
                source.name(),
                LARGEST >> 20
            )));
        }
        sample *= 8;
    };
    if lines.is_empty() {
        return Err(Error::NoFile(format!(
            "{} is empty, so there is nothing to draft",
            source.name()
        )));
    }
    let mut shape = Shape {
        encoding: (start.charset.name().to_ascii_lowercase(), start.notes),
        packing,
        layout: Layout::Lines,
        share: 100,
        preamble: 0,
        has_header: false,
        header: vec!["line".into()],
        names: vec!["line".into()],
        comment: None,
        trailer: 0,
        ruler: Vec::new(),
    };
    if !delimited(&lines, &mut shape) && !fixed(&lines, &mut shape) {
        shape.ruler = lines
            .iter()
            .take(3)
            .map(|l| visible(l.as_bytes()))
            .collect();
        shape.ruler.extend(kinds(&lines));
    }
    shape.names = names::fit(&shape.header);
    Ok(shape)
}

/// What the lines' widths say, where each first character goes with one width.
fn kinds(lines: &[String]) -> Option<String> {
    let mut widths: Vec<(char, usize)> = Vec::new();
    for line in lines {
        let first = line.chars().next()?;
        let width = line.chars().count();
        match widths.iter().find(|(c, _)| *c == first) {
            Some((_, known)) if *known != width => return None,
            Some(_) => {}
            None => widths.push((first, width)),
        }
    }
    let few = (2..=6).contains(&widths.len()) && lines.len() > widths.len();
    let each: Vec<String> = widths
        .iter()
        .map(|(c, width)| format!("{} is {width} wide", visible(c.to_string().as_bytes())))
        .collect();
    few.then(|| {
        format!(
            "by the first character, {}: several kinds of record? each would be a [[kind]]",
            each.join(", ")
        )
    })
}

/// The sample's lines without their ends; one that is cut off is left out.
fn lines(text: &[u8], ending: FileEnding, whole: bool) -> Vec<String> {
    // The text is decoded, so that line ends of one byte are characters by now.
    let ending = match ending {
        FileEnding::Exactly(end) if end.len() == 1 && end[0] >= 0x80 => FileEnding::Line,
        other => other,
    };
    let mut lines = Vec::new();
    let mut at = 0;
    while at < text.len() && lines.len() < LINES {
        let Found::End(end, next) = ending.line_end(text, at, whole) else {
            break;
        };
        lines.push(String::from_utf8_lossy(&text[at..end]).into_owned());
        at = next.max(at + 1);
    }
    lines
}

/// How often each number of fields comes, with a delimiter and a quote.
fn counts(lines: &[String], plan: &DelimitedPlan) -> Vec<Option<usize>> {
    lines
        .iter()
        .map(|line| fields::count(plan, line.as_bytes()).ok())
        .collect()
}

fn delimited(lines: &[String], shape: &mut Shape) -> bool {
    let comment = comment(lines);
    let is_record = |line: &&String| {
        !line.trim().is_empty()
            && !comment
                .as_ref()
                .is_some_and(|c| line.starts_with(c.as_str()))
    };
    let records: Vec<String> = lines.iter().filter(is_record).cloned().collect();
    let mut best: Option<(usize, usize, DelimitedPlan, String)> = None;
    for delimiter in DELIMITERS {
        let quote = quote(&records, delimiter);
        let plan = DelimitedPlan {
            delimiter: delimiter.as_bytes().to_vec(),
            quote: quote.clone().into_bytes(),
            escape: Escape::Doubled,
            ending: Vec::new(),
        };
        let counts = counts(&records, &plan);
        let (mode, often) = mode(&counts);
        // Titles above the header do not speak against a delimiter.
        let titles = counts.iter().position(|count| *count == Some(mode));
        let titles = titles.filter(|titles| *titles <= MOST_TITLES).unwrap_or(0);
        // A mark that only times or words have is no delimiter of its own.
        let weak = *delimiter == ":" && best.is_some();
        if mode < 2 || often * 10 < (records.len() - titles) * 6 || weak {
            continue;
        }
        let better = best.as_ref().is_none_or(|(share, fields, ..)| {
            let slack = records.len() / 100;
            often > share + slack || (often + slack >= *share && mode > *fields)
        });
        if better {
            best = Some((often, mode, plan, quote));
        }
    }
    let Some((often, fields, mut plan, quote)) = best else {
        return false;
    };
    let escape = escape(&records, &quote);
    if escape != "doubled" {
        plan.escape = Escape::With(escape.clone().into_bytes());
    }
    let counts = counts(lines, &plan);
    let Some(first) = counts
        .iter()
        .zip(lines)
        .position(|(count, line)| *count == Some(fields) && is_record(&line))
    else {
        return false;
    };
    let split = |line: &String| split(line, &plan);
    let rows: Vec<Vec<String>> = counts
        .iter()
        .zip(lines)
        .skip(first + 1)
        .filter(|(count, line)| **count == Some(fields) && is_record(line))
        .take(500)
        .map(|(_, line)| split(line))
        .collect();
    let head = split(&lines[first]);
    shape.has_header = is_header(&head, &rows);
    shape.header = match shape.has_header {
        true => head,
        false => (1..=fields).map(|n| format!("column_{n}")).collect(),
    };
    let before = lines[..first].iter();
    let comments = before.filter(|line| !is_record(line)).count();
    // Blank lines and comments are passed over by themselves.
    shape.preamble = if comments == first { 0 } else { first as u64 };
    shape.comment = comment.clone();
    let from = counts[..first]
        .iter()
        .zip(lines)
        .filter(|(_, line)| is_record(line));
    let titles = from.count();
    shape.share = (often * 100 / (records.len() - titles).max(1)) as u64;
    shape.layout = Layout::Delimited {
        delimiter: String::from_utf8_lossy(&plan.delimiter).into_owned(),
        quote,
        escape,
    };
    true
}

fn split(line: &str, plan: &DelimitedPlan) -> Vec<String> {
    use crate::records::block::{Mark, State};
    let mark = Mark::new(0..line.len(), line.len(), 0, State::Quoted);
    let mut spans = Vec::new();
    let _ = fields::split(plan, line.as_bytes(), &mark, &mut spans);
    let text = |span: fields::Span| {
        let bytes = &line.as_bytes()[span.range()];
        let mut plain = Vec::new();
        match span.is_escaped() {
            true => fields::unescape(plan, span.is_quoted(), bytes, &mut plain),
            false => plain.extend_from_slice(bytes),
        }
        String::from_utf8_lossy(&plain).into_owned()
    };
    spans.into_iter().map(text).collect()
}

/// The most frequent number of fields, and how often it comes.
fn mode(counts: &[Option<usize>]) -> (usize, usize) {
    let mut often: std::collections::HashMap<usize, usize> = std::collections::HashMap::new();
    for count in counts.iter().flatten() {
        *often.entry(*count).or_default() += 1;
    }
    // A quote over several lines has no count of its own, and speaks for none.
    let unknown = counts.iter().filter(|count| count.is_none()).count();
    let best = often
        .into_iter()
        .max_by_key(|(fields, often)| (*often, *fields));
    best.map_or((0, 0), |(fields, often)| (fields, often + unknown))
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
    let after = format!("\\{quote}");
    let doubled = format!("{quote}{quote}");
    let has = |text: &str| lines.iter().filter(|line| line.contains(text)).count();
    match has(&after) > 0 && has(&after) >= has(&doubled) {
        true => "\\".into(),
        false => "doubled".into(),
    }
}

/// What comment lines start with, if there are some among others.
fn comment(lines: &[String]) -> Option<String> {
    let starts = |mark: &str| lines.iter().filter(|line| line.starts_with(mark)).count();
    let hashes = starts("#");
    (hashes > 0 && hashes * 4 < lines.len()).then(|| "#".into())
}

/// Whether a line is the header of those below.
fn is_header(head: &[String], rows: &[Vec<String>]) -> bool {
    let plain = |text: &str| {
        let text = text.trim();
        let has_letter = text.chars().any(char::is_alphabetic);
        let is_date = Skeleton::of(text.as_bytes()).is_some_and(|skeleton| {
            let mut places = skeleton.patterns().iter();
            places.any(|place| KNOWN[*place].reads(text.as_bytes(), &mut Vec::new()))
        });
        !text.is_empty() && has_letter && !is_date && text.chars().count() <= 64
    };
    let mut seen = HashSet::new();
    let are_unique = head.iter().all(|text| seen.insert(text));
    let names = head.iter().filter(|text| plain(text)).count();
    if names < head.len() || !are_unique {
        return false;
    }
    // A name does not stand among the values below it.
    let among = |place: usize| rows.iter().any(|row| row.get(place) == Some(&head[place]));
    let differ = (0..head.len()).filter(|place| !among(*place)).count();
    rows.is_empty() || differ * 2 > head.len()
}

/// A layout of set widths: lines that are all as long, with columns of blanks or
/// changes from digits to letters between the fields.
fn fixed(lines: &[String], shape: &mut Shape) -> bool {
    let rows: Vec<Vec<char>> = lines
        .iter()
        .filter(|line| !line.trim().is_empty())
        .map(|line| line.chars().collect())
        .collect();
    let lengths: Vec<Option<usize>> = rows.iter().map(|row| Some(row.len())).collect();
    let (width, often) = mode(&lengths);
    if width < 4 || often * 10 < rows.len() * 9 || rows.len() < 2 {
        return false;
    }
    let rows: Vec<&Vec<char>> = rows.iter().filter(|row| row.len() == width).collect();
    let first = lines
        .iter()
        .position(|line| line.chars().count() == width)
        .unwrap_or(0);
    let spans = spans(&rows, width);
    if spans.len() < 2 {
        return false;
    }
    shape.preamble = first as u64;
    shape.header = (1..=spans.len()).map(|n| format!("column_{n}")).collect();
    shape.share = (often * 100 / lines.len().max(1)) as u64;
    shape.ruler = ruler(width, &spans, &rows);
    shape.layout = Layout::Fixed(spans);
    true
}

/// Where each field of fixed widths stands.
fn spans(rows: &[&Vec<char>], width: usize) -> Vec<(usize, usize)> {
    let share = |place: usize, is: fn(char) -> bool| {
        rows.iter().filter(|row| is(row[place])).count() * 100 / rows.len()
    };
    let blank: Vec<bool> = (0..width)
        .map(|p| share(p, char::is_whitespace) == 100)
        .collect();
    let digit: Vec<bool> = (0..width)
        .map(|p| share(p, |c| c.is_ascii_digit()) == 100)
        .collect();
    let often_blank: Vec<bool> = (0..width)
        .map(|p| share(p, char::is_whitespace) >= 60)
        .collect();
    let never_blank: Vec<bool> = (0..width)
        .map(|p| share(p, char::is_whitespace) == 0)
        .collect();
    let letter: Vec<bool> = (0..width)
        .map(|p| share(p, char::is_alphabetic) >= 60)
        .collect();
    let starts = |p: usize| {
        p == 0
            || (often_blank[p - 1] && never_blank[p])
            || (digit[p - 1] && letter[p])
            || (letter[p - 1] && digit[p] && never_blank[p - 1])
    };
    let places: Vec<usize> = (0..width).filter(|p| !blank[*p] && starts(*p)).collect();
    let ends = places.iter().skip(1).copied().chain([width]);
    places
        .iter()
        .copied()
        .zip(ends)
        .map(|(start, end)| (start, end - start))
        .collect()
}

/// Some lines under a ruler, with a mark where each field starts.
fn ruler(width: usize, spans: &[(usize, usize)], rows: &[&Vec<char>]) -> Vec<String> {
    let mut tens = String::new();
    let mut marks = String::new();
    for place in 0..width {
        tens.push(match (place + 1) % 10 {
            0 => char::from_digit(((place + 1) / 10 % 10) as u32, 10).unwrap_or('0'),
            5 => '+',
            _ => '.',
        });
        marks.push(if spans.iter().any(|(start, _)| *start == place) {
            '^'
        } else {
            ' '
        });
    }
    let shown = rows
        .iter()
        .take(3)
        .map(|row| visible(row.iter().collect::<String>().as_bytes()));
    [tens]
        .into_iter()
        .chain(shown)
        .chain([marks.trim_end().to_string()])
        .collect()
}
