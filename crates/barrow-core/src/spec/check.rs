//! From the spec as written to the plan: defaults, contradictions, and every
//! per-column choice made once.

use std::collections::HashMap;
use std::path::PathBuf;

use super::plan::{
    ColumnPlan, DelimitedPlan, EndingPlan, Escape, Every, Header, Measure, Mode, Place, Plan,
    PreambleKey, RecordPlan, RejectsPlan, SourcePlan, TargetPlan, Tolerance, Trim, WhenBlank,
    WhenLong, WhenShort, WhenUndecodable,
};
use super::problem::{At, Problem};
use super::types::Type;
use super::written::{Column, Delimited, Layout, Records, Values, Written};
use crate::records::scan::LONGEST_MARK;
use crate::source::{Charset, Packing};
use crate::values::{ColumnReader, ReaderOptions};

/// The longest record unless the spec says otherwise: 1 MiB.
const LONGEST: u64 = 1 << 20;

/// A field's length has 29 bits, and a block must hold a whole record.
const LONGEST_POSSIBLE: u64 = 256 << 20;

/// Reads and checks a spec.
///
/// # Errors
/// Everything wrong with it, in the order of the text.
pub fn plan(text: &str) -> Result<Plan, Vec<Problem>> {
    let (written, problems) = super::read::read(text)?;
    check(&written, problems)
}

/// Checks a spec as written, of which `problems` are known already.
fn check(written: &Written, mut problems: Vec<Problem>) -> Result<Plan, Vec<Problem>> {
    keys_of_the_other_layout(written, &mut problems);
    let plan = Plan {
        files: texts(written.source.files.as_deref()),
        source: source(written, &mut problems),
        records: records(written, &mut problems),
        columns: columns(written, &mut problems),
        target: target(written, &mut problems),
        rejects: RejectsPlan {
            tolerance: it(&written.rejects.tolerance).unwrap_or(Tolerance::Records(0)),
            folder: PathBuf::from(it(&written.rejects.folder).unwrap_or_else(|| "rejects".into())),
        },
    };
    if problems.is_empty() {
        return Ok(plan);
    }
    problems.sort_by_key(|p| p.span.start);
    Err(problems)
}

fn it<T: Clone>(at: &Option<At<T>>) -> Option<T> {
    at.as_ref().map(|at| at.it.clone())
}

fn texts(at: Option<&[At<String>]>) -> Vec<String> {
    at.unwrap_or_default()
        .iter()
        .map(|t| t.it.clone())
        .collect()
}

fn source(written: &Written, problems: &mut Vec<Problem>) -> SourcePlan {
    let s = &written.source;
    let by_bytes = is_fixed(written) && it(&written.measure) == Some(Measure::Bytes);
    let charset = match &s.encoding {
        Some(label) if label.it == "auto" => None,
        Some(label) => match Charset::new(&label.it, by_bytes) {
            Ok(charset) => Some(charset),
            Err((message, help)) => {
                let problem = Problem::new(label.span.clone(), message, "not a label");
                problems.push(problem.maybe_help(help));
                None
            }
        },
        None => Some(Charset::Utf8),
    };
    SourcePlan {
        charset,
        when_undecodable: it(&s.when_undecodable).unwrap_or(WhenUndecodable::Reject),
        stand_in: it(&s.stand_in).unwrap_or_else(|| "\u{FFFD}".into()),
        packing: it(&s.packing).unwrap_or(Packing::Auto),
    }
}

/// Keys that the layout gives no meaning to are told, and not passed over.
fn keys_of_the_other_layout(written: &Written, problems: &mut Vec<Problem>) {
    let d = &written.delimited;
    let keys = match is_fixed(written) {
        true => vec![
            (
                "[delimited] delimiter",
                d.delimiter.as_ref().map(|k| &k.span),
            ),
            ("[delimited] quote", d.quote.as_ref().map(|k| &k.span)),
            ("[delimited] escape", d.escape.as_ref().map(|k| &k.span)),
        ],
        false => vec![
            ("[fixed] measure", written.measure.as_ref().map(|k| &k.span)),
            (
                "[records] record_width",
                written.records.record_width.as_ref().map(|k| &k.span),
            ),
        ],
    };
    let other = if is_fixed(written) {
        "delimited"
    } else {
        "fixed"
    };
    for (key, span) in keys {
        if let Some(span) = span {
            problems.push(Problem::new(
                span.clone(),
                format!("{key} is for layout = \"{other}\""),
                "means nothing here",
            ));
        }
    }
    if let Some(stand_in) = &written.source.stand_in
        && it(&written.source.when_undecodable) != Some(WhenUndecodable::Replace)
    {
        problems.push(Problem::new(
            stand_in.span.clone(),
            "stand_in is for when_undecodable = \"replace\"",
            "means nothing here",
        ));
    }
}

fn is_fixed(written: &Written) -> bool {
    it(&written.records.layout) == Some(Layout::Fixed)
}

fn header(written: &Written) -> Header {
    let usual = if is_fixed(written) {
        Header::None
    } else {
        Header::Names
    };
    it(&written.records.header).unwrap_or(usual)
}

fn records(written: &Written, problems: &mut Vec<Problem>) -> RecordPlan {
    let r = &written.records;
    let ending = ending(r, problems);
    let fixed = is_fixed(written).then(|| super::fixed::layout(written, &ending, problems));
    let delimited = match fixed {
        Some(_) => DelimitedPlan {
            delimiter: Vec::new(),
            quote: Vec::new(),
            escape: Escape::Doubled,
        },
        None => delimited(&written.delimited, &ending, problems),
    };
    if let (None, EndingPlan::None, Some(at)) = (&fixed, &ending, &r.ending) {
        problems.push(Problem::new(
            at.span.clone(),
            "records without an end need a fixed layout",
            "only with layout = \"fixed\"",
        ));
    }
    if let (Some(WhenShort::Join), Some(at), Some(_)) = (it(&r.when_short), &r.when_short, &fixed) {
        problems.push(Problem::new(
            at.span.clone(),
            "lines are joined until a record has its fields, which a fixed layout cannot count",
            "only with layout = \"delimited\"",
        ));
    }
    if let (Some(PreambleKey::Auto), Some(at)) = (it(&r.preamble), &r.preamble)
        && header(written) != Header::Names
    {
        problems.push(Problem::new(
            at.span.clone(),
            "the preamble is found by the header's names, but the header is not read",
            "needs header = \"names\"",
        ));
    }
    if let Some(comment) = &r.comment
        && comment.it.is_empty()
    {
        problems.push(Problem::new(
            comment.span.clone(),
            "a comment's start is empty, so every line would be a comment",
            "empty",
        ));
    }
    let longest = it(&r.longest).unwrap_or(LONGEST);
    if let Some(at) = &r.longest
        && !(1..=LONGEST_POSSIBLE).contains(&longest)
    {
        problems.push(Problem::new(
            at.span.clone(),
            "the longest record is between 1 byte and 256 MiB",
            "out of bounds",
        ));
    }
    RecordPlan {
        ending,
        preamble: it(&r.preamble).unwrap_or(PreambleKey::Lines(0)),
        header: header(written),
        trailer: it(&r.trailer).unwrap_or(0) as usize,
        comment: it(&r.comment),
        when_blank: it(&r.when_blank).unwrap_or(WhenBlank::Skip),
        when_short: it(&r.when_short).unwrap_or(WhenShort::Reject),
        when_long: it(&r.when_long).unwrap_or(WhenLong::Reject),
        longest: longest as usize,
        delimited,
        fixed,
    }
}

fn ending(r: &Records, problems: &mut Vec<Problem>) -> EndingPlan {
    let Some(at) = &r.ending else {
        return EndingPlan::Auto;
    };
    let text = match at.it.as_str() {
        "auto" => return EndingPlan::Auto,
        "lf" => "\n",
        "crlf" => "\r\n",
        "cr" => "\r",
        "none" => return EndingPlan::None,
        "" => {
            problems.push(Problem::new(
                at.span.clone(),
                "a record's end is empty",
                "empty",
            ));
            return EndingPlan::Auto;
        }
        own => own,
    };
    if text.len() > LONGEST_MARK {
        problems.push(too_long(&at.span, "a record's end"));
    }
    EndingPlan::Text(text.to_string())
}

fn delimited(d: &Delimited, ending: &EndingPlan, problems: &mut Vec<Problem>) -> DelimitedPlan {
    let delimiter = it(&d.delimiter).unwrap_or_else(|| ",".into());
    let quote = it(&d.quote).unwrap_or_else(|| "\"".into());
    let escape = it(&d.escape).unwrap_or_else(|| "doubled".into());
    let mut clash = |at: &Option<At<String>>, message: &str, label: &str| {
        let span = at.as_ref().map_or(0..0, |at| at.span.clone());
        problems.push(Problem::new(span, message, label));
    };
    if delimiter.len() > LONGEST_MARK {
        clash(
            &d.delimiter,
            "the delimiter is longer than 64 bytes",
            "too long",
        );
    }
    if delimiter.is_empty() {
        clash(&d.delimiter, "the delimiter is empty", "empty");
    } else if holds_ending(&delimiter, ending) {
        clash(
            &d.delimiter,
            "the delimiter holds a record's end, so no field could be told from the next record",
            "holds a line end",
        );
    }
    if quote.chars().count() > 1 {
        clash(
            &d.quote,
            "the quote is one character, or \"\" for none",
            "too long",
        );
    } else if !quote.is_empty() && delimiter.contains(&quote) {
        clash(
            &d.quote,
            "the quote is part of the delimiter",
            "also in the delimiter",
        );
    } else if !quote.is_empty() && holds_ending(&quote, ending) {
        clash(&d.quote, "the quote is a record's end", "a line end");
    }
    let escape = if escape == "doubled" || escape == quote {
        Escape::Doubled
    } else {
        if escape.chars().count() != 1 {
            clash(
                &d.escape,
                "the escape is \"doubled\" or one character, such as \"\\\\\"",
                "neither",
            );
        } else if delimiter.contains(&escape) {
            clash(
                &d.escape,
                "the escape is part of the delimiter",
                "also in the delimiter",
            );
        } else if holds_ending(&escape, ending) {
            clash(&d.escape, "the escape is a record's end", "a line end");
        }
        Escape::With(escape.into_bytes())
    };
    DelimitedPlan {
        delimiter: delimiter.into_bytes(),
        quote: quote.into_bytes(),
        escape,
    }
}

fn too_long(span: &std::ops::Range<usize>, what: &str) -> Problem {
    Problem::new(
        span.clone(),
        format!("{what} is longer than {LONGEST_MARK} bytes"),
        "too long",
    )
}

/// Whether `text` holds the start of a record's end.
fn holds_ending(text: &str, ending: &EndingPlan) -> bool {
    match ending {
        EndingPlan::Auto => text.contains(['\r', '\n']),
        EndingPlan::Text(end) => end
            .as_bytes()
            .first()
            .is_some_and(|first| text.as_bytes().contains(first)),
        EndingPlan::None => false,
    }
}

fn columns(written: &Written, problems: &mut Vec<Problem>) -> Vec<ColumnPlan> {
    if written.columns.is_empty() {
        let span = written.columns_span.clone().unwrap_or(0..0);
        problems.push(
            Problem::new(span, "the spec names no columns", "no columns").help(
                "list them under [columns], such as  delivery_id = \"bigint\"; taking them from \
                 the table is not built yet",
            ),
        );
    }
    let header = header(written);
    let mut places = Places::default();
    let columns: Vec<ColumnPlan> = written
        .columns
        .iter()
        .filter_map(|c| column(c, written, header, &mut places, problems))
        .collect();
    same_name_in_two_cases(&written.columns, problems);
    if !columns.is_empty() && written.columns.iter().all(|c| it(&c.load) == Some(false)) {
        problems.push(Problem::new(
            written.columns_span.clone().unwrap_or(0..0),
            "every column says load = false, so nothing would be loaded",
            "nothing to load",
        ));
    }
    columns
}

/// Databases fold the case of names, so two names that differ only in case are one.
fn same_name_in_two_cases(columns: &[Column], problems: &mut Vec<Problem>) {
    let mut seen: HashMap<String, &str> = HashMap::new();
    for column in columns {
        if let Some(other) = seen.insert(column.name.it.to_lowercase(), &column.name.it) {
            problems.push(
                Problem::new(
                    column.name.span.clone(),
                    format!(
                        "the columns {other} and {} are one to a database",
                        column.name.it
                    ),
                    "differs in case only",
                )
                .help("give one of them another name, and the header's name in `from`"),
            );
        }
    }
}

/// Which fields are taken already, and which one comes next.
#[derive(Default)]
struct Places {
    next: usize,
    by_place: HashMap<usize, String>,
    by_name: HashMap<String, String>,
}

fn column(
    c: &Column,
    written: &Written,
    header: Header,
    places: &mut Places,
    problems: &mut Vec<Problem>,
) -> Option<ColumnPlan> {
    let values = &written.values;
    let place = if is_fixed(written) {
        places.next += 1;
        Place::Field(places.next - 1)
    } else {
        super::fixed::misplaced(c, problems);
        place(c, header, places, problems)
    };
    let load = it(&c.load).unwrap_or(true);
    let ty = match &c.ty {
        Some(ty) => ty.it,
        None if c.has_type => return None,
        None if load => {
            problems.push(
                Problem::new(
                    c.name.span.clone(),
                    format!("column {} has no type", c.name.it),
                    "no type",
                )
                .help("give it one, such as type = \"text\"; taking it from the table is not built yet"),
            );
            return None;
        }
        None => Type::Text,
    };
    misplaced_keys(c, ty, problems);
    let form = super::fixed::form(c, ty, problems);
    let options = ReaderOptions {
        form,
        ..options(c, written, ty)
    };
    let reader = match ColumnReader::new(ty, options) {
        Ok(reader) => Some(reader),
        Err(error) => {
            let span = match error.key {
                "pattern" => pattern_span(c, values, ty),
                "default" => c.default.as_ref().map(|d| d.span.clone()),
                "true_words" => c.true_words.as_ref().map(|w| words_span(w)),
                _ => None,
            };
            problems.push(Problem::new(
                span.unwrap_or_else(|| c.name.span.clone()),
                format!("column {}: {}", c.name.it, error.message),
                error.label,
            ));
            None
        }
    };
    Some(ColumnPlan {
        name: c.name.it.clone(),
        ty,
        place,
        required: it(&c.required).unwrap_or(false),
        reader: reader.filter(|_| load),
    })
}

fn words_span(words: &[At<String>]) -> std::ops::Range<usize> {
    match (words.first(), words.last()) {
        (Some(first), Some(last)) => first.span.start..last.span.end,
        _ => 0..0,
    }
}

fn place(c: &Column, header: Header, places: &mut Places, problems: &mut Vec<Problem>) -> Place {
    if let (Some(from), Some(at)) = (&c.from, &c.at) {
        problems.push(Problem::new(
            at.span.clone(),
            format!(
                "column {} is found by name (from = \"{}\") and by place (at = {}): one will do",
                c.name.it, from.it, at.it
            ),
            "a second place",
        ));
    }
    if let Some(from) = &c.from
        && header != Header::Names
    {
        problems.push(
            Problem::new(
                from.span.clone(),
                format!(
                    "column {} is found by its header's name, but the header is not read",
                    c.name.it
                ),
                "no header to find it in",
            )
            .help("say [records] header = \"names\", or give its place with `at`"),
        );
    }
    if let Some(at) = &c.at {
        if at.it == 0 {
            problems.push(Problem::new(
                at.span.clone(),
                "places are counted from 1",
                "there is no field 0",
            ));
        }
        return by_place(
            (at.it as usize).saturating_sub(1),
            c,
            &at.span,
            places,
            problems,
        );
    }
    if header == Header::Names {
        let name = c.from.as_ref().unwrap_or(&c.name);
        if let Some(other) = places.by_name.insert(name.it.clone(), c.name.it.clone()) {
            problems.push(Problem::new(
                name.span.clone(),
                format!(
                    "the columns {other} and {} are the same field \"{}\"",
                    c.name.it, name.it
                ),
                "taken already",
            ));
        }
        return Place::Named(name.it.clone());
    }
    by_place(places.next, c, &c.name.span.clone(), places, problems)
}

fn by_place(
    field: usize,
    c: &Column,
    span: &std::ops::Range<usize>,
    places: &mut Places,
    problems: &mut Vec<Problem>,
) -> Place {
    places.next = field + 1;
    if let Some(other) = places.by_place.insert(field, c.name.it.clone()) {
        problems.push(Problem::new(
            span.clone(),
            format!(
                "the columns {other} and {} are the same field {}",
                c.name.it,
                field + 1
            ),
            "taken already",
        ));
    }
    Place::Field(field)
}

/// Keys that mean nothing for the column's type.
fn misplaced_keys(c: &Column, ty: Type, problems: &mut Vec<Problem>) {
    let mut misplaced = |span: std::ops::Range<usize>, key: &str, kinds: &str| {
        problems.push(Problem::new(
            span,
            format!("column {} is {ty}, and {key} is for {kinds}", c.name.it),
            format!("not for {ty}"),
        ));
    };
    if let Some(pattern) = &c.pattern
        && !ty.is_temporal()
    {
        misplaced(
            words_span(pattern),
            "pattern",
            "dates, times and timestamps",
        );
    }
    for (key, words) in [
        ("true_words", &c.true_words),
        ("false_words", &c.false_words),
    ] {
        if let Some(words) = words
            && ty != Type::Boolean
        {
            misplaced(words_span(words), key, "booleans");
        }
    }
}

fn options(c: &Column, written: &Written, ty: Type) -> ReaderOptions {
    let values = &written.values;
    // In a fixed layout blanks are how a field is filled up.
    let usual_trim = if is_fixed(written) {
        Trim::Both
    } else {
        Trim::None
    };
    let shared = match ty {
        Type::Date => values.date.as_deref(),
        Type::Time => values.time.as_deref(),
        Type::Timestamp => values.timestamp.as_deref(),
        _ => None,
    };
    let null_words = c
        .keys
        .null_words
        .as_deref()
        .or(values.keys.null_words.as_deref());
    ReaderOptions {
        trim: it(&c.keys.trim)
            .or(it(&values.keys.trim))
            .unwrap_or(usual_trim),
        null_words: null_words.map_or_else(|| vec![String::new()], |words| texts(Some(words))),
        patterns: texts(c.pattern.as_deref().or(shared)),
        true_words: c.true_words.as_deref().map(|w| texts(Some(w))),
        false_words: c.false_words.as_deref().map(|w| texts(Some(w))),
        required: it(&c.required).unwrap_or(false),
        default: it(&c.default),
        form: None,
        undecodable: it(&written.source.when_undecodable).unwrap_or(WhenUndecodable::Reject),
        stand_in: it(&written.source.stand_in).unwrap_or_else(|| "\u{FFFD}".into()),
    }
}

fn pattern_span(c: &Column, values: &Values, ty: Type) -> Option<std::ops::Range<usize>> {
    let shared = match ty {
        Type::Date => values.date.as_deref(),
        Type::Time => values.time.as_deref(),
        _ => values.timestamp.as_deref(),
    };
    c.pattern.as_deref().or(shared).map(words_span)
}

fn target(written: &Written, problems: &mut Vec<Problem>) -> TargetPlan {
    let t = &written.target;
    let mode = it(&t.mode).unwrap_or(Mode::Append);
    let every = it(&t.every).unwrap_or(Every::All);
    if let (Mode::Replace, Every::Records(_), Some(at)) = (mode, every, &t.every) {
        problems.push(
            Problem::new(
                at.span.clone(),
                "mode = \"replace\" swaps the whole table in at once, so it cannot commit as it goes",
                "not with replace",
            )
            .help("say every = \"all\", or mode = \"truncate\""),
        );
    }
    if let Some(table) = &t.table
        && table.it.trim().is_empty()
    {
        problems.push(Problem::new(
            table.span.clone(),
            "the table's name is empty",
            "empty",
        ));
    }
    TargetPlan {
        into: it(&t.into),
        table: it(&t.table),
        mode,
        create: it(&t.create).unwrap_or(false),
        every,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str) -> Vec<String> {
        match plan(text) {
            Ok(_) => Vec::new(),
            Err(problems) => problems.into_iter().map(|p| p.message).collect(),
        }
    }

    #[test]
    fn contradictions_are_found() {
        let cases = [
            (
                "[columns]\na = { type = \"text\", from = \"A\", at = 1 }",
                "one will do",
            ),
            (
                "[columns]\na = { type = \"text\", at = 0 }",
                "counted from 1",
            ),
            (
                "[records]\nheader = \"none\"\n[columns]\na = { type = \"text\", from = \"A\" }",
                "the header is not read",
            ),
            (
                "[columns]\na = { type = \"text\", at = 2 }\nb = { type = \"text\", at = 2 }",
                "the same field 2",
            ),
            (
                "[columns]\na = \"text\"\nA = \"text\"",
                "are one to a database",
            ),
            (
                "[columns]\na = { type = \"text\", pattern = \"%Y\" }",
                "pattern is for dates",
            ),
            (
                "[columns]\na = { type = \"text\", true_words = [\"Y\"] }",
                "true_words is for booleans",
            ),
            (
                "[columns]\na = { type = \"integer\", default = \"x\" }",
                "the default \"x\"",
            ),
            (
                "[columns]\na = { type = \"date\", pattern = \"%Q\" }",
                "column a: ",
            ),
            (
                "[columns]\na = { type = \"boolean\", true_words = [\"1\"], false_words = [\"1\"] }",
                "both true and false",
            ),
            (
                "[delimited]\ndelimiter = \"\\n\"\n[columns]\na = \"text\"",
                "holds a record's end",
            ),
            (
                "[delimited]\ndelimiter = \"\"\n[columns]\na = \"text\"",
                "delimiter is empty",
            ),
            (
                "[delimited]\nquote = \"ab\"\n[columns]\na = \"text\"",
                "one character",
            ),
            (
                "[delimited]\nquote = \",\"\n[columns]\na = \"text\"",
                "part of the delimiter",
            ),
            (
                "[target]\nmode = \"replace\"\nevery = 10\n[columns]\na = \"text\"",
                "cannot commit as it goes",
            ),
            ("[columns]\na = { required = true }", "has no type"),
            (
                "[columns]\na = { type = \"text\", load = false }",
                "nothing would be loaded",
            ),
            ("", "names no columns"),
        ];
        for (text, says) in cases {
            let found = found(text);
            assert!(found.iter().any(|m| m.contains(says)), "{text}\n{found:?}");
        }
    }

    #[test]
    fn what_cannot_be_read_and_what_contradicts_come_together() {
        let text = "[delimited]\nquote = \",\"\n[records]\nheadr = 1\n[columns]\na = \"txt\"";
        let found = found(text);
        assert_eq!(found.len(), 3, "{found:?}");
        assert!(
            found[0].contains("quote") && found[1].contains("headr") && found[2].contains("txt")
        );
    }

    #[test]
    fn places_follow_on() {
        let text = "[records]\nheader = \"none\"\n[columns]\na = \"text\"\nb = { type = \"text\", at = 5 }\nc = \"text\"";
        let plan = plan(text).unwrap();
        let places: Vec<_> = plan.columns.iter().map(|c| c.place.clone()).collect();
        assert_eq!(places, [Place::Field(0), Place::Field(4), Place::Field(5)]);
    }

    #[test]
    fn defaults() {
        let plan = plan("[columns]\na = \"text\"").unwrap();
        assert_eq!(plan.records.delimited.delimiter, b",");
        assert_eq!(plan.records.delimited.quote, b"\"");
        assert_eq!(plan.records.header, Header::Names);
        assert_eq!(plan.records.longest, 1 << 20);
        assert_eq!(plan.rejects.tolerance, Tolerance::Records(0));
        assert_eq!(plan.target.mode, Mode::Append);
    }
}
