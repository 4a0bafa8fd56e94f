//! From words to a tree, by the grammar of `docs/spec.md`.

use std::ops::Range;

use super::Wrong;
use super::lex::{Placed, Word, words};

/// A tree, and the bytes of the condition that it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// What it is.
    pub tree: Tree,
    /// Its bytes, 0-based.
    pub span: Range<usize>,
}

/// What a part of a condition is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tree {
    /// A number as written.
    Number(String),
    /// Text in quotes.
    Text(String),
    /// `true` or `false`.
    Truth(bool),
    /// `null`.
    Null,
    /// A column.
    Name(String),
    /// A function and what it is given.
    Call(String, Vec<Node>),
    /// `-x`
    Minus(Box<Node>),
    /// `not x`
    Not(Box<Node>),
    /// `x and y`, `x or y`
    Both(Join, Box<Node>, Box<Node>),
    /// `x + y` and its like.
    Arithmetic(&'static str, Box<Node>, Box<Node>),
    /// `x < y` and its like.
    Compare(&'static str, Box<Node>, Box<Node>),
    /// `x is null`
    IsNull(Box<Node>),
    /// `x in (…)`
    In(Box<Node>, Vec<Node>),
}

/// How two truths are joined.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Join {
    /// Both.
    And,
    /// Either.
    Or,
}

/// Deeper conditions than this are not read: nobody writes them by hand.
const DEEPEST: usize = 64;

/// Longer chains than this (`a and b and c …`, `a + b + c …`) are not read: each is as deep a tree
/// as it is long, and a tree is walked by recursion.
const LONGEST_CHAIN: usize = 500;

/// Words that are no column's name unless they stand in double quotes.
const KEYWORDS: &[&str] = &[
    "and", "or", "not", "is", "in", "between", "null", "true", "false",
];

/// Reads a condition.
///
/// # Errors
/// The first thing that is wrong with it.
pub fn parse(text: &str) -> Result<Node, Wrong> {
    let mut parser = Parser {
        words: words(text)?,
        next: 0,
        depth: 0,
    };
    let node = parser.either()?;
    match parser.peek() {
        (Word::End, _) => Ok(node),
        (_, span) => Err(Wrong::new(
            span.clone(),
            "the condition should end here, or go on with and, or, or a comparison",
        )),
    }
}

struct Parser {
    words: Vec<Placed>,
    next: usize,
    depth: usize,
}

impl Parser {
    fn peek(&self) -> &Placed {
        // The last word is the end, and nothing goes past it.
        &self.words[self.next.min(self.words.len() - 1)]
    }

    fn take(&mut self) -> Placed {
        let word = self.peek().clone();
        self.next += 1;
        word
    }

    /// Goes past a keyword, if it is next.
    fn keyword(&mut self, keyword: &str) -> bool {
        let is = matches!(&self.peek().0, Word::Name(name) if name.eq_ignore_ascii_case(keyword));
        self.next += usize::from(is);
        is
    }

    /// Goes past one of some signs, if it is next.
    fn sign(&mut self, signs: &[&'static str]) -> Option<&'static str> {
        match self.peek().0 {
            Word::Sign(sign) if signs.contains(&sign) => {
                self.next += 1;
                Some(sign)
            }
            _ => None,
        }
    }

    fn expect(&mut self, sign: &'static str) -> Result<usize, Wrong> {
        let (_, span) = self.peek().clone();
        match self.sign(&[sign]) {
            Some(_) => Ok(span.end),
            None => Err(Wrong::new(span, format!("a {sign} is missing here"))),
        }
    }

    fn deeper<T>(&mut self, go: impl FnOnce(&mut Parser) -> Result<T, Wrong>) -> Result<T, Wrong> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(Wrong::new(
                self.peek().1.clone(),
                "the condition is nested too deep",
            ));
        }
        let done = go(self);
        self.depth -= 1;
        done
    }

    /// Counts one more part of a chain.
    fn longer(&self, length: &mut usize) -> Result<(), Wrong> {
        *length += 1;
        match *length > LONGEST_CHAIN {
            true => Err(Wrong::new(
                self.peek().1.clone(),
                format!(
                    "the condition has more than {LONGEST_CHAIN} parts in a row; a list of values is \
                     shorter with in (…)"
                ),
            )),
            false => Ok(()),
        }
    }

    fn either(&mut self) -> Result<Node, Wrong> {
        let mut left = self.both()?;
        let mut length = 0;
        while self.keyword("or") {
            self.longer(&mut length)?;
            let right = self.both()?;
            left = two(left, right, |a, b| Tree::Both(Join::Or, a, b));
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Node, Wrong> {
        let mut left = self.negated()?;
        let mut length = 0;
        while self.keyword("and") {
            self.longer(&mut length)?;
            let right = self.negated()?;
            left = two(left, right, |a, b| Tree::Both(Join::And, a, b));
        }
        Ok(left)
    }

    fn negated(&mut self) -> Result<Node, Wrong> {
        let start = self.peek().1.start;
        if self.keyword("not") {
            let inner = self.deeper(Parser::negated)?;
            return Ok(not(start, inner));
        }
        self.comparison()
    }

    fn comparison(&mut self) -> Result<Node, Wrong> {
        let left = self.sum()?;
        if let Some(sign) = self.sign(&["=", "<>", "<", "<=", ">", ">="]) {
            let right = self.sum()?;
            return Ok(two(left, right, |a, b| Tree::Compare(sign, a, b)));
        }
        if self.keyword("is") {
            let negative = self.keyword("not");
            let (_, span) = self.peek().clone();
            if !self.keyword("null") {
                return Err(Wrong::new(span, "after is comes null, or not null"));
            }
            let start = left.span.start;
            let is = Node {
                span: start..span.end,
                tree: Tree::IsNull(Box::new(left)),
            };
            return Ok(if negative { not(start, is) } else { is });
        }
        let start = left.span.start;
        let negative = self.keyword("not");
        let found = if self.keyword("in") {
            self.list(left)?
        } else if self.keyword("between") {
            self.between(left)?
        } else if negative {
            let (_, span) = self.peek().clone();
            return Err(Wrong::new(span, "after not comes in or between here"));
        } else {
            return Ok(left);
        };
        Ok(if negative { not(start, found) } else { found })
    }

    fn list(&mut self, left: Node) -> Result<Node, Wrong> {
        self.expect("(")?;
        let (items, end) = self.items()?;
        Ok(Node {
            span: left.span.start..end,
            tree: Tree::In(Box::new(left), items),
        })
    }

    /// Values with commas between them, up to the closing parenthesis.
    fn items(&mut self) -> Result<(Vec<Node>, usize), Wrong> {
        let mut items = vec![self.deeper(Parser::sum)?];
        while self.sign(&[","]).is_some() {
            items.push(self.deeper(Parser::sum)?);
        }
        let end = self.expect(")")?;
        Ok((items, end))
    }

    /// `x between a and b` is `x >= a and x <= b`.
    fn between(&mut self, left: Node) -> Result<Node, Wrong> {
        let least = self.sum()?;
        let (_, span) = self.peek().clone();
        if !self.keyword("and") {
            return Err(Wrong::new(
                span,
                "between wants two values with and between them",
            ));
        }
        let most = self.sum()?;
        let low = two(left.clone(), least, |a, b| Tree::Compare(">=", a, b));
        let high = two(left, most, |a, b| Tree::Compare("<=", a, b));
        Ok(two(low, high, |a, b| Tree::Both(Join::And, a, b)))
    }

    fn sum(&mut self) -> Result<Node, Wrong> {
        let mut left = self.product()?;
        let mut length = 0;
        while let Some(sign) = self.sign(&["+", "-"]) {
            self.longer(&mut length)?;
            let right = self.product()?;
            left = two(left, right, |a, b| Tree::Arithmetic(sign, a, b));
        }
        Ok(left)
    }

    fn product(&mut self) -> Result<Node, Wrong> {
        let mut left = self.value()?;
        let mut length = 0;
        while let Some(sign) = self.sign(&["*", "/"]) {
            self.longer(&mut length)?;
            let right = self.value()?;
            left = two(left, right, |a, b| Tree::Arithmetic(sign, a, b));
        }
        Ok(left)
    }

    fn value(&mut self) -> Result<Node, Wrong> {
        let (word, span) = self.take();
        let node = |tree| {
            Ok(Node {
                tree,
                span: span.clone(),
            })
        };
        match word {
            Word::Number(number) => node(Tree::Number(number)),
            Word::Text(text) => node(Tree::Text(text)),
            Word::QuotedName(name) => node(Tree::Name(name)),
            Word::Sign("-") => {
                let inner = self.deeper(Parser::value)?;
                Ok(Node {
                    span: span.start..inner.span.end,
                    tree: Tree::Minus(Box::new(inner)),
                })
            }
            Word::Sign("(") => {
                let inner = self.deeper(Parser::either)?;
                self.expect(")")?;
                Ok(inner)
            }
            Word::Name(name) if KEYWORDS.contains(&name.to_ascii_lowercase().as_str()) => {
                match name.to_ascii_lowercase().as_str() {
                    "null" => node(Tree::Null),
                    "true" => node(Tree::Truth(true)),
                    "false" => node(Tree::Truth(false)),
                    _ => Err(Wrong::new(
                        span,
                        format!("a value is missing before {name}"),
                    )),
                }
            }
            Word::Name(name) if self.sign(&["("]).is_some() => {
                let (items, end) = self.items()?;
                Ok(Node {
                    tree: Tree::Call(name.to_ascii_lowercase(), items),
                    span: span.start..end,
                })
            }
            Word::Name(name) => node(Tree::Name(name)),
            Word::End => Err(Wrong::new(
                span,
                "the condition ends where a value is missing",
            )),
            Word::Sign(_) => Err(Wrong::new(span, "a value is missing here")),
        }
    }
}

fn not(start: usize, inner: Node) -> Node {
    Node {
        span: start..inner.span.end,
        tree: Tree::Not(Box::new(inner)),
    }
}

fn two(left: Node, right: Node, tree: impl FnOnce(Box<Node>, Box<Node>) -> Tree) -> Node {
    Node {
        span: left.span.start..right.span.end,
        tree: tree(Box::new(left), Box::new(right)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The tree with a parenthesis around each part.
    fn drawn(node: &Node) -> String {
        match &node.tree {
            Tree::Number(n) => n.clone(),
            Tree::Text(t) => format!("'{t}'"),
            Tree::Truth(t) => t.to_string(),
            Tree::Null => "null".into(),
            Tree::Name(n) => n.clone(),
            Tree::Call(name, items) => {
                let items: Vec<_> = items.iter().map(drawn).collect();
                format!("{name}({})", items.join(","))
            }
            Tree::Minus(a) => format!("(-{})", drawn(a)),
            Tree::Not(a) => format!("(not {})", drawn(a)),
            Tree::Both(Join::And, a, b) => format!("({} and {})", drawn(a), drawn(b)),
            Tree::Both(Join::Or, a, b) => format!("({} or {})", drawn(a), drawn(b)),
            Tree::Arithmetic(s, a, b) | Tree::Compare(s, a, b) => {
                format!("({}{s}{})", drawn(a), drawn(b))
            }
            Tree::IsNull(a) => format!("({} is null)", drawn(a)),
            Tree::In(a, items) => {
                let items: Vec<_> = items.iter().map(drawn).collect();
                format!("({} in {})", drawn(a), items.join(","))
            }
        }
    }

    #[test]
    fn what_binds_tighter_is_read_first() {
        let cases = [
            ("a or b and not c = 1", "(a or (b and (not (c=1))))"),
            ("a + b * -c - d = e", "(((a+(b*(-c)))-d)=e)"),
            ("(a or b) and c", "((a or b) and c)"),
            (
                "a is not null or b is null",
                "((not (a is null)) or (b is null))",
            ),
            ("a not in (1, 2+3)", "(not (a in 1,(2+3)))"),
            ("a between 1 and 2 and b", "(((a>=1) and (a<=2)) and b)"),
            ("Length(a) <> 3", "(length(a)<>3)"),
            ("\"and\" = 'x'", "(and='x')"),
        ];
        for (text, wanted) in cases {
            assert_eq!(drawn(&parse(text).unwrap()), wanted, "{text}");
        }
    }

    #[test]
    fn an_error_points_at_its_place() {
        let cases = [
            ("a = ", 4..4),
            ("a = = b", 4..5),
            ("a b", 2..3),
            ("(a = b", 6..6),
            ("a is 5", 5..6),
            ("a in 5", 5..6),
            ("a between 1 or 2", 12..14),
            ("a not 5", 6..7),
            ("", 0..0),
            ("and a", 0..3),
        ];
        for (text, span) in cases {
            assert_eq!(parse(text).unwrap_err().span, span, "{text}");
        }
        for sign in ["and", "or", "+", "*"] {
            let long = format!("a {sign} ").repeat(6_000) + "a";
            let wrong = parse(&long).unwrap_err();
            assert!(wrong.message.contains("in a row"), "{}", wrong.message);
            assert!(parse(&(format!("a {sign} ").repeat(LONGEST_CHAIN) + "a")).is_ok());
        }
        assert!(
            parse(&"(".repeat(10_000))
                .unwrap_err()
                .message
                .contains("too deep")
        );
    }
}
