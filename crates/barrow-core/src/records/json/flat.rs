//! The quick way through an object whose values are plain and whose keys are all asked for.
//!
//! Nearly every record is such a one. Of any other, and of every fault, nothing is said here:
//! the parser of [`object`](super::object) decides. What is found here, it finds too: a test
//! compares the two. Typing the bench file this way takes 0.57 of the time that it takes by the
//! parser alone (docs/benchmarks.md).

use std::ops::Range;

use crate::format::{KeyField, KeyNode, KeyTree};
use crate::records::span::Span;

/// So many keys of an object have a bit each.
pub(super) const MARKED: usize = 64;

/// After so many records in a row that this way does not take, only some are tried.
const PATIENCE: u32 = 16;

/// Of so many records one is tried then: where all have a value that is not plain, as a list,
/// the tries would be a second reading of nearly all bytes.
const SELDOM: u32 = 64;

/// Tries the quick way, as long as records take it.
#[derive(Debug, Default)]
pub struct QuickWay {
    /// How many records in a row did not take it.
    missed: u32,
}

impl QuickWay {
    /// Finds the fields of the object that is `range` of `bytes`, which are UTF-8, and writes
    /// their spans to `spans`, which has [`Span::NO_KEY`] for each field of the tree. False where
    /// the object is not plain, not right, or was not tried; `spans` is as it was then.
    pub fn find(
        &mut self,
        bytes: &[u8],
        range: Range<usize>,
        tree: &KeyTree,
        spans: &mut [Span],
    ) -> bool {
        if !tree.is_flat || tree.root.len() > MARKED {
            return false;
        }
        let is_tried = self.missed < PATIENCE || self.missed.is_multiple_of(SELDOM);
        if is_tried && find(bytes, range, tree, spans).is_some() {
            self.missed = 0;
            return true;
        }
        if is_tried {
            spans.fill(Span::NO_KEY);
        }
        self.missed = self.missed.wrapping_add(1);
        false
    }
}

/// `None` where the object is not plain or not right; `spans` is anything then.
fn find(bytes: &[u8], range: Range<usize>, tree: &KeyTree, spans: &mut [Span]) -> Option<()> {
    let record = &bytes[..range.end];
    let mut at = after_space(record, range.start);
    at = after(record, at, b'{')?;
    let mut marked = 0u64;
    // Keys come in the same order in nearly every record.
    let mut next = 0;
    loop {
        let (node, start) = key(record, at, &tree.root, next)?;
        if marked & (1 << node) != 0 {
            return None;
        }
        marked |= 1 << node;
        next = node + 1;
        let value = value(record, start)?;
        for (field, _) in &tree.root[node].wanted {
            spans[*field] = span(&value, start, &tree.fields[*field]);
        }
        at = after_space(record, value.end);
        match record.get(at)? {
            b',' => at += 1,
            b'}' => break,
            _ => return None,
        }
    }
    (after_space(record, at + 1) == record.len()).then_some(())
}

/// A value that is neither an object nor an array.
struct Value {
    kind: Kind,
    /// The byte after it.
    end: usize,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Null,
    Bare,
    Text { is_escaped: bool },
}

/// What a value is taken for (RFC 8259, section 3), as the parser's way has it.
fn span(value: &Value, start: usize, field: &KeyField) -> Span {
    let whole = Span::plain(start, value.end);
    match value.kind {
        Kind::Null => Span::MISSING,
        _ if field.is_document => whole,
        Kind::Bare => whole.with(field.tells_bare_values, false),
        Kind::Text { is_escaped } => {
            let text = start + 1..value.end - 1;
            Span::plain(text.start, text.end).with(text.is_empty(), is_escaped)
        }
    }
}

/// Which key stands at `at`, or after white space, and where its value begins.
#[inline]
fn key(record: &[u8], at: usize, nodes: &[KeyNode], next: usize) -> Option<(usize, usize)> {
    if let Some(node) = nodes.get(next)
        && record.get(at..)?.starts_with(&node.written)
    {
        return Some((next, after_space(record, at + node.written.len())));
    }
    let at = after_space(record, at);
    let rest = record.get(at..)?;
    // Between the key and its colon there may be white space.
    let length = |node: &KeyNode| node.written.len() - 1;
    let found = |node: &KeyNode| rest.starts_with(&node.written[..length(node)]);
    let node = match nodes.get(next) {
        Some(node) if found(node) => next,
        _ => nodes.iter().position(found)?,
    };
    let end = after_space(record, at + length(&nodes[node]));
    Some((node, after_space(record, after(record, end, b':')?)))
}

/// The byte after `wanted`, if that is what stands at `at`.
#[inline]
fn after(record: &[u8], at: usize, wanted: u8) -> Option<usize> {
    (record.get(at) == Some(&wanted)).then_some(at + 1)
}

/// The first place from `at` on that is not white space (RFC 8259, section 2).
#[inline]
fn after_space(record: &[u8], mut at: usize) -> usize {
    while let Some(byte) = record.get(at)
        && *byte <= b' '
        && matches!(byte, b' ' | b'\t' | b'\n' | b'\r')
    {
        at += 1;
    }
    at
}

#[inline]
fn value(record: &[u8], at: usize) -> Option<Value> {
    match record.get(at)? {
        b'"' => text(record, at + 1),
        b'-' | b'0'..=b'9' => number(record, at),
        b'n' => word(record, at, b"null", Kind::Null),
        b't' => word(record, at, b"true", Kind::Bare),
        b'f' => word(record, at, b"false", Kind::Bare),
        _ => None,
    }
}

fn word(record: &[u8], at: usize, word: &[u8], kind: Kind) -> Option<Value> {
    let end = at + word.len();
    (record.get(at..end) == Some(word)).then_some(Value { kind, end })
}

/// A number (RFC 8259, section 6).
fn number(record: &[u8], start: usize) -> Option<Value> {
    let digits = |from: usize| {
        let mut at = from;
        while let Some(b'0'..=b'9') = record.get(at) {
            at += 1;
        }
        (at > from).then_some(at)
    };
    let whole = start + usize::from(record[start] == b'-');
    let mut end = digits(whole)?;
    if record[whole] == b'0' && end > whole + 1 {
        return None;
    }
    if record.get(end) == Some(&b'.') {
        end = digits(end + 1)?;
    }
    if let Some(b'e' | b'E') = record.get(end) {
        let sign = matches!(record.get(end + 1), Some(b'+' | b'-'));
        end = digits(end + 1 + usize::from(sign))?;
    }
    Some(Value {
        kind: Kind::Bare,
        end,
    })
}

/// Text from after its opening quote on (RFC 8259, section 7). Numbered characters are left
/// to the parser.
#[inline]
fn text(record: &[u8], start: usize) -> Option<Value> {
    let mut is_escaped = false;
    let mut at = start;
    loop {
        at = special(record, at);
        match record.get(at)? {
            b'"' => {
                return Some(Value {
                    kind: Kind::Text { is_escaped },
                    end: at + 1,
                });
            }
            b'\\' => {
                let escape = record.get(at + 1)?;
                if !b"\"\\/bfnrt".contains(escape) {
                    return None;
                }
                is_escaped = true;
                at += 2;
            }
            _ => return None,
        }
    }
}

/// The first quote, backslash or control character from `at` on, eight bytes at once.
#[inline]
fn special(record: &[u8], mut at: usize) -> usize {
    const ONES: u64 = u64::from_le_bytes([0x01; 8]);
    const HIGH: u64 = u64::from_le_bytes([0x80; 8]);
    while let Some(bytes) = record.get(at..).and_then(|rest| rest.first_chunk::<8>()) {
        let word = u64::from_le_bytes(*bytes);
        // A byte of zero, and perhaps bytes after it, have their high bit set by these: the
        // lowest one is right.
        let zero = |word: u64| word.wrapping_sub(ONES) & !word;
        let quote = zero(word ^ (ONES * u64::from(b'"')));
        let backslash = zero(word ^ (ONES * u64::from(b'\\')));
        let control = word.wrapping_sub(ONES * 0x20) & !word;
        let found = (quote | backslash | control) & HIGH;
        if found != 0 {
            return at + (found.trailing_zeros() / 8) as usize;
        }
        at += 8;
    }
    while let Some(byte) = record.get(at) {
        if matches!(byte, b'"' | b'\\' | 0..0x20) {
            break;
        }
        at += 1;
    }
    at
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::format::KeyPath;
    use crate::records::json::object;

    fn tree() -> KeyTree {
        let field = |name: &&str| KeyField {
            paths: vec![KeyPath::parse(name)],
            optional: *name == "bay",
            is_document: *name == "doc",
            tells_bare_values: *name == "weight",
        };
        KeyTree::new(
            ["ada", "bay", "doc", "weight", "ö"]
                .iter()
                .map(field)
                .collect(),
        )
    }

    /// What is found this way, and by the parser: `Err` where the record is at fault.
    fn both(record: &str) -> (Option<Vec<Span>>, Result<Vec<Span>, ()>) {
        let tree = tree();
        let text = format!("..{record}");
        let mut spans = vec![Span::NO_KEY; tree.fields.len()];
        let found = find(text.as_bytes(), 2..text.len(), &tree, &mut spans);
        let mut parsed = Vec::new();
        let range = 2..text.len();
        // Without being told that it is text, the parser reads it.
        let parse = object::split(text.as_bytes(), range, &tree, &mut parsed);
        object::fill_up(&mut spans, &tree);
        (found.map(|()| spans), parse.map(|_| parsed).map_err(|_| ()))
    }

    #[test]
    fn plain_objects_are_found_and_no_others() {
        for (record, is_found) in [
            (
                r#"{"ada":1,"bay":"x","doc":true,"weight":-0.5e+7,"ö":null}"#,
                true,
            ),
            (
                r#" { "bay" : "a long text, \"and\" more of it\\" , "ada" : 10 } "#,
                true,
            ),
            (r#"{"ada":""}"#, true),
            ("{}", false),
            (r#"{"ada":1,}"#, false),
            (r#"{"ada":1,"ada":2}"#, false),
            (r#"{"ada":1,"new":2}"#, false),
            (r#"{"ada":{"x":1}}"#, false),
            (r#"{"ada":[1]}"#, false),
            (r#"{"ada":01}"#, false),
            (r#"{"ada":-}"#, false),
            (r#"{"ada":1.}"#, false),
            (r#"{"ada":1e}"#, false),
            (r#"{"ada":.5}"#, false),
            (r#"{"ada":+1}"#, false),
            (r#"{"ada":nul}"#, false),
            (r#"{"ada":"\u0041"}"#, false),
            (r#"{"ada":"\x"}"#, false),
            (r#"{"\u0061da":1}"#, false),
            ("{\"ada\":\"a\tb\"}", false),
            ("{\"ada\":\"seven..\u{1}\"}", false),
            (r#"{"ada":"open}"#, false),
            (r#"{"ada":1} {}"#, false),
            (r#"{"ada":1"#, false),
            (r#"{"ada" 1}"#, false),
            ("5", false),
            ("", false),
        ] {
            let (found, parsed) = both(record);
            assert_eq!(found.is_some(), is_found, "{record}");
            if found.is_some() {
                assert_eq!(found, parsed.ok(), "{record}");
            }
        }
    }

    #[test]
    fn what_records_never_take_is_tried_now_and_then() {
        let tree = tree();
        let (nested, plain) = (br#"{"doc":[1]}"#, br#"{"doc":1}"#);
        let mut spans = vec![Span::NO_KEY; tree.fields.len()];
        let mut quick = QuickWay::default();
        for _ in 0..1000 {
            assert!(!quick.find(nested, 0..nested.len(), &tree, &mut spans));
            assert!(spans.iter().all(|span| *span == Span::NO_KEY));
        }
        let mut found = |_| quick.find(plain, 0..plain.len(), &tree, &mut spans.clone());
        let taken: Vec<bool> = (0..200).map(&mut found).collect();
        let first = taken.iter().position(|taken| *taken).unwrap();
        assert!(first > 0 && first < 64, "{first}");
        assert!(taken[first..].iter().all(|taken| *taken));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(2000))]
        #[test]
        fn what_is_found_is_what_the_parser_finds(
            members in prop::collection::vec(
                (
                    prop::sample::select(vec!["ada", "bay", "doc", "weight", "ö", "new"]),
                    prop_oneof![
                        "\"[ a-c\\\\\"/nu0\u{0}-\u{1f}é€]{0,20}\"",
                        "-?[0-9.eE+-]{1,8}",
                        "null|true|false|\\{\\}|\\[1\\]",
                    ],
                    "[ \t\r\n]{0,2}",
                ),
                0..6,
            ),
            end in prop::sample::select(vec!["}", "} ", "},", "", "}}"]),
        ) {
            let members: Vec<String> = members
                .iter()
                .map(|(key, value, space)| format!("\"{key}\"{space}:{value}{space}"))
                .collect();
            let (found, parsed) = both(&format!("{{{}{end}", members.join(",")));
            if let Some(found) = found {
                prop_assert_eq!(Ok(found), parsed);
            }
        }

        #[test]
        fn the_first_special_byte_is_found(bytes in prop::collection::vec(
            prop_oneof![Just(b'"'), Just(b'\\'), 0u8..=0x21, any::<u8>(), Just(b'a'), Just(b'a')],
            0..40,
        )) {
            let expected = bytes.iter().position(|byte| matches!(byte, b'"' | b'\\' | 0..=0x1F));
            prop_assert_eq!(special(&bytes, 0), expected.unwrap_or(bytes.len()));
        }
    }
}
