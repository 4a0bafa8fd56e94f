//! What becomes of values that cannot be used, as the spec says; always noted.

use crate::reason::Code;
use crate::repair::RepairKind;
use crate::types::Type;
use crate::values::cell::Cell;
use crate::values::reader::ColumnReader;
use crate::words::{WhenNotAllowed, WhenOutOfRange, WhenTooLong, WhenTooPrecise, WhenUnreadable};

impl ColumnReader {
    /// Null, or what stands in for it.
    pub(crate) fn null(
        &self,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        match &self.default {
            None if self.required => return Err(Code::Required),
            None => *cell = Cell::Null,
            Some(default) => {
                note(RepairKind::DefaultForNull);
                *cell = default.put(store);
            }
        }
        Ok(())
    }

    /// A value that cannot be used: rejected, made null, or what `nearest` makes of it.
    pub(crate) fn mend(
        &self,
        code: Code,
        nearest: impl FnOnce(&mut Vec<u8>, &mut Cell) -> Result<(), Code>,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        let policies = self.policies;
        match code {
            Code::TooLong => match policies.too_long {
                WhenTooLong::Reject => Err(code),
                WhenTooLong::Null => {
                    self.nulled(code, RepairKind::TooLongNulled, store, cell, note)
                }
                WhenTooLong::Cut => {
                    nearest(store, cell)?;
                    note(self.cut());
                    Ok(())
                }
            },
            Code::OutOfRange => match policies.out_of_range {
                WhenOutOfRange::Reject => Err(code),
                WhenOutOfRange::Null => {
                    self.nulled(code, RepairKind::OutOfRangeNulled, store, cell, note)
                }
                WhenOutOfRange::Clamp => {
                    nearest(store, cell)?;
                    note(RepairKind::Clamped);
                    Ok(())
                }
            },
            Code::TooPrecise => match policies.too_precise {
                WhenTooPrecise::Reject => Err(code),
                WhenTooPrecise::Null => {
                    self.nulled(code, RepairKind::TooPreciseNulled, store, cell, note)
                }
                WhenTooPrecise::Round => {
                    nearest(store, cell)?;
                    note(self.rounded());
                    Ok(())
                }
            },
            code => self.unreadable(code, store, cell, note),
        }
    }

    /// A value that is not written as its type is.
    pub(crate) fn unreadable(
        &self,
        code: Code,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        match (self.policies.unreadable, &self.default) {
            (WhenUnreadable::Null, _) => {
                self.nulled(code, RepairKind::UnreadableNulled, store, cell, note)
            }
            (WhenUnreadable::Default, Some(default)) => {
                note(RepairKind::UnreadableDefaulted);
                *cell = default.put(store);
                Ok(())
            }
            _ => Err(code),
        }
    }

    /// A value that `one_of`, `matches` or the lookup does not allow.
    pub(crate) fn refused(
        &self,
        code: Code,
        cell: &mut Cell,
        store: &mut Vec<u8>,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        match (self.policies.not_allowed, &self.default) {
            (WhenNotAllowed::Null, _) => {
                self.nulled(code, RepairKind::NotAllowedNulled, store, cell, note)
            }
            (WhenNotAllowed::Default, Some(default)) => {
                note(RepairKind::NotAllowedDefaulted);
                *cell = default.put(store);
                Ok(())
            }
            _ => Err(code),
        }
    }

    /// Null in place of a value, or the default that stands for null. A required column
    /// is never made null: its record is rejected for what was wrong in the first place.
    pub(crate) fn nulled(
        &self,
        code: Code,
        what: RepairKind,
        store: &mut Vec<u8>,
        cell: &mut Cell,
        note: &mut dyn FnMut(RepairKind),
    ) -> Result<(), Code> {
        if self.required && self.default.is_none() {
            return Err(code);
        }
        note(what);
        self.null(store, cell, note)
    }

    fn cut(&self) -> RepairKind {
        match self.ty {
            Type::Char(n) | Type::VarChar(n) if self.length_in_bytes => RepairKind::CutBytes(n),
            Type::Char(n) | Type::VarChar(n) => RepairKind::Cut(n),
            _ => RepairKind::Cut(0),
        }
    }

    fn rounded(&self) -> RepairKind {
        match self.ty {
            Type::Decimal { scale, .. } => RepairKind::Rounded(scale),
            _ => RepairKind::Rounded(0),
        }
    }
}
