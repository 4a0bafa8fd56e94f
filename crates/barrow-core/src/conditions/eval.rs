//! Computes conditions.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::bind::{Condition, Expression, Function};
use super::number::Number;
use super::parse::Join;
use super::value::Value;
use crate::format::KeyTree;
use crate::types::Type;
use crate::values::{Cell, Day, Valued};

/// What a condition is computed on.
pub trait Environment<'v> {
    /// The value of a column, by its place in the condition's scope.
    fn column(&self, place: usize) -> Value<'v>;
    /// The whole record.
    fn record(&self) -> Value<'v>;
    /// A field of the record, 0-based.
    fn field(&self, place: usize) -> Value<'v>;
    /// The field that a record names so: the tree's only one.
    fn key(&self, tree: &KeyTree) -> Value<'v>;
}

/// A typed row.
#[derive(Clone, Copy)]
pub struct Row<'v, 'c> {
    /// For each column of the scope, its type and its cell.
    pub cell: &'c dyn Fn(usize) -> (Type, Cell),
    /// The block's bytes.
    pub block: &'v [u8],
    /// The store's bytes.
    pub store: &'v [u8],
}

impl<'v> Environment<'v> for Row<'v, '_> {
    fn column(&self, place: usize) -> Value<'v> {
        let (ty, cell) = (self.cell)(place);
        let valued = Valued {
            cell,
            block: self.block,
            store: self.store,
        };
        Value::of(valued, ty)
    }

    fn record(&self) -> Value<'v> {
        Value::Null
    }

    fn field(&self, _: usize) -> Value<'v> {
        Value::Null
    }

    fn key(&self, _: &KeyTree) -> Value<'v> {
        Value::Null
    }
}

/// A record before it is split by its kind.
#[derive(Clone, Copy)]
pub struct Raw<'v, 'f> {
    /// Its text.
    pub record: &'v str,
    /// The text of a field, 0-based; none where it has no such field.
    pub field: &'f dyn Fn(usize) -> Option<String>,
    /// The text of the field that the record names so.
    pub key: &'f dyn Fn(&KeyTree) -> Option<String>,
}

impl<'v> Environment<'v> for Raw<'v, '_> {
    fn column(&self, _: usize) -> Value<'v> {
        Value::Null
    }

    fn record(&self) -> Value<'v> {
        Value::Text(Cow::Borrowed(self.record))
    }

    fn field(&self, place: usize) -> Value<'v> {
        (self.field)(place).map_or(Value::Null, |text| Value::Text(Cow::Owned(text)))
    }

    fn key(&self, tree: &KeyTree) -> Value<'v> {
        (self.key)(tree).map_or(Value::Null, |text| Value::Text(Cow::Owned(text)))
    }
}

/// Why a condition has no value.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Uncomputable {
    /// Something is divided by zero.
    #[error("a division by zero")]
    DivisionByZero,
    /// A date before the year 1 or after the year 9999.
    #[error("a date beyond the calendar")]
    BeyondCalendar,
}

/// Nanoseconds in a second, and in a day.
const SECOND: i128 = 1_000_000_000;
const DAY: i128 = 86_400 * SECOND;

impl Condition {
    /// True, false, or neither, where null leaves it open.
    ///
    /// # Errors
    /// It cannot be computed.
    pub fn holds<'v>(
        &'v self,
        environment: &impl Environment<'v>,
    ) -> Result<Option<bool>, Uncomputable> {
        match self.expression.value(environment)? {
            Value::Truth(truth) => Ok(Some(truth)),
            _ => Ok(None),
        }
    }
}

impl Expression {
    fn value<'v>(&'v self, environment: &impl Environment<'v>) -> Result<Value<'v>, Uncomputable> {
        Ok(match self {
            Expression::Constant(value) => value.clone(),
            Expression::Column(place) => environment.column(*place),
            Expression::Record => environment.record(),
            Expression::Field(place) => environment.field(*place),
            Expression::Key(tree) => environment.key(tree),
            Expression::Slice(start, width) => match environment.record() {
                Value::Text(Cow::Borrowed(text)) => Value::Text(slice(text, *start, *width).into()),
                Value::Text(text) => Value::Text(slice(&text, *start, *width).to_string().into()),
                _ => Value::Null,
            },
            Expression::Minus(inner) => match inner.value(environment)? {
                Value::Number(n) => Value::Number(n.negated()),
                _ => Value::Null,
            },
            Expression::Not(inner) => match inner.value(environment)? {
                Value::Truth(truth) => Value::Truth(!truth),
                _ => Value::Null,
            },
            Expression::Both(join, a, b) => both(*join, a, b, environment)?,
            Expression::Arithmetic(sign, a, b) => {
                arithmetic(sign, &a.value(environment)?, &b.value(environment)?)?
            }
            Expression::Compare(sign, a, b) => {
                let order = a.value(environment)?.compare(&b.value(environment)?);
                order.map_or(Value::Null, |order| Value::Truth(fits(sign, order)))
            }
            Expression::IsNull(inner) => Value::Truth(inner.value(environment)? == Value::Null),
            Expression::In(one, all) => within(&one.value(environment)?, all, environment)?,
            Expression::Call(function, items) => function.call(items, environment)?,
            Expression::Matches(text, regex) => match text.value(environment)? {
                Value::Text(text) => Value::Truth(regex.is_match(&text)),
                _ => Value::Null,
            },
        })
    }
}

/// Characters of a text, from `start` on, 0-based.
fn slice(text: &str, start: usize, width: usize) -> &str {
    let border = |from: &str, n: usize| from.char_indices().nth(n).map_or(from.len(), |(at, _)| at);
    let rest = &text[border(text, start)..];
    &rest[..border(rest, width)]
}

/// The three-valued tables of SQL (ISO/IEC 9075-2, 8.21).
fn both<'v>(
    join: Join,
    a: &'v Expression,
    b: &'v Expression,
    environment: &impl Environment<'v>,
) -> Result<Value<'v>, Uncomputable> {
    // What decides at once: false for and, true for or.
    let decides = Value::Truth(join == Join::Or);
    let a = a.value(environment)?;
    if a == decides {
        return Ok(a);
    }
    let b = b.value(environment)?;
    Ok(match (&a, &b) {
        _ if b == decides => b,
        (Value::Null, _) | (_, Value::Null) => Value::Null,
        _ => b,
    })
}

fn fits(sign: &str, order: Ordering) -> bool {
    match sign {
        "=" => order.is_eq(),
        "<>" => order.is_ne(),
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        ">" => order.is_gt(),
        _ => order.is_ge(),
    }
}

/// True where one is equal, null where none is and one is null.
fn within<'v>(
    one: &Value<'v>,
    all: &'v [Expression],
    environment: &impl Environment<'v>,
) -> Result<Value<'v>, Uncomputable> {
    let mut open = false;
    for other in all {
        match one.compare(&other.value(environment)?) {
            Some(Ordering::Equal) => return Ok(Value::Truth(true)),
            Some(_) => {}
            None => open = true,
        }
    }
    Ok(if open {
        Value::Null
    } else {
        Value::Truth(false)
    })
}

fn arithmetic<'v>(sign: &str, a: &Value<'_>, b: &Value<'_>) -> Result<Value<'v>, Uncomputable> {
    let signed = |n: &Number| if sign == "-" { n.negated() } else { n.clone() };
    Ok(match (a, b) {
        (Value::Number(a), Value::Number(b)) => Value::Number(match sign {
            "*" => a.times(b),
            "/" => a.over(b).ok_or(Uncomputable::DivisionByZero)?,
            _ => a.plus(&signed(b)),
        }),
        (Value::Date(a), Value::Date(b)) => Value::Number(Number::Short(days(*a) - days(*b), 0)),
        (Value::Time(a), Value::Time(b)) => {
            Value::Number(Number::Short(i128::from(*a) - i128::from(*b), 9))
        }
        (Value::Timestamp(a, m), Value::Timestamp(b, n)) => {
            let nanos = (days(*a) - days(*b)) * DAY + i128::from(*m) - i128::from(*n);
            Value::Number(Number::Short(nanos, 9))
        }
        (Value::Date(day), Value::Number(n)) => {
            let moved = signed(n).as_whole().and_then(|n| moved(*day, n));
            Value::Date(moved.ok_or(Uncomputable::BeyondCalendar)?)
        }
        (Value::Timestamp(day, nanos), Value::Number(n)) => {
            later(*day, *nanos, &signed(n)).ok_or(Uncomputable::BeyondCalendar)?
        }
        _ => Value::Null,
    })
}

/// A day's number in the calendar; only differences count.
fn days(day: Day) -> i128 {
    jiff::civil::Date::new(day.year, day.month as i8, day.day as i8).map_or(0, |date| {
        let epoch = jiff::civil::date(1970, 1, 1);
        i128::from(date.duration_since(epoch).as_hours() / 24)
    })
}

fn moved(day: Day, by: i64) -> Option<Day> {
    let date = jiff::civil::Date::new(day.year, day.month as i8, day.day as i8).ok()?;
    let span = jiff::Span::new().try_days(by).ok()?;
    let date = date.checked_add(span).ok()?;
    Day::new(date.year(), date.month() as u8, date.day() as u8)
}

/// A timestamp so many seconds later. Beyond nanoseconds nothing is kept.
fn later<'v>(day: Day, nanos: u64, by: &Number) -> Option<Value<'v>> {
    let by = by.times(&Number::Short(SECOND, 0)).as_integer()?;
    let nanos = i128::from(nanos).checked_add(by)?;
    let day = moved(day, i64::try_from(nanos.div_euclid(DAY)).ok()?)?;
    Some(Value::Timestamp(day, nanos.rem_euclid(DAY) as u64))
}

impl Function {
    fn call<'v>(
        self,
        items: &'v [Expression],
        environment: &impl Environment<'v>,
    ) -> Result<Value<'v>, Uncomputable> {
        if self == Function::Coalesce {
            for item in items {
                let value = item.value(environment)?;
                if value != Value::Null {
                    return Ok(value);
                }
            }
            return Ok(Value::Null);
        }
        let Some(item) = items.first() else {
            return Ok(Value::Null);
        };
        let part = |value: &Value<'_>, of: fn(Day) -> i64| match value.moment() {
            Some((day, _)) => Value::Number(Number::whole(of(day))),
            None => Value::Null,
        };
        let value = item.value(environment)?;
        Ok(match (self, value) {
            (Function::Length, Value::Text(text)) => {
                Value::Number(Number::whole(text.chars().count() as i64))
            }
            (Function::Lower, Value::Text(text)) => Value::Text(text.to_lowercase().into()),
            (Function::Upper, Value::Text(text)) => Value::Text(text.to_uppercase().into()),
            (Function::Trim, Value::Text(text)) => Value::Text(text.trim().to_string().into()),
            (Function::Abs, Value::Number(n)) => Value::Number(n.without_sign()),
            (Function::Year, value) => part(&value, |day| day.year.into()),
            (Function::Month, value) => part(&value, |day| day.month.into()),
            (Function::Day, value) => part(&value, |day| day.day.into()),
            _ => Value::Null,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conditions::Scope;
    use crate::values::Piece;

    const NAMES: &[(&str, Type)] = &[
        ("picked", Type::Date),
        ("sold", Type::Timestamp),
        (
            "net",
            Type::Decimal {
                precision: 8,
                scale: 2,
            },
        ),
        ("crates", Type::Integer),
        ("grower", Type::Text),
        ("nothing", Type::Integer),
        ("price", Type::Double),
    ];

    fn holds(text: &str) -> Result<Option<bool>, Uncomputable> {
        let day = Day::new(2031, 3, 1).unwrap();
        let cells = [
            Cell::Date(day),
            Cell::Timestamp(day, 3_600_000_000_000),
            Cell::Decimal(1250),
            Cell::Int(7),
            Cell::Text(Piece::in_block(0, 9)),
            Cell::Null,
            Cell::Float(0.1),
        ];
        let condition = Condition::new(text, Scope::Columns(NAMES)).unwrap();
        let row = Row {
            cell: &|place| (NAMES[place].1, cells[place]),
            block: "Zoë Moor".as_bytes(),
            store: &[],
        };
        condition.holds(&row)
    }

    #[test]
    fn conditions_one_by_one() {
        let cases = [
            ("net = 12.5", Some(true)),
            ("net * 2 - crates = 18", Some(true)),
            ("net / 3 * 3 = net", Some(true)),
            ("-net < -12.49", Some(true)),
            ("price = 0.1", Some(true)),
            ("picked = '2031-03-01'", Some(true)),
            ("picked < sold", Some(true)),
            (
                "picked - picked = 0 and (picked + 40) - picked = 40",
                Some(true),
            ),
            ("(sold + 1.5) - sold = 1.5", Some(true)),
            ("picked + 31 = '2031-04-01'", Some(true)),
            ("picked - 1 = '2031-02-28'", Some(true)),
            ("sold + 0.5 > '2031-03-01 01:00:00'", Some(true)),
            ("sold - 3600 = '2031-03-01'", Some(true)),
            (
                "year(picked) = 2031 and month(sold) = 3 and day(sold) = 1",
                Some(true),
            ),
            ("grower = 'Zoë Moor'", Some(true)),
            ("length(grower) = 8", Some(true)),
            (
                "upper(grower) = 'ZOË MOOR' and lower('A') = 'a' and trim(' a ') = 'a'",
                Some(true),
            ),
            ("matches(grower, 'Zo.*')", Some(true)),
            ("matches(grower, 'Zo')", Some(false)),
            ("grower < 'b'", Some(true)),
            ("abs(-crates) = 7", Some(true)),
            ("nothing = 1", None),
            ("nothing is null", Some(true)),
            ("nothing is not null", Some(false)),
            ("not nothing = 1", None),
            ("nothing = 1 and crates = 8", Some(false)),
            ("nothing = 1 or crates = 7", Some(true)),
            ("nothing = 1 and crates = 7", None),
            ("crates in (1, 7)", Some(true)),
            ("crates not in (1, 2)", Some(true)),
            ("crates in (1, nothing)", None),
            ("coalesce(nothing, crates, 3) = 7", Some(true)),
            ("crates between 7 and 9", Some(true)),
            ("crates not between 7 and 9", Some(false)),
            ("null is null", Some(true)),
        ];
        for (text, wanted) in cases {
            assert_eq!(holds(text), Ok(wanted), "{text}");
        }
    }

    #[test]
    fn what_cannot_be_computed_is_told() {
        assert_eq!(
            holds("net / (crates - 7) = 1"),
            Err(Uncomputable::DivisionByZero)
        );
        assert_eq!(
            holds("picked + 9999999 = picked"),
            Err(Uncomputable::BeyondCalendar)
        );
        assert_eq!(
            holds("picked + 99999999999999 = picked"),
            Err(Uncomputable::BeyondCalendar)
        );
        assert_eq!(
            holds("picked + 0.5 = picked"),
            Err(Uncomputable::BeyondCalendar)
        );
    }

    #[test]
    fn a_raw_record_has_slices_and_fields() {
        let holds = |text: &str| {
            let condition = Condition::new(text, Scope::Raw).unwrap();
            let raw = Raw {
                record: "Té|5",
                field: &|place| ["Té", "5"].get(place).map(|f| (*f).to_string()),
                key: &|tree| Some(tree.root[0].name.clone()),
            };
            condition.holds(&raw).unwrap()
        };
        assert_eq!(holds("slice(1, 1) = 'T'"), Some(true));
        assert_eq!(holds("slice(2, 2) = 'é|'"), Some(true));
        assert_eq!(holds("slice(9, 2) = ''"), Some(true));
        assert_eq!(holds("field(2) = '5'"), Some(true));
        assert_eq!(holds("field(3) = '5'"), None);
        assert_eq!(holds("field('kind') = 'kind'"), Some(true));
        assert_eq!(holds("record = 'Té|5' and length(record) = 4"), Some(true));
    }
}
