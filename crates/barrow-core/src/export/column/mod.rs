//! Writes the values of one column.

mod changed;
mod form;

pub use self::changed::Changed;
use self::changed::is_policy;
use self::form::{float, how, is_same, is_word, unpadded};
use std::io::Write as _;

use base64::Engine;

use super::moment::{MomentForm, usual};
use super::number::{self, Width};
use super::refusal::Refusal;
use crate::escape::visible_short;
use crate::export::row_typer::Misfit;
use crate::plan::ColumnPlan;
use crate::reason::Code;
use crate::types::Type;
use crate::values::canonical::{put_decimal, put_whole};
use crate::values::{Cell, ColumnReader, NumberForm, Valued, decimal, shown};
use crate::words::{Form, QuotedEmpty, Trim};

/// A value in a message is cut after so many characters.
const LONGEST: usize = 60;

/// Writes one column's values as fields that its own reader reads the same.
pub struct ColumnWriter<'p> {
    /// The column.
    pub plan: &'p ColumnPlan,
    reader: &'p ColumnReader,
    how: How,
    form: NumberForm,
    /// How wide a number is filled up, where digits fill it up.
    width: Option<Width>,
    /// Whether a number is written in plain text.
    is_plain_number: bool,
    /// Whether a field may be put in quotes.
    can_quote: bool,
    /// The word for null.
    null: Result<Vec<u8>, Code>,
    /// Whether each value is read again.
    verify: bool,
    /// Whether a field may hold what has to be quoted.
    is_free: bool,
    /// How most values are written without a further look.
    quick: Quick,
}

/// Values that need no further look. Without this way an export of the bench file took
/// more than three times as long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Quick {
    /// None.
    No,
    Whole,
    Decimal(u8),
    /// Text of at most so many bytes.
    Text(usize),
    /// Of a type whose usual notation is written.
    Moment,
    Boolean,
}

/// Whether text holds one of the special bytes. It is nearly always short and holds none, so
/// all of it is looked at: a way out at each byte took longer.
#[inline]
fn has_special(text: &[u8], special: &[bool; 256]) -> bool {
    let is_special = |found, byte: &u8| found | special[usize::from(*byte)];
    text.iter().fold(false, is_special)
}

/// How a type is written.
enum How {
    Whole,
    Decimal(usize),
    Real,
    Double,
    Boolean(Vec<u8>, Vec<u8>),
    Text,
    Moment(MomentForm),
    Uuid,
    Hexadecimal,
    Base64,
}

/// A field as it was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Field {
    /// Whether it may hold what has to be quoted.
    pub is_free: bool,
    /// Whether nothing is written for it, and it is not null.
    pub is_empty_text: bool,
    /// Whether it is null.
    pub is_null: bool,
}

impl<'p> ColumnWriter<'p> {
    /// For a column of a checked spec. `width` is that of a fixed field, in characters, or
    /// in bytes where the layout counts bytes.
    ///
    /// # Errors
    /// Why the column's values cannot be written so that they are read back the same.
    pub fn new(
        plan: &'p ColumnPlan,
        width: Option<usize>,
        can_quote: bool,
    ) -> Result<ColumnWriter<'p>, String> {
        let name = &plan.name;
        let reader = plan
            .reader
            .as_ref()
            .ok_or_else(|| format!("column {name} has no reader"))?;
        let options = reader.options();
        let ambiguous = reader.ambiguous();
        if let Some(first) = ambiguous.first() {
            return Err(format!(
                "column {name}: {first}, so it is not clear which of them to write"
            ));
        }
        let form = options.form.clone().unwrap_or_default();
        let how = how(plan.ty, reader)?;
        let counted = matches!(how, How::Whole | How::Decimal(_));
        let has_form = options.form.is_some();
        let filled = match plan.pad {
            Some(pad) => pad == '0',
            None => form.implied > 0 || matches!(form.sign, crate::words::Sign::Overpunched),
        };
        let is_bytes = matches!(form.form, Form::Packed | Form::Binary);
        let width = width.filter(|_| (filled && plan.ty.is_number()) || is_bytes);
        let usual_moment = matches!(how, How::Moment(MomentForm::Usual));
        let simple = !reader.has_steps()
            && !reader.has_limits()
            && !has_form
            && (counted || usual_moment || matches!(how, How::Text | How::Boolean(..) | How::Uuid));
        let mut writer = ColumnWriter {
            plan,
            reader,
            how,
            form,
            width: width.map(|wide| Width {
                wide,
                zeros: !is_bytes,
            }),
            is_plain_number: !has_form && width.is_none(),
            can_quote,
            null: Ok(Vec::new()),
            verify: !simple,
            is_free: has_form || !(counted || usual_moment),
            quick: Quick::No,
        };
        writer.null = writer.null_word(is_bytes);
        writer.quick = writer.quick_way();
        Ok(writer)
    }

    /// How most values are written.
    fn quick_way(&self) -> Quick {
        if self.verify || !self.is_plain_number {
            return Quick::No;
        }
        let trims = self.reader.options().trim != Trim::None;
        match (&self.how, self.plan.ty) {
            (How::Whole, _) => Quick::Whole,
            (How::Decimal(scale), _) => Quick::Decimal(*scale as u8),
            (How::Text, Type::VarChar(n)) if !trims => Quick::Text(n as usize),
            (How::Text, Type::Text) if !trims => Quick::Text(usize::MAX),
            (How::Moment(MomentForm::Usual), _) => Quick::Moment,
            (How::Boolean(yes, no), _) if is_word(yes) && is_word(no) => Quick::Boolean,
            _ => Quick::No,
        }
    }

    /// Writes a value that needs no further look; false where it needs one. `special`
    /// has the bytes for which text may have to be quoted.
    #[inline]
    pub fn write_quickly(
        &self,
        value: Valued<'_>,
        special: &[bool; 256],
        out: &mut Vec<u8>,
    ) -> bool {
        match (self.quick, value.cell) {
            (Quick::No, _) => return false,
            (Quick::Whole, Cell::Int(n)) => {
                put_whole(n, out);
            }
            (Quick::Text(most), Cell::Text(piece)) => {
                let text = piece.of(value.block, value.store);
                let is_plain = !text.is_empty()
                    && text.len() <= most
                    && !has_special(text, special)
                    && !self.reader.is_null_word(text);
                if !is_plain {
                    return false;
                }
                out.extend_from_slice(text);
            }
            (Quick::Decimal(scale), Cell::Decimal(n)) => put_decimal(n, usize::from(scale), out),
            (Quick::Moment, Cell::Date(_) | Cell::Time(_) | Cell::Timestamp(..)) => {
                return usual(value.cell, self.plan.ty, out).is_ok();
            }
            (Quick::Boolean, Cell::Bool(truth)) => match &self.how {
                How::Boolean(yes, no) => out.extend_from_slice(if truth { yes } else { no }),
                _ => return false,
            },
            (_, Cell::Null) => return matches!(&self.null, Ok(word) if word.is_empty()),
            _ => return false,
        }
        true
    }

    /// The word that is read as null, if there is one.
    fn null_word(&self, is_bytes: bool) -> Result<Vec<u8>, Code> {
        if is_bytes {
            return Err(Code::NotANumber);
        }
        let words = &self.reader.options().null_words;
        let word = words.first().ok_or(Code::NotAllowed)?;
        let (mut store, mut cell) = (Vec::new(), Cell::Bool(true));
        self.reader
            .read_text(word.as_bytes(), &mut store, &mut cell, |_| {})?;
        match cell {
            Cell::Null => Ok(word.as_bytes().to_vec()),
            // The default would stand for it.
            _ => Err(Code::NotAllowed),
        }
    }

    /// Writes a value, as text in UTF-8 or, for a packed or binary number, as its bytes.
    /// Where another value is written in its place, `change` is told.
    ///
    /// # Errors
    /// Why it would not be read back.
    pub fn write(
        &self,
        value: Valued<'_>,
        out: &mut Vec<u8>,
        change: &mut impl FnMut(Changed),
    ) -> Result<Field, Refusal> {
        let start = out.len();
        let field = self.put(value, out)?;
        if field.is_null {
            return Ok(field);
        }
        if self.is_bytes() {
            // Its bytes cannot be read as text, so its value is held against the limits.
            return match self.reader.beyond_limits(value) {
                Some(code) => Err(self.refusal(code, value)),
                None => Ok(field),
            };
        }
        let text = &out[start..];
        let sure = match self.how {
            _ if self.verify => false,
            How::Text => self.is_sure(text),
            _ => true,
        };
        if sure || (field.is_empty_text && self.keeps_empty()) {
            return Ok(field);
        }
        let (mut store, mut cell, mut whats) = (Vec::new(), Cell::Null, Vec::new());
        let read = self
            .reader
            .read_text(text, &mut store, &mut cell, |what| whats.push(what));
        if let Err(code) = read {
            return Err(self.refusal(code, value));
        }
        let back = Valued {
            cell,
            block: text,
            store: &store,
        };
        if is_same(self.plan.ty, value, back) {
            return Ok(field);
        }
        let repaired = whats.into_iter().find(|what| is_policy(*what));
        let Some(what) = repaired else {
            let says = match cell {
                Cell::Null => "would be read back as null".to_string(),
                _ => format!("would be read back as {}", self.shown(back)),
            };
            return Err(Refusal {
                code: Code::NotAllowed,
                says,
                value: self.shown(value),
            });
        };
        let changed = Changed::to(back, Some(what));
        out.truncate(start);
        let written = self.put(changed.value(), out);
        change(changed);
        written
    }

    /// Writes a value of a database that is none of the column's type: what the policies
    /// make of it. `change` is told of the value that is written.
    ///
    /// # Errors
    /// It is not one, and no policy says what becomes of it.
    pub fn write_misfit(
        &self,
        misfit: &Misfit,
        out: &mut Vec<u8>,
        change: &mut impl FnMut(Changed),
    ) -> Result<Field, Refusal> {
        let text = misfit.text.as_str();
        let refused = |code, says: String| Refusal {
            code,
            says,
            value: visible_short(text.as_bytes(), LONGEST),
        };
        if let Some(why) = misfit.lost {
            return Err(refused(Code::BadBytes, why.into()));
        }
        if self.is_bytes() {
            // Its text could be read as a number's bytes.
            return Err(refused(
                Code::OutOfRange,
                format!("not a value of {}", self.plan.ty),
            ));
        }
        let mut written = Vec::new();
        let is_number = self.plan.ty.is_number() && number::is_plain(text);
        if !is_number || number::write(&self.form, text, None, &mut written).is_err() {
            written = text.as_bytes().to_vec();
        }
        let (mut store, mut cell) = (Vec::new(), Cell::Null);
        let mut policy = None;
        let read = self
            .reader
            .read_text(&written, &mut store, &mut cell, |what| {
                policy = policy.or(Some(what).filter(|what| is_policy(*what)));
            });
        read.map_err(|code| refused(code, self.reader.sentence(code)))?;
        let value = Valued {
            cell,
            block: &written,
            store: &store,
        };
        if policy.is_none() && self.plan.ty.is_text() && value.bytes() != Some(text.as_bytes()) {
            let says = format!("would be read back as {}", self.shown(value));
            return Err(refused(Code::NotAllowed, says));
        }
        let field = self.put(value, out);
        change(Changed::to(value, policy));
        field
    }

    /// Whether the field is bytes and not text.
    pub fn is_bytes(&self) -> bool {
        matches!(self.form.form, Form::Packed | Form::Binary)
    }

    fn put(&self, value: Valued<'_>, out: &mut Vec<u8>) -> Result<Field, Refusal> {
        let field = Field {
            is_free: self.is_free,
            is_empty_text: false,
            is_null: false,
        };
        let refused = |code| self.refusal(code, value);
        match (&self.how, value.cell) {
            (_, Cell::Null) => {
                let word = self.null.as_ref().map_err(|code| Refusal {
                    code: match self.plan.required {
                        true => Code::Required,
                        false => *code,
                    },
                    says: match self.plan.required {
                        true => "null, and the column is required".into(),
                        false => "null, for which the format has no word".into(),
                    },
                    value: String::new(),
                })?;
                out.extend_from_slice(word);
                return Ok(Field {
                    is_null: true,
                    is_free: !word.is_empty(),
                    ..field
                });
            }
            (How::Whole, Cell::Int(n)) if self.is_plain_number => {
                put_whole(n, out);
            }
            (How::Whole, Cell::Int(n)) => self.number(&n.to_string(), out).map_err(refused)?,
            (How::Decimal(scale), _) => {
                let n = value.decimal().ok_or_else(|| refused(Code::NotANumber))?;
                self.number(&decimal(n, *scale), out).map_err(refused)?;
            }
            (How::Real | How::Double, Cell::Float(n)) => {
                let plain = match self.how {
                    How::Real => float(&(n as f32).to_string(), format!("{:e}", n as f32)),
                    _ => float(&n.to_string(), format!("{n:e}")),
                };
                self.number(&plain, out).map_err(refused)?;
            }
            (How::Boolean(yes, no), Cell::Bool(truth)) => {
                out.extend_from_slice(if truth { yes } else { no });
            }
            (How::Text, Cell::Text(piece)) => {
                let bytes = piece.of(value.block, value.store);
                let bytes = match self.plan.ty {
                    // The blanks at its end are the database's ("Character Types").
                    Type::Char(_) => unpadded(bytes),
                    _ => bytes,
                };
                if self.reader.has_steps() {
                    let text = std::str::from_utf8(bytes).map_err(|_| refused(Code::BadBytes))?;
                    out.extend_from_slice(self.reader.reversed(text).as_bytes());
                } else {
                    out.extend_from_slice(bytes);
                }
                return Ok(Field {
                    is_empty_text: bytes.is_empty(),
                    ..field
                });
            }
            (How::Moment(form), cell) => form.write(cell, self.plan.ty, out).map_err(refused)?,
            (How::Uuid, Cell::Bytes(piece)) => {
                let bytes = piece.of(value.block, value.store);
                let uuid = uuid::Uuid::from_slice(bytes).map_err(|_| refused(Code::NotAUuid))?;
                out.extend_from_slice(uuid.hyphenated().to_string().as_bytes());
            }
            (How::Hexadecimal, Cell::Bytes(piece)) => {
                let bytes = piece.of(value.block, value.store);
                if bytes.is_empty() {
                    out.extend_from_slice(b"0x");
                }
                for byte in bytes {
                    let _ = write!(out, "{byte:02x}");
                }
            }
            (How::Base64, Cell::Bytes(piece)) => {
                let bytes = piece.of(value.block, value.store);
                let text = base64::engine::general_purpose::STANDARD.encode(bytes);
                out.extend_from_slice(text.as_bytes());
                return Ok(Field {
                    is_empty_text: bytes.is_empty(),
                    ..field
                });
            }
            _ => return Err(refused(Code::NotAllowed)),
        }
        Ok(field)
    }

    fn number(&self, plain: &str, out: &mut Vec<u8>) -> Result<(), Code> {
        if self.is_plain_number {
            out.extend_from_slice(plain.as_bytes());
            return Ok(());
        }
        number::write(&self.form, plain, self.width, out)
    }

    /// Whether text is read back as it is, as far as can be told at a glance.
    fn is_sure(&self, text: &[u8]) -> bool {
        let is_blank = |b: Option<&u8>| b.is_none_or(|b| *b <= b' ' || *b >= 0x80);
        let fits = match self.plan.ty {
            Type::Char(n) | Type::VarChar(n) => text.len() <= n as usize,
            Type::Json => false,
            _ => true,
        };
        let trims = self.reader.options().trim != Trim::None;
        let is_trimmed = trims && (is_blank(text.first()) || is_blank(text.last()));
        fits && !is_trimmed && !self.reader.is_null_word(text)
    }

    /// Whether an empty text in quotes is read as one.
    pub fn keeps_empty(&self) -> bool {
        self.can_quote && self.quoted_empty() == QuotedEmpty::Text && self.plan.ty.is_text()
    }

    /// What an empty field in quotes is.
    pub fn quoted_empty(&self) -> QuotedEmpty {
        self.reader.options().quoted_empty
    }

    fn shown(&self, value: Valued<'_>) -> String {
        let text = shown(value.cell, self.plan.ty, value.block, value.store);
        visible_short(text.unwrap_or_default().as_bytes(), LONGEST)
    }

    fn refusal(&self, code: Code, value: Valued<'_>) -> Refusal {
        Refusal {
            code,
            says: self.reader.sentence(code),
            value: self.shown(value),
        }
    }
}
