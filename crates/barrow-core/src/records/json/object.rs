//! The fields of an object. Its syntax is read by a crate; where each value stands, what it
//! is taken for and what is wrong with it is decided here.

use std::borrow::Cow;
use std::fmt;
use std::ops::Range;

use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::value::RawValue;

use super::flat::{MARKED, QuickWay};
use super::frames::SEPARATOR;
use super::text::lone_surrogate;
use crate::format::{KeyField, KeyNode, KeyTree};
use crate::reason::Code;
use crate::records::span::Span;

/// Objects and arrays within each other go so deep.
const DEEPEST: usize = 128;

/// What is wrong with a record, and where: bytes of the block.
#[derive(Debug, PartialEq, Eq)]
pub struct ObjectFault {
    /// The code.
    pub code: Code,
    /// In plain words.
    pub says: String,
    /// The place.
    pub at: Range<usize>,
}

/// What became of an object.
#[derive(Debug, Default)]
pub struct Split {
    /// Keys that nobody asks for, the outermost ones: the first, if there is one.
    pub new_key: Option<String>,
}

/// Finds the fields of the object at `range`, and adds their spans to `spans`, in the order of
/// the tree's fields.
///
/// # Errors
/// What is wrong with the record; nothing was added then.
pub fn split(
    bytes: &[u8],
    range: Range<usize>,
    tree: &KeyTree,
    spans: &mut Vec<Span>,
) -> Result<Split, ObjectFault> {
    split_text(&mut QuickWay::default(), bytes, None, range, tree, spans)
}

/// The same where all of the block may be known to be UTF-8: then no part of it is asked
/// again whether it is, which took a seventh of the time, and the quick way is tried.
///
/// # Errors
/// As [`split`].
pub fn split_text(
    quick: &mut QuickWay,
    bytes: &[u8],
    text: Option<&str>,
    range: Range<usize>,
    tree: &KeyTree,
    spans: &mut Vec<Span>,
) -> Result<Split, ObjectFault> {
    let mut range = range;
    if bytes[range.clone()].first() == Some(&SEPARATOR) {
        range.start += 1;
    }
    let before = spans.len();
    spans.resize(before + tree.fields.len(), Span::NO_KEY);
    if text.is_some() && quick.find(bytes, range.clone(), tree, &mut spans[before..]) {
        fill_up(&mut spans[before..], tree);
        return Ok(Split::default());
    }
    let read = parse(bytes, text, range, tree, &mut spans[before..]);
    match read {
        Ok(_) => fill_up(&mut spans[before..], tree),
        Err(_) => spans.truncate(before),
    }
    read
}

/// What a record may lack is nothing.
pub(super) fn fill_up(spans: &mut [Span], tree: &KeyTree) {
    for (span, field) in spans.iter_mut().zip(&tree.fields) {
        if *span == Span::NO_KEY && field.optional {
            *span = Span::MISSING;
        }
    }
}

/// Finds the fields with the parser.
fn parse(
    bytes: &[u8],
    text: Option<&str>,
    range: Range<usize>,
    tree: &KeyTree,
    spans: &mut [Span],
) -> Result<Split, ObjectFault> {
    let record = &bytes[range.clone()];
    let mut walk = Walk {
        bytes,
        tree,
        spans,
        ranks: [usize::MAX; RANKED],
        more_ranks: Vec::new(),
        fault: None,
        split: Split::default(),
    };
    if tree.fields.len() > RANKED {
        walk.more_ranks = vec![usize::MAX; tree.fields.len()];
    }
    let text = text.and_then(|text| text.get(range.clone()));
    walk.record(record, text, &range)?;
    Ok(walk.split)
}

/// For so many fields the ranks need no room of their own.
const RANKED: usize = 64;

struct Walk<'w> {
    bytes: &'w [u8],
    tree: &'w KeyTree,
    spans: &'w mut [Span],
    /// For each field, which of its ways it was found by.
    ranks: [usize; RANKED],
    more_ranks: Vec<usize>,
    fault: Option<ObjectFault>,
    split: Split,
}

impl<'w> Walk<'w> {
    fn record(
        &mut self,
        record: &'w [u8],
        text: Option<&'w str>,
        range: &Range<usize>,
    ) -> Result<(), ObjectFault> {
        if let Some(at) = lone_surrogate(record) {
            let at = range.start + at;
            return Err(ObjectFault {
                code: Code::LoneSurrogate,
                says: Code::LoneSurrogate.words().into(),
                at: at..(at + 6).min(range.end),
            });
        }
        match text {
            Some(text) => self.parse(serde_json::Deserializer::from_str(text), record, range),
            None => self.parse(serde_json::Deserializer::from_slice(record), record, range),
        }
    }

    fn parse<R: serde_json::de::Read<'w>>(
        &mut self,
        mut parser: serde_json::Deserializer<R>,
        record: &[u8],
        range: &Range<usize>,
    ) -> Result<(), ObjectFault> {
        let level = Level {
            nodes: &self.tree.root,
            is_outermost: true,
        };
        let read = parser.deserialize_any(ObjectVisitor { walk: self, level });
        if let Some(fault) = self.fault.take() {
            return Err(fault);
        }
        if let Err(error) = read {
            return Err(syntax(&error, record, range));
        }
        parser.end().map_err(|error| {
            let fault = syntax(&error, record, range);
            ObjectFault {
                code: Code::TextAfterObject,
                says: Code::TextAfterObject.words().into(),
                ..fault
            }
        })
    }

    /// Where a part of the record stands in the block.
    fn place(&self, part: &[u8]) -> Range<usize> {
        let start = part.as_ptr() as usize - self.bytes.as_ptr() as usize;
        start..start + part.len()
    }

    fn rank(&mut self, field: usize) -> &mut usize {
        match self.more_ranks.is_empty() {
            true => &mut self.ranks[field],
            false => &mut self.more_ranks[field],
        }
    }

    /// Takes a value for those who ask for it.
    fn take(&mut self, node: &'w KeyNode, value: &'w RawValue) {
        let raw = value.get().as_bytes();
        let place = self.place(raw);
        for (field, rank) in &node.wanted {
            if *self.rank(*field) <= *rank {
                continue;
            }
            *self.rank(*field) = *rank;
            self.spans[*field] = span(raw, &place, &self.tree.fields[*field]);
        }
        if let Some(b'{' | b'[') = raw.first() {
            if depth(raw) >= DEEPEST {
                self.fail(Code::TooDeep, place);
                return;
            }
            if !node.within.is_empty() {
                self.descend(node, value);
            }
        }
    }

    fn descend(&mut self, node: &'w KeyNode, value: &'w RawValue) {
        let level = Level {
            nodes: &node.within,
            is_outermost: false,
        };
        let mut parser = serde_json::Deserializer::from_str(value.get());
        // It was read whole before; what is wrong in it was found by the walk.
        let _ = parser.deserialize_any(ObjectVisitor { walk: self, level });
    }

    fn fail(&mut self, code: Code, at: Range<usize>) {
        if self.fault.is_none() {
            self.fault = Some(ObjectFault {
                code,
                says: code.words().into(),
                at,
            });
        }
    }
}

/// What a value is taken for, by how it begins (RFC 8259, section 3).
fn span(raw: &[u8], place: &Range<usize>, field: &KeyField) -> Span {
    match raw {
        b"null" => Span::MISSING,
        _ if field.is_document => Span::plain(place.start, place.end),
        [b'"', text @ .., b'"'] => {
            let is_escaped = memchr::memchr(b'\\', text).is_some();
            // Text that is there and empty is not nothing.
            Span::plain(place.start + 1, place.end - 1).with(text.is_empty(), is_escaped)
        }
        // Where that makes a difference, it is marked as what it is.
        _ => Span::plain(place.start, place.end).with(field.tells_bare_values, false),
    }
}

/// How deep objects and arrays go within each other.
fn depth(raw: &[u8]) -> usize {
    let (mut depth, mut deepest, mut at) = (0usize, 0, 0);
    while at < raw.len() {
        match raw[at] {
            b'{' | b'[' => {
                depth += 1;
                deepest = deepest.max(depth);
            }
            b'}' | b']' => depth = depth.saturating_sub(1),
            b'"' => {
                at += 1;
                while at < raw.len() && raw[at] != b'"' {
                    at += if raw[at] == b'\\' { 2 } else { 1 };
                }
            }
            _ => {}
        }
        at += 1;
    }
    deepest
}

/// What the parser found wrong, at its place.
fn syntax(error: &serde_json::Error, record: &[u8], range: &Range<usize>) -> ObjectFault {
    let line = memchr::memchr_iter(b'\n', record).nth(error.line().wrapping_sub(2));
    let start = match error.line() {
        0 | 1 => 0,
        _ => line.map_or(0, |at| at + 1),
    };
    let at = (start + error.column().saturating_sub(1)).min(record.len());
    let text = error.to_string();
    let text = text.split(" at line ").next().unwrap_or_default();
    let (code, says) = match error.classify() {
        serde_json::error::Category::Eof => (Code::NotAnObject, "the object is cut off".into()),
        _ if text.contains("unicode code point") => {
            (Code::BadBytes, "bytes that do not decode as UTF-8".into())
        }
        _ if text.starts_with("invalid type") => (Code::NotAnObject, "JSON, but no object".into()),
        _ => (Code::NotAnObject, format!("no JSON object: {text}")),
    };
    // What is cut off is shown by its end.
    let place = match error.is_eof() {
        true => range.end - record.len().min(SHOWN / 2),
        false => range.start + at,
    };
    ObjectFault {
        code,
        says,
        at: place.min(range.end)..range.end.min(place + SHOWN),
    }
}

/// How many bytes from a fault on are shown.
const SHOWN: usize = 40;

/// One object, or array, of a record.
#[derive(Clone, Copy)]
struct Level<'l> {
    nodes: &'l [KeyNode],
    is_outermost: bool,
}

struct ObjectVisitor<'v, 'w> {
    walk: &'v mut Walk<'w>,
    level: Level<'w>,
}

impl<'de: 'w, 'w> Visitor<'de> for ObjectVisitor<'_, 'w> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<(), A::Error> {
        let ObjectVisitor { walk, level } = self;
        let mut seen = Seen::default();
        // Of the keys that are asked for, the first ones need no list.
        let mut marked = 0u64;
        // Keys come in the same order in nearly every record.
        let mut next = 0;
        while let Some(Key(key)) = map.next_key_seed(KeySeed)? {
            let value: &'de RawValue = map.next_value()?;
            let found = match level.nodes.get(next) {
                Some(node) if node.name == key => Some(next),
                _ => level.nodes.iter().position(|node| node.name == key),
            };
            match found {
                Some(at) => {
                    next = at + 1;
                    walk.take(&level.nodes[at], value);
                    if at < MARKED {
                        if marked & (1 << at) != 0 {
                            walk.fail(Code::DoubledKey, walk.place(value.get().as_bytes()));
                        }
                        marked |= 1 << at;
                        continue;
                    }
                }
                None => {
                    if depth_of_start(value) >= DEEPEST {
                        walk.fail(Code::TooDeep, walk.place(value.get().as_bytes()));
                    }
                    if level.is_outermost && walk.split.new_key.is_none() {
                        walk.split.new_key = Some(key.to_string());
                    }
                }
            }
            if seen.has(&key) {
                walk.fail(Code::DoubledKey, walk.place(value.get().as_bytes()));
            }
            seen.add(key);
        }
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<(), A::Error> {
        let ObjectVisitor { walk, level } = self;
        if level.is_outermost {
            return Err(serde::de::Error::invalid_type(
                serde::de::Unexpected::Seq,
                &"an object",
            ));
        }
        let mut place = 0usize;
        while let Some(value) = items.next_element::<&'de RawValue>()? {
            let name = place.to_string();
            if let Some(node) = level.nodes.iter().find(|node| node.name == name) {
                walk.take(node, value);
            }
            place += 1;
        }
        Ok(())
    }
}

fn depth_of_start(value: &RawValue) -> usize {
    match value.get().as_bytes().first() {
        Some(b'{' | b'[') => depth(value.get().as_bytes()),
        _ => 0,
    }
}

/// A key without its escapes.
struct Key<'k>(Cow<'k, str>);

struct KeySeed;

impl<'de> DeserializeSeed<'de> for KeySeed {
    type Value = Key<'de>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Key<'de>, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl<'de> Visitor<'de> for KeySeed {
    type Value = Key<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a key")
    }

    fn visit_borrowed_str<E>(self, key: &'de str) -> Result<Key<'de>, E> {
        Ok(Key(Cow::Borrowed(key)))
    }

    fn visit_str<E>(self, key: &str) -> Result<Key<'de>, E> {
        Ok(Key(Cow::Owned(key.to_string())))
    }
}

/// The keys of one object so far that have no bit.
#[derive(Default)]
struct Seen<'k> {
    few: Vec<Cow<'k, str>>,
    many: std::collections::HashSet<Cow<'k, str>>,
}

/// More keys than these are not compared one by one.
const FEW: usize = 24;

impl<'k> Seen<'k> {
    fn has(&self, key: &str) -> bool {
        self.few.iter().any(|seen| seen == key) || self.many.contains(key)
    }

    fn add(&mut self, key: Cow<'k, str>) {
        match self.few.len() < FEW {
            true => self.few.push(key),
            false => {
                self.many.insert(key);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::KeyPath;

    fn tree(fields: &[(&str, bool)]) -> KeyTree {
        let field = |(path, optional): &(&str, bool)| KeyField {
            paths: path.split('|').map(KeyPath::parse).collect(),
            optional: *optional,
            is_document: path.contains("doc"),
            ..KeyField::default()
        };
        KeyTree::new(fields.iter().map(field).collect())
    }

    fn read(record: &str, fields: &[(&str, bool)]) -> Result<Vec<String>, Code> {
        let text = format!("..{record}..");
        let mut spans = Vec::new();
        let range = 2..text.len() - 2;
        split(text.as_bytes(), range, &tree(fields), &mut spans).map_err(|fault| fault.code)?;
        let shown = |span: &Span| match span {
            span if *span == Span::NO_KEY => "no key".to_string(),
            span if span.is_missing() => "null".to_string(),
            span if span.is_escaped() => format!("escaped {}", &text[span.range()]),
            span => text[span.range()].to_string(),
        };
        Ok(spans.iter().map(shown).collect())
    }

    #[test]
    fn values_are_found_by_key_and_by_pointer() {
        let record =
            r#" {"a": 1.50, "b":{"c":[true,"x"]}, "d\u0065": "t\n", "e": null,"doc":"y"} "#;
        let found = read(
            record,
            &[
                ("a", false),
                ("/b/c/1", false),
                ("/b/c/0", false),
                ("b", false),
                ("de", false),
                ("e", false),
                ("none", false),
                ("none", true),
                ("none|a", false),
                ("/b/c/7", true),
                ("doc", false),
            ],
        );
        assert_eq!(
            found.unwrap(),
            [
                "1.50",
                "x",
                "true",
                "{\"c\":[true,\"x\"]}",
                "escaped t\\n",
                "null",
                "no key",
                "null",
                "1.50",
                "null",
                "\"y\"",
            ]
        );
    }

    #[test]
    fn of_several_ways_the_first_counts() {
        let fields = [("x|y", false)];
        assert_eq!(read(r#"{"y":1,"x":2}"#, &fields).unwrap(), ["2"]);
        assert_eq!(read(r#"{"x":2,"y":1}"#, &fields).unwrap(), ["2"]);
        assert_eq!(read(r#"{"y":1}"#, &fields).unwrap(), ["1"]);
    }

    #[test]
    fn every_fault_has_its_code() {
        let deep = format!("{{\"a\":{}1{}}}", "[".repeat(200), "]".repeat(200));
        for (record, code) in [
            ("5", Code::NotAnObject),
            ("[{\"a\":1}]", Code::NotAnObject),
            ("{\"a\":1", Code::NotAnObject),
            ("{\"a\" 1}", Code::NotAnObject),
            ("{\"a\":01}", Code::NotAnObject),
            ("{\"a\":1} {}", Code::TextAfterObject),
            ("{\"a\":1}x", Code::TextAfterObject),
            ("{\"a\":1,\"a\":2}", Code::DoubledKey),
            ("{\"b\":1,\"a\":0,\"b\":2}", Code::DoubledKey),
            ("{\"a\":\"\\ud800\"}", Code::LoneSurrogate),
            (deep.as_str(), Code::TooDeep),
        ] {
            assert_eq!(read(record, &[("a", false)]), Err(code), "{record}");
        }
        let mut spans = Vec::new();
        let bytes = b"{\"a\":\"\xFF\"}";
        let fault = split(bytes, 0..bytes.len(), &tree(&[("a", false)]), &mut spans).unwrap_err();
        assert_eq!(fault.code, Code::BadBytes);
        assert!(spans.is_empty());
    }
}
