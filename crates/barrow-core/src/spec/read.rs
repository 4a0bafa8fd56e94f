//! From the spec's text to the spec as written.

use std::cell::RefCell;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::problem::{At, Problem};
use super::section::{Section, not_built, whole};
use super::types::{TYPE_NAMES, Type};
use super::written::{
    Column, Delimited, Every, Measure, PreambleKey, Records, Rejects, Source, Target, Tolerance,
    ValueKeys, Values, Written,
};

/// Reads a spec's text: what of it could be read, and every problem of its keys
/// and values.
///
/// # Errors
/// The problems of a text that is not TOML: what else it means is unknown.
pub fn read(text: &str) -> Result<(Written, Vec<Problem>), Vec<Problem>> {
    let (document, errors) = DeTable::parse_recoverable(text);
    if !errors.is_empty() {
        return Err(errors
            .iter()
            .map(|e| Problem::new(e.span().unwrap_or(0..0), e.message(), "not TOML"))
            .collect());
    }
    let problems = RefCell::new(Vec::new());
    let written = document_of(document.get_ref(), &problems);
    Ok((written, problems.into_inner()))
}

fn document_of(document: &DeTable<'_>, problems: &RefCell<Vec<Problem>>) -> Written {
    let mut top = Section::new("the spec", Some(document), problems);
    let written = Written {
        source: source(table(&mut top, "source", problems)),
        records: records(table(&mut top, "records", problems)),
        delimited: delimited(table(&mut top, "delimited", problems)),
        measure: fixed(table(&mut top, "fixed", problems)),
        values: values(table(&mut top, "values", problems)),
        columns_span: top.key_span("columns"),
        columns: columns(&mut top, problems),
        target: target(table(&mut top, "target", problems)),
        rejects: rejects(table(&mut top, "rejects", problems)),
    };
    top.later(&["check", "kind", "totals"]);
    top.finish();
    written
}

fn table<'s>(
    top: &mut Section<'s>,
    key: &'static str,
    problems: &'s RefCell<Vec<Problem>>,
) -> Section<'s> {
    let found = top.value(key).and_then(|value| match value.it {
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
        stand_in: s.text("stand_in"),
        packing: s.word("packing"),
    };
    s.later(&["afterwards"]);
    s.finish();
    source
}

fn records(mut s: Section<'_>) -> Records {
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
        longest: size(&mut s, "longest"),
    };
    s.later(&["keep_if"]);
    s.finish();
    records
}

fn preamble(s: &mut Section<'_>) -> Option<At<PreambleKey>> {
    let value = s.value("preamble")?;
    let preamble = match value.it {
        DeValue::String(text) if text == "auto" => Some(PreambleKey::Auto),
        other => whole(other).map(PreambleKey::Lines),
    };
    match preamble {
        Some(preamble) => Some(At::new(preamble, value.span)),
        None => s.wrong(
            "preamble",
            value.span,
            "\"auto\" or a number of lines",
            value.it,
        ),
    }
}

fn fixed(mut s: Section<'_>) -> Option<At<Measure>> {
    let measure = s.word("measure");
    s.finish();
    measure
}

fn delimited(mut s: Section<'_>) -> Delimited {
    let delimited = Delimited {
        delimiter: s.text("delimiter"),
        quote: s.text("quote"),
        escape: s.text("escape"),
    };
    s.later(&["quote_when"]);
    s.finish();
    delimited
}

fn values(mut s: Section<'_>) -> Values {
    let values = Values {
        keys: value_keys(&mut s),
        date: s.texts("date"),
        time: s.texts("time"),
        timestamp: s.texts("timestamp"),
    };
    s.finish();
    values
}

fn value_keys(s: &mut Section<'_>) -> ValueKeys {
    let keys = ValueKeys {
        trim: s.word("trim"),
        null_words: s.texts("null_words"),
    };
    s.later(&[
        "decimal_mark",
        "group_mark",
        "when_unreadable",
        "when_too_long",
        "when_out_of_range",
        "quoted_empty",
    ]);
    keys
}

fn columns<'s>(top: &mut Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<Column> {
    let Some(value) = top.value("columns") else {
        return Vec::new();
    };
    let Some(table) = value.it.as_table() else {
        return top
            .wrong("columns", value.span, "to be a table", value.it)
            .unwrap_or_default();
    };
    let mut entries: Vec<_> = table.iter().collect();
    entries.sort_by_key(|(key, _)| key.span().start);
    entries
        .into_iter()
        .filter_map(|(key, value)| {
            let name = At::new(key.get_ref().to_string(), key.span());
            column(name, value, problems)
        })
        .collect()
}

fn column<'s>(
    name: At<String>,
    value: &'s Spanned<DeValue<'s>>,
    problems: &'s RefCell<Vec<Problem>>,
) -> Option<Column> {
    let title = format!("column {}", name.it);
    let table = match value.get_ref() {
        DeValue::Table(table) => Some(table),
        DeValue::String(_) => None,
        other => {
            return Section::new("[columns]", None, problems).wrong(
                &name.it,
                value.span(),
                "a type in quotes, or a table of keys",
                other,
            );
        }
    };
    let mut s = Section::new(title, table, problems);
    let written_type = match value.get_ref() {
        DeValue::String(text) => Some(At::new(text.to_string(), value.span())),
        _ => s.text("type"),
    };
    let has_type = written_type.is_some();
    let column = Column {
        name,
        ty: written_type.and_then(|t| type_of(&s, t)),
        has_type,
        from: s.text("from"),
        at: s.count("at"),
        start: s.count("start"),
        width: s.count("width"),
        implied_decimals: s.count("implied_decimals"),
        sign: s.word("sign"),
        form: s.word("form"),
        load: s.flag("load"),
        required: s.flag("required"),
        default: default_of(&mut s),
        pattern: s.texts("pattern"),
        true_words: s.texts("true_words"),
        false_words: s.texts("false_words"),
        keys: value_keys(&mut s),
    };
    s.later(&[
        "value", "case", "swap", "lookup", "matches", "one_of", "min", "max", "zone",
    ]);
    s.finish();
    Some(column)
}

fn type_of(s: &Section<'_>, written: At<String>) -> Option<At<Type>> {
    match Type::parse(&written.it) {
        Ok(ty @ (Type::TimestampTz | Type::Json | Type::Uuid | Type::Bytes)) => {
            s.problem(not_built(written.span, &format!("the type {ty}")));
            None
        }
        Ok(ty) => Some(At::new(ty, written.span)),
        Err(message) => {
            let near = || super::nearest::did_you_mean(&written.it, TYPE_NAMES.iter().copied());
            let all = || format!("the types are {}", TYPE_NAMES.join(", "));
            let unknown = message.ends_with("is not a type");
            let help = unknown.then(|| near().unwrap_or_else(all));
            s.problem(Problem::new(written.span, message, "not a type").maybe_help(help));
            None
        }
    }
}

/// A default is read as the file's own text would be, so a number or a truth
/// value may be written without quotes.
fn default_of(s: &mut Section<'_>) -> Option<At<String>> {
    let value = s.value("default")?;
    let text = match value.it {
        DeValue::String(text) => text.to_string(),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(flag) => flag.to_string(),
        DeValue::Datetime(moment) => moment.to_string(),
        other => return s.wrong("default", value.span, "text or a number", other),
    };
    Some(At::new(text, value.span))
}

/// A size such as `"1 MiB"`, or a number of bytes.
fn size(s: &mut Section<'_>, key: &'static str) -> Option<At<u64>> {
    let value = s.value(key)?;
    let bytes = match value.it {
        DeValue::String(text) => bytes_of(text),
        other => whole(other),
    };
    match bytes {
        Some(bytes) => Some(At::new(bytes, value.span)),
        None => s.wrong(key, value.span, "a size such as \"1 MiB\"", value.it),
    }
}

fn bytes_of(text: &str) -> Option<u64> {
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

fn target(mut s: Section<'_>) -> Target {
    let target = Target {
        into: s.text("into"),
        table: s.text("table"),
        mode: s.word("mode"),
        create: s.flag("create"),
        every: every(&mut s),
    };
    s.later(&["key", "ledger"]);
    s.finish();
    target
}

fn every(s: &mut Section<'_>) -> Option<At<Every>> {
    let value = s.value("every")?;
    let every = match value.it {
        DeValue::String(text) if text == "all" => Some(Every::All),
        other => whole(other).filter(|n| *n > 0).map(Every::Records),
    };
    match every {
        Some(every) => Some(At::new(every, value.span)),
        None => s.wrong(
            "every",
            value.span,
            "\"all\" or a number of records",
            value.it,
        ),
    }
}

fn rejects(mut s: Section<'_>) -> Rejects {
    let rejects = Rejects {
        tolerance: tolerance(&mut s),
        folder: s.text("folder"),
    };
    s.later(&["table", "per"]);
    s.finish();
    rejects
}

fn tolerance(s: &mut Section<'_>) -> Option<At<Tolerance>> {
    let value = s.value("tolerance")?;
    let read = match value.it {
        DeValue::String(text) => Tolerance::parse(text),
        DeValue::Integer(_) => whole(value.it)
            .map(Tolerance::Records)
            .ok_or_else(|| "a tolerance is 0 or more".to_string()),
        _ => Err("a tolerance is a number of records, or a share such as \"0.5%\"".to_string()),
    };
    match read {
        Ok(tolerance) => Some(At::new(tolerance, value.span)),
        Err(message) => {
            s.problem(Problem::new(value.span, message, "not a tolerance"));
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
    fn keys_of_the_design_that_are_missing_are_not_ignored() {
        let text = "[target]\nledger = false\n[columns]\na = \"uuid\"\n";
        assert_eq!(
            problems(text),
            [
                "[target] ledger is not built yet",
                "the type uuid is not built yet"
            ]
        );
    }

    #[test]
    fn columns_keep_the_order_of_the_spec() {
        let (spec, _) = read("[columns]\nzebra = \"text\"\napple = { type = \"date\" }\n").unwrap();
        let names: Vec<_> = spec.columns.iter().map(|c| c.name.it.as_str()).collect();
        assert_eq!(names, ["zebra", "apple"]);
    }

    #[test]
    fn sizes_and_tolerances() {
        let (spec, _) = read(
            "[records]\nlongest = \"1 MiB\"\n[rejects]\ntolerance = \"0.5%\"\n[target]\nevery = 1000\n",
        )
        .unwrap();
        assert_eq!(spec.records.longest.unwrap().it, 1_048_576);
        assert_eq!(spec.rejects.tolerance.unwrap().it, Tolerance::Percent(0.5));
        assert_eq!(spec.target.every.unwrap().it, Every::Records(1000));
        assert_eq!(bytes_of("20 furlongs"), None);
    }

    #[test]
    fn text_that_is_not_toml_says_where() {
        let found = read("[records\nheader = \"names\"\n").unwrap_err();
        assert_eq!(found[0].label, "not TOML");
    }
}
