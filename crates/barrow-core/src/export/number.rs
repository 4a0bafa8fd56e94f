//! Numbers as a column's form writes them: the way back of [`crate::values::NumberForm`].

use crate::reason::Code;
use crate::values::NumberForm;
use crate::words::{Form, Sign};

/// What fills a number up to its width.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Width {
    /// The width in characters, or in bytes for a packed or binary number.
    pub wide: usize,
    /// Whether digits are put before it, and not blanks.
    pub zeros: bool,
}

/// Writes a number given in plain text, such as `-123.45`, in a form. Bytes for a packed
/// or binary number, UTF-8 otherwise.
///
/// # Errors
/// It has digits after the mark that the form has no room for, or is too wide.
pub fn write(
    form: &NumberForm,
    plain: &str,
    width: Option<Width>,
    out: &mut Vec<u8>,
) -> Result<(), Code> {
    let (negative, digits) = match plain.strip_prefix('-') {
        Some(digits) => (true, digits),
        None => (false, plain),
    };
    let exponent = digits.find(['e', 'E']);
    if exponent.is_some() && (form.implied > 0 || form.form != Form::Text) {
        return Err(Code::TooPrecise);
    }
    let (digits, exponent) = digits.split_at(exponent.unwrap_or(digits.len()));
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    if form.form == Form::Text && form.implied == 0 && form.sign != Sign::Overpunched {
        let text = marked(form, whole, fraction, exponent);
        return signed(form, negative, &text, width, out);
    }
    let all = without_mark(form, whole, fraction)?;
    match form.form {
        Form::Packed => packed(negative, &all, width, out),
        Form::Binary => binary(negative, &all, width, out),
        Form::Hexadecimal => {
            let number: u128 = all.parse().map_err(|_| Code::OutOfRange)?;
            signed(form, negative, &format!("{number:X}"), width, out)
        }
        _ => signed(form, negative, &all, width, out),
    }
}

/// Whether text is a number in plain text: `-123.45`, `1e30`.
pub fn is_plain(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let known = |b: u8| b.is_ascii_digit() || b".eE+-".contains(&b);
    digits.starts_with(|c: char| c.is_ascii_digit()) && digits.bytes().all(known)
}

/// All digits, of which as many as the form implies stand after the mark.
fn without_mark(form: &NumberForm, whole: &str, fraction: &str) -> Result<String, Code> {
    let fraction = fraction.trim_end_matches('0');
    if fraction.len() > form.implied {
        return Err(Code::TooPrecise);
    }
    if !whole
        .bytes()
        .chain(fraction.bytes())
        .all(|b| b.is_ascii_digit())
    {
        return Err(Code::NotANumber);
    }
    let all = format!("{whole}{fraction:0<width$}", width = form.implied);
    let trimmed = all.trim_start_matches('0');
    Ok(if trimmed.is_empty() {
        "0".into()
    } else {
        trimmed.into()
    })
}

fn marked(form: &NumberForm, whole: &str, fraction: &str, exponent: &str) -> String {
    let mark = match form.decimal_mark.as_str() {
        "" => ".",
        own => own,
    };
    let mut text = String::with_capacity(whole.len() + fraction.len() + 8);
    for (at, digit) in whole.chars().enumerate() {
        if at > 0 && (whole.len() - at).is_multiple_of(3) {
            text.push_str(&form.group_mark);
        }
        text.push(digit);
    }
    if !fraction.is_empty() {
        text.push_str(mark);
        text.push_str(fraction);
    }
    text.push_str(exponent);
    text
}

/// Puts the sign in its place, and zeros before the digits where they fill it up.
fn signed(
    form: &NumberForm,
    negative: bool,
    digits: &str,
    width: Option<Width>,
    out: &mut Vec<u8>,
) -> Result<(), Code> {
    let (before, after) = match (form.sign, negative) {
        (Sign::Overpunched, _) | (_, false) => ("", ""),
        (Sign::Leading | Sign::Any, true) => ("-", ""),
        (Sign::Trailing, true) => ("", "-"),
        (Sign::Parentheses, true) => ("(", ")"),
    };
    out.extend_from_slice(before.as_bytes());
    if let Some(Width { wide, zeros: true }) = width {
        // A positive number leaves the sign's place after it free.
        let taken = digits.chars().count() + before.len() + after.len();
        out.resize(out.len() + wide.saturating_sub(taken), b'0');
    }
    out.extend_from_slice(digits.as_bytes());
    if form.sign == Sign::Overpunched {
        let last = out.pop().ok_or(Code::NotANumber)?;
        out.push(punched(last, negative));
    }
    out.extend_from_slice(after.as_bytes());
    Ok(())
}

/// The last digit of a zoned decimal with its sign; a digit of a positive number stays.
fn punched(digit: u8, negative: bool) -> u8 {
    match (negative, digit) {
        (false, digit) => punched_plus(digit),
        (true, b'0') => b'}',
        (true, digit) => digit - b'1' + b'J',
    }
}

fn punched_plus(digit: u8) -> u8 {
    match digit {
        b'0' => b'{',
        digit => digit - b'1' + b'A',
    }
}

fn packed(
    negative: bool,
    digits: &str,
    width: Option<Width>,
    out: &mut Vec<u8>,
) -> Result<(), Code> {
    let mut halves: Vec<u8> = digits.bytes().map(|b| b - b'0').collect();
    halves.push(if negative { 0xD } else { 0xC });
    let wide = width.map_or(halves.len().div_ceil(2), |width| width.wide);
    let missing = (wide * 2).checked_sub(halves.len()).ok_or(Code::TooLong)?;
    halves.splice(0..0, std::iter::repeat_n(0, missing));
    out.extend(halves.chunks_exact(2).map(|pair| pair[0] << 4 | pair[1]));
    Ok(())
}

fn binary(
    negative: bool,
    digits: &str,
    width: Option<Width>,
    out: &mut Vec<u8>,
) -> Result<(), Code> {
    let number: i128 = digits.parse().map_err(|_| Code::OutOfRange)?;
    let number = if negative { -number } else { number };
    let wide = width.map_or(8, |width| width.wide).min(16);
    let bytes = number.to_be_bytes();
    let (cut, kept) = bytes.split_at(16 - wide);
    let fill = if negative { 0xFF } else { 0 };
    let sign = kept.first().is_some_and(|b| b & 0x80 != 0);
    if cut.iter().any(|b| *b != fill) || sign != negative {
        return Err(Code::TooLong);
    }
    out.extend_from_slice(kept);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(form: Form, sign: Sign, implied: usize, wide: usize, plain: &str) -> Vec<u8> {
        let form = NumberForm {
            form,
            sign,
            implied,
            ..NumberForm::default()
        };
        let width = (wide > 0).then_some(Width { wide, zeros: true });
        let mut out = Vec::new();
        write(&form, plain, width, &mut out).unwrap();
        out
    }

    #[test]
    fn forms_one_by_one() {
        use Form::{Binary, Hexadecimal, Packed, Text};
        use Sign::{Leading, Overpunched, Parentheses, Trailing};
        type Case<'c> = (Form, Sign, usize, usize, &'c str, &'c [u8]);
        let cases: [Case<'_>; 12] = [
            (Text, Leading, 2, 8, "123.45", b"00012345"),
            (Text, Leading, 2, 8, "-0.05", b"-0000005"),
            (Text, Trailing, 2, 0, "-123.4", b"12340-"),
            (Text, Parentheses, 0, 0, "-12.50", b"(12.50)"),
            (Text, Overpunched, 2, 6, "123.45", b"01234E"),
            (Text, Overpunched, 2, 6, "-123.45", b"01234N"),
            (Text, Overpunched, 0, 0, "-120", b"12}"),
            (Packed, Leading, 2, 4, "-123.45", b"\x00\x12\x34\x5D"),
            (Packed, Leading, 0, 1, "0", b"\x0C"),
            (Binary, Leading, 1, 4, "-1.0", b"\xFF\xFF\xFF\xF6"),
            (Binary, Leading, 0, 2, "32767", b"\x7F\xFF"),
            (Hexadecimal, Leading, 0, 0, "-255", b"-FF"),
        ];
        for (form, sign, implied, wide, plain, wanted) in cases {
            assert_eq!(written(form, sign, implied, wide, plain), wanted, "{plain}");
        }
    }

    #[test]
    fn what_has_no_room_is_told() {
        let form = |form, implied| NumberForm {
            form,
            implied,
            ..NumberForm::default()
        };
        let mut out = Vec::new();
        let width = |wide| Some(Width { wide, zeros: true });
        assert_eq!(
            write(&form(Form::Text, 1), "1.25", None, &mut out),
            Err(Code::TooPrecise)
        );
        assert_eq!(
            write(&form(Form::Packed, 0), "1234", width(2), &mut out),
            Err(Code::TooLong)
        );
        for number in ["128", "-129"] {
            assert_eq!(
                write(&form(Form::Binary, 0), number, width(1), &mut out),
                Err(Code::TooLong)
            );
        }
    }

    #[test]
    fn marks_and_groups() {
        let form = NumberForm {
            decimal_mark: ",".into(),
            group_mark: ".".into(),
            ..NumberForm::default()
        };
        let mut out = Vec::new();
        write(&form, "-1204550.5", None, &mut out).unwrap();
        assert_eq!(out, b"-1.204.550,5");
    }
}
