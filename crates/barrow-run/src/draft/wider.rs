//! A type that takes the values of two.

use barrow_core::draft::Inferred;
use barrow_core::types::Type;

/// What takes the values of the spec's type and those that were found.
pub(super) fn wider(spec: Type, found: &Inferred) -> Inferred {
    let digits = |ty: Type| match ty {
        Type::SmallInt => Some((5, 0)),
        Type::Integer => Some((10, 0)),
        Type::BigInt => Some((19, 0)),
        Type::Decimal { precision, scale } => Some((precision - scale, scale)),
        _ => None,
    };
    let length = |ty: Type| match ty {
        Type::Char(n) | Type::VarChar(n) => Some(n),
        Type::Text => Some(u32::MAX),
        _ => None,
    };
    let whole = |ty: Type| matches!(ty, Type::SmallInt | Type::Integer | Type::BigInt);
    let ty = match (spec, found.ty) {
        (a, b) if whole(a) && whole(b) => match digits(a) >= digits(b) {
            true => a,
            false => b,
        },
        (a, b) => match (digits(a), digits(b), length(a), length(b)) {
            (Some((i, s)), Some((j, t)), ..) if i.max(j) + s.max(t) <= 38 => Type::Decimal {
                precision: i.max(j) + s.max(t),
                scale: s.max(t),
            },
            (.., Some(n), Some(m)) => {
                if n >= m {
                    a
                } else {
                    b
                }
            }
            _ => b,
        },
    };
    Inferred {
        ty: match ty {
            Type::VarChar(length) if ty != spec => Type::VarChar(rounded(length)),
            ty => ty,
        },
        ..found.clone()
    }
}

/// A length of text that leaves some room.
fn rounded(length: u32) -> u32 {
    const LENGTHS: [u32; 9] = [10, 20, 40, 60, 100, 200, 500, 1_000, 4_000];
    let fits = LENGTHS.into_iter().find(|room| length <= *room);
    fits.unwrap_or(length)
}

/// Whether both are numbers, both text, or both the same.
pub(super) fn same_sort(a: Type, b: Type) -> bool {
    (a.is_number() && b.is_number()) || (a.is_text() && b.is_text()) || a == b
}
