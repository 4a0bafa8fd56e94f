//! What is known of a run before it begins.

use jiff::Timestamp;

use crate::types::Type;

/// What computed values may say of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunContext {
    /// The run's id.
    pub run: String,
    /// When it began.
    pub now: Timestamp,
}

impl Default for RunContext {
    fn default() -> RunContext {
        RunContext {
            run: String::new(),
            now: Timestamp::now(),
        }
    }
}

impl RunContext {
    /// When the run began, in UTC and to the second, as a column of type `ty`
    /// reads it.
    pub fn now(&self, ty: Type) -> String {
        let at = jiff::tz::Offset::UTC.to_datetime(self.now);
        let pattern = match ty {
            Type::Date => "%Y-%m-%d",
            Type::Time => "%H:%M:%S",
            Type::Timestamp => "%Y-%m-%d %H:%M:%S",
            _ => "%Y-%m-%d %H:%M:%SZ",
        };
        at.strftime(pattern).to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_of_a_run_suits_its_column() {
        let context = RunContext {
            run: "7f3a".into(),
            now: "2031-04-03T08:05:09.7Z".parse().unwrap(),
        };
        assert_eq!(context.now(Type::Date), "2031-04-03");
        assert_eq!(context.now(Type::Timestamp), "2031-04-03 08:05:09");
        assert_eq!(context.now(Type::Text), "2031-04-03 08:05:09Z");
    }
}
