//! Writes a draft as a spec's text, with its evidence as comments.

use super::layout::{Layout, Shape};
use super::{Chosen, Gathered, Into};
use crate::source::Packing;
use crate::spec::section::Word;

/// Text as TOML writes it.
fn quoted(text: &str) -> String {
    toml::Value::String(text.to_string()).to_string()
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
fn remark(text: &str) -> String {
    format!("# {}\n", text.replace(['\r', '\n'], " "))
}

/// The spec that reads every column as text.
pub fn reading(shape: &Shape) -> String {
    let mut out = source(shape, &[]);
    out += &records(shape, false);
    out += "[columns]\n";
    let by_name = shape.by_name();
    for (place, name) in shape.names.iter().enumerate() {
        let found = place_of(shape, by_name, place);
        // The longest text there is: a draft must see all of it.
        out += &format!(
            "{} = {{ type = \"text\", trim = \"none\"{found} }}\n",
            key(name)
        );
    }
    out
}

/// Where a column is found.
fn place_of(shape: &Shape, by_name: bool, place: usize) -> String {
    match &shape.layout {
        Layout::Fixed(spans) => {
            let (start, width) = spans[place];
            format!(", start = {}, width = {width}", start + 1)
        }
        _ if by_name && shape.header[place] != shape.names[place] => {
            format!(", from = {}", quoted(&shape.header[place]))
        }
        Layout::Delimited { .. } if !by_name => format!(", at = {}", place + 1),
        _ => String::new(),
    }
}

fn source(shape: &Shape, files: &[String]) -> String {
    let mut out = String::from("[source]\n");
    if !files.is_empty() {
        let files: Vec<String> = files.iter().map(|file| quoted(file)).collect();
        out += &format!("files    = [{}]\n", files.join(", "));
        for note in &shape.encoding.1 {
            out += &remark(note);
        }
    }
    out += &format!("encoding = {}\n", quoted(&shape.encoding.0));
    if !files.is_empty() && shape.packing != Packing::None {
        out += &format!("packing  = \"auto\"           # {}\n", shape.packing.word());
    }
    out
}

fn records(shape: &Shape, told: bool) -> String {
    let mut out = String::from("\n[records]\n");
    match &shape.layout {
        Layout::Fixed(_) => out += "layout   = \"fixed\"\n",
        Layout::Delimited { .. } if shape.by_name() => out += "header   = \"names\"\n",
        Layout::Delimited { .. } if shape.has_header => out += "header   = \"skip\"\n",
        _ => out += "header   = \"none\"\n",
    }
    if shape.preamble > 0 {
        out += &format!("preamble = {}\n", shape.preamble);
    }
    if shape.trailer > 0 {
        out += &format!("trailer  = {}\n", shape.trailer);
    }
    if let Some(comment) = &shape.comment {
        out += &format!("comment  = {}\n", quoted(comment));
    }
    match &shape.layout {
        Layout::Delimited {
            delimiter,
            quote,
            escape,
        } => {
            out += "\n[delimited]\n";
            if told && shape.share < 100 {
                out += &remark(&format!("{} in 100 lines have as many fields", shape.share));
            }
            out += &format!(
                "delimiter = {}\nquote     = {}\n",
                quoted(delimiter),
                quoted(quote)
            );
            if escape != "doubled" {
                out += &format!("escape    = {}\n", quoted(escape));
            }
        }
        Layout::Lines => {
            out += "\n[delimited]\nquote = \"\"\n";
            if told {
                out += &remark(
                    "no delimiter and no set widths were found: each line is one text, such as",
                );
                for line in &shape.ruler {
                    out += &remark(line);
                }
            }
            // What no line is likely to hold.
            out += "delimiter = \"\\u0001\\u0002\"\n";
        }
        Layout::Fixed(_) => {
            if told {
                out +=
                    &remark("where the fields were found to start; correct start and width below");
                for line in &shape.ruler {
                    out += &remark(line);
                }
            }
        }
    }
    out.push('\n');
    out
}

/// The whole spec.
pub fn spec(shape: &Shape, columns: &[Chosen], gathered: &Gathered, into: &Into) -> String {
    let mut out = remark(&format!(
        "drafted from all {} records; look it through",
        gathered.records
    ));
    out += &source(shape, &into.files);
    out += &records(shape, true);
    if gathered.misshapen > 0 {
        out += &remark(&format!(
            "{} records are of the wrong shape and would be rejected:",
            gathered.misshapen
        ));
        for (file, line, says) in &gathered.named {
            out += &remark(&format!("  {file} line {line}: {says}"));
        }
    }
    out += "[columns]\n";
    let by_name = shape.by_name();
    for (place, column) in columns.iter().enumerate() {
        out += &self::column(shape, by_name, place, column);
    }
    out += "\n[target]\n";
    match &into.into {
        Some(url) => out += &format!("into   = {}\n", quoted(url)),
        None => out += "# into = \"sqlite:market.db\"\n",
    }
    out += &format!("table  = {}\ncreate = true\n", quoted(&into.table));
    out
}

fn column(shape: &Shape, by_name: bool, place: usize, column: &Chosen) -> String {
    let choice = &column.choice;
    let mut keys = format!("type = {}", quoted(&choice.ty.to_string()));
    keys += &place_of(shape, by_name, place);
    let words = |words: &[String]| {
        let words: Vec<String> = words.iter().map(|word| quoted(word)).collect();
        format!("[{}]", words.join(", "))
    };
    if !choice.null_words.is_empty() {
        let all: Vec<String> = [String::new()]
            .into_iter()
            .chain(choice.null_words.clone())
            .collect();
        keys += &format!(", null_words = {}", words(&all));
    }
    let fixed = matches!(shape.layout, Layout::Fixed(_));
    if choice.trim && !fixed {
        keys += ", trim = \"both\"";
    }
    if let Some((decimal, group)) = &choice.marks {
        keys += &format!(", decimal_mark = {}", quoted(decimal));
        if !group.is_empty() {
            keys += &format!(", group_mark = {}", quoted(group));
        }
    }
    if let Some(pattern) = &choice.pattern {
        keys += &format!(", pattern = {}", quoted(pattern));
    }
    if let Some((yes, no)) = &choice.words {
        keys += &format!(
            ", true_words = [{}], false_words = [{}]",
            quoted(yes),
            quoted(no)
        );
    }
    let mut out = remark(&column.evidence);
    for text in &column.remarks {
        out += &remark(&format!("! {text}"));
    }
    out + &format!("{} = {{ {keys} }}\n", key(&column.name))
}
