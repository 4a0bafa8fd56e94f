//! From the spec as written to the plan: defaults, contradictions, and every
//! per-column choice made once.

mod columns;
mod conditions;
mod fixed;
mod inapplicable;
mod json;
mod lints;
mod record_types;
mod records;
mod target;
mod template;
mod totals;
mod values;

use std::path::{Path, PathBuf};

use crate::plan::{
    ExportPlan, Plan, RecordTypePlan, RejectsPlan, SourcePlan, StorePlan, TargetPlan,
};
use crate::problem::{Problem, Spanned};
use crate::source::{Charset, Compression};
use crate::spec::raw::{Known, RawSpec};
use crate::spec::read::read_texts;
use crate::spec::texts::SpecTexts;
use crate::words::Layout;
use crate::words::{
    EmptyWith, Every, Header, Measure, Mode, Per, Tolerance, WhenUndecodable, WhenUnencodable,
};

/// How many reasons are written in full unless the spec says otherwise.
const KEEP: u64 = 10_000;

/// Reads and checks a spec.
///
/// # Errors
/// Everything wrong with it, in the order of the text.
pub fn plan(text: &str) -> Result<Plan, Vec<Problem>> {
    plan_of(&SpecTexts::new(Path::new("spec"), text), None)
}

/// Reads and checks the texts of a spec. `known` is the target's table, where types, or all
/// columns, are left to it.
///
/// # Errors
/// Everything wrong with them, in the order of the texts.
pub fn plan_of(texts: &SpecTexts, known: Option<Known>) -> Result<Plan, Vec<Problem>> {
    let (mut written, mut problems) = read_texts(texts)?;
    if let Some(known) = &known
        && written.shape.columns.is_empty()
        && written.record_types.is_empty()
    {
        // The column of the run is the load's own.
        let run_column = it(&written.target.run_column);
        let is_of_run = |name: &str| {
            let run = run_column.as_deref();
            run.is_some_and(|run| run.eq_ignore_ascii_case(name))
        };
        let columns = known.columns.iter();
        let columns = columns.filter(|column| !column.generated && !is_of_run(&column.name));
        written.shape.columns = columns.map(columns::of_table).collect();
    }
    written.known = known;
    target::add_run_column(&mut written, &mut problems);
    check(&written, problems)
}

/// The database and table of a spec that leaves types to the table; none for one
/// that does not, or that is wrong in itself.
pub fn leaves_types(texts: &SpecTexts) -> Option<(Option<String>, Option<String>)> {
    let (written, _) = read_texts(texts).ok()?;
    let untyped = |c: &crate::spec::raw::Column| !c.has_type && it(&c.load) != Some(false);
    let columns = &written.shape.columns;
    let leaves = columns.is_empty() || columns.iter().any(untyped);
    (leaves && written.record_types.is_empty())
        .then(|| (it(&written.target.into), it(&written.target.table)))
}

/// What the settings of a folder say, where no spec is asked.
#[derive(Debug, Clone, Default)]
pub struct SettingsPlan {
    /// The database's address.
    pub database: Option<String>,
    /// The folder of rejects.
    pub rejects: Option<String>,
    /// `[stores.NAME]`
    pub stores: Vec<StorePlan>,
}

/// The settings in texts of which none is a spec.
///
/// # Errors
/// Everything wrong with them, in the order of the text.
pub fn settings(texts: &SpecTexts) -> Result<SettingsPlan, Vec<Problem>> {
    let (written, mut problems) = read_texts(texts)?;
    if !problems.is_empty() {
        problems.sort_by_key(|p| p.span.start);
        return Err(problems);
    }
    Ok(SettingsPlan {
        database: it(&written.target.into),
        rejects: it(&written.rejects.folder),
        stores: written.stores,
    })
}

/// Checks a spec as written, of which `problems` are known already.
fn check(written: &RawSpec, mut problems: Vec<Problem>) -> Result<Plan, Vec<Problem>> {
    keys_of_the_other_layout(written, &mut problems);
    values::years(written, &mut problems);
    let ending = records::ending(&written.records, &mut problems);
    let mut record_types = record_types::record_types(written, &ending, &mut problems);
    let width = record_types::width(written, &record_types, &ending, &mut problems);
    let totals = totals::totals(written, &mut record_types, &mut problems);
    problems.extend(lints::unwritable(written, &record_types));
    let plan = Plan {
        files: texts(written.source.files.as_deref()),
        source: source(written, &mut problems),
        records: records::records(written, ending, width, &mut problems),
        totals,
        oddities: lints::oddities(written, &record_types),
        target: target(written, &record_types, &mut problems),
        rejects: rejects(written, &mut problems),
        export: export(written, &mut problems),
        stores: written.stores.clone(),
        record_types,
    };
    if problems.is_empty() {
        return Ok(plan);
    }
    problems.sort_by_key(|p| p.span.start);
    Err(problems)
}

fn words_span<T>(words: &[Spanned<T>]) -> std::ops::Range<usize> {
    match (words.first(), words.last()) {
        (Some(first), Some(last)) => first.span.start..last.span.end,
        _ => 0..0,
    }
}

fn it<T: Clone>(at: &Option<Spanned<T>>) -> Option<T> {
    at.as_ref().map(|at| at.value.clone())
}

fn texts(at: Option<&[Spanned<String>]>) -> Vec<String> {
    at.unwrap_or_default()
        .iter()
        .map(|t| t.value.clone())
        .collect()
}

fn source(written: &RawSpec, problems: &mut Vec<Problem>) -> SourcePlan {
    let s = &written.source;
    let by_bytes = is_fixed(written) && it(&written.measure) == Some(Measure::Bytes);
    let charset = match &s.encoding {
        Some(label) if label.value == "auto" => None,
        Some(label) => match Charset::new(&label.value, by_bytes) {
            Ok(charset) => {
                if let Some(why) = charset.cannot_be_cut() {
                    problems.push(
                        Problem::new(label.span.clone(), why, "not by bytes")
                            .help("leave [fixed] measure out: widths count characters then"),
                    );
                }
                Some(charset)
            }
            Err((message, help)) => {
                let problem = Problem::new(label.span.clone(), message, "unknown encoding");
                problems.push(problem.maybe_help(help));
                None
            }
        },
        None => Some(Charset::Utf8),
    };
    if json::is_json(written) {
        json::encoding(charset.as_ref(), written, problems);
    }
    SourcePlan {
        charset,
        told_by: u64::MAX,
        when_undecodable: it(&s.when_undecodable).unwrap_or(WhenUndecodable::Reject),
        stand_in: it(&s.stand_in).unwrap_or_else(|| "\u{FFFD}".into()),
        packing: it(&s.packing).unwrap_or(Compression::Auto),
        when_empty: it(&s.when_empty).unwrap_or_default(),
        when_changed: it(&s.when_changed).unwrap_or_default(),
        afterwards: it(&s.afterwards).unwrap_or_default(),
    }
}

/// Keys that the layout gives no meaning to are reported, and not ignored.
fn keys_of_the_other_layout(written: &RawSpec, problems: &mut Vec<Problem>) {
    let d = &written.delimited;
    let keys: Vec<(&str, Option<std::ops::Range<usize>>)> = match is_fixed(written) {
        _ if json::is_json(written) => json::other_keys(written),
        true => vec![
            (
                "[delimited] delimiter",
                d.delimiter.as_ref().map(|k| k.span.clone()),
            ),
            (
                "[delimited] quote",
                d.quote.as_ref().map(|k| k.span.clone()),
            ),
            (
                "[delimited] escape",
                d.escape.as_ref().map(|k| k.span.clone()),
            ),
        ],
        false => vec![
            (
                "[fixed] measure",
                written.measure.as_ref().map(|k| k.span.clone()),
            ),
            (
                "[records] record_width",
                written
                    .records
                    .record_width
                    .as_ref()
                    .map(|k| k.span.clone()),
            ),
        ],
    };
    let other = match is_fixed(written) {
        _ if json::is_json(written) => "for fields that have places",
        true => "for layout = \"delimited\"",
        false => "for layout = \"fixed\"",
    };
    for (key, span) in keys {
        if let Some(span) = span {
            problems.push(Problem::new(
                span,
                format!("{key} is {other}"),
                "has no meaning here",
            ));
        }
    }
    if let Some(stand_in) = &written.source.stand_in
        && it(&written.source.when_undecodable) != Some(WhenUndecodable::Replace)
    {
        problems.push(Problem::new(
            stand_in.span.clone(),
            "replacement is for when_undecodable = \"replace\"",
            "has no meaning here",
        ));
    }
}

fn is_fixed(written: &RawSpec) -> bool {
    it(&written.records.layout) == Some(Layout::Fixed)
}

fn header(written: &RawSpec) -> Header {
    let usual = if is_fixed(written) || json::is_json(written) {
        Header::None
    } else {
        Header::Names
    };
    it(&written.records.header).unwrap_or(usual)
}

fn target(
    written: &RawSpec,
    record_types: &[RecordTypePlan],
    problems: &mut Vec<Problem>,
) -> TargetPlan {
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
            .help("say commit_every = \"all\", or mode = \"truncate\""),
        );
    }
    if let (Mode::Merge, None, Some(at)) = (mode, &t.key, &t.mode)
        && written.record_types.is_empty()
    {
        problems.push(
            Problem::new(
                at.span.clone(),
                "mode = \"merge\" needs the columns that identify a row",
                "no key",
            )
            .help("say them as key, such as key = [\"delivery_id\"]"),
        );
    }
    if let (Every::Records(_), Some(at), Some(_)) = (every, &t.every, written.totals.first()) {
        problems.push(
            Problem::new(
                at.span.clone(),
                "totals are compared at a file's end, when a load that commits as it goes can no \
                 longer be undone",
                "not with [[control_total]]",
            )
            .help("say commit_every = \"all\""),
        );
    }
    target::replaces(written, every, mode, problems);
    if let Some(table) = &t.table
        && table.value.trim().is_empty()
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
        ledger: it(&t.ledger).unwrap_or(true),
        may_empty: it(&t.may_empty).unwrap_or(false),
        when_cascading: it(&t.when_cascading).unwrap_or_default(),
        empty_with: it(&t.empty_with).unwrap_or(EmptyWith::Delete),
        run_column: it(&t.run_column),
        before: target::statements("before", t.before.as_deref(), problems),
        after: target::statements("after", t.after.as_deref(), problems),
        references: target::references(written, record_types, problems),
    }
}

fn export(written: &RawSpec, problems: &mut Vec<Problem>) -> ExportPlan {
    let e = &written.export;
    if let Some(stand_in) = &e.stand_in
        && it(&e.when_unencodable) != Some(WhenUnencodable::Replace)
    {
        problems.push(Problem::new(
            stand_in.span.clone(),
            "replacement is for when_unencodable = \"replace\"",
            "has no meaning here",
        ));
    }
    if let (Some(nulls), false) = (&e.nulls, json::is_json(written)) {
        problems.push(Problem::new(
            nulls.span.clone(),
            "[export] nulls is for layout = \"json\"",
            "has no meaning here",
        ));
    }
    ExportPlan {
        preamble: texts(e.preamble.as_deref()),
        trailer: texts(e.trailer.as_deref()),
        byte_order_mark: it(&e.byte_order_mark).unwrap_or(false),
        when_unfit: it(&e.when_unfit).unwrap_or_default(),
        when_unencodable: it(&e.when_unencodable).unwrap_or_default(),
        stand_in: it(&e.stand_in).unwrap_or_else(|| "?".into()),
        quote_when: it(&written.delimited.quote_when).unwrap_or_default(),
        nulls: it(&e.nulls).unwrap_or_default(),
    }
}

fn rejects(written: &RawSpec, problems: &mut Vec<Problem>) -> RejectsPlan {
    let r = &written.rejects;
    let per = it(&r.per).unwrap_or_default();
    if let (Per::File, Some(at), Some(Every::Records(_))) = (per, &r.per, it(&written.target.every))
    {
        problems.push(
            Problem::new(
                at.span.clone(),
                "a file beyond its limit is taken back whole, which a load that commits as it goes \
                 cannot do",
                "not with every",
            )
            .help("say commit_every = \"all\""),
        );
    }
    if let Some(table) = &r.table
        && table.value.trim().is_empty()
    {
        problems.push(Problem::new(
            table.span.clone(),
            "the table's name is empty",
            "empty",
        ));
    }
    RejectsPlan {
        tolerance: it(&r.tolerance).unwrap_or(Tolerance::Records(0)),
        folder: PathBuf::from(it(&r.folder).unwrap_or_else(|| "rejects".into())),
        table: it(&r.table),
        per,
        keep: it(&r.keep).unwrap_or(KEEP),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::Place;

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
                "[columns]\na = { type = \"text\", from = \"A\", position = 1 }",
                "keep one of them",
            ),
            (
                "[columns]\na = { type = \"text\", position = 0 }",
                "counted from 1",
            ),
            (
                "[records]\nheader = \"none\"\n[columns]\na = { type = \"text\", from = \"A\" }",
                "the header is not read",
            ),
            (
                "[columns]\na = { type = \"text\", position = 2 }\nb = { type = \"text\", position = 2 }",
                "the same field 2",
            ),
            (
                "[columns]\na = \"text\"\nA = \"text\"",
                "are one to a database",
            ),
            (
                "[columns]\na = { type = \"text\", format = \"%Y\" }",
                "format is for dates",
            ),
            (
                "[columns]\na = { type = \"text\", true_values = [\"Y\"] }",
                "true_values is for booleans",
            ),
            (
                "[columns]\na = { type = \"integer\", default = \"x\" }",
                "default \"x\" is not a number",
            ),
            (
                "[columns]\na = { type = \"date\", format = \"%Q\" }",
                "column a: ",
            ),
            (
                "[columns]\na = { type = \"boolean\", true_values = [\"1\"], false_values = [\"1\"] }",
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
                "[target]\nmode = \"merge\"\n[columns]\na = \"text\"",
                "needs the columns that identify a row",
            ),
            (
                "[target]\nmode = \"replace\"\ncommit_every = 10\n[columns]\na = \"text\"",
                "cannot commit as it goes",
            ),
            ("[columns]\na = { required = true }", "has no type"),
            (
                "[columns]\na = { type = \"date\", two_digit_years_from = 19500 }",
                "a year from 1 to 9900",
            ),
            (
                "[values]\ntwo_digit_years_from = 0\n[columns]\na = \"date\"",
                "a year from 1 to 9900",
            ),
            (
                "[records]\nlayout = \"fixed\"\n[columns]\na = { type = \"text\", width = \
                 9223372036854775807, start = 9223372036854775807 }",
                "a record reaches to",
            ),
            (
                "[columns]\na = { type = \"text\", position = 9223372036854775807 }",
                "a record has at most",
            ),
            (
                "[source]\nencoding = \"utf-16le\"\n[records]\nlayout = \"fixed\"\n[fixed]\n\
                 measure = \"bytes\"\n[columns]\na = { type = \"text\", width = 2 }",
                "UTF-16LE cannot be cut by bytes",
            ),
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
        let text = "[records]\nheader = \"none\"\n[columns]\na = \"text\"\nb = { type = \"text\", position = 5 }\nc = \"text\"";
        let plan = plan(text).unwrap();
        let places: Vec<_> = plan.record_types[0]
            .columns
            .iter()
            .map(|c| c.place.clone())
            .collect();
        assert_eq!(places, [Place::Field(0), Place::Field(4), Place::Field(5)]);
    }

    #[test]
    fn defaults() {
        let plan = plan("[columns]\na = \"text\"").unwrap();
        let delimited = plan.records.format.delimited().unwrap();
        assert_eq!(delimited.delimiter, b",");
        assert_eq!(delimited.quote, b"\"");
        assert_eq!(plan.records.header, Header::Names);
        assert_eq!(plan.records.longest, 1 << 20);
        assert_eq!(plan.rejects.tolerance, Tolerance::Records(0));
        assert_eq!(plan.target.mode, Mode::Append);
    }
}
