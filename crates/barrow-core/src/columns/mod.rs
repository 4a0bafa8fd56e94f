//! Reads one column of a block: fields in, cells and faults out.
//!
//! Nearly every value is read where it stands, in a loop that is compiled for the
//! column's type and trimming. What that loop cannot do goes the careful way, which
//! alone knows of quotes, escapes, encodings, steps, forms and policies.

mod input;

pub use self::input::{Fault, Fields, Results};
use std::borrow::Cow;

use crate::reason::Code;
use crate::records::layout::unescape;
use crate::records::span::Span;
use crate::repair::{Change, RepairKind};
use crate::source::Charset;
use crate::source::charset::BadBytes;
use crate::values::cell::{Cell, Piece};
use crate::values::limits::{Valued, Verdict};
use crate::values::reader::{AnyKind, ColumnReader, with_kind};
use crate::values::steps::Steps;
use crate::values::trim::trimmed;
use crate::values::value_parser::{Place, ValueParser};
use crate::words::{QuotedEmpty, Trim, WhenUndecodable};

/// A value's text and where it stands.
struct Found<'b> {
    text: Cow<'b, [u8]>,
    /// Its first byte in the block, for text that is there as it stands.
    at: usize,
    /// Bytes were replaced by the stand-in.
    replaced: bool,
}

impl ColumnReader {
    /// Reads field `field` of every record.
    pub fn read(&self, fields: &Fields<'_>, field: usize, out: Results<'_>) {
        let Results {
            column,
            cells,
            store,
            faults,
            changes,
        } = out;
        let out = Results {
            column,
            cells: &mut *cells,
            store: &mut *store,
            faults: &mut *faults,
            changes: &mut *changes,
        };
        with_kind!(&self.kind, kind => match (self.trim, fields.clean && !self.is_special()) {
            (Trim::None, true) => self.rows::<_, false, false, true>(kind, fields, field, out),
            (Trim::None, false) => self.rows::<_, false, false, false>(kind, fields, field, out),
            (Trim::Left, _) => self.rows::<_, true, false, false>(kind, fields, field, out),
            (Trim::Right, _) => self.rows::<_, false, true, false>(kind, fields, field, out),
            (Trim::Both, true) => self.rows::<_, true, true, true>(kind, fields, field, out),
            (Trim::Both, false) => self.rows::<_, true, true, false>(kind, fields, field, out),
        });
        if self.limits.is_some() {
            for (row, cell) in cells.iter_mut().enumerate() {
                let row = row as u32;
                let note = |what| {
                    changes.push(Change {
                        row,
                        column: Some(column),
                        what,
                    })
                };
                if let Err(code) = self.limit(fields.bytes, store, cell, note) {
                    let span = fields.spans[row as usize * fields.per_record + field];
                    *cell = Cell::Null;
                    faults.push(Fault {
                        row,
                        column,
                        code,
                        span,
                        made: None,
                    });
                }
            }
        }
    }

    /// Whether no value of the column is read as it stands.
    fn is_special(&self) -> bool {
        self.steps.is_some() || self.form.as_ref().is_some_and(|form| form.always())
    }

    fn rows<K: ValueParser, const LEFT: bool, const RIGHT: bool, const CLEAN: bool>(
        &self,
        kind: &K,
        fields: &Fields<'_>,
        field: usize,
        out: Results<'_>,
    ) {
        let ascii = !self.is_special() && fields.charset.reads_as_ascii();
        let by_table = self.needs_only_a_table(fields.charset);
        let mut scratch = Vec::new();
        for (row, cell) in out.cells.iter_mut().enumerate() {
            let span = &fields.spans[row * fields.per_record + field];
            let bytes = &fields.bytes[span.range()];
            if span.is_plain() && (CLEAN || (ascii && bytes.is_ascii())) {
                let place = Place {
                    at: span.start(),
                    stored: false,
                    store: out.store,
                };
                if self.quick::<K, LEFT, RIGHT>(kind, bytes, place, cell) {
                    continue;
                }
            } else if by_table && span.is_plain() {
                scratch.clear();
                if fields.charset.decode(bytes, None, &mut scratch).is_ok() {
                    let at = out.store.len();
                    out.store.extend_from_slice(&scratch);
                    let place = Place {
                        at,
                        stored: true,
                        store: out.store,
                    };
                    if self.quick::<K, LEFT, RIGHT>(kind, &scratch, place, cell) {
                        continue;
                    }
                }
            }
            let (row, column) = (row as u32, out.column);
            let mut note = |what| {
                out.changes.push(Change {
                    row,
                    column: Some(column),
                    what,
                });
            };
            if let Err(code) = self.careful(kind, fields, *span, out.store, cell, &mut note) {
                *cell = Cell::Null;
                out.faults.push(Fault {
                    row,
                    column,
                    code,
                    span: *span,
                    made: None,
                });
            }
        }
    }

    /// Whether a plain field needs nothing but to be decoded, by a table.
    fn needs_only_a_table(&self, charset: &Charset) -> bool {
        !self.is_special() && matches!(charset, Charset::Single(_))
    }

    /// Reads a value as it stands. False where it needs the careful way.
    // Left to itself the compiler makes this a call for half of the types, which
    // callgrind showed as a tenth more instructions.
    #[inline(always)]
    fn quick<K: ValueParser, const LEFT: bool, const RIGHT: bool>(
        &self,
        kind: &K,
        value: &[u8],
        place: Place<'_>,
        cell: &mut Cell,
    ) -> bool {
        let (value, before) = trimmed::<LEFT, RIGHT>(value);
        if self.nulls.has(value) {
            *cell = Cell::Null;
            return !self.required && self.default.is_none();
        }
        let place = Place {
            at: place.at + before,
            ..place
        };
        kind.read(value, place, cell).is_ok()
    }

    /// Reads any field at all.
    #[inline(never)]
    fn careful<K: ValueParser>(
        &self,
        kind: &K,
        fields: &Fields<'_>,
        span: Span,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        if span == Span::NO_KEY {
            return Err(Code::NoSuchKey);
        }
        if span.is_missing() {
            return self.null(store, cell, note);
        }
        let range = span.range();
        if let Some(bare) = &self.bare
            && span.is_quoted()
            && !range.is_empty()
        {
            let plain = Span::plain(range.start, range.end);
            return with_kind!(&bare.kind, kind => {
                bare.careful(kind, fields, plain, store, cell, note)
            });
        }
        // RFC 4180 is silent on it; two quotes with nothing between them are
        // the only way in which such a file can say "text, and empty".
        let says_empty = range.is_empty() && span.is_quoted();
        if says_empty && self.quoted_empty == QuotedEmpty::Null {
            return self.null(store, cell, note);
        }
        if says_empty && self.ty.is_text() {
            return self.empty_text(kind, range.start, store, cell, note);
        }
        if let Some(form) = self.form.as_ref().filter(|form| form.is_bytes()) {
            let plain = form.plain(&fields.bytes[range]);
            return match plain {
                Ok(plain) => self.typed(kind, &plain, None, store, cell, note),
                Err(code) => self.unreadable(code, store, cell, note),
            };
        }
        match self.text_of(fields, span) {
            Ok(found) => {
                if found.replaced {
                    note(RepairKind::BytesReplaced);
                }
                let at = matches!(found.text, Cow::Borrowed(_)).then_some(found.at);
                self.text(kind, &found.text, at, store, cell, note)
            }
            Err(BadBytes) if self.undecodable == WhenUndecodable::Null => {
                self.nulled(Code::BadBytes, RepairKind::BytesNulled, store, cell, note)
            }
            Err(BadBytes) => Err(Code::BadBytes),
        }
    }

    /// Reads text that is there and empty. The words for null do not hold for it, all
    /// else does.
    fn empty_text<K: ValueParser>(
        &self,
        kind: &K,
        at: usize,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        let Some(steps) = &self.steps else {
            *cell = Cell::Text(Piece::in_block(at, 0));
            return Ok(());
        };
        match self.stepped(steps, "", store, cell, note)? {
            Some(text) if text.is_empty() => *cell = Cell::Text(Piece::in_block(at, 0)),
            Some(text) if self.nulls.has(text.as_bytes()) => return self.null(store, cell, note),
            Some(text) => return self.typed(kind, text.as_bytes(), None, store, cell, note),
            None => {}
        }
        Ok(())
    }

    /// A text after its steps; none where they made it null, which is done.
    fn stepped<'t>(
        &self,
        steps: &Steps,
        text: &'t str,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<Option<Cow<'t, str>>, Code> {
        let found = steps.apply(text, note)?;
        if found.is_none() {
            self.nulled(
                Code::NotInLookup,
                RepairKind::NotListedNulled,
                store,
                cell,
                note,
            )?;
        }
        Ok(found)
    }

    /// A field's text: decoded, and without escapes.
    fn text_of<'b>(&self, fields: &Fields<'b>, span: Span) -> Result<Found<'b>, BadBytes> {
        let range = span.range();
        let mut found = Found {
            text: Cow::Borrowed(&fields.bytes[range.clone()]),
            at: range.start,
            replaced: false,
        };
        if !fields.clean {
            (found.text, found.replaced) = self.decoded(fields, range)?;
        }
        if span.is_escaped() {
            let mut plain = Vec::with_capacity(found.text.len());
            unescape(fields.format, span, &found.text, &mut plain);
            found.text = Cow::Owned(plain);
        }
        Ok(found)
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

    /// Reads text that is no field, such as a computed value. `text` is UTF-8.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn read_text(
        &self,
        text: &[u8],
        store: &mut Vec<u8>,
        cell: &mut Cell,
        mut note: impl FnMut(RepairKind),
    ) -> Result<(), Code> {
        with_kind!(&self.kind, kind => self.text(kind, text, None, store, cell, &mut note))?;
        self.limit(&[], store, cell, note)
    }

    /// Null where a value was expected, such as a computed one.
    ///
    /// # Errors
    /// The column is required.
    pub fn read_null(
        &self,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        mut note: impl FnMut(RepairKind),
    ) -> Result<(), Code> {
        self.null(store, cell, &mut note)
    }

    /// Reads a value's whole text. `at` is its place in the block, if it is there
    /// as it stands.
    fn text<K: ValueParser>(
        &self,
        kind: &K,
        text: &[u8],
        at: Option<usize>,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        let (value, before) = match self.trim {
            Trim::None => (text, 0),
            Trim::Left => trimmed::<true, false>(text),
            Trim::Right => trimmed::<false, true>(text),
            Trim::Both => trimmed::<true, true>(text),
        };
        if self.nulls.has(value) {
            return self.null(store, cell, note);
        }
        let at = at.map(|at| at + before);
        let Some(steps) = &self.steps else {
            return self.formed(kind, value, at, store, cell, note);
        };
        let value = std::str::from_utf8(value).map_err(|_| Code::BadBytes)?;
        match self.stepped(steps, value, store, cell, note)? {
            None => Ok(()),
            Some(text) if self.nulls.has(text.as_bytes()) => self.null(store, cell, note),
            Some(Cow::Borrowed(text)) => self.formed(kind, text.as_bytes(), at, store, cell, note),
            Some(Cow::Owned(text)) => self.formed(kind, text.as_bytes(), None, store, cell, note),
        }
    }

    /// Reads a value that may be a number in a form of its own.
    fn formed<K: ValueParser>(
        &self,
        kind: &K,
        value: &[u8],
        at: Option<usize>,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        match &self.form {
            None => self.typed(kind, value, at, store, cell, note),
            Some(form) => match form.plain(value) {
                Ok(plain) => self.typed(kind, &plain, None, store, cell, note),
                Err(code) => self.unreadable(code, store, cell, note),
            },
        }
    }

    /// Reads a value as its type; its policy applies to what cannot be read.
    fn typed<K: ValueParser>(
        &self,
        kind: &K,
        value: &[u8],
        at: Option<usize>,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        let (at, stored) = match at {
            Some(at) => (at, false),
            None => {
                store.extend_from_slice(value);
                (store.len() - value.len(), true)
            }
        };
        let place = Place {
            at,
            stored,
            store: &mut *store,
        };
        match kind.read(value, place, cell) {
            Ok(()) => Ok(()),
            Err(code) => {
                let nearest = |store: &mut Vec<u8>, cell: &mut Cell| {
                    kind.nearest(value, code, Place { at, stored, store }, cell)
                };
                self.mend(code, nearest, store, cell, note)
            }
        }
    }

    /// What is wrong with a typed value by its limits, if anything.
    pub fn beyond_limits(&self, value: Valued<'_>) -> Option<Code> {
        match self.limits.as_ref()?.verdict(value) {
            Verdict::Fine => None,
            Verdict::NotAllowed => Some(Code::NotAllowed),
            Verdict::Below | Verdict::Above => Some(Code::OutOfRange),
        }
    }

    /// Checks a typed value against its limits; its policy applies to what is outside.
    fn limit(
        &self,
        block: &[u8],
        store: &mut Vec<u8>,
        cell: &mut Cell,
        mut note: impl FnMut(RepairKind),
    ) -> Result<(), Code> {
        let Some(limits) = &self.limits else {
            return Ok(());
        };
        let value = Valued {
            cell: *cell,
            block,
            store,
        };
        let bound = match limits.verdict(value) {
            Verdict::Fine => return Ok(()),
            Verdict::NotAllowed => return self.refused(Code::NotAllowed, cell, store, &mut note),
            Verdict::Below => &limits.min,
            Verdict::Above => &limits.max,
        };
        let clamp = |store: &mut Vec<u8>, cell: &mut Cell| match bound {
            Some((bound, _)) => {
                *cell = bound.put(store);
                Ok(())
            }
            None => Err(Code::OutOfRange),
        };
        self.mend(Code::OutOfRange, clamp, store, cell, &mut note)
    }
}
