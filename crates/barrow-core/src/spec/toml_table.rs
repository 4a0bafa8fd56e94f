//! Reads the keys of one table of a spec, and gathers what is wrong with them.
//!
//! Deserialising in one step stops at the first error; here every key is asked
//! for by name, each wrong value is noted with its place, and at
//! the end every key that nobody asked for is an unknown one.

use std::cell::RefCell;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use crate::nearest::did_you_mean;
use crate::problem::{Problem, Spanned};
use crate::spec::{keys, other_words};
use crate::words::{Given, Word};

/// One table of the spec, such as `[records]`.
pub struct Section<'s> {
    name: String,
    table: Option<&'s DeTable<'s>>,
    asked: Vec<&'static str>,
    problems: &'s RefCell<Vec<Problem>>,
}

impl<'s> Section<'s> {
    /// The table called `name` (as people see it), empty where it is missing.
    pub fn new(
        name: impl Into<String>,
        table: Option<&'s DeTable<'s>>,
        problems: &'s RefCell<Vec<Problem>>,
    ) -> Section<'s> {
        Section {
            name: name.into(),
            table,
            asked: Vec::new(),
            problems,
        }
    }

    /// Whether the spec has the section.
    pub fn is_there(&self) -> bool {
        self.table.is_some()
    }

    /// Notes a problem.
    pub fn problem(&self, problem: Problem) {
        self.problems.borrow_mut().push(problem);
    }

    /// The value of `key`, if the key is there.
    pub fn value(&mut self, key: &'static str) -> Option<Spanned<&'s DeValue<'s>>> {
        debug_assert!(
            keys::knows(&self.name, key),
            "the table of keys lacks {} {key}",
            self.name
        );
        self.asked.push(key);
        let value = self.table?.get(key)?;
        Some(Spanned::new(value.get_ref(), value.span()))
    }

    /// The place of the key itself, for problems that are about its being there.
    pub fn key_span(&self, key: &str) -> Option<Range<usize>> {
        let (key, _) = self.table?.get_key_value(key)?;
        Some(key.span())
    }

    /// A key whose value is text.
    pub fn text(&mut self, key: &'static str) -> Option<Spanned<String>> {
        let value = self.value(key)?;
        match value.value {
            DeValue::String(text) => Some(Spanned::new(text.to_string(), value.span)),
            other => self.wrong(key, value.span, "text in quotes", other),
        }
    }

    /// A key whose value is `true` or `false`.
    pub fn flag(&mut self, key: &'static str) -> Option<Spanned<bool>> {
        let value = self.value(key)?;
        match value.value {
            DeValue::Boolean(flag) => Some(Spanned::new(*flag, value.span)),
            other => self.wrong(key, value.span, "true or false", other),
        }
    }

    /// A key whose value is a whole number, zero or more.
    pub fn count(&mut self, key: &'static str) -> Option<Spanned<u64>> {
        let value = self.value(key)?;
        match whole(value.value) {
            Some(number) => Some(Spanned::new(number, value.span)),
            None => self.wrong(key, value.span, "a whole number, 0 or more", value.value),
        }
    }

    /// A key whose value is one text or a list of texts.
    pub fn texts(&mut self, key: &'static str) -> Option<Vec<Spanned<String>>> {
        let value = self.value(key)?;
        match value.value {
            DeValue::String(text) => Some(vec![Spanned::new(text.to_string(), value.span)]),
            DeValue::Array(items) => Some(
                items
                    .iter()
                    .filter_map(|item| self.item(key, item))
                    .collect(),
            ),
            other => self.wrong(key, value.span, "text or a list of texts", other),
        }
    }

    fn item(
        &self,
        key: &'static str,
        item: &toml::Spanned<DeValue<'s>>,
    ) -> Option<Spanned<String>> {
        match item.get_ref() {
            DeValue::String(text) => Some(Spanned::new(text.to_string(), item.span())),
            other => self.wrong(key, item.span(), "text in quotes", other),
        }
    }

    /// A key whose value is text in quotes, or a number, date or truth value of TOML.
    pub fn given(&mut self, key: &'static str) -> Option<Spanned<Given>> {
        let value = self.value(key)?;
        match given_of(value.value) {
            Some(given) => Some(Spanned::new(given, value.span)),
            None => self.wrong(key, value.span, "text or a number", value.value),
        }
    }

    /// A key whose value is a list of such values, or one.
    pub fn givens(&mut self, key: &'static str) -> Option<Vec<Spanned<Given>>> {
        let value = self.value(key)?;
        let one = |value: &DeValue<'_>, span: Range<usize>| match given_of(value) {
            Some(given) => Some(Spanned::new(given, span)),
            None => self.wrong(key, span, "texts or numbers", value),
        };
        match value.value {
            DeValue::Array(items) => Some(
                items
                    .iter()
                    .filter_map(|item| one(item.get_ref(), item.span()))
                    .collect(),
            ),
            other => one(other, value.span).map(|one| vec![one]),
        }
    }

    /// A key whose value is a list of pairs of texts.
    pub fn pairs(&mut self, key: &'static str) -> Option<Spanned<Vec<(String, String)>>> {
        let value = self.value(key)?;
        let pair = |item: &toml::Spanned<DeValue<'s>>| match item.get_ref() {
            DeValue::Array(two) => match (two.first()?.get_ref(), two.get(1)?.get_ref()) {
                (DeValue::String(a), DeValue::String(b)) if two.len() == 2 => {
                    Some((a.to_string(), b.to_string()))
                }
                _ => None,
            },
            _ => None,
        };
        let pairs = value.value.as_array().map(|items| items.iter().map(pair));
        match pairs.and_then(|pairs| pairs.collect()) {
            Some(pairs) => Some(Spanned::new(pairs, value.span)),
            None => self.wrong(
                key,
                value.span,
                "a list of pairs, such as [[\"a\", \"b\"]]",
                value.value,
            ),
        }
    }

    /// A key whose value is a table from texts to texts, in its order.
    pub fn texts_by_text(&mut self, key: &'static str) -> Option<Spanned<Vec<(String, String)>>> {
        let value = self.value(key)?;
        let mut entries: Vec<_> = match value.value {
            DeValue::Table(table) => table.iter().collect(),
            other => return self.wrong(key, value.span, "a table of texts", other),
        };
        entries.sort_by_key(|(key, _)| key.span().start);
        let mut pairs = Vec::new();
        for (word, meaning) in entries {
            match given_of(meaning.get_ref()) {
                Some(given) => pairs.push((word.get_ref().to_string(), given.text().to_string())),
                None => {
                    return self.wrong(key, meaning.span(), "text for each", meaning.get_ref());
                }
            }
        }
        Some(Spanned::new(pairs, value.span))
    }

    /// The tables of an array of tables, such as `[[check]]`, each with its place.
    pub fn tables(&mut self, key: &'static str) -> Vec<Spanned<&'s DeTable<'s>>> {
        let Some(value) = self.value(key) else {
            return Vec::new();
        };
        let Some(items) = value.value.as_array() else {
            let wanted = format!("to be a list of tables: [[{key}]]");
            return self
                .wrong(key, value.span, &wanted, value.value)
                .unwrap_or_default();
        };
        let table = |item: &'s toml::Spanned<DeValue<'s>>| match item.get_ref() {
            DeValue::Table(table) => Some(Spanned::new(table, item.span())),
            other => self.wrong(key, item.span(), "tables", other),
        };
        items.iter().filter_map(table).collect()
    }

    /// The tables within this one, by their names, which are free.
    pub fn tables_by_name(&mut self) -> Vec<(String, &'s DeTable<'s>)> {
        let Some(table) = self.table else {
            return Vec::new();
        };
        let one = |(name, value): (&'s toml::Spanned<_>, &'s toml::Spanned<DeValue<'s>>)| {
            let name: &std::borrow::Cow<'_, str> = name.get_ref();
            match value.get_ref() {
                DeValue::Table(table) => Some((name.to_string(), table)),
                other => self.wrong(name, value.span(), "to be a table", other),
            }
        };
        table.iter().filter_map(one).collect()
    }

    /// A key whose value is one of a closed list of words.
    pub fn word<W: Word>(&mut self, key: &'static str) -> Option<Spanned<W>> {
        let text = self.text(key)?;
        match W::WORDS.iter().find(|(word, _)| *word == text.value) {
            Some((_, meaning)) => Some(Spanned::new(*meaning, text.span)),
            None => {
                let known: Vec<&str> = W::WORDS.iter().map(|(word, _)| *word).collect();
                self.problem(
                    Problem::new(
                        text.span,
                        format!("{} does not know \"{}\"", self.path(key), text.value),
                        "not one of its words",
                    )
                    .help(format!("it may be {}", one_of(&known))),
                );
                None
            }
        }
    }

    /// A table that is a key's value, as `name`.
    pub fn inner(&self, name: &str, table: &'s DeTable<'s>) -> Section<'s> {
        Section::new(name, Some(table), self.problems)
    }

    /// Notes that a value is of the wrong type.
    pub fn wrong<T>(
        &self,
        key: &str,
        span: Range<usize>,
        wanted: &str,
        found: &DeValue<'_>,
    ) -> Option<T> {
        self.problem(Problem::new(
            span,
            format!("{} wants {wanted}", self.path(key)),
            format!("this is {}", article(found.type_str())),
        ));
        None
    }

    /// The key as people speak of it: `[records] ending`.
    pub fn path(&self, key: &str) -> String {
        format!("{} {key}", self.name)
    }

    /// Notes every key that was not asked for.
    pub fn finish(self) {
        let Some(table) = self.table else { return };
        for key in table.keys() {
            let name = key.get_ref().as_ref();
            if self.asked.contains(&name) {
                continue;
            }
            let help = other_words::key(name, &self.name)
                .or_else(|| keys::elsewhere(name))
                .or_else(|| did_you_mean(name, self.asked.iter().copied()))
                .unwrap_or_else(|| format!("{} knows {}", self.name, one_of(&self.asked)));
            self.problem(
                Problem::new(
                    key.span(),
                    format!("{} has no key \"{name}\"", self.name),
                    "unknown key",
                )
                .help(help),
            );
        }
    }
}

/// A value of TOML that may be a column's value.
fn given_of(value: &DeValue<'_>) -> Option<Given> {
    Some(match value {
        DeValue::String(text) => Given::AsInFile(text.to_string()),
        DeValue::Integer(number) => {
            let whole = i64::from_str_radix(number.as_str(), number.radix()).ok()?;
            Given::Standard(whole.to_string())
        }
        DeValue::Float(number) => Given::Standard(number.as_str().replace('_', "")),
        DeValue::Boolean(flag) => Given::Standard(flag.to_string()),
        DeValue::Datetime(moment) => Given::Standard(moment.to_string()),
        _ => return None,
    })
}

/// A whole number of zero or more.
pub fn whole(value: &DeValue<'_>) -> Option<u64> {
    let integer = value.as_integer()?;
    u64::from_str_radix(integer.as_str(), integer.radix()).ok()
}

/// `"a", "b" or "c"`.
pub fn one_of(words: &[&str]) -> String {
    let quoted: Vec<String> = words.iter().map(|w| format!("\"{w}\"")).collect();
    match quoted.split_last() {
        None => "nothing".into(),
        Some((only, [])) => only.clone(),
        Some((last, before)) => format!("{} or {last}", before.join(", ")),
    }
}

fn article(kind: &str) -> String {
    match kind {
        "integer" | "array" => format!("an {kind}"),
        "string" => "text".into(),
        _ => format!("a {kind}"),
    }
}
