//! From the spec's text to the spec as written.

use std::cell::RefCell;

use toml::de::{DeTable, DeValue};

use super::read_tables::{references, totals};
use super::read_target::{export, rejects, target};
use super::texts::SpecTexts;
use super::{other_words, stores};
use crate::problem::{Problem, Spanned};
use crate::spec::raw::{
    Check, Column, Delimited, Kind, RawSpec, Records, Shape, Source, ValueKeys, Values,
};
use crate::spec::toml_table::{Section, whole};
use crate::types::{TYPE_NAMES, Type};
use crate::words::{Afterwards, Disposal, Measure, PreambleKey};

/// Reads a spec's text: what of it could be read, and every problem of its keys
/// and values.
///
/// # Errors
/// The problems of a text that is not TOML: what else it means is unknown.
#[cfg(test)]
pub fn read(text: &str) -> Result<(RawSpec, Vec<Problem>), Vec<Problem>> {
    read_texts(&SpecTexts::new(std::path::Path::new("spec"), text))
}

/// Reads the texts of a spec: what of them could be read, and every problem of their keys
/// and values.
///
/// # Errors
/// The problems of texts that are not TOML: what else they mean is unknown.
pub fn read_texts(texts: &SpecTexts) -> Result<(RawSpec, Vec<Problem>), Vec<Problem>> {
    let problems = RefCell::new(Vec::new());
    let padded = texts.all_padded();
    let (document, _) = texts.merged(&padded, &problems)?;
    let written = RawSpec {
        text: texts.all().to_string(),
        ..document_of(&document, texts, &problems)
    };
    Ok((written, problems.into_inner()))
}

fn document_of(
    document: &DeTable<'_>,
    texts: &SpecTexts,
    problems: &RefCell<Vec<Problem>>,
) -> RawSpec {
    let mut top = Section::new("the spec", Some(document), problems);
    extends(&mut top, texts);
    let (records, keep_if) = records(table(&mut top, "records", problems));
    let shape = shape(&mut top, keep_if, problems);
    let written = RawSpec {
        text: String::new(),
        known: None,
        source: source(table(&mut top, "source", problems)),
        records,
        delimited: delimited(table(&mut top, "delimited", problems)),
        measure: fixed(table(&mut top, "fixed", problems)),
        values: values(table(&mut top, "values", problems)),
        shape,
        record_types: record_types(&mut top, problems),
        totals: totals(&mut top, problems),
        references: references(&mut top, problems),
        target: target(table(&mut top, "target", problems)),
        rejects: rejects(table(&mut top, "rejects", problems)),
        export: export(table(&mut top, "export", problems)),
        stores: stores::read(table(&mut top, "stores", problems), problems),
    };
    top.finish();
    written
}

/// What a spec extends is read before it: here it is only seen whether that was done.
fn extends(top: &mut Section<'_>, texts: &SpecTexts) {
    if let Some(path) = top.text("extends")
        && texts.extended() == 0
    {
        let message = "the spec that this one extends was not read";
        top.problem(Problem::new(path.span, message, "not read"));
    }
}

fn table<'s>(
    top: &mut Section<'s>,
    key: &'static str,
    problems: &'s RefCell<Vec<Problem>>,
) -> Section<'s> {
    let found = top.value(key).and_then(|value| match value.value {
        DeValue::Table(table) => Some(table),
        other => top.wrong(key, value.span, "to be a table", other),
    });
    Section::new(format!("[{key}]"), found, problems)
}

fn source(mut s: Section<'_>) -> Source {
    let source = Source {
        files: s.texts("files"),
        encoding: s.text("encoding"),
        when_undecodable: s.word("when_undecodable"),
        stand_in: s.text("replacement"),
        packing: s.word("compression"),
        when_empty: s.word("when_empty"),
        when_changed: s.word("when_changed"),
        afterwards: afterwards(&mut s),
    };
    s.finish();
    source
}

fn afterwards(s: &mut Section<'_>) -> Option<Spanned<Afterwards>> {
    let value = s.value("after_load")?;
    let plain = |what| Afterwards {
        what,
        even_with_rejects: false,
    };
    let found = match value.value {
        DeValue::String(word) if word == "keep" => Some(plain(Disposal::Keep)),
        DeValue::String(word) if word == "delete" => Some(plain(Disposal::Delete)),
        DeValue::Table(table) => {
            let mut inner = s.inner("[source] after_load", table);
            let delete = inner.flag("delete").is_some_and(|flag| flag.value);
            let folder = inner.text("move_to").map(|folder| folder.value);
            let even = inner.flag("even_with_rejects");
            inner.finish();
            let what = match (delete, folder) {
                (true, None) => Some(Disposal::Delete),
                (false, Some(folder)) if !folder.is_empty() => Some(Disposal::MoveTo(folder)),
                _ => None,
            };
            what.map(|what| Afterwards {
                what,
                even_with_rejects: even.is_some_and(|flag| flag.value),
            })
        }
        _ => None,
    };
    match found {
        Some(found) => Some(Spanned::new(found, value.span)),
        None => s.wrong(
            "after_load",
            value.span,
            "\"keep\", \"delete\", { move_to = \"a folder\" } or { delete = true }",
            value.value,
        ),
    }
}

fn records(mut s: Section<'_>) -> (Records, Option<Spanned<String>>) {
    let records = Records {
        layout: s.word("layout"),
        ending: s.text("ending"),
        record_width: s.count("record_width"),
        preamble: preamble(&mut s),
        header: s.word("header"),
        trailer: s.count("trailer"),
        comment: s.text("comment"),
        when_blank: s.word("when_blank"),
        when_short: s.word("when_short"),
        when_long: s.word("when_long"),
        when_new_column: s.word("when_new_column"),
        longest: size(&mut s, "max_record_size"),
    };
    let keep_if = s.text("keep_if");
    s.finish();
    (records, keep_if)
}

/// The columns of the spec or of a kind, and its checks.
fn shape<'s>(
    s: &mut Section<'s>,
    keep_if: Option<Spanned<String>>,
    problems: &'s RefCell<Vec<Problem>>,
) -> Shape {
    Shape {
        columns_span: s.key_span("columns"),
        columns: columns(s, problems),
        keep_if,
        checks: checks(s, problems),
    }
}

fn checks<'s>(s: &mut Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<Check> {
    let read = |table: Spanned<&'s DeTable<'s>>| {
        let mut s = Section::new("[[check]]", Some(table.value), problems);
        let check = Check {
            span: table.span,
            that: s.text("that"),
            says: s.text("says"),
        };
        s.finish();
        check
    };
    s.tables("check").into_iter().map(read).collect()
}

fn record_types<'s>(top: &mut Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<Kind> {
    let read = |table: Spanned<&'s DeTable<'s>>| {
        let mut s = Section::new("[[record_type]]", Some(table.value), problems);
        let keep_if = s.text("keep_if");
        let kind = Kind {
            span: table.span,
            name: s.text("name"),
            condition: s.text("if"),
            table: s.text("table"),
            load: s.flag("load"),
            key: s.texts("key"),
            record_width: s.count("record_width"),
            shape: shape(&mut s, keep_if, problems),
        };
        s.finish();
        kind
    };
    top.tables("record_type").into_iter().map(read).collect()
}

fn preamble(s: &mut Section<'_>) -> Option<Spanned<PreambleKey>> {
    let value = s.value("preamble")?;
    let preamble = match value.value {
        DeValue::String(text) if text == "auto" => Some(PreambleKey::Auto),
        other => whole(other).map(PreambleKey::Lines),
    };
    match preamble {
        Some(preamble) => Some(Spanned::new(preamble, value.span)),
        None => s.wrong(
            "preamble",
            value.span,
            "\"auto\" or a number of lines",
            value.value,
        ),
    }
}

fn fixed(mut s: Section<'_>) -> Option<Spanned<Measure>> {
    let measure = s.word("measure");
    s.finish();
    measure
}

fn delimited(mut s: Section<'_>) -> Delimited {
    let delimited = Delimited {
        delimiter: s.text("delimiter"),
        quote: s.text("quote"),
        escape: s.text("escape"),
        spaces_after_delimiter: s.word("spaces_after_delimiter"),
        when_doubtful: s.word("when_doubtful"),
        span_lines: s.flag("span_lines"),
        quote_when: s.word("quote_when"),
    };
    s.finish();
    delimited
}

fn values(mut s: Section<'_>) -> Values {
    let values = Values {
        keys: value_keys(&mut s),
        date: s.texts("date"),
        time: s.texts("time"),
        timestamp: s.texts("timestamp"),
        timestamptz: s.texts("timestamptz"),
    };
    s.finish();
    values
}

fn value_keys(s: &mut Section<'_>) -> ValueKeys {
    ValueKeys {
        trim: s.word("trim"),
        null_words: s.texts("null_values"),
        quoted_empty: s.word("quoted_empty"),
        decimal_mark: s.text("decimal_mark"),
        group_mark: s.text("group_mark"),
        take_off: s.texts("strip"),
        two_digit_years_from: s.count("two_digit_years_from"),
        zone: s.text("time_zone"),
        inner_blanks: s.word("inner_spaces"),
        controls: s.word("control_characters"),
        normal_form: s.word("unicode_form"),
        when_unreadable: s.word("when_unreadable"),
        when_too_long: s.word("when_too_long"),
        when_out_of_range: s.word("when_out_of_range"),
        when_too_precise: s.word("when_too_precise"),
        when_not_allowed: s.word("when_not_allowed"),
    }
}

fn columns<'s>(top: &mut Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<Column> {
    let Some(value) = top.value("columns") else {
        return Vec::new();
    };
    let Some(table) = value.value.as_table() else {
        return top
            .wrong("columns", value.span, "to be a table", value.value)
            .unwrap_or_default();
    };
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
        .into_iter()
        .filter_map(|(key, value)| {
            let name = Spanned::new(key.get_ref().to_string(), key.span());
            column(name, value, problems)
        })
        .collect()
}

fn column<'s>(
    name: Spanned<String>,
    value: &'s toml::Spanned<DeValue<'s>>,
    problems: &'s RefCell<Vec<Problem>>,
) -> Option<Column> {
    let title = format!("column {}", name.value);
    let table = match value.get_ref() {
        DeValue::Table(table) => Some(table),
        DeValue::String(_) => None,
        other => {
            return Section::new("[columns]", None, problems).wrong(
                &name.value,
                value.span(),
                "a type in quotes, or a table of keys",
                other,
            );
        }
    };
    let mut s = Section::new(title, table, problems);
    let written_type = match value.get_ref() {
        DeValue::String(text) => Some(Spanned::new(text.to_string(), value.span())),
        _ => s.text("type"),
    };
    let has_type = written_type.is_some();
    let mut from = s.texts("from").unwrap_or_default().into_iter();
    let column = Column {
        name,
        ty: written_type.and_then(|t| type_of(&s, t)),
        has_type,
        from: from.next(),
        from_also: from.collect(),
        optional: s.flag("optional"),
        when_inexact: s.word("when_inexact"),
        at: s.count("position"),
        start: s.count("start"),
        width: s.count("width"),
        implied_decimals: s.count("implied_decimals"),
        sign: s.word("sign"),
        form: s.word("stored_as"),
        align: s.word("align"),
        pad: s.text("pad"),
        load: s.flag("load"),
        required: s.flag("required"),
        default: s.given("default"),
        value: s.text("value"),
        case: s.word("case"),
        swap: s.pairs("replace"),
        lookup: s.texts_by_text("lookup"),
        when_not_in_lookup: s.word("when_not_in_lookup"),
        matches: s.text("matches"),
        one_of: s.givens("one_of"),
        min: s.given("min"),
        max: s.given("max"),
        length_in: s.word("length_in"),
        pattern: s.texts("format"),
        true_words: s.texts("true_values"),
        false_words: s.texts("false_values"),
        keys: value_keys(&mut s),
    };
    s.finish();
    Some(column)
}

fn type_of(s: &Section<'_>, written: Spanned<String>) -> Option<Spanned<Type>> {
    match Type::parse(&written.value) {
        Ok(ty) => Some(Spanned::new(ty, written.span)),
        Err(message) => {
            let meant =
                other_words::ty(&written.value).map(|ty| format!("the type is called {ty}"));
            let near = || {
                let names = TYPE_NAMES.iter().copied();
                meant.or_else(|| crate::nearest::did_you_mean(&written.value, names))
            };
            let all = || format!("the types are {}", TYPE_NAMES.join(", "));
            let unknown = message.ends_with("is not a type");
            let help = unknown.then(|| near().unwrap_or_else(all));
            s.problem(Problem::new(written.span, message, "not a type").maybe_help(help));
            None
        }
    }
}

/// A size such as `"1 MiB"`, or a number of bytes.
fn size(s: &mut Section<'_>, key: &'static str) -> Option<Spanned<u64>> {
    let value = s.value(key)?;
    let bytes = match value.value {
        DeValue::String(text) => bytes_of(text),
        other => whole(other),
    };
    match bytes {
        Some(bytes) => Some(Spanned::new(bytes, value.span)),
        None => s.wrong(key, value.span, "a size such as \"1 MiB\"", value.value),
    }
}

/// A size in bytes, such as `100MB` or `64 KiB`.
pub fn bytes_of(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text
        .find(|c: char| !c.is_ascii_digit())
        .unwrap_or(text.len());
    let number: u64 = text[..digits].parse().ok()?;
    // IEC 80000-13 for the binary units, the SI's own for the decimal ones.
    let unit = match text[digits..].trim().to_ascii_lowercase().as_str() {
        "" | "b" | "bytes" => 1,
        "kb" => 1_000,
        "kib" => 1 << 10,
        "mb" => 1_000_000,
        "mib" => 1 << 20,
        "gb" => 1_000_000_000,
        "gib" => 1 << 30,
        _ => return None,
    };
    number.checked_mul(unit)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::words::{Every, Tolerance};

    fn problems(text: &str) -> Vec<String> {
        let mut problems = read(text).unwrap().1;
        problems.sort_by_key(|p| p.span.start);
        problems.into_iter().map(|p| p.message).collect()
    }

    #[test]
    fn all_problems_come_at_once_in_the_order_of_the_text() {
        let text = "[records]\nheadr = \"names\"\ntrailer = \"x\"\n[delimited]\nquote = 5\n";
        assert_eq!(
            problems(text),
            [
                "[records] has no key \"headr\"",
                "[records] trailer wants a whole number, 0 or more",
                "[delimited] quote wants text in quotes",
            ]
        );
    }

    #[test]
    fn an_unknown_key_points_at_itself_and_names_the_nearest() {
        let text = "[delimited]\ndelimeter = \",\"\n";
        let found = read(text).unwrap().1;
        assert_eq!(&text[found[0].span.clone()], "delimeter");
        assert!(found[0].help.as_ref().unwrap().contains("\"delimiter\""));
    }

    #[test]
    fn columns_keep_the_order_of_the_spec() {
        let (spec, _) = read("[columns]\nzebra = \"text\"\napple = { type = \"date\" }\n").unwrap();
        let names: Vec<_> = spec
            .shape
            .columns
            .iter()
            .map(|c| c.name.value.as_str())
            .collect();
        assert_eq!(names, ["zebra", "apple"]);
    }

    #[test]
    fn sizes_and_tolerances() {
        let (spec, _) = read(
            "[records]\nmax_record_size = \"1 MiB\"\n[rejects]\nmax_rejects = \"0.5%\"\n[target]\ncommit_every = 1000\n",
        )
        .unwrap();
        assert_eq!(spec.records.longest.unwrap().value, 1_048_576);
        assert_eq!(
            spec.rejects.tolerance.unwrap().value,
            Tolerance::Percent(0.5)
        );
        assert_eq!(spec.target.every.unwrap().value, Every::Records(1000));
        assert_eq!(bytes_of("20 furlongs"), None);
    }

    #[test]
    fn text_that_is_not_toml_says_where() {
        let found = read("[records\nheader = \"names\"\n").unwrap_err();
        assert_eq!(found[0].label, "not TOML");
    }
}
