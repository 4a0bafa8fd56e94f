//! What sets the fields of a delimited record apart, and when a field is quoted.

use crate::format::{DelimitedFormat, Escape};
use crate::plan::Plan;
use crate::words::{Header, QuoteWhen};

/// The byte order mark (Unicode, 23.8).
const MARK: char = '\u{FEFF}';

/// What sets fields apart.
pub struct Marks {
    /// Between two fields.
    pub delimiter: String,
    /// Around a field, if the format quotes.
    pub quote: Option<char>,
    /// What an escape is, where quotes are not doubled.
    escape: Option<String>,
    /// What a comment starts with.
    pub comment: Option<String>,
    /// The record's end as text.
    ending: String,
    /// Which fields are quoted.
    pub when: QuoteWhen,
    /// Whether a record's first field is never quoted for where it stands.
    pub is_first_quick: bool,
    /// The bytes for which text may have to be quoted.
    pub special: Box<[bool; 256]>,
    /// Whether a field that has none of them is never quoted.
    pub is_quick: bool,
    /// Whether numbers, dates and words may hold what has to be quoted.
    pub is_unusual: bool,
    /// Whether spaces after a delimiter are not part of the field.
    skips_spaces: bool,
}

impl Marks {
    /// Those of a delimited format; records end with `ending`.
    pub fn new(plan: &Plan, d: &DelimitedFormat, ending: &str) -> Marks {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        let own = [
            d.delimiter.as_slice(),
            &d.quote,
            d.escape_text(),
            ending.as_bytes(),
        ];
        let firsts = own.into_iter().filter_map(<[u8]>::first);
        let mut special = Box::new([false; 256]);
        for first in firsts.clone().chain(b"\n\r") {
            special[usize::from(*first)] = true;
        }
        // These stand in numbers, dates and words, which are not looked at.
        let is_common = |b: &u8| b.is_ascii_alphanumeric() || b"+-.: ".contains(b);
        // Only the first record of a file is told by it, and where lines stand before, none.
        let may_hold_mark = plan.records.header == Header::None && plan.export.preamble.is_empty();
        let is_unusual = firsts.clone().any(is_common);
        let skips_spaces = !d.space.is_empty();
        special[usize::from(b' ')] |= skips_spaces;
        let is_quick = plan.export.quote_when == QuoteWhen::Needed && !is_unusual && !skips_spaces;
        Marks {
            special,
            is_quick,
            is_unusual,
            delimiter: text(&d.delimiter),
            quote: text(&d.quote).chars().next(),
            escape: match &d.escape {
                Escape::Doubled => None,
                Escape::With(escape) => Some(text(escape)),
            },
            comment: plan.records.comment.clone(),
            ending: ending.to_string(),
            when: plan.export.quote_when,
            skips_spaces,
            is_first_quick: plan.records.comment.is_none() && !may_hold_mark,
        }
    }

    /// Whether a field would be read otherwise unless it is quoted.
    pub fn must_quote(&self, text: &str, is_first: bool) -> bool {
        let bytes = text.as_bytes();
        // One byte each, but for a delimiter of several characters.
        let special = |b: &u8| *b == b'\n' || *b == b'\r';
        bytes.iter().any(special)
            || text.contains(self.delimiter.as_str())
            || self.ends_in_delimiter(text)
            || self.quote.is_some_and(|quote| text.contains(quote))
            || self
                .escape
                .as_ref()
                .is_some_and(|e| text.contains(e.as_str()))
            || self.ending.chars().next().is_some_and(|c| text.contains(c))
            || (is_first && self.reads_past(text))
            || (self.skips_spaces && text.starts_with(' '))
    }

    /// Whether a record that starts so would lose it: as a comment, or as a byte order mark
    /// where it is a file's first.
    fn reads_past(&self, text: &str) -> bool {
        let is_comment = |c: &String| text.starts_with(c.as_str());
        self.comment.as_ref().is_some_and(is_comment) || text.starts_with(MARK)
    }

    /// Whether the delimiter would be found too early behind the text: `a|` before `||`.
    fn ends_in_delimiter(&self, text: &str) -> bool {
        let several = self.delimiter.chars().count() > 1;
        several && {
            let whole = format!("{text}{}", self.delimiter);
            whole.find(self.delimiter.as_str()) != Some(text.len())
        }
    }

    /// Whether escapes alone will do, where nothing quotes.
    ///
    /// # Errors
    /// Why they will not, in plain words.
    pub fn escapes(&self, text: &str, is_first: bool) -> Result<(), String> {
        if text.contains(['\n', '\r'])
            || self.ending.chars().next().is_some_and(|c| text.contains(c))
        {
            return Err("holds a record's end, and the format has no quotes".into());
        }
        if is_first && self.reads_past(text) {
            return Err(match text.starts_with(MARK) {
                true => "starts with a byte order mark, and the format has no quotes".into(),
                false => "starts as a comment does, and the format has no quotes".into(),
            });
        }
        if self.ends_in_delimiter(text) {
            return Err("ends in half a delimiter, and the format has no quotes".into());
        }
        if self.skips_spaces && text.starts_with(' ') {
            return Err(
                "starts with a space, which is skipped, and the format has no quotes".into(),
            );
        }
        if self.escape.is_none() {
            return Err("holds the delimiter, and the format has no quotes".into());
        }
        Ok(())
    }

    /// Puts a field, in quotes or with escapes where it must be.
    pub fn put(&self, text: &str, quoted: bool, out: &mut String) {
        match (self.quote, &self.escape) {
            (Some(quote), escape) if quoted => {
                let before = escape.clone().unwrap_or_else(|| quote.to_string());
                out.push(quote);
                self.escaped(text, &before, escape.is_some(), out);
                out.push(quote);
            }
            (None, Some(escape)) => self.escaped(text, escape, true, out),
            _ => out.push_str(text),
        }
    }

    /// Puts an escape before each quote and, where it is a character of its own, before
    /// itself and before delimiters.
    fn escaped(&self, text: &str, escape: &str, is_own: bool, out: &mut String) {
        if !is_own {
            let mut from = 0;
            for (at, _) in text.match_indices(|c| Some(c) == self.quote) {
                out.push_str(&text[from..at]);
                out.push_str(escape);
                from = at;
            }
            return out.push_str(&text[from..]);
        }
        let mut rest = text;
        while let Some(c) = rest.chars().next() {
            let is_quote = Some(c) == self.quote;
            let is_escape = rest.starts_with(escape);
            let is_delimiter = self.quote.is_none() && rest.starts_with(self.delimiter.as_str());
            if is_quote || is_escape || is_delimiter {
                out.push_str(escape);
            }
            let taken = match is_delimiter {
                true => self.delimiter.len(),
                false => c.len_utf8(),
            };
            out.push_str(&rest[..taken]);
            rest = &rest[taken..];
        }
    }
}

/// Whether a line would be skipped as a blank one.
pub fn is_blank(line: &[u8]) -> bool {
    // Nearly every line is told by its first byte.
    if line.first().is_some_and(|b| *b > b' ' && b.is_ascii()) {
        return false;
    }
    line.iter().all(|b| matches!(b, b' ' | b'\t'))
        || std::str::from_utf8(line).is_ok_and(|text| text.trim().is_empty())
}
