//! From a condition's text to its words.

use std::ops::Range;

use super::Wrong;

/// One word of a condition.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Word {
    /// A column's or function's name, or a keyword.
    Name(String),
    /// A name in double quotes, which is never a keyword.
    QuotedName(String),
    /// Text in single quotes.
    Text(String),
    /// A number, as it is written.
    Number(String),
    /// A sign: `=`, `<>`, `<`, `<=`, `>`, `>=`, `+`, `-`, `*`, `/`, `(`, `)`, `,`.
    Sign(&'static str),
    /// The end.
    End,
}

/// A word and its bytes in the condition, 0-based.
pub type Placed = (Word, Range<usize>);

/// Longer signs first, so that `<=` is not `<`.
const SIGNS: &[(&str, &str)] = &[
    ("<>", "<>"),
    ("!=", "<>"),
    ("<=", "<="),
    (">=", ">="),
    ("==", "="),
    ("=", "="),
    ("<", "<"),
    (">", ">"),
    ("+", "+"),
    ("-", "-"),
    ("*", "*"),
    ("/", "/"),
    ("(", "("),
    (")", ")"),
    (",", ","),
];

/// Parts a condition into words; the last one is the end.
///
/// # Errors
/// A character that starts no word, or quotes that nothing closes.
pub fn words(text: &str) -> Result<Vec<Placed>, Wrong> {
    let mut words = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at..];
        if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        }
        let (word, length) = if c == '\'' || c == '"' {
            quoted(rest, c)
                .ok_or_else(|| Wrong::new(at..text.len(), format!("nothing closes this {c}")))?
        } else if c.is_ascii_digit() {
            let length = run(rest, |c| c.is_ascii_digit() || c == '.');
            (Word::Number(rest[..length].into()), length)
        } else if c.is_alphabetic() || c == '_' {
            let length = run(rest, |c| c.is_alphanumeric() || c == '_');
            (Word::Name(rest[..length].into()), length)
        } else if let Some((sign, meaning)) = SIGNS.iter().find(|(sign, _)| rest.starts_with(sign))
        {
            (Word::Sign(meaning), sign.len())
        } else {
            return Err(Wrong::new(
                at..at + c.len_utf8(),
                format!("\"{}\" has no meaning here", c.escape_debug()),
            ));
        };
        words.push((word, at..at + length));
        at += length;
    }
    words.push((Word::End, at..at));
    Ok(words)
}

fn run(text: &str, belongs: impl Fn(char) -> bool) -> usize {
    text.find(|c| !belongs(c)).unwrap_or(text.len())
}

/// What stands between quotes, in which a doubled quote is one.
fn quoted(text: &str, quote: char) -> Option<(Word, usize)> {
    let mut inner = String::new();
    let mut rest = text[1..].char_indices().peekable();
    while let Some((at, c)) = rest.next() {
        if c != quote {
            inner.push(c);
        } else if rest.next_if(|(_, next)| *next == quote).is_some() {
            inner.push(quote);
        } else {
            let word = match quote {
                '\'' => Word::Text(inner),
                _ => Word::QuotedName(inner),
            };
            return Some((word, at + 2));
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_their_places() {
        let found = words("a<=1.5 <> 'it''s' \"x y\"").unwrap();
        let wanted = [
            (Word::Name("a".into()), 0..1),
            (Word::Sign("<="), 1..3),
            (Word::Number("1.5".into()), 3..6),
            (Word::Sign("<>"), 7..9),
            (Word::Text("it's".into()), 10..17),
            (Word::QuotedName("x y".into()), 18..23),
            (Word::End, 23..23),
        ];
        assert_eq!(found, wanted);
    }

    #[test]
    fn what_starts_no_word_is_told_with_its_place() {
        assert_eq!(words("a ; b").unwrap_err().span, 2..3);
        assert_eq!(words("a = 'b").unwrap_err().span, 4..6);
    }
}
