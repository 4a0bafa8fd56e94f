//! Numbers that are not written as plain text: other marks, groups, signs in other
//! places, signs of a currency around them, decimals without a mark, packed
//! decimals, binary integers, hexadecimal.
//!
//! Each becomes plain text first, `-123.45`, and is then read like any other.

use crate::reason::Code;
use crate::words::{Form, Sign};

/// How a column's numbers are written.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NumberForm {
    /// As text, or in bytes of its own.
    pub form: Form,
    /// Where the sign stands.
    pub sign: Sign,
    /// Digits after a mark that is not written.
    pub implied: usize,
    /// Between the whole and the fraction; a point where it is empty.
    pub decimal_mark: String,
    /// Between groups of digits; empty for none.
    pub group_mark: String,
    /// What may stand around the number and says nothing: `€`, `%`, `kg`.
    pub take_off: Vec<String>,
}

impl NumberForm {
    /// Whether the field's bytes are a number and not text.
    pub fn is_bytes(&self) -> bool {
        matches!(self.form, Form::Packed | Form::Binary)
    }

    /// Whether every number is to be rewritten. Otherwise those that can be read
    /// as they stand are, and only the others are rewritten.
    pub fn always(&self) -> bool {
        self.form != Form::Text
            || self.implied > 0
            || !matches!(self.sign, Sign::Leading | Sign::Any)
            || !self.decimal_mark.is_ascii()
    }

    /// The byte that stands for the decimal mark in plain text.
    pub fn mark(&self) -> u8 {
        match self.decimal_mark.as_bytes() {
            [mark] => *mark,
            _ => b'.',
        }
    }

    /// A number's plain text.
    ///
    /// # Errors
    /// It is not written so.
    pub fn plain(&self, field: &[u8]) -> Result<Vec<u8>, Code> {
        let (negative, digits) = match self.form {
            Form::Text => self.signed(field)?,
            Form::Packed => packed(field)?,
            Form::Binary => binary(field)?,
            Form::Hexadecimal => self.hexadecimal(field)?,
            Form::Base64 => return Err(Code::NotANumber),
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
            plain.insert(plain.len() - self.implied, self.mark());
        }
        Ok(plain)
    }

    fn signed(&self, field: &[u8]) -> Result<(bool, Vec<u8>), Code> {
        let (sign, text) = self.without_signs(field)?;
        if self.sign == Sign::Overpunched {
            let (last, before) = text.split_last().ok_or(Code::NotANumber)?;
            let (negative, digit) = overpunched(*last).ok_or(Code::NotANumber)?;
            return Ok((negative, [before, &[digit]].concat()));
        }
        Ok((sign, self.without_marks(text)?))
    }

    /// Takes the sign, and what else stands around the number, off both ends.
    fn without_signs<'f>(&self, field: &'f [u8]) -> Result<(bool, &'f [u8]), Code> {
        let leads = matches!(self.sign, Sign::Leading | Sign::Any);
        let trails = matches!(self.sign, Sign::Trailing | Sign::Any);
        let encloses = matches!(self.sign, Sign::Parentheses | Sign::Any);
        let mut negative = None;
        let mut text = field.trim_ascii();
        loop {
            let found = match text {
                [b'-', rest @ ..] if leads => Some((true, rest)),
                [b'+', rest @ ..] if leads => Some((false, rest)),
                // After a mark the dash stands for a fraction of zero: 7,- is no -7.
                [rest @ .., b'-'] if trails && !self.ends_with_mark(rest) => Some((true, rest)),
                [rest @ .., b'+'] if trails => Some((false, rest)),
                [b'(', rest @ .., b')'] if encloses => Some((true, rest)),
                _ => None,
            };
            let rest = match found {
                // One sign, in one place.
                Some(_) if negative.is_some() => return Err(Code::NotANumber),
                Some((sign, rest)) => {
                    negative = Some(sign);
                    rest
                }
                None => match self.take_off.iter().find_map(|sign| around(text, sign)) {
                    Some(rest) => rest,
                    None => return Ok((negative.unwrap_or(false), text)),
                },
            };
            // A sign may stand before blanks that fill the field up.
            text = rest.trim_ascii();
        }
    }

    fn ends_with_mark(&self, text: &[u8]) -> bool {
        let mark = match self.decimal_mark.as_str() {
            "" => ".",
            own => own,
        };
        text.trim_ascii_end().ends_with(mark.as_bytes())
    }

    /// Takes the groups' marks out of the whole part, and writes the decimal mark
    /// as one byte. A group has three digits, as in 1.204.550; between the first
    /// and the last there may be groups of two, as in 12,04,550. Anything else
    /// is more likely a mark of another kind, and no number.
    fn without_marks(&self, text: &[u8]) -> Result<Vec<u8>, Code> {
        let mark = match self.decimal_mark.as_str() {
            "" => ".",
            own => own,
        };
        let (whole, fraction) = match memchr::memmem::find(text, mark.as_bytes()) {
            Some(at) => (&text[..at], Some(&text[at + mark.len()..])),
            None => (text, None),
        };
        let (whole, exponent) = match (
            fraction,
            whole.iter().position(|b| matches!(b, b'e' | b'E')),
        ) {
            (None, Some(at)) => whole.split_at(at),
            _ => (whole, &whole[..0]),
        };
        let mut plain = Vec::with_capacity(text.len());
        if self.group_mark.is_empty() {
            plain.extend_from_slice(whole);
        } else {
            for group in groups(whole, self.group_mark.as_bytes())? {
                plain.extend_from_slice(group);
            }
        }
        plain.extend_from_slice(exponent);
        // A point would be read as the mark that it stands in for here.
        let has_point = |part: &[u8]| part.contains(&b'.');
        if !mark.is_ascii() && (has_point(&plain) || fraction.is_some_and(has_point)) {
            return Err(Code::NotANumber);
        }
        if let Some(fraction) = fraction {
            plain.push(self.mark());
            plain.extend_from_slice(fraction);
        }
        // Signs have gone, so one that is left is out of its place.
        match plain.first() {
            Some(b'+' | b'-') => Err(Code::NotANumber),
            _ => Ok(plain),
        }
    }

    fn hexadecimal(&self, field: &[u8]) -> Result<(bool, Vec<u8>), Code> {
        let (negative, text) = self.without_signs(field)?;
        let digits = match text {
            [b'0', b'x' | b'X', digits @ ..] => digits,
            digits => digits,
        };
        let digits = std::str::from_utf8(digits).map_err(|_| Code::NotANumber)?;
        if digits.is_empty() || !digits.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(Code::NotANumber);
        }
        let number = u128::from_str_radix(digits, 16).map_err(|_| Code::OutOfRange)?;
        Ok((negative, number.to_string().into_bytes()))
    }
}

/// The text without `sign` at its start or its end, if it is there.
fn around<'t>(text: &'t [u8], sign: &str) -> Option<&'t [u8]> {
    let sign = sign.as_bytes();
    if sign.is_empty() {
        return None;
    }
    text.strip_prefix(sign).or_else(|| text.strip_suffix(sign))
}

/// The groups of a whole number, where they are of the right sizes.
fn groups<'t>(whole: &'t [u8], mark: &[u8]) -> Result<Vec<&'t [u8]>, Code> {
    let mut groups = Vec::new();
    let mut from = 0;
    for at in memchr::memmem::find_iter(whole, mark) {
        groups.push(&whole[from..at]);
        from = at + mark.len();
    }
    groups.push(&whole[from..]);
    if let [first, between @ .., last] = groups.as_slice()
        && !(matches!(first.len(), 1..=3)
            && last.len() == 3
            && (between.iter().all(|g| g.len() == 3)
                || (first.len() < 3 && between.iter().all(|g| g.len() == 2))))
    {
        return Err(Code::NotANumber);
    }
    Ok(groups)
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
        let form = NumberForm {
            form,
            sign,
            implied,
            ..NumberForm::default()
        };
        Some(String::from_utf8(form.plain(field).ok()?).unwrap())
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

    fn marked(decimal: &str, group: &str, take_off: &[&str], field: &str) -> Option<String> {
        let form = NumberForm {
            sign: Sign::Any,
            decimal_mark: decimal.into(),
            group_mark: group.into(),
            take_off: take_off.iter().map(|t| (*t).to_string()).collect(),
            ..NumberForm::default()
        };
        let plain = form.plain(field.as_bytes()).ok()?;
        // What reads it next refuses what is no digit; the test does so here.
        let digits = plain.strip_prefix(b"-").unwrap_or(&plain);
        let known = |b: &u8| b.is_ascii_digit() || *b == form.mark() || *b == b'E';
        (!digits.is_empty() && digits.iter().all(known))
            .then(|| String::from_utf8(plain.clone()).unwrap())
    }

    #[test]
    fn marks_groups_and_signs_around_a_number() {
        let cases = [
            (",", ".", "1.204,50", Some("1204,50")),
            (",", ".", "-1.204.550", Some("-1204550")),
            (",", ".", "1.20,5", None),
            (",", ".", "1.2044,5", None),
            (",", ".", "1.204,5.0", None),
            (",", "", "1.204,50", None),
            (".", ",", "12,04,550.5", Some("1204550.5")),
            (".", ",", ",204", None),
            (".", "\u{A0}", "1\u{A0}204.5", Some("1204.5")),
            (".", "'", "1'204", Some("1204")),
            ("\u{66B}", "", "12\u{66B}5", Some("12.5")),
            ("\u{66B}", "", "1.500", None),
            ("\u{66B}", ".", "1.500\u{66B}5", Some("1500.5")),
            (".", "", "(12.50)", Some("-12.50")),
            (".", "", "(-12.50)", None),
            (".", "", "12.50-", Some("-12.50")),
            (".", "", "+12", Some("12")),
            (".", "", "+12-", None),
            (".", "", "€ 12", Some("12")),
            (".", "", "-€12", Some("-12")),
            (".", "", "€-12", Some("-12")),
            (".", "", "(€12)", Some("-12")),
            (".", "", "12 %", Some("12")),
            (".", "", "12 kg", None),
            (".", ",", "1,204E5", Some("1204E5")),
            (".", "", "€", None),
            (".", "", "", None),
            (".", "", "1 2", None),
        ];
        for (decimal, group, field, wanted) in cases {
            let found = marked(decimal, group, &["€", "%"], field);
            assert_eq!(found.as_deref(), wanted, "{field}");
        }
    }

    #[test]
    fn parentheses_and_hexadecimal() {
        use Form::{Hexadecimal, Text};
        use Sign::{Leading, Parentheses};
        assert_eq!(
            plain(Text, Parentheses, 2, b"(1250)").as_deref(),
            Some("-12.50")
        );
        assert_eq!(plain(Text, Parentheses, 0, b"-12"), None);
        assert_eq!(
            plain(Hexadecimal, Leading, 0, b"0x1F").as_deref(),
            Some("31")
        );
        assert_eq!(
            plain(Hexadecimal, Leading, 0, b"-ff").as_deref(),
            Some("-255")
        );
        assert_eq!(plain(Hexadecimal, Leading, 0, b"0x"), None);
        assert_eq!(plain(Hexadecimal, Leading, 0, b"1G"), None);
    }
}
