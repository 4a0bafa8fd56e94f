//! What reads the values of one column: made once, from what the spec says.

use regex::Regex;

use super::boolean::Boolean;
use super::document::{Bytes, Json, Uuid};
use super::form::NumberForm;
use super::limits::{Constant, Limits};
use super::moment::{Dates, Moments, Patterns, Times, Timestamps};
use super::nulls::Words;
use super::number::{Decimal, Float, Whole};
use super::options::{BadOption, LimitOptions, Policies, ReaderOptions};
use super::steps::Steps;
use super::text::Text;
use crate::reason::Code;
use crate::types::Type;
use crate::values::value_parser::{Place, ValueParser};
use crate::words::Given;
use crate::words::{QuotedEmpty, Trim, WhenUndecodable};

/// Reads the values of one column.
#[derive(Debug)]
pub struct ColumnReader {
    pub(crate) ty: Type,
    expected: String,
    pub(crate) trim: Trim,
    pub(crate) nulls: Words,
    pub(crate) quoted_empty: QuotedEmpty,
    pub(crate) required: bool,
    pub(crate) default: Option<Constant>,
    pub(crate) form: Option<NumberForm>,
    pub(crate) undecodable: WhenUndecodable,
    pub(crate) stand_in: Option<String>,
    pub(crate) steps: Option<Steps>,
    pub(crate) limits: Option<Limits>,
    pub(crate) policies: Policies,
    pub(crate) length_in_bytes: bool,
    pub(crate) kind: AnyKind,
    /// All that the spec says of the values.
    options: ReaderOptions,
    /// Reads values that are numbers or truth values by themselves, and not text, where the
    /// spec says how those stand as text.
    pub(crate) bare: Option<Box<ColumnReader>>,
}

/// The readers of all types.
#[derive(Debug)]
pub(crate) enum AnyKind {
    Whole(Whole),
    Decimal(Decimal),
    Float(Float),
    Boolean(Boolean),
    Text(Text),
    Dates(Dates),
    Times(Times),
    Timestamps(Timestamps),
    Moments(Moments),
    Json(Json),
    Uuid(Uuid),
    Bytes(Bytes),
}

/// Calls `$call` with the kind inside, so that the loop is compiled for it.
macro_rules! with_kind {
    ($any:expr, $kind:ident => $call:expr) => {
        match $any {
            AnyKind::Whole($kind) => $call,
            AnyKind::Decimal($kind) => $call,
            AnyKind::Float($kind) => $call,
            AnyKind::Boolean($kind) => $call,
            AnyKind::Text($kind) => $call,
            AnyKind::Dates($kind) => $call,
            AnyKind::Times($kind) => $call,
            AnyKind::Timestamps($kind) => $call,
            AnyKind::Moments($kind) => $call,
            AnyKind::Json($kind) => $call,
            AnyKind::Uuid($kind) => $call,
            AnyKind::Bytes($kind) => $call,
        }
    };
}
pub(crate) use with_kind;

impl AnyKind {
    /// What reads `ty`, and what it expects, as a message names it.
    fn new(ty: Type, options: &ReaderOptions) -> Result<(AnyKind, String), BadOption> {
        let pattern = |message| BadOption::new("format", message, "not a pattern");
        let patterns = || Patterns::new(&options.patterns, ty, options.years_from).map_err(pattern);
        let mark = options.form.as_ref().map_or(b'.', NumberForm::mark);
        Ok(match ty {
            Type::SmallInt | Type::Integer | Type::BigInt => (
                AnyKind::Whole(Whole::new(ty, mark)),
                format!("a whole number ({ty})"),
            ),
            Type::Decimal { precision, scale } => (
                AnyKind::Decimal(Decimal::new(precision, scale, mark)),
                ty.to_string(),
            ),
            Type::Real | Type::Double => (
                AnyKind::Float(Float::new(ty == Type::Real, mark)),
                format!("a number ({ty})"),
            ),
            Type::Boolean => {
                let boolean = Boolean::new(
                    options.true_words.as_deref(),
                    options.false_words.as_deref(),
                )
                .map_err(|m| BadOption::new("true_values", m, "also a word for false"))?;
                let expected = boolean.expected();
                (AnyKind::Boolean(boolean), expected)
            }
            Type::Date => {
                let patterns = patterns()?;
                let expected = patterns.expected();
                (AnyKind::Dates(Dates(patterns)), expected)
            }
            Type::Time => {
                let patterns = patterns()?;
                let expected = patterns.expected();
                (AnyKind::Times(Times(patterns)), expected)
            }
            Type::Timestamp => {
                let patterns = patterns()?;
                let expected = patterns.expected();
                (AnyKind::Timestamps(Timestamps(patterns)), expected)
            }
            Type::TimestampTz => {
                let zone = options.zone.as_deref();
                let moments = Moments::new(&options.patterns, options.years_from, zone)
                    .map_err(|(key, m)| BadOption::new(key, m, "cannot be used"))?;
                let expected = moments.expected();
                (AnyKind::Moments(moments), expected)
            }
            Type::Char(n) | Type::VarChar(n) => {
                let unit = match (options.length_in_bytes, n) {
                    (true, 1) => "byte",
                    (true, _) => "bytes",
                    (false, 1) => "character",
                    (false, _) => "characters",
                };
                (
                    AnyKind::Text(Text::new(Some(n), options.length_in_bytes)),
                    format!("at most {n} {unit}"),
                )
            }
            Type::Text => (AnyKind::Text(Text::new(None, false)), "text".into()),
            Type::Json => (AnyKind::Json(Json), "a JSON document".into()),
            Type::Uuid => (AnyKind::Uuid(Uuid), "a UUID".into()),
            Type::Bytes => {
                let base64 = options.base64;
                let form = if base64 { "base64" } else { "hexadecimal" };
                (AnyKind::Bytes(Bytes { base64 }), format!("bytes in {form}"))
            }
        })
    }
}

impl ColumnReader {
    /// A reader for a column of type `ty`.
    ///
    /// # Errors
    /// The first option that is wrong.
    pub fn new(ty: Type, options: ReaderOptions) -> Result<ColumnReader, BadOption> {
        let (kind, expected) = AnyKind::new(ty, &options)?;
        let said = options.clone();
        let mut reader = ColumnReader {
            ty,
            expected,
            trim: options.trim,
            nulls: Words::new(&options.null_words),
            quoted_empty: options.quoted_empty,
            required: options.required,
            default: None,
            form: options.form,
            undecodable: options.undecodable,
            stand_in: (options.undecodable == WhenUndecodable::Replace).then_some(options.stand_in),
            steps: Steps::new(&options.steps)?,
            limits: None,
            policies: options.policies,
            length_in_bytes: options.length_in_bytes,
            kind,
            options: said,
            bare: None,
        };
        if let Some(given) = &options.default {
            reader.default = Some(reader.constant("default", given)?);
        }
        let limits = reader.limits(&options.limits)?;
        if let Some(default) = &reader.default
            && let verdict = limits.verdict(super::limits::Valued {
                cell: default.cell,
                block: &[],
                store: &default.store,
            })
            && verdict != super::limits::Verdict::Fine
        {
            let text = options.default.as_ref().map_or("", Given::text);
            let message = format!("the default \"{text}\" is not what the column allows");
            return Err(BadOption::new(
                "default",
                message,
                "does not fit the column",
            ));
        }
        reader.limits = limits.any().then_some(limits);
        Ok(reader)
    }

    /// The same for records whose values may be numbers or truth values by themselves
    /// (RFC 8259, section 6), which the spec's marks and words say nothing of.
    ///
    /// # Errors
    /// As [`ColumnReader::new`].
    pub fn with_bare_values(self) -> Result<ColumnReader, BadOption> {
        let options = &self.options;
        let says_how =
            options.form.is_some() || options.true_words.is_some() || options.false_words.is_some();
        if !says_how || !(self.ty.is_number() || self.ty == Type::Boolean) {
            return Ok(self);
        }
        let bare = ColumnReader::new(
            self.ty,
            ReaderOptions {
                form: None,
                true_words: None,
                false_words: None,
                ..options.clone()
            },
        )?;
        Ok(ColumnReader {
            bare: Some(Box::new(bare)),
            ..self
        })
    }

    /// Whether values by themselves are read otherwise than text.
    pub fn tells_bare_values(&self) -> bool {
        self.bare.is_some()
    }

    /// A value that the spec gives for the column.
    fn constant(&self, key: &'static str, given: &Given) -> Result<Constant, BadOption> {
        let text = given.text();
        let mut store = text.as_bytes().to_vec();
        let place = Place {
            at: 0,
            stored: true,
            store: &mut store,
        };
        let read = match given {
            Given::AsInFile(_) => match &self.form {
                Some(form) if !form.always() => self.by_form(form, text.as_bytes(), place),
                _ => with_kind!(&self.kind, kind => kind.cell(text.as_bytes(), place)),
            },
            Given::Standard(_) => match AnyKind::new(self.ty, &ReaderOptions::default()) {
                Ok((kind, _)) => with_kind!(&kind, kind => kind.cell(text.as_bytes(), place)),
                Err(bad) => return Err(bad),
            },
        };
        match read {
            Ok(cell) => Ok(Constant { cell, store }),
            Err(code) => {
                let message = format!("{key} \"{text}\" is {}", self.sentence(code));
                Err(BadOption::new(key, message, "does not fit the column"))
            }
        }
    }

    fn by_form(
        &self,
        form: &NumberForm,
        text: &[u8],
        place: Place<'_>,
    ) -> Result<super::Cell, Code> {
        let plain = form.plain(text)?;
        let at = place.store.len();
        place.store.extend_from_slice(&plain);
        let place = Place { at, ..place };
        with_kind!(&self.kind, kind => kind.cell(&plain, place))
    }

    fn limits(&self, options: &LimitOptions) -> Result<Limits, BadOption> {
        // Bounds are in the standard notation, however the file writes its values.
        let bound = |key, given: &Option<Given>| {
            let Some(given) = given else { return Ok(None) };
            let standard = Given::Standard(given.text().into());
            let constant = self.constant(key, &standard)?;
            Ok(Some((constant, given.text().to_string())))
        };
        let (min, max) = (bound("min", &options.min)?, bound("max", &options.max)?);
        if let (Some((min, low)), Some((max, high))) = (&min, &max) {
            let valued = |c: &Constant| (c.cell, c.store.clone());
            let ((a, a_store), (b, b_store)) = (valued(min), valued(max));
            let of = |cell, store| super::limits::Valued {
                cell,
                block: &[],
                store,
            };
            if of(a, &a_store).compare(of(b, &b_store)) == Some(std::cmp::Ordering::Greater) {
                let message = format!("min {low} is larger than max {high}");
                return Err(BadOption::new("min", message, "larger than max"));
            }
        }
        let one_of = match &options.one_of {
            None => None,
            Some(all) => {
                let constants: Result<Vec<_>, _> =
                    all.iter().map(|one| self.constant("one_of", one)).collect();
                let words: Vec<&str> = all.iter().map(Given::text).collect();
                Some((constants?, words.join(", ")))
            }
        };
        let matches = match &options.matches {
            None => None,
            Some(text) => Some(Regex::new(&format!("^(?:{text})$")).map_err(|_| {
                // The error's own words show the text with what is put around it.
                let error = Regex::new(text).err().map(|e| e.to_string());
                let message = error.unwrap_or_else(|| format!("{text} is not an expression"));
                BadOption::new("matches", message, "not a regular expression")
            })?),
        };
        Ok(Limits {
            min,
            max,
            one_of,
            matches,
        })
    }

    /// All values that `one_of` allows, in the standard notation; empty for any.
    pub fn allowed(&self) -> Vec<String> {
        let one_of = self
            .limits
            .as_ref()
            .and_then(|limits| limits.one_of.as_ref());
        let all = one_of.into_iter().flat_map(|(all, _)| all);
        let text = |one: &Constant| super::shown(one.cell, self.ty, &[], &one.store);
        all.filter_map(text).collect()
    }

    /// Pairs of the lookup or the swaps that lead to the same.
    pub fn ambiguous(&self) -> Vec<String> {
        Steps::ambiguous(&self.options.steps)
    }

    /// Whether text is changed before it is read.
    pub fn has_steps(&self) -> bool {
        self.steps.is_some()
    }

    /// Whether values are checked against bounds, a list or an expression.
    pub fn has_limits(&self) -> bool {
        self.limits.is_some()
    }

    /// The text that is changed to this one before it is read, if one is.
    pub fn reversed(&self, text: &str) -> String {
        match &self.steps {
            Some(steps) => steps.reversed(text),
            None => text.to_string(),
        }
    }

    /// Whether a value means null.
    pub fn is_null_word(&self, value: &[u8]) -> bool {
        self.nulls.has(value)
    }

    /// All that the spec says of the values.
    pub fn options(&self) -> &ReaderOptions {
        &self.options
    }

    /// The type of its values.
    pub fn ty(&self) -> Type {
        self.ty
    }

    /// What was expected where `code` was found.
    pub fn expected(&self, code: Code) -> String {
        let limits = self.limits.as_ref();
        match code {
            Code::Required => "a value, since the column is required".into(),
            Code::BadBytes => "text in the file's encoding".into(),
            Code::NoSuchDate => format!("a day of the calendar, as {}", self.expected),
            Code::NoSuchTime => "a time that the zone's clocks show".into(),
            Code::AmbiguousTime => "a time that the zone's clocks show once, or an offset".into(),
            Code::TooPrecise if self.ty == Type::Date => "a date without a time of day".into(),
            Code::TooLong if !self.has_length() => "at most [records] max_record_size".into(),
            Code::OutOfRange => limits
                .and_then(Limits::bounds)
                .unwrap_or_else(|| format!("what {} holds", self.ty)),
            Code::TooPrecise => format!("what {} holds", self.ty),
            Code::NotAllowed => limits
                .and_then(Limits::allowed)
                .unwrap_or_else(|| self.expected.clone()),
            Code::NotInLookup => {
                let listed = self.steps.as_ref().map(Steps::listed);
                listed.unwrap_or_else(|| self.expected.clone())
            }
            _ => self.expected.clone(),
        }
    }

    /// What is wrong, in words that name the type or the pattern.
    pub fn sentence(&self, code: Code) -> String {
        match code {
            Code::NotADate | Code::NotATime | Code::NotATimestamp => {
                format!("{} in {}", code.words(), self.expected)
            }
            Code::NoSuchDate => "a day that the calendar does not have".into(),
            Code::NotANumber => {
                format!("{}: {} was expected", code.words(), self.expected)
            }
            Code::OutOfRange => match self.limits.as_ref().and_then(Limits::bounds) {
                Some(bounds) => format!("out of range: {bounds} is allowed"),
                None => format!("out of range for {}", self.ty),
            },
            Code::TooPrecise if self.ty == Type::Date => "a date with a time of day".into(),
            Code::TooPrecise => format!("too precise for {}", self.ty),
            Code::TooLong if !self.has_length() => "longer than a record may be".into(),
            Code::TooLong => format!("too long for {}", self.ty),
            Code::NotAllowed => format!("not {}", self.expected(code)),
            Code::NotBytes => format!("not {}", self.expected),
            _ => code.words().into(),
        }
    }

    fn has_length(&self) -> bool {
        matches!(self.ty, Type::Char(_) | Type::VarChar(_))
    }

    /// Whether the column's fields are bytes and not text.
    pub fn reads_bytes(&self) -> bool {
        self.form.as_ref().is_some_and(NumberForm::is_bytes)
    }

    /// How the column's numbers are written, where that is not plain text.
    pub fn form(&self) -> Option<&NumberForm> {
        self.form.as_ref()
    }

    /// Whether a load stops at bytes that do not decode.
    pub fn stops_at_bad_bytes(&self) -> bool {
        self.undecodable == WhenUndecodable::Stop
    }
}
