//! Writes a draft as a spec's text, with its evidence as comments.

use super::gather::Gathered;
use super::judge::Judgement;
use super::layout::{Layout, Part, Shape};
use super::sections::{comment, key, list, part_head, place_of, quoted, records, remark, source};
use super::{Chosen, Wanted};
use crate::draft::inferred::Inferred;
use crate::spec::keys;
use crate::values::moment::MOMENT;

/// What holds for all columns.
fn values(judgement: &Judgement, common: &Common, stated: &[String], shape: &Shape) -> String {
    let mut out = String::new();
    if !judgement.nulls.is_empty() {
        let words = [""].into_iter().chain(judgement.nulls.iter().copied());
        out += &format!("null_values = {}\n", list(words));
    }
    if judgement.trims {
        out += "trim = \"both\"\n";
    }
    if let Some((decimal, group)) = &common.marks {
        out += &format!("decimal_mark = {}\n", quoted(decimal));
        if !group.is_empty() {
            out += &format!("group_mark = {}\n", quoted(group));
        }
    }
    for (name, pattern) in &common.patterns {
        out += &format!("{name} = {}\n", quoted(pattern));
    }
    for key in stated {
        let is_said = out
            .lines()
            .any(|line| line.split(" = ").next() == Some(key));
        if let (false, Some(usual)) = (is_said, usual(key, shape)) {
            out += &format!("{key} = {usual}\n");
        }
    }
    match out.is_empty() {
        true => out,
        false => format!("[values]\n{out}\n"),
    }
}

/// What a key of `[values]` is where nothing is said, as it is written; none where there is no
/// word for it, which takes nothing from a draft: a time zone is for times without an offset.
fn usual(key: &str, shape: &Shape) -> Option<String> {
    match key {
        "trim" if shape.layout == Layout::Fixed => Some("\"both\"".to_string()),
        "trim" => Some("\"none\"".to_string()),
        "strip" => Some("[]".to_string()),
        "timestamptz" => Some(list(MOMENT.iter().copied())),
        "time_zone" => None,
        _ => {
            let known = keys::find(&format!("values.{key}"));
            known
                .first()
                .map(|key| key.default.trim_matches('`').to_string())
        }
    }
}

/// What the columns have in common, so that it stands once.
#[derive(Default)]
struct Common {
    marks: Option<(String, String)>,
    /// The key of `[values]`, and the pattern.
    patterns: Vec<(&'static str, String)>,
}

impl Common {
    /// What every column of its sort has.
    fn of(columns: &[Vec<Chosen>]) -> Common {
        use crate::types::Type;
        let all = || columns.iter().flatten();
        let mut common = Common::default();
        let parted = |c: &&Chosen| matches!(c.choice.ty, Type::Decimal { .. } | Type::Double);
        let mut marks = all().filter(parted).map(|c| &c.choice.marks);
        if let Some(Some(first)) = marks.next()
            && marks.all(|other| other.as_ref() == Some(first))
        {
            common.marks = Some(first.clone());
        }
        let sorts: [(&'static str, Type); 4] = [
            ("date", Type::Date),
            ("time", Type::Time),
            ("timestamp", Type::Timestamp),
            ("timestamptz", Type::TimestampTz),
        ];
        for (name, ty) in sorts {
            let mut patterns = all()
                .filter(|c| c.choice.ty == ty)
                .map(|c| &c.choice.patterns);
            if let Some([first]) = patterns.next().map(Vec::as_slice)
                && patterns.all(|other| other.as_slice() == [first.clone()])
            {
                common.patterns.push((name, first.clone()));
            }
        }
        common
    }
}

/// The whole spec.
pub fn spec(
    shape: &Shape,
    columns: &[Vec<Chosen>],
    judgement: &Judgement,
    gathered: &Gathered,
    wanted: &Wanted,
) -> String {
    let remarks = shape.remarks.len()
        + columns
            .iter()
            .flatten()
            .map(|c| c.remarks.len())
            .sum::<usize>();
    let mut out = comment(&format!(
        "drafted from {}{}",
        match gathered.seen.records {
            1 => "its one record".to_string(),
            all => format!("all {all} records"),
        },
        match remarks {
            0 => String::new(),
            _ => "; lines that begin with ! say what was not clear, until you delete them"
                .to_string(),
        }
    ));
    out += &source(shape, &wanted.files);
    out += &records(shape, true);
    let common = Common::of(columns);
    out += &values(judgement, &common, &wanted.stated, shape);
    if gathered.seen.misshapen > 0 {
        out += &comment(&match gathered.seen.misshapen {
            1 => "1 record has the wrong shape and would be rejected:".to_string(),
            many => format!("{many} records have the wrong shape and would be rejected:"),
        });
        for (file, line, says) in &gathered.seen.named {
            out += &comment(&format!("  {file} line {line}: {says}"));
        }
    }
    for (part, columns) in shape.parts.iter().zip(columns) {
        out += &part_head(part, Some(&wanted.table));
        for (place, column) in columns.iter().enumerate() {
            out += &self::column(shape, part, place, column, &common);
        }
        if shape.has_types() {
            out.push('\n');
        }
    }
    out += if shape.has_types() {
        "[target]\n"
    } else {
        "\n[target]\n"
    };
    if let Some(url) = &wanted.into {
        out += &format!("database = {}\n", quoted(url));
    }
    if !shape.has_types() {
        out += &format!("table    = {}\n", quoted(&wanted.table));
    }
    out + "create   = true\n"
}

fn column(shape: &Shape, part: &Part, place: usize, column: &Chosen, common: &Common) -> String {
    let mut keys = format!("type = {}", quoted(&column.choice.ty.to_string()));
    keys += &place_of(shape, part, place);
    for (name, value) in writing(&column.choice, common) {
        keys += &format!(", {name} = {value}");
    }
    let mut out = String::new();
    if column.is_nothing {
        keys += ", load = false";
        out += &comment("nothing in any record, and no name: a delimiter at the end of each line");
    } else {
        out += &comment(&column.evidence);
        if let Some(key) = part.keys.get(place).filter(|key| key.missing > 0) {
            out += &comment(&format!("missing in {} records", key.missing));
        }
    }
    for text in &column.remarks {
        out += &remark(text);
    }
    out + &format!("{} = {{ {keys} }}\n", key(&column.name))
}

/// How a choice's values are written, as keys of a column, beside what is common.
fn writing(choice: &Inferred, common: &Common) -> Vec<(&'static str, String)> {
    let mut keys = Vec::new();
    if !choice.null_words.is_empty() {
        keys.push((
            "null_values",
            list(choice.null_words.iter().map(String::as_str)),
        ));
    }
    if choice.trim {
        keys.push(("trim", quoted("both")));
    }
    if let Some((decimal, group)) = &choice.marks
        && choice.marks != common.marks
    {
        keys.push(("decimal_mark", quoted(decimal)));
        if !group.is_empty() {
            keys.push(("group_mark", quoted(group)));
        }
    }
    if !choice.take_off.is_empty() {
        keys.push(("strip", list(choice.take_off.iter().map(String::as_str))));
    }
    if let Some(sign) = choice.sign {
        keys.push(("sign", quoted(sign)));
    }
    let is_common = |pattern: &String| common.patterns.iter().any(|(_, known)| known == pattern);
    match choice.patterns.as_slice() {
        [] => {}
        [one] if is_common(one) => {}
        [one] => keys.push(("format", quoted(one))),
        several => keys.push(("format", list(several.iter().map(String::as_str)))),
    }
    if let Some((yes, no)) = &choice.words {
        keys.push(("true_values", list(yes.iter().map(String::as_str))));
        keys.push(("false_values", list(no.iter().map(String::as_str))));
    }
    keys
}
