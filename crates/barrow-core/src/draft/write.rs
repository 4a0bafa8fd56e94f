//! Writes a draft as a spec's text, with its evidence as comments.

use super::choose::Choice;
use super::gather::Gathered;
use super::judge::Judgement;
use super::layout::{Delimited, Heading, Layout, Part, Shape};
use super::remark::Remark;
use super::{Chosen, Wanted};
use crate::source::Packing;
use crate::words::Word;

/// Text as TOML writes it.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_string()).to_string()
}

/// A list of texts as TOML writes it.
fn list<'t>(words: impl IntoIterator<Item = &'t str>) -> String {
    let words: Vec<String> = words.into_iter().map(quoted).collect();
    format!("[{}]", words.join(", "))
}

/// A key as TOML writes it.
fn key(name: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    match !name.is_empty() && name.chars().all(bare) {
        true => name.to_string(),
        false => quoted(name),
    }
}

/// A line of comment; nothing in it can end the comment.
fn comment(text: &str) -> String {
    format!("# {}\n", text.replace(['\r', '\n'], " "))
}

/// A remark, as `load` counts them.
fn remark(remark: &Remark) -> String {
    comment(&format!("! {}", remark.line()))
}

/// The spec that reads every column as text.
pub fn reading(shape: &Shape) -> String {
    let mut out = source(shape, &[]);
    out += &records(shape, false);
    for part in &shape.parts {
        out += &part_head(part, None);
        for (place, name) in part.names.iter().enumerate() {
            let found = place_of(shape, part, place);
            // The longest text there is: a draft must see all of it.
            out += &format!(
                "{} = {{ type = \"text\", trim = \"none\"{found} }}\n",
                key(name)
            );
        }
    }
    out
}

/// The section that a part's columns stand in.
fn part_head(part: &Part, table: Option<&str>) -> String {
    let Some((name, condition)) = &part.told_by else {
        return "[columns]\n".into();
    };
    let mut out = format!(
        "[[record_type]]\nname = {}\nif = {}\n",
        quoted(name),
        quoted(condition)
    );
    if let Some(table) = table {
        out += &format!("table = {}\n", quoted(&format!("{table}_{name}")));
    }
    out + "\n[record_type.columns]\n"
}

/// Where a column is found.
fn place_of(shape: &Shape, part: &Part, place: usize) -> String {
    match &shape.layout {
        Layout::Fixed => {
            let (start, width) = part.spots[place];
            format!(", start = {}, width = {width}", start + 1)
        }
        _ if shape.by_name() && part.header[place] != part.names[place] => {
            format!(", from = {}", quoted(&part.header[place]))
        }
        Layout::Delimited(_) if !shape.by_name() => format!(", position = {}", place + 1),
        _ => String::new(),
    }
}

fn source(shape: &Shape, files: &[String]) -> String {
    let mut out = String::from("[source]\n");
    if !files.is_empty() {
        out += &format!("files    = {}\n", list(files.iter().map(String::as_str)));
        for note in &shape.encoding.1 {
            out += &comment(note);
        }
    }
    out += &format!("encoding = {}\n", quoted(&shape.encoding.0));
    if !files.is_empty() && shape.packing != Packing::None {
        out += &format!(
            "compression  = \"auto\"           # {}\n",
            shape.packing.word()
        );
    }
    out
}

fn records(shape: &Shape, told: bool) -> String {
    let mut out = String::from("\n[records]\n");
    if told {
        for about in &shape.remarks {
            out += &remark(about);
        }
    }
    if shape.layout == Layout::Fixed {
        out += "layout   = \"fixed\"\n";
    }
    out += match (shape.heading, &shape.layout) {
        (Heading::Names, _) => "header   = \"names\"\n",
        (Heading::Skip, _) => "header   = \"skip\"\n",
        (Heading::None, Layout::Fixed) => "",
        (Heading::None, _) => "header   = \"none\"\n",
    };
    if shape.preamble > 0 {
        out += &format!("preamble = {}\n", shape.preamble);
    }
    if shape.trailer > 0 {
        out += &format!("trailer  = {}\n", shape.trailer);
    }
    if let Some(mark) = &shape.comment {
        out += &format!("comment  = {}\n", quoted(mark));
    }
    if shape.is_ragged {
        out += "when_short = \"null\"\n";
    }
    match &shape.layout {
        Layout::Delimited(how) => out += &delimited(how, shape, told),
        Layout::Lines => out += &lines(told),
        Layout::Fixed if told && !shape.ruler.is_empty() => {
            out += &comment("where the fields were found to start; correct start and width below");
            for line in &shape.ruler {
                out += &comment(line);
            }
        }
        Layout::Fixed => {}
    }
    out.push('\n');
    out
}

fn delimited(how: &Delimited, shape: &Shape, told: bool) -> String {
    let mut out = String::from("\n[delimited]\n");
    if told && shape.share < 100 {
        out += &comment(&format!(
            "{} in 100 records have as many fields",
            shape.share
        ));
    }
    out += &format!(
        "delimiter = {}\nquote     = {}\n",
        quoted(&how.delimiter),
        quoted(&how.quote)
    );
    if how.escape != "doubled" {
        out += &format!("escape    = {}\n", quoted(&how.escape));
    }
    if how.skips_spaces {
        out += "spaces_after_delimiter = \"skip\"\n";
    }
    out
}

fn lines(told: bool) -> String {
    let mut out = String::from("\n[delimited]\nquote = \"\"\n");
    if told {
        out += &comment("each line is one text: the delimiter is what no line is likely to hold");
    }
    out + "delimiter = \"\\u0001\\u0002\"\n"
}

/// What holds for all columns.
fn values(judgement: &Judgement, common: &Common) -> String {
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
    match out.is_empty() {
        true => out,
        false => format!("[values]\n{out}\n"),
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
            _ => "; what begins with ! was not plain, and stays until you take it out".to_string(),
        }
    ));
    out += &source(shape, &wanted.files);
    out += &records(shape, true);
    let common = Common::of(columns);
    out += &values(judgement, &common);
    if gathered.seen.misshapen > 0 {
        out += &comment(&match gathered.seen.misshapen {
            1 => "1 record is of the wrong shape and would be rejected:".to_string(),
            many => format!("{many} records are of the wrong shape and would be rejected:"),
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
    }
    for about in &column.remarks {
        out += &remark(about);
    }
    out + &format!("{} = {{ {keys} }}\n", key(&column.name))
}

/// How a choice's values are written, as keys of a column, beside what is common.
fn writing(choice: &Choice, common: &Common) -> Vec<(&'static str, String)> {
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
        keys.push(("true_values", list([yes.as_str()])));
        keys.push(("false_values", list([no.as_str()])));
    }
    keys
}
