//! From a tree to a condition whose names are columns and whose types fit.

use std::borrow::Cow;
use std::ops::Range;

use regex::Regex;

use super::Wrong;
use super::number::Number;
use super::parse::{Join, Node, Tree, parse};
use super::value::{Sort, Value};
use crate::format::{KeyField, KeyPath, KeyTree};
use crate::nearest::did_you_mean;
use crate::types::Type;
use crate::values::{Cell, ColumnReader, ReaderOptions};

/// What names a condition may use.
#[derive(Debug, Clone, Copy)]
pub enum Scope<'s> {
    /// The columns of a kind of record.
    Columns(&'s [(&'s str, Type)]),
    /// The record before it is split: `record`, `field(n)`, `slice(start, width)`.
    Raw,
}

/// A condition, ready to be computed.
#[derive(Debug)]
pub struct Condition {
    /// As it is written.
    pub text: String,
    /// The columns that it is about, each once, as places in its scope.
    pub columns: Vec<usize>,
    pub(super) expression: Expression,
}

/// A part of a condition.
#[derive(Debug)]
pub(super) enum Expression {
    Constant(Value<'static>),
    Column(usize),
    Record,
    Field(usize),
    /// The only field of the tree.
    Key(Box<KeyTree>),
    Slice(usize, usize),
    Minus(Box<Expression>),
    Not(Box<Expression>),
    Both(Join, Box<Expression>, Box<Expression>),
    Arithmetic(&'static str, Box<Expression>, Box<Expression>),
    Compare(&'static str, Box<Expression>, Box<Expression>),
    IsNull(Box<Expression>),
    In(Box<Expression>, Vec<Expression>),
    Call(Function, Vec<Expression>),
    Matches(Box<Expression>, Regex),
}

/// What a condition may call.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Function {
    Length,
    Lower,
    Upper,
    Trim,
    Abs,
    Year,
    Month,
    Day,
    Coalesce,
}

const FUNCTIONS: &[(&str, Function)] = &[
    ("length", Function::Length),
    ("lower", Function::Lower),
    ("upper", Function::Upper),
    ("trim", Function::Trim),
    ("abs", Function::Abs),
    ("year", Function::Year),
    ("month", Function::Month),
    ("day", Function::Day),
    ("coalesce", Function::Coalesce),
];

/// A part with its type and its bytes in the condition.
struct Typed {
    expression: Expression,
    sort: Sort,
    span: Range<usize>,
}

impl Condition {
    /// Reads a condition on what `scope` has.
    ///
    /// # Errors
    /// The first thing wrong with it, and where.
    pub fn new(text: &str, scope: Scope<'_>) -> Result<Condition, Wrong> {
        let mut binder = Binder {
            scope,
            columns: Vec::new(),
        };
        let bound = binder.bind(&parse(text)?)?;
        if !matches!(bound.sort, Sort::Truth | Sort::Null) {
            return Err(Wrong::new(
                bound.span,
                format!("a condition is true or false, and this is {}", bound.sort),
            ));
        }
        Ok(Condition {
            text: text.to_string(),
            columns: binder.columns,
            expression: bound.expression,
        })
    }
}

struct Binder<'s> {
    scope: Scope<'s>,
    columns: Vec<usize>,
}

impl Binder<'_> {
    fn bind(&mut self, node: &Node) -> Result<Typed, Wrong> {
        let typed = |expression, sort| {
            Ok(Typed {
                expression,
                sort,
                span: node.span.clone(),
            })
        };
        match &node.tree {
            Tree::Number(text) => match Number::parse(text) {
                Some(n) => typed(Expression::Constant(Value::Number(n)), Sort::Number),
                None => Err(Wrong::new(
                    node.span.clone(),
                    format!("{text} is not a number"),
                )),
            },
            Tree::Text(text) => {
                let text = Value::Text(Cow::Owned(text.clone()));
                typed(Expression::Constant(text), Sort::Text)
            }
            Tree::Truth(t) => typed(Expression::Constant(Value::Truth(*t)), Sort::Truth),
            Tree::Null => typed(Expression::Constant(Value::Null), Sort::Null),
            Tree::Name(name) => {
                let (expression, sort) = self.name(name, &node.span)?;
                typed(expression, sort)
            }
            Tree::Call(name, items) => {
                let (expression, sort) = self.call(name, items, &node.span)?;
                typed(expression, sort)
            }
            Tree::Minus(inner) => {
                let inner = self.of_sort(inner, Sort::Number, "-")?;
                typed(Expression::Minus(inner), Sort::Number)
            }
            Tree::Not(inner) => {
                let inner = self.of_sort(inner, Sort::Truth, "not")?;
                typed(Expression::Not(inner), Sort::Truth)
            }
            Tree::Both(join, a, b) => {
                let word = if *join == Join::And { "and" } else { "or" };
                let a = self.of_sort(a, Sort::Truth, word)?;
                let b = self.of_sort(b, Sort::Truth, word)?;
                typed(Expression::Both(*join, a, b), Sort::Truth)
            }
            Tree::Arithmetic(sign, a, b) => {
                let (a, b) = (self.bind(a)?, self.bind(b)?);
                let sort = arithmetic(sign, &a, &b, &node.span)?;
                let (a, b) = (Box::new(a.expression), Box::new(b.expression));
                typed(Expression::Arithmetic(sign, a, b), sort)
            }
            Tree::Compare(sign, a, b) => {
                let (a, b) = (self.bind(a)?, self.bind(b)?);
                let (a, b) = alike(a, b)?;
                let (a, b) = (Box::new(a.expression), Box::new(b.expression));
                typed(Expression::Compare(sign, a, b), Sort::Truth)
            }
            Tree::IsNull(inner) => {
                let inner = self.bind(inner)?;
                typed(Expression::IsNull(Box::new(inner.expression)), Sort::Truth)
            }
            Tree::In(one, items) => {
                let mut one = self.bind(one)?;
                let mut all = Vec::new();
                for item in items {
                    let (left, item) = alike(one, self.bind(item)?)?;
                    one = left;
                    all.push(item.expression);
                }
                typed(Expression::In(Box::new(one.expression), all), Sort::Truth)
            }
        }
    }

    fn of_sort(&mut self, node: &Node, sort: Sort, word: &str) -> Result<Box<Expression>, Wrong> {
        let found = self.bind(node)?;
        if found.sort == sort || found.sort == Sort::Null {
            return Ok(Box::new(found.expression));
        }
        Err(Wrong::new(
            found.span,
            format!("{word} wants {sort}, and this is {}", found.sort),
        ))
    }

    fn name(&mut self, name: &str, span: &Range<usize>) -> Result<(Expression, Sort), Wrong> {
        let columns = match self.scope {
            Scope::Raw if name == "record" => return Ok((Expression::Record, Sort::Text)),
            Scope::Raw => {
                return Err(
                    Wrong::new(span.clone(), format!("there is no \"{name}\" here")).help(
                        "a record type is chosen by record, field(n) or slice(start, width): its \
                         columns are not known yet",
                    ),
                );
            }
            Scope::Columns(columns) => columns,
        };
        let found = columns
            .iter()
            .position(|(column, _)| *column == name)
            .or_else(|| {
                let folded = |(column, _): &(&str, Type)| column.eq_ignore_ascii_case(name);
                columns.iter().position(folded)
            });
        let Some(place) = found else {
            let names = columns.iter().map(|(column, _)| *column);
            let mut wrong = Wrong::new(span.clone(), format!("there is no column \"{name}\""));
            wrong.help = did_you_mean(name, names)
                .or_else(|| Some("text is written in single quotes, such as 'A'".into()));
            return Err(wrong);
        };
        if !self.columns.contains(&place) {
            self.columns.push(place);
        }
        Ok((Expression::Column(place), Sort::of(columns[place].1)))
    }

    fn call(
        &mut self,
        name: &str,
        items: &[Node],
        span: &Range<usize>,
    ) -> Result<(Expression, Sort), Wrong> {
        if matches!(self.scope, Scope::Raw)
            && let Some(raw) = raw_call(name, items)
        {
            return raw;
        }
        if name == "matches" {
            return self.matches(items, span);
        }
        let Some((_, function)) = FUNCTIONS.iter().find(|(known, _)| *known == name) else {
            let known = FUNCTIONS.iter().map(|(known, _)| *known);
            let all: Vec<&str> = known.clone().chain(["matches"]).collect();
            let help = did_you_mean(name, known).unwrap_or_else(|| all.join(", "));
            return Err(Wrong::new(span.clone(), format!("there is no {name}()")).help(help));
        };
        let mut bound = Vec::new();
        for item in items {
            bound.push(self.bind(item)?);
        }
        let sort = function.sort(name, &mut bound, span)?;
        let items = bound.into_iter().map(|item| item.expression).collect();
        Ok((Expression::Call(*function, items), sort))
    }

    fn matches(
        &mut self,
        items: &[Node],
        span: &Range<usize>,
    ) -> Result<(Expression, Sort), Wrong> {
        let [value, pattern] = items else {
            let message = "matches wants text and a regular expression in quotes";
            return Err(Wrong::new(span.clone(), message));
        };
        let value = self.of_sort(value, Sort::Text, "matches")?;
        let Tree::Text(text) = &pattern.tree else {
            let message = "the regular expression is written in quotes";
            return Err(Wrong::new(pattern.span.clone(), message));
        };
        let regex = Regex::new(&format!("^(?:{text})$"))
            .map_err(|_| Wrong::new(pattern.span.clone(), "this is not a regular expression"))?;
        Ok((Expression::Matches(value, regex), Sort::Truth))
    }
}

/// `field(n)` and `slice(start, width)`, whose numbers are written out.
fn raw_call(name: &str, items: &[Node]) -> Option<Result<(Expression, Sort), Wrong>> {
    let wanted = match name {
        "field" => 1,
        "slice" => 2,
        _ => return None,
    };
    let number = |node: &Node| match &node.tree {
        Tree::Number(text) => text.parse::<usize>().ok().filter(|n| *n > 0),
        _ => None,
    };
    let numbers: Option<Vec<usize>> = items.iter().map(number).collect();
    let span = items.first()?.span.start..items.last()?.span.end;
    if let (
        "field",
        [
            Node {
                tree: Tree::Text(name),
                ..
            },
        ],
    ) = (name, items)
    {
        let field = KeyField {
            paths: vec![KeyPath::parse(name)],
            optional: true,
            ..KeyField::default()
        };
        let tree = Box::new(KeyTree::new(vec![field]));
        return Some(Ok((Expression::Key(tree), Sort::Text)));
    }
    Some(match numbers.as_deref() {
        Some([n]) if wanted == 1 => Ok((Expression::Field(n - 1), Sort::Text)),
        Some([start, width]) if wanted == 2 => {
            Ok((Expression::Slice(start - 1, *width), Sort::Text))
        }
        _ => Err(Wrong::new(
            span,
            match wanted {
                1 => "field wants a number, 1 is the first field; or, for layout = \"json\", a key",
                _ => "slice wants two numbers: where it starts, counted from 1, and how wide it is",
            },
        )),
    })
}

impl Function {
    /// The type of what it gives.
    fn sort(self, name: &str, items: &mut Vec<Typed>, span: &Range<usize>) -> Result<Sort, Wrong> {
        let (wanted, given): (&[Sort], Sort) = match self {
            Function::Length => (&[Sort::Text], Sort::Number),
            Function::Lower | Function::Upper | Function::Trim => (&[Sort::Text], Sort::Text),
            Function::Abs => (&[Sort::Number], Sort::Number),
            Function::Year | Function::Month | Function::Day => {
                (&[Sort::Date, Sort::Timestamp], Sort::Number)
            }
            Function::Coalesce => return coalesce(items),
        };
        let [item] = items.as_slice() else {
            let message = format!("{name} wants one value, and there are {}", items.len());
            return Err(Wrong::new(span.clone(), message));
        };
        if wanted.contains(&item.sort) || item.sort == Sort::Null {
            return Ok(given);
        }
        Err(Wrong::new(
            item.span.clone(),
            format!("{name} wants {}, and this is {}", wanted[0], item.sort),
        ))
    }
}

/// The first value that is not null; all must be of one type.
fn coalesce(items: &mut Vec<Typed>) -> Result<Sort, Wrong> {
    let mut sort = Sort::Null;
    let mut rest: Vec<Typed> = std::mem::take(items);
    let first = rest.iter().position(|item| item.sort != Sort::Null);
    for index in 0..rest.len() {
        if let Some(first) = first.filter(|first| *first != index) {
            let span = rest[index].span.clone();
            let blank = || Typed {
                expression: Expression::Constant(Value::Null),
                sort: Sort::Null,
                span: span.clone(),
            };
            let one = std::mem::replace(&mut rest[first], blank());
            let other = std::mem::replace(&mut rest[index], blank());
            let (one, other) = alike(one, other)?;
            sort = one.sort;
            rest[first] = one;
            rest[index] = other;
        } else if let Some(first) = first {
            sort = rest[first].sort;
        }
    }
    *items = rest;
    Ok(sort)
}

/// The type of `a sign b`.
fn arithmetic(sign: &str, a: &Typed, b: &Typed, span: &Range<usize>) -> Result<Sort, Wrong> {
    use Sort::{Date, Null, Number, Time, Timestamp};
    Ok(match (a.sort, sign, b.sort) {
        (Null, _, _) | (_, _, Null) => Null,
        (Number, _, Number) => Number,
        // Days between two dates; seconds between two times or timestamps.
        (Date, "-", Date) | (Time, "-", Time) | (Timestamp, "-", Timestamp) => Number,
        (Date, "+" | "-", Number) => Date,
        (Timestamp, "+" | "-", Number) => Timestamp,
        _ => {
            let words = match sign {
                "+" => "added",
                "-" => "subtracted",
                "*" => "multiplied",
                _ => "divided",
            };
            return Err(Wrong::new(
                span.clone(),
                format!("{} and {} cannot be {words}", a.sort, b.sort),
            ));
        }
    })
}

/// Two values of types that compare. Text in quotes is read as the other's type.
fn alike(a: Typed, b: Typed) -> Result<(Typed, Typed), Wrong> {
    let dates = |s| matches!(s, Sort::Date | Sort::Timestamp);
    if a.sort == b.sort || (dates(a.sort) && dates(b.sort)) {
        return Ok((a, b));
    }
    for side in [&a, &b] {
        if matches!(side.expression, Expression::Constant(Value::Null)) {
            let message = "a comparison with null is neither true nor false";
            return Err(Wrong::new(side.span.clone(), message).help("say is null, or is not null"));
        }
    }
    if a.sort == Sort::Null || b.sort == Sort::Null {
        return Ok((a, b));
    }
    let is_text = |t: &Typed| matches!(t.expression, Expression::Constant(Value::Text(_)));
    if is_text(&b) && b.sort == Sort::Text {
        let b = read_as(b, a.sort)?;
        return Ok((a, b));
    }
    if is_text(&a) && a.sort == Sort::Text {
        let a = read_as(a, b.sort)?;
        return Ok((a, b));
    }
    Err(Wrong::new(
        a.span.start..b.span.end,
        format!("{} and {} do not compare", a.sort, b.sort),
    ))
}

/// Text in quotes as a date, time or timestamp in the notation of ISO 8601.
fn read_as(text: Typed, sort: Sort) -> Result<Typed, Wrong> {
    let Expression::Constant(Value::Text(words)) = &text.expression else {
        return Ok(text);
    };
    let wrong = |message: String| Wrong::new(text.span.clone(), message);
    let types: &[Type] = match sort {
        Sort::Date => &[Type::Date, Type::Timestamp],
        Sort::Timestamp => &[Type::Timestamp, Type::Date],
        Sort::Time => &[Type::Time],
        Sort::Number => {
            return Err(
                wrong(format!("'{words}' is text, and is compared with a number"))
                    .help("take the quotes off"),
            );
        }
        _ => {
            return Err(wrong(format!(
                "'{words}' is text, and is compared with {sort}"
            )));
        }
    };
    let read = |ty: &Type| {
        let reader = ColumnReader::new(*ty, ReaderOptions::default()).ok()?;
        let mut cell = Cell::Null;
        let read = reader.read_text(words.as_bytes(), &mut Vec::new(), &mut cell, |_| {});
        read.ok().map(|()| cell)
    };
    let value = match types.iter().find_map(read) {
        Some(Cell::Date(day)) => Value::Date(day),
        Some(Cell::Time(nanos)) => Value::Time(nanos),
        Some(Cell::Timestamp(day, nanos)) => Value::Timestamp(day, nanos),
        _ => {
            return Err(wrong(format!("'{words}' is not {sort}"))
                .help("dates are written as '2031-04-28', times as '16:30:00'"));
        }
    };
    Ok(Typed {
        expression: Expression::Constant(value),
        sort,
        span: text.span,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    const COLUMNS: &[(&str, Type)] = &[
        ("picked_on", Type::Date),
        ("sold_at", Type::Timestamp),
        (
            "net_kg",
            Type::Decimal {
                precision: 8,
                scale: 2,
            },
        ),
        ("crates", Type::Integer),
        ("grower", Type::Text),
        ("organic", Type::Boolean),
    ];

    fn wrong(text: &str) -> Wrong {
        Condition::new(text, Scope::Columns(COLUMNS)).unwrap_err()
    }

    #[test]
    fn what_does_not_fit_is_told_with_its_place() {
        let cases = [
            (
                "picked_on < crates",
                "a date and a number do not compare",
                0..18,
            ),
            ("grower = crates", "text and a number do not compare", 0..15),
            ("crates = '5'", "compared with a number", 9..12),
            ("picked_on > '31/04/2031'", "is not a date", 12..24),
            ("pickd_on is null", "there is no column \"pickd_on\"", 0..8),
            (
                "crates",
                "a condition is true or false, and this is a number",
                0..6,
            ),
            (
                "grower and organic",
                "and wants true or false, and this is text",
                0..6,
            ),
            ("picked_on + picked_on = 1", "cannot be added", 0..21),
            ("crates = null", "neither true nor false", 9..13),
            ("length(crates) = 1", "length wants text", 7..13),
            ("lenght(grower) = 1", "there is no lenght()", 0..14),
            ("length(grower, grower) = 1", "wants one value", 0..22),
            ("matches(grower, '[')", "not a regular expression", 16..19),
            ("field(1) = 'T'", "there is no field()", 0..8),
            ("crates in (1, 'x')", "compared with a number", 14..17),
            ("coalesce(crates, grower) = 1", "do not compare", 9..23),
        ];
        for (text, says, span) in cases {
            let wrong = wrong(text);
            assert!(wrong.message.contains(says), "{text}: {}", wrong.message);
            assert_eq!(wrong.span, span, "{text}");
        }
        assert!(
            wrong("pickd_on is null")
                .help
                .unwrap()
                .contains("picked_on")
        );
    }

    #[test]
    fn what_fits_names_its_columns_once() {
        let text = "picked_on <= sold_at and (net_kg * 2 > crates or net_kg is null)";
        let condition = Condition::new(text, Scope::Columns(COLUMNS)).unwrap();
        assert_eq!(condition.columns, [0, 1, 2, 3]);
        assert!(Condition::new("slice(1, 1) = 'T' or field(2) = 'x'", Scope::Raw).is_ok());
        assert!(Condition::new("slice(0, 1) = 'T'", Scope::Raw).is_err());
        assert!(
            Condition::new("grower = 'x'", Scope::Raw)
                .unwrap_err()
                .help
                .is_some()
        );
    }
}
