//! Reads one column of a block: fields in, cells and faults out.
//!
//! What a column needs is chosen once, when its reader is made; each loop over
//! values is compiled for its type and its trimming.

use std::borrow::Cow;

use super::boolean::Boolean;
use super::cell::{Cell, Piece};
use super::form::NumberForm;
use super::kind::{Kind, Place};
use super::moment::{Dates, Patterns, Times, Timestamps};
use super::nulls::Words;
use super::number::{Decimal, Float, Whole};
use super::text::Text;
use crate::records::fields::{Span, unescape};
use crate::rejects::Code;
use crate::source::Charset;
use crate::source::charset::BadBytes;
use crate::source::transcode::TextMap;
use crate::spec::Type;
use crate::spec::plan::{DelimitedPlan, Trim, WhenUndecodable};

/// What a spec says of a column's values.
#[derive(Debug, Clone)]
pub struct ReaderOptions {
    /// Blanks around the value.
    pub trim: Trim,
    /// Values that mean null.
    pub null_words: Vec<String>,
    /// Date and time patterns; empty for the usual ones.
    pub patterns: Vec<String>,
    /// Words for true.
    pub true_words: Option<Vec<String>>,
    /// Words for false.
    pub false_words: Option<Vec<String>>,
    /// Whether null is a fault.
    pub required: bool,
    /// What stands in for null, written as the file would write it.
    pub default: Option<String>,
    /// How numbers are written, where that is not plain text.
    pub form: Option<NumberForm>,
    /// Fields whose bytes do not decode.
    pub undecodable: WhenUndecodable,
    /// What stands in for bytes that do not decode.
    pub stand_in: String,
}

/// An option that will not do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BadOption {
    /// The spec's key.
    pub key: &'static str,
    /// What is wrong, in a plain line.
    pub message: String,
    /// A few words for the place itself.
    pub label: &'static str,
}

/// The fields of a block's records, row by row.
pub struct Fields<'b> {
    /// The block's bytes.
    pub bytes: &'b [u8],
    /// All fields of the first record, then of the second, and so on.
    pub spans: &'b [Span],
    /// How many fields each record has.
    pub per_record: usize,
    /// Whether all of the block's bytes are UTF-8 as they stand.
    pub clean: bool,
    /// The file's encoding.
    pub charset: &'b Charset,
    /// Where the block's bytes were, if they were decoded before splitting.
    pub map: Option<&'b TextMap>,
    /// How escapes are taken out of text.
    pub delimited: &'b DelimitedPlan,
}

/// A value that could not be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fault {
    /// The row in the block's typed rows, 0-based.
    pub row: u32,
    /// The column among those that are loaded, 0-based.
    pub column: u32,
    /// What is wrong.
    pub code: Code,
    /// The field.
    pub span: Span,
}

/// A value that was changed because the spec asked for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Change {
    /// The row in the block's typed rows, 0-based.
    pub row: u32,
    /// The column among those that are loaded, 0-based; none for the whole record.
    pub column: Option<u32>,
    /// What was done.
    pub what: &'static str,
}

/// Where a column's results go.
pub struct Results<'o> {
    /// The column among those that are loaded, 0-based.
    pub column: u32,
    /// One for each record.
    pub cells: &'o mut [Cell],
    /// Values that differ from what the file says.
    pub store: &'o mut Vec<u8>,
    /// What cannot be read; its cell is null.
    pub faults: &'o mut Vec<Fault>,
    /// What was changed.
    pub changes: &'o mut Vec<Change>,
}

/// What stands in for null: a cell, and its bytes where it is text.
#[derive(Debug)]
struct Default {
    cell: Cell,
    store: Vec<u8>,
}

/// Reads the values of one column.
#[derive(Debug)]
pub struct ColumnReader {
    ty: Type,
    expected: String,
    trim: Trim,
    nulls: Words,
    required: bool,
    default: Option<Default>,
    form: Option<NumberForm>,
    undecodable: WhenUndecodable,
    stand_in: Option<String>,
    kind: AnyKind,
}

/// The readers of all types.
#[derive(Debug)]
enum AnyKind {
    Whole(Whole),
    Decimal(Decimal),
    Float(Float),
    Boolean(Boolean),
    Text(Text),
    Dates(Dates),
    Times(Times),
    Timestamps(Timestamps),
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
        }
    };
}

impl ColumnReader {
    /// A reader for a column of type `ty`.
    ///
    /// # Errors
    /// The first option that will not do.
    pub fn new(ty: Type, options: ReaderOptions) -> Result<ColumnReader, BadOption> {
        let pattern = |message| BadOption {
            key: "pattern",
            message,
            label: "not a pattern",
        };
        let patterns = || Patterns::new(&options.patterns, ty).map_err(pattern);
        let (kind, expected) = match ty {
            Type::SmallInt | Type::Integer | Type::BigInt => (
                AnyKind::Whole(Whole::new(ty)),
                format!("a whole number ({ty})"),
            ),
            Type::Decimal { precision, scale } => (
                AnyKind::Decimal(Decimal::new(precision, scale)),
                ty.to_string(),
            ),
            Type::Real | Type::Double => (
                AnyKind::Float(Float::new(ty == Type::Real)),
                format!("a number ({ty})"),
            ),
            Type::Boolean => {
                let boolean = Boolean::new(
                    options.true_words.as_deref(),
                    options.false_words.as_deref(),
                )
                .map_err(|message| BadOption {
                    key: "true_words",
                    message,
                    label: "also a word for false",
                })?;
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
            Type::Timestamp | Type::TimestampTz => {
                let patterns = patterns()?;
                let expected = patterns.expected();
                (AnyKind::Timestamps(Timestamps(patterns)), expected)
            }
            Type::Char(n) | Type::VarChar(n) => (
                AnyKind::Text(Text::new(Some(n))),
                format!("at most {n} characters"),
            ),
            Type::Text | Type::Json | Type::Uuid | Type::Bytes => {
                (AnyKind::Text(Text::new(None)), "text".to_string())
            }
        };
        let mut reader = ColumnReader {
            ty,
            expected,
            trim: options.trim,
            nulls: Words::new(&options.null_words),
            required: options.required,
            default: None,
            form: options.form,
            undecodable: options.undecodable,
            stand_in: (options.undecodable == WhenUndecodable::Replace).then_some(options.stand_in),
            kind,
        };
        if let Some(text) = options.default {
            reader.default = Some(reader.read_default(&text)?);
        }
        Ok(reader)
    }

    fn read_default(&self, text: &str) -> Result<Default, BadOption> {
        let mut store = text.as_bytes().to_vec();
        let value = text.as_bytes();
        let place = Place {
            at: 0,
            stored: true,
            store: &mut store,
        };
        match with_kind!(&self.kind, kind => kind.read(value, place)) {
            Ok(cell) => Ok(Default { cell, store }),
            Err(code) => Err(BadOption {
                key: "default",
                message: format!("the default \"{text}\" is {}", self.sentence(code)),
                label: "does not fit the column",
            }),
        }
    }

    /// What was expected where `code` was found.
    pub fn expected(&self, code: Code) -> String {
        match code {
            Code::Required => "a value, since the column is required".into(),
            Code::BadBytes => "text in the file's encoding".into(),
            Code::NoSuchDate => format!("a day of the calendar, as {}", self.expected),
            Code::TooPrecise if self.ty == Type::Date => "a date without a time of day".into(),
            Code::OutOfRange | Code::TooPrecise => format!("what {} holds", self.ty),
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
            Code::OutOfRange if self.ty.is_number() => format!("out of range for {}", self.ty),
            Code::TooPrecise if self.ty == Type::Date => "a date with a time of day".into(),
            Code::TooPrecise => format!("too precise for {}", self.ty),
            Code::TooLong => format!("too long for {}", self.ty),
            _ => code.words().into(),
        }
    }

    /// Whether the column's fields are bytes and not text.
    pub fn reads_bytes(&self) -> bool {
        self.form.is_some_and(NumberForm::is_bytes)
    }

    /// Whether a load stops at bytes that do not decode.
    pub fn stops_at_bad_bytes(&self) -> bool {
        self.undecodable == WhenUndecodable::Stop
    }

    /// Reads field `field` of every record.
    pub fn read(&self, fields: &Fields<'_>, field: usize, out: Results<'_>) {
        // Numbers in special forms want all their bytes as they are.
        let as_is = self.form.is_none();
        with_kind!(&self.kind, kind => match (self.trim, as_is && fields.clean) {
            (Trim::None, true) => self.rows::<_, false, false, true>(kind, fields, field, out),
            (Trim::None, false) => self.rows::<_, false, false, false>(kind, fields, field, out),
            (Trim::Left, _) => self.rows::<_, true, false, false>(kind, fields, field, out),
            (Trim::Right, _) => self.rows::<_, false, true, false>(kind, fields, field, out),
            (Trim::Both, true) => self.rows::<_, true, true, true>(kind, fields, field, out),
            (Trim::Both, false) => self.rows::<_, true, true, false>(kind, fields, field, out),
        });
    }

    fn rows<K: Kind, const LEFT: bool, const RIGHT: bool, const CLEAN: bool>(
        &self,
        kind: &K,
        fields: &Fields<'_>,
        field: usize,
        out: Results<'_>,
    ) {
        let ascii = self.form.is_none() && fields.charset.reads_as_ascii();
        let by_table = self.needs_only_a_table(fields.charset);
        let mut scratch = Vec::new();
        for (row, cell) in out.cells.iter_mut().enumerate() {
            let span = &fields.spans[row * fields.per_record + field];
            let bytes = &fields.bytes[span.range()];
            let read = if span.is_plain() && (CLEAN || (ascii && bytes.is_ascii())) {
                let place = Place {
                    at: span.start(),
                    stored: false,
                    store: out.store,
                };
                self.value::<K, LEFT, RIGHT>(kind, bytes, place)
            } else if by_table && span.is_plain() {
                self.decoded_in_store::<K, LEFT, RIGHT>(
                    kind,
                    fields,
                    bytes,
                    &mut scratch,
                    out.store,
                )
            } else {
                let change = |what| {
                    let row = row as u32;
                    out.changes.push(Change {
                        row,
                        column: Some(out.column),
                        what,
                    });
                };
                self.marked::<K, LEFT, RIGHT>(kind, fields, *span, out.store, change)
            };
            *cell = read.unwrap_or_else(|code| {
                let row = row as u32;
                out.faults.push(Fault {
                    row,
                    column: out.column,
                    code,
                    span: *span,
                });
                Cell::Null
            });
        }
    }

    /// Whether a plain field needs nothing but to be decoded, by a table.
    fn needs_only_a_table(&self, charset: &Charset) -> bool {
        self.form.is_none()
            && self.undecodable == WhenUndecodable::Reject
            && matches!(charset, Charset::Single(_))
    }

    /// Decodes a field by a table, without room of its own for each.
    fn decoded_in_store<K: Kind, const LEFT: bool, const RIGHT: bool>(
        &self,
        kind: &K,
        fields: &Fields<'_>,
        field: &[u8],
        scratch: &mut Vec<u8>,
        store: &mut Vec<u8>,
    ) -> Result<Cell, Code> {
        scratch.clear();
        fields
            .charset
            .decode(field, None, scratch)
            .map_err(|BadBytes| Code::BadBytes)?;
        let at = store.len();
        store.extend_from_slice(scratch);
        self.value::<K, LEFT, RIGHT>(
            kind,
            scratch,
            Place {
                at,
                stored: true,
                store,
            },
        )
    }

    /// A field that is missing, in quotes, has escapes, is to be decoded, or is
    /// a number in a form of its own.
    fn marked<K: Kind, const LEFT: bool, const RIGHT: bool>(
        &self,
        kind: &K,
        fields: &Fields<'_>,
        span: Span,
        store: &mut Vec<u8>,
        change: impl FnOnce(&'static str),
    ) -> Result<Cell, Code> {
        if span.is_missing() {
            return self.null(store);
        }
        let range = span.range();
        let field = &fields.bytes[range.clone()];
        // RFC 4180 is silent on it; two quotes with nothing between them are
        // the only way in which such a file can say "text, and empty".
        if field.is_empty() && span.is_quoted() && self.ty.is_text() {
            return Ok(Cell::Text(Piece::in_block(range.start, 0)));
        }
        if let Some(form) = self.form.filter(|form| form.is_bytes()) {
            return self.stored(kind, &form.plain(field)?, store);
        }
        let mut text = Cow::Borrowed(field);
        if !fields.clean {
            match self.decoded(fields, range.clone()) {
                Ok((decoded, replaced)) => {
                    text = decoded;
                    if replaced {
                        change("bytes that do not decode, replaced");
                    }
                }
                Err(BadBytes) if self.undecodable == WhenUndecodable::Null => {
                    change("bytes that do not decode, made null");
                    return self.null(store);
                }
                Err(BadBytes) => return Err(Code::BadBytes),
            }
        }
        if span.is_escaped() {
            let mut plain = Vec::with_capacity(text.len());
            unescape(fields.delimited, span.is_quoted(), &text, &mut plain);
            text = Cow::Owned(plain);
        }
        if let Some(form) = self.form {
            let (text, _) = trimmed::<LEFT, RIGHT>(&text);
            if self.nulls.has(text) {
                return self.null(store);
            }
            return self.stored(kind, &form.plain(text)?, store);
        }
        let (at, stored) = match &text {
            Cow::Borrowed(_) => (range.start, false),
            Cow::Owned(text) => {
                let at = store.len();
                store.extend_from_slice(text);
                (at, true)
            }
        };
        self.value::<K, LEFT, RIGHT>(kind, &text, Place { at, stored, store })
    }

    /// A field as text; it stands as it is where that is UTF-8 already.
    fn decoded<'b>(
        &self,
        fields: &Fields<'b>,
        range: std::ops::Range<usize>,
    ) -> Result<(Cow<'b, [u8]>, bool), BadBytes> {
        let field = &fields.bytes[range.clone()];
        if let Some(map) = fields.map {
            return self.unmarked(field, map.bad_in(range));
        }
        if *fields.charset == Charset::Utf8 && simdutf8::basic::from_utf8(field).is_ok() {
            return Ok((Cow::Borrowed(field), false));
        }
        let mut text = Vec::with_capacity(field.len() * 2);
        let replaced = fields
            .charset
            .decode(field, self.stand_in.as_deref(), &mut text)?;
        Ok((Cow::Owned(text), replaced))
    }

    /// Text in which marks stand for bytes that did not decode.
    fn unmarked<'b>(
        &self,
        field: &'b [u8],
        marks: impl Iterator<Item = usize>,
    ) -> Result<(Cow<'b, [u8]>, bool), BadBytes> {
        let mark = '\u{FFFD}'.len_utf8();
        let mut text = Vec::new();
        let mut from = 0;
        for at in marks {
            let stand_in = self.stand_in.as_deref().ok_or(BadBytes)?;
            text.extend_from_slice(&field[from..at]);
            text.extend_from_slice(stand_in.as_bytes());
            from = at + mark;
        }
        if from == 0 {
            return Ok((Cow::Borrowed(field), false));
        }
        text.extend_from_slice(&field[from..]);
        Ok((Cow::Owned(text), true))
    }

    /// Reads a value that is not in the block.
    fn stored<K: Kind>(&self, kind: &K, value: &[u8], store: &mut Vec<u8>) -> Result<Cell, Code> {
        let at = store.len();
        store.extend_from_slice(value);
        kind.read(
            value,
            Place {
                at,
                stored: true,
                store,
            },
        )
    }

    // Left to itself the compiler makes this a call for half of the types, which
    // callgrind showed as a tenth more instructions.
    #[inline(always)]
    fn value<K: Kind, const LEFT: bool, const RIGHT: bool>(
        &self,
        kind: &K,
        value: &[u8],
        place: Place<'_>,
    ) -> Result<Cell, Code> {
        let (value, before) = trimmed::<LEFT, RIGHT>(value);
        if self.nulls.has(value) {
            return self.null(place.store);
        }
        kind.read(
            value,
            Place {
                at: place.at + before,
                ..place
            },
        )
    }

    fn null(&self, store: &mut Vec<u8>) -> Result<Cell, Code> {
        match &self.default {
            None if self.required => Err(Code::Required),
            None => Ok(Cell::Null),
            Some(default) => Ok(default.put(store)),
        }
    }
}

impl Default {
    fn put(&self, store: &mut Vec<u8>) -> Cell {
        let base = store.len();
        let moved = |piece: Piece| {
            let bytes = piece.of(&[], &self.store);
            (base, bytes)
        };
        match self.cell {
            Cell::Text(piece) => {
                let (at, bytes) = moved(piece);
                store.extend_from_slice(bytes);
                Cell::Text(Piece::in_store(at, bytes.len()))
            }
            Cell::LongDecimal(piece) => {
                let (at, bytes) = moved(piece);
                store.extend_from_slice(bytes);
                Cell::LongDecimal(Piece::in_store(at, bytes.len()))
            }
            cell => cell,
        }
    }
}

/// The value without the blanks around it, and how many bytes went before it.
/// Blanks are the characters that Unicode calls white space.
#[inline]
fn trimmed<const LEFT: bool, const RIGHT: bool>(value: &[u8]) -> (&[u8], usize) {
    if !LEFT && !RIGHT {
        return (value, 0);
    }
    let is_edge = |b: Option<&u8>| b.is_some_and(|b| *b <= b' ' || *b >= 0x80);
    if !(LEFT && is_edge(value.first()) || RIGHT && is_edge(value.last())) {
        return (value, 0);
    }
    let left = if LEFT { leading_blanks(value) } else { 0 };
    let right = if RIGHT {
        trailing_blanks(&value[left..])
    } else {
        0
    };
    (&value[left..value.len() - right], left)
}

fn leading_blanks(value: &[u8]) -> usize {
    let text = value.utf8_chunks().next().map_or("", |chunk| chunk.valid());
    text.len() - text.trim_start().len()
}

fn trailing_blanks(value: &[u8]) -> usize {
    match value.utf8_chunks().last() {
        Some(chunk) if chunk.invalid().is_empty() => {
            chunk.valid().len() - chunk.valid().trim_end().len()
        }
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn trimming_takes_blanks_of_every_kind_and_nothing_else() {
        let both = |value: &'static str| trimmed::<true, true>(value.as_bytes());
        assert_eq!(both(" \t a b\u{A0} "), (&b"a b"[..], 3));
        assert_eq!(both("é"), ("é".as_bytes(), 0));
        assert_eq!(trimmed::<true, false>(b" a "), (&b"a "[..], 1));
        assert_eq!(trimmed::<false, true>(b" a "), (&b" a"[..], 0));
        assert_eq!(trimmed::<true, true>(b" \xFF "), (&b"\xFF"[..], 1));
        assert_eq!(trimmed::<true, true>(b"   "), (&b""[..], 3));
    }
}
