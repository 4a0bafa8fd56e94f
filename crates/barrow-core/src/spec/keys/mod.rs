//! The one table of the spec's keys: what each takes, what it means, and how it is written.
//!
//! What a spec may say, its near misses, `docs/spec.md`, `barrow help KEY` and the schema for
//! editors are all made of it.

mod beside;
mod columns;
mod parts;
mod records;
mod schema;
mod source;
mod stores;
mod target;
mod values;

pub use schema::schema;

use super::other_words;

/// The name of a file of settings, which hold for the specs in its folder and below it.
pub const SETTINGS: &str = "barrow.toml";

/// What is above all sections, as people see it.
pub(super) const TOP: &str = "the spec";

/// What a key takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// Text in quotes.
    Text,
    /// A text, or a list of them.
    Texts,
    /// `true` or `false`.
    Flag,
    /// A whole number, 0 or more.
    Count,
    /// A whole number, or text such as `"0.5%"` or `"1 MiB"`.
    CountOrText,
    /// One of these words.
    Words(&'static [&'static str]),
    /// One of these words, or another text.
    WordsOrText(&'static [&'static str]),
    /// One of these words, or a whole number.
    WordsOrCount(&'static [&'static str]),
    /// One of these words, or a table.
    WordsOrAny(&'static [&'static str]),
    /// A value as the column's, a list, or a table.
    Any,
}

impl Takes {
    /// In plain words.
    pub fn in_words(self) -> String {
        let list = |words: &[&str]| {
            let quoted: Vec<String> = words.iter().map(|word| format!("\"{word}\"")).collect();
            quoted.join(", ")
        };
        match self {
            Takes::Text => "text in quotes".into(),
            Takes::Texts => "text in quotes, or a list of texts".into(),
            Takes::Flag => "true or false".into(),
            Takes::Count => "a whole number".into(),
            Takes::CountOrText => "a whole number, or text as in the example".into(),
            Takes::Words(words) => list(words),
            Takes::WordsOrText(words) => format!("{}, or another text", list(words)),
            Takes::WordsOrCount(words) => format!("{}, or a whole number", list(words)),
            Takes::WordsOrAny(words) => format!("{}, or a table as in the example", list(words)),
            Takes::Any => "a value, a list or a table, as in the example".into(),
        }
    }
}

/// A key of the spec.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Key {
    /// The section as people see it: `[source]`, `[[check]]`, `[stores.NAME]`.
    pub section: &'static str,
    /// Its name.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// What holds where it is not said, as it is written or in words.
    pub default: &'static str,
    /// What it means. Marks are those of Markdown.
    pub meaning: &'static str,
    /// A line of a spec.
    pub example: &'static str,
}

/// The sections' keys, in the order of the documents.
const SECTIONS: [&[Key]; 8] = [
    source::KEYS,
    records::KEYS,
    values::KEYS,
    columns::KEYS,
    parts::KEYS,
    target::KEYS,
    stores::KEYS,
    beside::KEYS,
];

/// The sections that a spec has once, each with its own keys.
pub const SECTIONS_OF_ONE: [&str; 8] = [
    "source",
    "records",
    "delimited",
    "fixed",
    "values",
    "target",
    "rejects",
    "export",
];

/// Keys of `[values]` that are for all columns alone.
const FORMATS: [&str; 4] = ["date", "time", "timestamp", "timestamptz"];

/// All keys, in the order of the documents.
pub fn all() -> impl Iterator<Item = &'static Key> {
    SECTIONS.into_iter().flatten()
}

/// The keys that a word means: `null_values`, `values.null_values` or `[values] null_values`.
pub fn find(word: &str) -> Vec<&'static Key> {
    let plain = word.replace(['[', ']'], "").trim().replace(' ', ".");
    let (section, name) = match plain.rsplit_once('.') {
        Some((section, name)) => (Some(section), name),
        None => (None, plain.as_str()),
    };
    let is_it = |key: &&Key| {
        let own = key.section.trim_matches(['[', ']']).replace(".NAME", "");
        let own = own.replace(' ', ".");
        let in_section = section.is_none_or(|section| {
            section == own || (section == "columns" && key.stands_on_columns())
        });
        key.name == name && in_section
    };
    all().filter(is_it).collect()
}

/// The key that another word of the trade means, as `section.key`.
pub fn meant(word: &str) -> Option<String> {
    let (section, key) = other_words::meant(word)?;
    Some(format!("{}.{key}", section.trim_matches(['[', ']'])))
}

/// Where a key belongs that stands in a section that has no such key.
pub(super) fn elsewhere(name: &str) -> Option<String> {
    let own = all().filter(|key| key.name == name && key.section != SETTINGS);
    let mut sections: Vec<&str> = own.map(|key| key.section).collect();
    sections.dedup();
    (!sections.is_empty()).then(|| format!("it belongs into {}", sections.join(" or ")))
}

/// The other words of the trade that mean a key.
pub fn other_words(key: &Key) -> Vec<&'static str> {
    other_words::of(key.section, key.name)
}

/// The keys of a section: `source`, `[source]`.
pub fn of_section(word: &str) -> Vec<&'static Key> {
    let plain = word.trim_matches(['[', ']']);
    let is_it = |key: &&Key| {
        let own = key.section.trim_matches(['[', ']']);
        own == plain || own.strip_suffix(".NAME") == Some(plain)
    };
    all().filter(is_it).collect()
}

/// Whether a section has a key. Of what is no section of the table, everything is.
pub fn knows(section: &str, name: &str) -> bool {
    let mut own = all().filter(|key| key.section == section).peekable();
    // What stands beside the keys of a record type: its columns and checks.
    let is_table = section == "[[record_type]]" && matches!(name, "columns" | "check");
    // Above them all are the sections themselves.
    let is_table = is_table || section == TOP;
    if section.starts_with("column ") {
        let on_columns = |key: &Key| key.section == "[columns]" || key.stands_on_columns();
        return all().any(|key| key.name == name && on_columns(key));
    }
    is_table || own.peek().is_none() || own.any(|key| key.name == name)
}

impl Key {
    /// Whether a key for all columns may stand on one of them too.
    pub fn stands_on_columns(&self) -> bool {
        self.section == "[values]" && !FORMATS.contains(&self.name)
    }

    /// The example as a whole spec has it, under its section.
    pub fn example_in_place(&self) -> String {
        match self.section {
            TOP => format!("{}\n", self.example),
            SETTINGS => format!("# {SETTINGS}\n{}\n", self.example),
            section => format!("{}\n{}\n", section.replace("NAME", "market"), self.example),
        }
    }

    /// What it means, without marks.
    pub fn plain_meaning(&self) -> String {
        plain(self.meaning)
    }
}

/// Markdown without its marks: links are their words.
fn plain(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(start) = rest.find('[') {
        let (before, link) = rest.split_at(start);
        let parts = link.find("](").and_then(|middle| {
            let end = link[middle..].find(')')? + middle;
            // Brackets within the words are of a section's name, and no link's.
            (!link[1..middle].contains('[')).then_some((&link[1..middle], &link[end + 1..]))
        });
        out += before;
        match parts {
            Some((words, after)) => {
                out += words;
                rest = after;
            }
            None => {
                out.push('[');
                rest = &link[1..];
            }
        }
    }
    out += rest;
    out.replace('`', "")
}

/// The tables of the documents: for each section, its lines.
pub fn table(section: &str) -> String {
    let mut out = String::from("| key | default | meaning |\n|---|---|---|\n");
    for key in of_section(section) {
        let cell = |text: &str| text.replace('|', "\\|");
        out += &format!(
            "| `{}` | {} | {} |\n",
            key.name,
            cell(key.default),
            cell(key.meaning)
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spec::SpecTexts;
    use crate::spec::read::{read, read_texts};

    #[test]
    fn every_example_is_read_as_it_stands() {
        for key in all() {
            let text = key.example_in_place();
            let path = std::path::Path::new("a");
            let mut texts = SpecTexts::new(path, if key.section == SETTINGS { "" } else { &text });
            match key.section {
                SETTINGS => texts.settle(path, &text),
                _ => texts.extend(path, ""),
            }
            let (_, problems) = read_texts(&texts).unwrap_or_else(|_| panic!("{text}"));
            let problems: Vec<&str> = problems.iter().map(|p| p.message.as_str()).collect();
            assert_eq!(problems, [""; 0], "{text}");
            assert!(
                key.example.contains(key.name) || key.name == "type",
                "{text}"
            );
        }
    }

    #[test]
    fn every_word_is_taken_and_no_other() {
        for key in all() {
            let (Takes::Words(words), false) = (key.takes, key.section == "[columns]") else {
                continue;
            };
            for (word, is_one) in words.iter().map(|w| (*w, true)).chain([("zzz", false)]) {
                let text = format!("{}\n{} = \"{word}\"\n", key.section, key.name);
                let (_, problems) = read(&text).expect("TOML");
                assert_eq!(problems.is_empty(), is_one, "{text}");
            }
        }
    }

    #[test]
    fn no_key_is_there_twice_and_each_is_found() {
        for key in all() {
            let section = key.section.trim_matches(['[', ']']).replace(".NAME", "");
            let found = find(&format!("{section}.{}", key.name));
            assert_eq!(found, [key], "{section}.{}", key.name);
            assert!(find(key.name).contains(&key) && knows(key.section, key.name));
        }
        assert_eq!(find("[values] null_values"), find("values.null_values"));
        assert_eq!(find("columns.trim"), find("values.trim"));
        assert_eq!(
            elsewhere("comment").as_deref(),
            Some("it belongs into [records]")
        );
        assert!(find("nothing").is_empty() && !knows("[source]", "nothing"));
    }

    #[test]
    fn links_are_their_words() {
        assert_eq!(
            plain("A [condition](#c) of `[records] x`."),
            "A condition of [records] x."
        );
    }

    #[test]
    fn the_documents_have_these_tables() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/spec.md");
        let text = std::fs::read_to_string(path).expect("the document");
        let sections: Vec<&str> = all().map(|key| key.section).collect();
        for section in sections {
            let wanted = table(section);
            assert!(
                text.contains(&wanted),
                "docs/spec.md lacks, as scripts/keys makes it:\n{wanted}"
            );
        }
    }
}
