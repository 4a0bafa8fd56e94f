//! `sum`, `total` and `avg`, exact as long as the numbers are whole or decimals.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use rusqlite::Connection;
use rusqlite::functions::{Aggregate, Context, FunctionFlags, WindowAggregate};
use rusqlite::types::{Value, ValueRef};

use super::decimal::{Decimal, UNITS, digits};

/// What is added up.
#[derive(Debug, Clone, Default)]
pub struct Sum {
    count: u64,
    /// The sum, times ten to the power of `scale`; none once a number was no short decimal.
    exact: Option<i128>,
    scale: u32,
    /// How many of the numbers were not whole by their type.
    fractions: u64,
    /// The sum in floating point, and what it lacks (Neumaier's sum, as SQLite's own).
    rough: f64,
    lacks: f64,
}

/// A number as it is added up.
enum Number {
    Exact(Decimal, bool),
    Rough(f64),
}

impl Sum {
    fn new() -> Sum {
        Sum {
            exact: Some(0),
            ..Sum::default()
        }
    }

    /// The sum of so many numbers; `has_fraction` says whether one of them is not whole.
    pub fn of(count: u64, sum: Decimal, has_fraction: bool) -> Sum {
        Sum {
            count,
            exact: Some(sum.digits),
            scale: sum.scale,
            fractions: u64::from(has_fraction),
            ..Sum::default()
        }
    }

    /// Adds a value, or takes it away again where `sign` is -1.
    #[inline]
    fn add(&mut self, value: ValueRef<'_>, sign: i128) {
        // Nearly all values of a column of decimals have the scale of those before.
        if let (ValueRef::Real(number), Some(sum), 1) = (value, &mut self.exact, sign)
            && let Some(unit) = UNITS.get(self.scale as usize)
            && let Some(digits) = digits(number, *unit)
            && let Some(total) = sum.checked_add(i128::from(digits as i64))
        {
            *sum = total;
            self.count += 1;
            self.fractions += 1;
            return;
        }
        self.add_any(value, sign);
    }

    fn add_any(&mut self, value: ValueRef<'_>, sign: i128) {
        let number = match value {
            ValueRef::Null => return,
            ValueRef::Integer(n) => Number::Exact(whole(n), true),
            ValueRef::Real(n) => match Decimal::of_float(n, self.scale) {
                Some(decimal) => Number::Exact(decimal, false),
                None => Number::Rough(n),
            },
            ValueRef::Text(text) | ValueRef::Blob(text) => of_text(text),
        };
        let counts = |all: u64| (i128::from(all) + sign).max(0) as u64;
        self.count = counts(self.count);
        if !matches!(number, Number::Exact(_, true)) {
            self.fractions = counts(self.fractions);
        }
        if let Some(sum) = self.exact {
            self.exact = match &number {
                Number::Exact(decimal, _) => self.exactly(sum, *decimal, sign),
                Number::Rough(_) => None,
            };
            if self.exact.is_some() {
                return;
            }
            let (digits, scale) = (sum, self.scale);
            self.rough = Decimal { digits, scale }.divided(1);
        }
        self.add_rough(
            sign as f64
                * match number {
                    Number::Exact(decimal, _) => decimal.divided(1),
                    Number::Rough(n) => n,
                },
        );
    }

    fn exactly(&mut self, sum: i128, decimal: Decimal, sign: i128) -> Option<i128> {
        let scale = self.scale.max(decimal.scale);
        let own = Decimal {
            digits: sum,
            scale: self.scale,
        };
        let (own, other) = (own.at_scale(scale)?, decimal.at_scale(scale)?);
        self.scale = scale;
        own.checked_add(other * sign)
    }

    fn add_rough(&mut self, number: f64) {
        let sum = self.rough + number;
        self.lacks += match self.rough.abs() >= number.abs() {
            true => (self.rough - sum) + number,
            false => (number - sum) + self.rough,
        };
        self.rough = sum;
    }

    fn decimal(&self) -> Option<Decimal> {
        let digits = self.exact?;
        let scale = self.scale;
        Some(Decimal { digits, scale })
    }

    fn rough(&self) -> f64 {
        match self.lacks.is_finite() {
            true => self.rough + self.lacks,
            false => self.rough,
        }
    }

    /// The sum: a whole number of whole ones, else a number that gives the decimal back, or
    /// its digits as text where none does.
    pub fn sum(&self) -> Value {
        match self.decimal() {
            _ if self.count == 0 => Value::Null,
            None => Value::Real(self.rough()),
            Some(sum) if self.fractions == 0 => match i64::try_from(sum.digits) {
                Ok(n) => Value::Integer(n),
                Err(_) => Value::Text(sum.to_string()),
            },
            Some(sum) => sum
                .short()
                .map_or_else(|| Value::Text(sum.to_string()), Value::Real),
        }
    }

    /// The sum as floating point: 0 of no number.
    pub fn total(&self) -> Value {
        Value::Real(
            self.decimal()
                .map_or_else(|| self.rough(), |sum| sum.divided(1)),
        )
    }

    /// The sum divided by how many numbers there are.
    pub fn average(&self) -> Value {
        match self.decimal() {
            _ if self.count == 0 => Value::Null,
            Some(sum) => Value::Real(sum.divided(self.count)),
            None => Value::Real(self.rough() / self.count as f64),
        }
    }
}

fn whole(n: i64) -> Decimal {
    Decimal {
        digits: i128::from(n),
        scale: 0,
    }
}

/// Text that is a number, as SQLite takes it; other text is 0, or what it begins with.
fn of_text(text: &[u8]) -> Number {
    let text = str::from_utf8(text).unwrap_or("").trim();
    if let Some(decimal) = Decimal::of_text(text) {
        return Number::Exact(decimal, decimal.scale == 0);
    }
    let ends = (0..=text.len())
        .rev()
        .filter(|end| text.is_char_boundary(*end));
    let mut starts = ends.map(|end| &text[..end]);
    let is_number = |start: &&str| start.ends_with(|c: char| c.is_ascii_digit() || c == '.');
    let number = starts.find_map(|start| Some(start).filter(is_number)?.parse().ok());
    Number::Rough(number.unwrap_or(0.0))
}

/// One of the three functions.
struct Function {
    /// What is made of the sum.
    of: fn(&Sum) -> Value,
    /// What becomes of a sum that is no number of SQLite's.
    long: LongSums,
}

/// Sums that no number of SQLite's gives back.
#[derive(Debug, Clone, Default)]
pub struct LongSums {
    /// Whether a sum is only shown, and nothing compares it: then it may be text.
    pub are_shown: Arc<AtomicBool>,
    /// Whether one was given as text.
    pub were_given: Arc<AtomicBool>,
}

impl Function {
    fn value_of(&self, sum: Option<&Sum>) -> rusqlite::Result<Value> {
        let value = (self.of)(sum.unwrap_or(&Sum::new()));
        if let Value::Text(digits) = &value {
            if !self.long.are_shown.load(Ordering::Relaxed) {
                let says = format!(
                    "the sum {digits} has more digits than SQLite's numbers, so it cannot be \
                     compared or sorted exactly: say total(…), which rounds, or ask for the sum alone"
                );
                return Err(rusqlite::Error::UserFunctionError(says.into()));
            }
            self.long.were_given.store(true, Ordering::Relaxed);
        }
        Ok(value)
    }
}

impl Aggregate<Sum, Value> for Function {
    fn init(&self, _: &mut Context<'_>) -> rusqlite::Result<Sum> {
        Ok(Sum::new())
    }

    fn step(&self, context: &mut Context<'_>, sum: &mut Sum) -> rusqlite::Result<()> {
        sum.add(context.get_raw(0), 1);
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, sum: Option<Sum>) -> rusqlite::Result<Value> {
        self.value_of(sum.as_ref())
    }
}

impl WindowAggregate<Sum, Value> for Function {
    fn value(&self, sum: Option<&mut Sum>) -> rusqlite::Result<Value> {
        self.value_of(sum.as_deref())
    }

    fn inverse(&self, context: &mut Context<'_>, sum: &mut Sum) -> rusqlite::Result<()> {
        sum.add(context.get_raw(0), -1);
        Ok(())
    }
}

/// Puts them in place of SQLite's own.
pub fn register(connection: &Connection, long: &LongSums) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8
        | FunctionFlags::SQLITE_DETERMINISTIC
        | FunctionFlags::SQLITE_INNOCUOUS;
    let function = |of: fn(&Sum) -> Value| Function {
        of,
        long: long.clone(),
    };
    connection.create_window_function("sum", 1, flags, function(Sum::sum))?;
    connection.create_window_function("total", 1, flags, function(Sum::total))?;
    connection.create_window_function("avg", 1, flags, function(Sum::average))?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(sql: &str) -> Value {
        let connection = Connection::open_in_memory().unwrap();
        let long = LongSums::default();
        long.are_shown.store(true, Ordering::Relaxed);
        register(&connection, &long).unwrap();
        connection.query_row(sql, [], |row| row.get(0)).unwrap()
    }

    #[test]
    fn decimals_add_up_to_the_digit() {
        let of = |function: &str, values: &str| {
            answer(&format!(
                "SELECT {function}(column1) FROM (VALUES {values})"
            ))
        };
        assert_eq!(of("sum", "(0.1), (0.2), (NULL)"), Value::Real(0.3));
        assert_eq!(of("sum", "(1), (2)"), Value::Integer(3));
        assert_eq!(of("sum", "(1.0), (2)"), Value::Real(3.0));
        assert_eq!(of("sum", "(NULL)"), Value::Null);
        assert_eq!(of("total", "(NULL)"), Value::Real(0.0));
        assert_eq!(of("avg", "(0.1), (0.2)"), Value::Real(0.15));
        assert_eq!(
            of("sum", "('12345678901234567890.10'), ('0.05')"),
            Value::Text("12345678901234567890.15".into())
        );
        assert_eq!(
            of("sum", "(9223372036854775807), (1)"),
            Value::Text("9223372036854775808".into())
        );
        // What is no short decimal is added up as SQLite does.
        assert_eq!(of("sum", "(0.1), (1e300)"), Value::Real(1e300));
    }

    #[test]
    fn a_window_slides() {
        let sql = "SELECT group_concat(s) FROM (SELECT sum(column1) OVER (ROWS 1 PRECEDING) AS s \
            FROM (VALUES (0.1), (0.2), (0.4)))";
        assert_eq!(answer(sql), Value::Text("0.1,0.3,0.6".into()));
    }
}
