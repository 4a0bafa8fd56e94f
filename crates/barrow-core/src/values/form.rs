//! Numbers that are not written as plain text: signs in other places, decimals
//! without a mark, packed decimals and binary integers.
//!
//! Each becomes plain text first, `-123.45`, and is then read like any other.

use crate::rejects::Code;
use crate::spec::plan::{Form, Sign};

/// How a column's numbers are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NumberForm {
    form: Form,
    sign: Sign,
    implied: usize,
}

impl NumberForm {
    /// Numbers in `form`, with `implied` digits after a mark that is not written.
    pub fn new(form: Form, sign: Sign, implied: usize) -> NumberForm {
        NumberForm {
            form,
            sign,
            implied,
        }
    }

    /// Whether the field's bytes are a number and not text.
    pub fn is_bytes(self) -> bool {
        self.form != Form::Text
    }

    /// A number's plain text.
    ///
    /// # Errors
    /// It is not written so.
    pub fn plain(self, field: &[u8]) -> Result<Vec<u8>, Code> {
        let (negative, digits) = match self.form {
            Form::Text => self.signed(field)?,
            Form::Packed => packed(field)?,
            Form::Binary => binary(field)?,
        };
        // A mark that is written leaves no room for one that is not.
        let all = digits.iter().all(u8::is_ascii_digit);
        if digits.is_empty() || (!all && (self.implied > 0 || self.sign == Sign::Overpunched)) {
            return Err(Code::NotANumber);
        }
        let mut plain = Vec::with_capacity(digits.len() + 3);
        if negative {
            plain.push(b'-');
        }
        let missing = (self.implied + 1).saturating_sub(digits.len());
        plain.extend(std::iter::repeat_n(
            b'0',
            if self.implied > 0 { missing } else { 0 },
        ));
        plain.extend_from_slice(&digits);
        if self.implied > 0 {
            plain.insert(plain.len() - self.implied, b'.');
        }
        Ok(plain)
    }

    fn signed(self, field: &[u8]) -> Result<(bool, Vec<u8>), Code> {
        let leading = || match field {
            [b'-', rest @ ..] => (true, rest),
            [b'+', rest @ ..] => (false, rest),
            _ => (false, field),
        };
        let trailing = || match field {
            [rest @ .., b'-'] => (true, rest),
            [rest @ .., b'+'] => (false, rest),
            _ => (false, field),
        };
        let (negative, digits) = match self.sign {
            Sign::Leading => leading(),
            Sign::Trailing => trailing(),
            Sign::Overpunched => {
                let (last, before) = field.split_last().ok_or(Code::NotANumber)?;
                let (negative, digit) = overpunched(*last).ok_or(Code::NotANumber)?;
                return Ok((negative, [before, &[digit]].concat()));
            }
        };
        // One sign, in its place.
        if digits.iter().any(|b| matches!(b, b'+' | b'-')) {
            return Err(Code::NotANumber);
        }
        // The sign may stand before blanks that fill the field up.
        let digits = digits.trim_ascii();
        Ok((negative, digits.to_vec()))
    }
}

/// The last digit of a zoned decimal and its sign. A punch in row 12 (`{`, A to
/// I) is plus, in row 11 (`}`, J to R) minus; these are the characters of EBCDIC
/// bytes C0 to C9 and D0 to D9 (IBM, Principles of Operation, "Zoned Format").
fn overpunched(last: u8) -> Option<(bool, u8)> {
    match last {
        b'0'..=b'9' => Some((false, last)),
        b'{' => Some((false, b'0')),
        b'A'..=b'I' => Some((false, last - b'A' + b'1')),
        b'}' => Some((true, b'0')),
        b'J'..=b'R' => Some((true, last - b'J' + b'1')),
        _ => None,
    }
}

/// Two digits a byte; the last half byte is the sign: B and D are minus, A, C, E
/// and F plus (IBM, Principles of Operation, "Decimal-Operand Data Formats").
fn packed(field: &[u8]) -> Result<(bool, Vec<u8>), Code> {
    let mut halves: Vec<u8> = field.iter().flat_map(|b| [b >> 4, b & 15]).collect();
    let sign = halves.pop().ok_or(Code::NotANumber)?;
    if sign < 10 || halves.iter().any(|h| *h > 9) {
        return Err(Code::NotANumber);
    }
    let digits = halves.into_iter().map(|h| b'0' + h).collect();
    Ok((matches!(sign, 0xB | 0xD), digits))
}

/// Two's complement, big end first, of 1 to 16 bytes.
fn binary(field: &[u8]) -> Result<(bool, Vec<u8>), Code> {
    if field.is_empty() || field.len() > 16 {
        return Err(Code::NotANumber);
    }
    let fill = if field[0] & 0x80 == 0 { 0 } else { 0xFF };
    let mut bytes = [fill; 16];
    bytes[16 - field.len()..].copy_from_slice(field);
    let number = i128::from_be_bytes(bytes);
    Ok((number < 0, number.unsigned_abs().to_string().into_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plain(form: Form, sign: Sign, implied: usize, field: &[u8]) -> Option<String> {
        let plain = NumberForm::new(form, sign, implied).plain(field).ok()?;
        Some(String::from_utf8(plain).unwrap())
    }

    #[test]
    fn forms_one_by_one() {
        use Form::{Binary, Packed, Text};
        use Sign::{Leading, Overpunched, Trailing};
        type Case<'c> = (Form, Sign, usize, &'c [u8], Option<&'c str>);
        let cases: [Case<'_>; 20] = [
            (Text, Leading, 2, b"0012345", Some("00123.45")),
            (Text, Leading, 2, b"-5", Some("-0.05")),
            (Text, Leading, 2, b"- 45", Some("-0.45")),
            (Text, Leading, 2, b"1.5", None),
            (Text, Leading, 0, b"1.5", Some("1.5")),
            (Text, Trailing, 2, b"12345-", Some("-123.45")),
            (Text, Trailing, 0, b"12+", Some("12")),
            (Text, Trailing, 0, b"-12", None),
            (Text, Overpunched, 2, b"1234E", Some("123.45")),
            (Text, Overpunched, 2, b"1234N", Some("-123.45")),
            (Text, Overpunched, 0, b"12}", Some("-120")),
            (Text, Overpunched, 0, b"12{", Some("120")),
            (Text, Overpunched, 0, b"12Z", None),
            (Packed, Leading, 2, b"\x12\x34\x5C", Some("123.45")),
            (Packed, Leading, 2, b"\x12\x34\x5D", Some("-123.45")),
            (Packed, Leading, 0, b"\x0F", Some("0")),
            (Packed, Leading, 0, b"\x12\x34\x56", None),
            (Packed, Leading, 0, b"\x1A\x2C", None),
            (Binary, Leading, 0, b"\x7F\xFF", Some("32767")),
            (Binary, Leading, 1, b"\xFF\xFF\xFF\xF6", Some("-1.0")),
        ];
        for (form, sign, implied, field, wanted) in cases {
            assert_eq!(
                plain(form, sign, implied, field).as_deref(),
                wanted,
                "{field:x?}"
            );
        }
    }
}
