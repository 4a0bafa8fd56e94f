//! The pieces of SQL.

/// A piece of SQL.
pub struct Token {
    /// What it is.
    pub kind: Kind,
    /// Where it begins, in bytes.
    pub start: usize,
    /// Where it ends.
    pub end: usize,
}

/// What a piece of SQL is.
#[derive(Debug, PartialEq)]
pub enum Kind {
    /// A name, in quotes or without, or a keyword.
    Name(String),
    /// Text in quotes, as it means.
    Text(String),
    /// Any other character.
    Sign(char),
}

/// The pieces of SQL without white space and comments ("SQL As Understood By SQLite").
pub fn tokens(sql: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(c) = sql[at..].chars().next() {
        let rest = &sql[at..];
        let start = at;
        let is_word =
            |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '$') || !c.is_ascii();
        if c.is_ascii_whitespace() {
            at += 1;
            continue;
        }
        if rest.starts_with("--") {
            at += rest.find('\n').unwrap_or(rest.len());
            continue;
        }
        if rest.starts_with("/*") {
            at += rest.find("*/").map_or(rest.len(), |end| end + 2);
            continue;
        }
        let kind = match c {
            '\'' | '"' | '`' => {
                let (text, length) = quoted(rest, c);
                at += length;
                match c {
                    '\'' => Kind::Text(text),
                    _ => Kind::Name(text),
                }
            }
            '[' => {
                let end = rest.find(']').unwrap_or(rest.len());
                at += (end + 1).min(rest.len());
                Kind::Name(rest[1..end].to_string())
            }
            c if is_word(c) => {
                let length = rest.find(|c| !is_word(c)).unwrap_or(rest.len());
                at += length;
                Kind::Name(rest[..length].to_string())
            }
            c => {
                at += c.len_utf8();
                Kind::Sign(c)
            }
        };
        tokens.push(Token {
            kind,
            start,
            end: at,
        });
    }
    tokens
}

/// What stands in quotes, in which two are one, and how many bytes that is with the quotes.
fn quoted(text: &str, quote: char) -> (String, usize) {
    let mut inner = String::new();
    let mut characters = text.char_indices().skip(1).peekable();
    while let Some((at, c)) = characters.next() {
        if c != quote {
            inner.push(c);
        } else if characters.next_if(|(_, next)| *next == quote).is_some() {
            inner.push(quote);
        } else {
            return (inner, at + 1);
        }
    }
    (inner, text.len())
}
