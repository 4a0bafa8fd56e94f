//! Records that name their fields: told by the start of the first file, and their keys by all
//! of every file.

use indexmap::IndexMap;
use serde_json::Value;

use super::{Heading, Layout, Shape, part};
use crate::error::Error;
use crate::records::block::{BLOCK, Block};
use crate::records::json::{Frames, Limits, frame};
use crate::records::opening::open;
use crate::records::splitter::Splitter;
use crate::source::{Charset, SourceFile};
use crate::spec::read_plan;

/// How much of the first file is looked at.
const SAMPLE: usize = 256 << 10;

/// Objects within each other are taken apart so far; deeper ones are documents.
const DEEPEST: usize = 3;

/// An object with more keys than these has data for keys, and is a document.
const MOST_KEYS: usize = 300;

/// A spec that reads any file's bytes.
const ANY_FILE: &str = "[source]\nencoding = \"auto\"\n[records]\nheader = \"none\"\n\
    [delimited]\nquote = \"\"\n[columns]\nline = \"text\"\n";

/// A spec that finds the objects of such a file. No record has the key.
const ANY_OBJECT: &str = "[records]\nlayout = \"json\"\nwhen_new_column = \"ignore\"\n\
    [columns]\nnothing = { type = \"text\", from = \"\\u0000\", optional = true }\n";

/// A column's key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyFound {
    /// A key, or a JSON Pointer.
    pub from: String,
    /// How many records lack it.
    pub missing: u64,
}

/// The shape of a file of objects; none where it is none.
///
/// # Errors
/// The file cannot be read.
pub fn tell(source: &SourceFile, told_by: u64) -> Result<Option<Shape>, Error> {
    let mut plan = read_plan(ANY_FILE)
        .map_err(|_| Error::Worker("the spec that reads any file is wrong".into()))?;
    plan.source.told_by = told_by.min(SAMPLE as u64);
    let (start, text, bytes) = open(&plan, source, SAMPLE)?;
    let from = match text.transcoder {
        Some(_) => 0,
        None => start.mark,
    };
    let bytes = &bytes[from..];
    let Some(frames) = Frames::of(bytes, text.whole) else {
        return Ok(None);
    };
    let limits = Limits {
        longest: SAMPLE,
        most: 20,
    };
    let mut marks = Vec::new();
    frame(
        frames,
        &limits,
        bytes,
        text.whole,
        &mut Default::default(),
        &mut marks,
    );
    let is_object = |record: &[u8]| {
        // Over several lines it is one document, and no record of many.
        if frames == Frames::Lines && record.contains(&b'\n') {
            return false;
        }
        let record = record.strip_prefix(b"\x1e").unwrap_or(record);
        matches!(serde_json::from_slice(record), Ok(Value::Object(_)))
    };
    let good = marks
        .iter()
        .filter(|mark| is_object(&bytes[mark.range()]))
        .count();
    let is_json = good > 0 && good * 2 >= marks.len();
    let is_unicode = matches!(&start.charset, Charset::Utf8)
        || ["UTF-16", "UTF-32"]
            .iter()
            .any(|name| start.charset.name().starts_with(name));
    if !is_json || !is_unicode {
        return Ok(None);
    }
    Ok(Some(Shape {
        encoding: (start.charset.name().to_ascii_lowercase(), start.notes),
        is_ascii: start.is_ascii,
        packing: text.input.packing(),
        layout: Layout::Json,
        share: 100,
        preamble: 0,
        heading: Heading::None,
        parts: Vec::new(),
        comment: None,
        trailer: 0,
        is_ragged: false,
        ruler: Vec::new(),
        remarks: Vec::new(),
    }))
}

/// What is known of a key.
#[derive(Default)]
struct Key {
    /// Records, or objects around it, that have it.
    found: u64,
    objects: u64,
    /// Values that are neither an object nor null.
    others: u64,
    within: IndexMap<String, Key>,
}

/// Finds the keys of all records of all files, in the order in which they come.
///
/// # Errors
/// A file cannot be read.
pub fn find_keys(shape: &mut Shape, files: &[SourceFile]) -> Result<(), Error> {
    let text = format!(
        "[source]\nencoding = \"{}\"\n{ANY_OBJECT}",
        shape.encoding.0
    );
    let plan = read_plan(&text)
        .map_err(|_| Error::Worker("the spec that finds objects is wrong".into()))?;
    let mut splitter = Splitter::new(&plan, files.to_vec(), BLOCK);
    let mut block = Block::default();
    let mut root = Key::default();
    while splitter.next(&mut block)? {
        for mark in &block.marks {
            let record = &block.bytes[mark.range()];
            let record = record.strip_prefix(b"\x1e").unwrap_or(record);
            if let Ok(Value::Object(object)) = serde_json::from_slice(record) {
                root.note(&object, 1);
            }
        }
    }
    let mut found = Vec::new();
    root.list(&mut Vec::new(), root.objects, &mut found);
    let pointers = found.iter().map(|(steps, _)| steps.join("_")).collect();
    let mut own = part(None, pointers, Vec::new());
    own.keys = found
        .into_iter()
        .map(|(steps, missing)| KeyFound {
            from: from(&steps),
            missing,
        })
        .collect();
    shape.parts = vec![own];
    Ok(())
}

impl Key {
    fn note(&mut self, object: &serde_json::Map<String, Value>, depth: usize) {
        self.objects += 1;
        for (name, value) in object {
            // Data for keys would take up memory without end.
            if self.within.len() > MOST_KEYS && !self.within.contains_key(name) {
                self.others += 1;
                continue;
            }
            let key = self.within.entry(name.clone()).or_default();
            key.found += 1;
            match value {
                Value::Object(inner) if depth < DEEPEST => key.note(inner, depth + 1),
                Value::Null => {}
                _ => key.others += 1,
            }
        }
    }

    /// The columns within, with how many of `records` lack each.
    fn list(&self, steps: &mut Vec<String>, records: u64, found: &mut Vec<(Vec<String>, u64)>) {
        for (name, key) in &self.within {
            steps.push(name.clone());
            // Only what is always an object is taken apart.
            match key.objects > 0 && key.others == 0 && !key.within.is_empty() {
                true => key.list(steps, records, found),
                false => found.push((steps.clone(), records - key.found.min(records))),
            }
            steps.pop();
        }
    }
}

/// A way to a value as a spec has it.
fn from(steps: &[String]) -> String {
    match steps {
        [key] if !key.starts_with('/') => key.clone(),
        steps => steps
            .iter()
            .map(|step| format!("/{}", step.replace('~', "~0").replace('/', "~1")))
            .collect(),
    }
}
