//! The sections of a spec that say how files are read, and the writing of TOML.

use super::layout::{Delimited, Heading, Layout, Part, Shape};
use super::remark::Remark;
use crate::source::Compression;
use crate::words::Word;

/// Text as TOML writes it.
pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_string()).to_string()
}

/// A list of texts as TOML writes it.
pub(super) fn list<'t>(words: impl IntoIterator<Item = &'t str>) -> String {
    let words: Vec<String> = words.into_iter().map(quoted).collect();
    format!("[{}]", words.join(", "))
}

/// A key as TOML writes it.
pub(super) fn key(name: &str) -> String {
    let bare = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-');
    match !name.is_empty() && name.chars().all(bare) {
        true => name.to_string(),
        false => quoted(name),
    }
}

/// The spec that reads every column as text.
pub(super) fn reading(shape: &Shape) -> String {
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

/// Where a column is found.
pub(super) fn place_of(shape: &Shape, part: &Part, place: usize) -> String {
    match &shape.layout {
        Layout::Fixed => {
            let (start, width) = part.spots[place];
            format!(", start = {}, width = {width}", start + 1)
        }
        Layout::Json => {
            let key = &part.keys[place];
            let from = match key.from == part.names[place] {
                true => String::new(),
                false => format!(", from = {}", quoted(&key.from)),
            };
            match key.missing {
                0 => from,
                _ => from + ", optional = true",
            }
        }
        _ if shape.by_name() && part.header[place] != part.names[place] => {
            format!(", from = {}", quoted(&part.header[place]))
        }
        Layout::Delimited(_) if !shape.by_name() => format!(", position = {}", place + 1),
        _ => String::new(),
    }
}

pub(super) fn records(shape: &Shape, told: bool) -> String {
    let mut out = String::from("\n[records]\n");
    if told {
        for text in &shape.remarks {
            out += &remark(text);
        }
    }
    if shape.layout == Layout::Fixed {
        out += "layout   = \"fixed\"\n";
    }
    if shape.layout == Layout::Json {
        return out + "layout   = \"json\"\n\n";
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
        Layout::Fixed | Layout::Json => {}
    }
    out.push('\n');
    out
}

pub(super) fn delimited(how: &Delimited, shape: &Shape, told: bool) -> String {
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

pub(super) fn lines(told: bool) -> String {
    let mut out = String::from("\n[delimited]\nquote = \"\"\n");
    if told {
        out += &comment("each line is one text: the delimiter is what no line is likely to hold");
    }
    out + "delimiter = \"\\u0001\\u0002\"\n"
}

pub(super) fn source(shape: &Shape, files: &[String]) -> String {
    let mut out = String::from("[source]\n");
    if !files.is_empty() {
        out += &format!("files    = {}\n", list(files.iter().map(String::as_str)));
        for note in &shape.encoding.1 {
            out += &comment(note);
        }
    }
    out += &format!("encoding = {}\n", quoted(&shape.encoding.0));
    if !files.is_empty() && shape.packing != Compression::None {
        out += &format!(
            "compression  = \"auto\"           # {}\n",
            shape.packing.word()
        );
    }
    out
}

/// The section that a part's columns stand in.
pub(super) fn part_head(part: &Part, table: Option<&str>) -> String {
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

/// A remark, as `load` counts them.
pub(super) fn remark(remark: &Remark) -> String {
    comment(&format!("! {}", remark.line()))
}

/// A line of comment; nothing in it can end the comment.
pub(super) fn comment(text: &str) -> String {
    format!("# {}\n", text.replace(['\r', '\n'], " "))
}
