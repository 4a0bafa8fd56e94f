//! Types with room.

use crate::draft::remark::Remark;
use crate::types::Type;

pub(super) fn decimal_of(precision: u32, scale: u32) -> Type {
    Type::Decimal {
        precision: precision.max(1) as u8,
        scale: scale as u8,
    }
}

/// A length with room: three times the longest and more, rounded up.
pub(super) fn room(longest: usize) -> u32 {
    const LENGTHS: [u32; 6] = [40, 100, 200, 500, 1_000, 2_000];
    let wanted = longest as u32 * 3 + 10;
    LENGTHS
        .into_iter()
        .find(|length| wanted <= *length)
        .unwrap_or(4_000)
}

/// Whether a pattern is read without being named.
pub(super) fn is_usual(ty: Type, pattern: &str) -> bool {
    match ty {
        Type::Date => pattern == "%Y-%m-%d",
        Type::Time => pattern == "%H:%M:%S%.f" || pattern == "%H:%M",
        _ => pattern.starts_with("%Y-%m-%d") && pattern.contains("%H:%M:%S%.f"),
    }
}

pub(super) fn two_digits(pattern: &str, remarks: &mut Vec<Remark>) {
    if pattern.contains("%y") {
        remarks.push(Remark::new(
            "years have two digits: those from 69 are taken for 19.., the others for 20..",
            "two_digit_years_from = 1950",
        ));
    }
}
