//! Checks how records are found and split.

use super::{header, is_fixed, it};
use crate::format::LONGEST_MARK;
use crate::format::{DelimitedFormat, Escape, FixedFormat, RecordEnd, RecordFormat};
use crate::plan::RecordPlan;
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Delimited, RawSpec, Records};
use crate::words::Spaces;
use crate::words::{Header, Measure, PreambleKey, WhenBlank, WhenLong, WhenShort};

/// The longest record unless the spec says otherwise: 1 MiB.
const LONGEST: u64 = 1 << 20;

/// A field's length has 29 bits, and a block must hold a whole record.
const LONGEST_POSSIBLE: u64 = 256 << 20;

/// How records are found. `width` is how wide those of a fixed layout are.
pub fn records(
    written: &RawSpec,
    ending: RecordEnd,
    width: usize,
    problems: &mut Vec<Problem>,
) -> RecordPlan {
    let r = &written.records;
    let fixed = is_fixed(written).then_some(());
    let format = match fixed {
        _ if super::json::is_json(written) => RecordFormat::Json,
        Some(()) => RecordFormat::Fixed(FixedFormat {
            measure: it(&written.measure).unwrap_or(Measure::Characters),
            width,
        }),
        None => RecordFormat::Delimited(delimited(&written.delimited, &ending, problems)),
    };
    if let (None, RecordEnd::None, Some(at)) = (&fixed, &ending, &r.ending) {
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
    if let (Some(false), Some(at), Some(WhenShort::Join)) = (
        it(&written.delimited.span_lines),
        &written.delimited.span_lines,
        it(&r.when_short),
    ) {
        problems.push(Problem::new(
            at.span.clone(),
            "a record is one line, so its lines cannot be joined as [records] when_short says",
            "not with when_short = \"join\"",
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
        && comment.value.is_empty()
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
        when_new_column: it(&r.when_new_column).unwrap_or_default(),
        longest: longest as usize,
        format,
    }
}

/// How a record ends.
pub fn ending(r: &Records, problems: &mut Vec<Problem>) -> RecordEnd {
    let Some(at) = &r.ending else {
        return RecordEnd::Auto;
    };
    let text = match at.value.as_str() {
        "auto" => return RecordEnd::Auto,
        "lf" => "\n",
        "crlf" => "\r\n",
        "cr" => "\r",
        "none" => return RecordEnd::None,
        "" => {
            problems.push(Problem::new(
                at.span.clone(),
                "a record's end is empty",
                "empty",
            ));
            return RecordEnd::Auto;
        }
        own => own,
    };
    if text.len() > LONGEST_MARK {
        problems.push(too_long(&at.span, "a record's end"));
    }
    RecordEnd::Text(text.to_string())
}

fn delimited(d: &Delimited, ending: &RecordEnd, problems: &mut Vec<Problem>) -> DelimitedFormat {
    let delimiter = it(&d.delimiter).unwrap_or_else(|| ",".into());
    let quote = it(&d.quote).unwrap_or_else(|| "\"".into());
    let escape = it(&d.escape).unwrap_or_else(|| "doubled".into());
    let skips = it(&d.spaces_after_delimiter) == Some(Spaces::Skip);
    if let (true, true, Some(at)) = (skips, delimiter.starts_with(' '), &d.spaces_after_delimiter) {
        problems.push(Problem::new(
            at.span.clone(),
            "the delimiter itself is a space, so none can be skipped after it",
            "not with this delimiter",
        ));
    }
    let mut clash = |at: &Option<Spanned<String>>, message: &str, label: &str| {
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
            "the delimiter holds a record's end, so the end of a record would look \
             like a delimiter",
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
    DelimitedFormat {
        delimiter: delimiter.into_bytes(),
        quote: quote.into_bytes(),
        escape,
        ending: match ending {
            RecordEnd::Text(text) => text.clone().into_bytes(),
            RecordEnd::Auto | RecordEnd::None => Vec::new(),
        },
        space: if skips { b" ".to_vec() } else { Vec::new() },
        when_doubtful: it(&d.when_doubtful).unwrap_or_default(),
        span_lines: it(&d.span_lines).unwrap_or(true),
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
fn holds_ending(text: &str, ending: &RecordEnd) -> bool {
    match ending {
        RecordEnd::Auto => text.contains(['\r', '\n']),
        RecordEnd::Text(end) => end
            .as_bytes()
            .first()
            .is_some_and(|first| text.as_bytes().contains(first)),
        RecordEnd::None => false,
    }
}
