//! Numbers with signs, currencies and percents around them.

use super::{MARKS, parted};

/// What stands around numbers and says nothing of their size.
pub(super) const WORN: [&str; 18] = [
    "%", "‰", "US$", "R$", "$", "€", "£", "¥", "₹", "₽", "₩", "₺", "USD", "EUR", "GBP", "CHF",
    "zł", "Kč",
];

/// A number with something around it.
pub(super) struct Dressed<'v> {
    pub(super) digits: &'v [u8],
    pub(super) minus: bool,
    pub(super) in_parentheses: bool,
    pub(super) sign_behind: bool,
    pub(super) worn: [Option<&'static str>; 2],
}

impl Dressed<'_> {
    /// None where what is left is no start of a number, or nothing stands around it.
    pub(super) fn of(value: &[u8]) -> Option<Dressed<'_>> {
        // Nearly every text fails here: a number that wears something has a digit at one
        // end at the most, and what it wears at the other.
        let (first, last) = (*value.first()?, *value.last()?);
        let starts = match first {
            b'0'..=b'9' => !last.is_ascii_digit(),
            b'a'..=b'z' => false,
            b'A'..=b'Z' => b"RUEGCK".contains(&first),
            _ => true,
        };
        let ends = last.is_ascii_digit() || last >= 0x80 || b"%-+)$DRPFB.".contains(&last);
        if !starts || !ends || value.len() > 40 {
            return None;
        }
        let mut text = std::str::from_utf8(value).ok()?;
        let mut dressed = Dressed {
            digits: &[],
            minus: false,
            in_parentheses: false,
            sign_behind: false,
            worn: [None, None],
        };
        if let Some(inner) = text
            .strip_prefix('(')
            .and_then(|rest| rest.strip_suffix(')'))
        {
            dressed.in_parentheses = true;
            dressed.minus = true;
            text = inner.trim();
        }
        let mut signs = 0;
        for _ in 0..2 {
            if let Some(rest) = text.strip_prefix(['-', '+']) {
                dressed.minus |= text.starts_with('-');
                signs += 1;
                text = rest.trim_start();
            }
            if dressed.worn[0].is_none()
                && let Some(worn) = WORN.iter().find(|worn| text.starts_with(**worn))
            {
                dressed.worn[0] = Some(worn);
                text = text[worn.len()..].trim_start();
            }
        }
        for _ in 0..2 {
            if let Some(rest) = text.strip_suffix(['-', '+']) {
                dressed.minus |= text.ends_with('-');
                dressed.sign_behind = true;
                signs += 1;
                text = rest.trim_end();
            }
            if dressed.worn[1].is_none()
                && let Some(worn) = WORN.iter().find(|worn| text.ends_with(**worn))
            {
                dressed.worn[1] = Some(worn);
                text = text[..text.len() - worn.len()].trim_end();
            }
        }
        let wears = dressed.in_parentheses || dressed.sign_behind || dressed.worn != [None, None];
        let is_start = matches!(text.as_bytes().first(), Some(b'0'..=b'9' | b'.' | b','));
        if !wears || !is_start || signs > 1 || (signs > 0 && dressed.in_parentheses) {
            return None;
        }
        dressed.digits = text.as_bytes();
        Some(dressed)
    }
}

/// Whether a value is a number by any of the usual ways to write one.
pub fn looks_like_number(value: &[u8]) -> bool {
    let plain = |digits: &[u8]| {
        let is_float = || {
            let text = std::str::from_utf8(digits).unwrap_or_default();
            digits.len() > 2
                && digits.iter().any(|b| matches!(b, b'e' | b'E'))
                && text.parse::<f64>().is_ok()
        };
        matches!(digits.first(), Some(b'0'..=b'9' | b'.' | b','))
            && (MARKS.iter().any(|(decimal, group)| {
                parted(digits, decimal.as_bytes()[0], group.bytes().next()).is_some()
            }) || is_float())
    };
    let bare = match value {
        [b'-' | b'+', rest @ ..] => rest,
        _ => value,
    };
    let is_one = bare.len() == 1 && bare[0].is_ascii_digit();
    is_one
        || plain(bare)
        || Dressed::of(value)
            .is_some_and(|dressed| plain(dressed.digits) || dressed.digits.len() == 1)
}
