//! Text in quotes of JSON (RFC 8259, section 7).

/// Writes the text of a string, without its quotes, to `out`. Its escapes are known to be
/// right.
pub fn unescape(mut text: &[u8], out: &mut Vec<u8>) {
    while let Some(at) = memchr::memchr(b'\\', text) {
        out.extend_from_slice(&text[..at]);
        let escape = text.get(at + 1).copied().unwrap_or(b'\\');
        text = text.get(at + 2..).unwrap_or_default();
        let plain = match escape {
            b'n' => b'\n',
            b't' => b'\t',
            b'r' => b'\r',
            b'b' => 0x08,
            b'f' => 0x0C,
            b'u' => {
                let (character, rest) = numbered(text);
                let mut buffer = [0; 4];
                out.extend_from_slice(character.encode_utf8(&mut buffer).as_bytes());
                text = rest;
                continue;
            }
            other => other,
        };
        out.push(plain);
    }
    out.extend_from_slice(text);
}

/// The character that `\u` stands for, with the second half of a pair, and what follows.
fn numbered(text: &[u8]) -> (char, &[u8]) {
    let first = unit(text).unwrap_or(0xFFFD);
    let rest = text.get(4..).unwrap_or_default();
    let second = rest.strip_prefix(b"\\u").and_then(unit);
    match (first, second) {
        (0xD800..=0xDBFF, Some(second @ 0xDC00..=0xDFFF)) => {
            let code = 0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00);
            (char::from_u32(code).unwrap_or('\u{FFFD}'), &rest[6..])
        }
        _ => (char::from_u32(first).unwrap_or('\u{FFFD}'), rest),
    }
}

fn unit(text: &[u8]) -> Option<u32> {
    let digits = std::str::from_utf8(text.get(..4)?).ok()?;
    u32::from_str_radix(digits, 16).ok()
}

/// Where a record has half of a surrogate pair without the other, 0-based.
pub fn lone_surrogate(record: &[u8]) -> Option<usize> {
    let mut at = 0;
    while let Some(found) = memchr::memchr(b'\\', &record[at..]) {
        let escape = at + found;
        at = (escape + 2).min(record.len());
        if record.get(escape + 1) != Some(&b'u') {
            continue;
        }
        match unit(&record[at..]) {
            Some(0xD800..=0xDBFF) => {
                let rest = record.get(at + 4..).unwrap_or_default();
                match rest.strip_prefix(b"\\u").and_then(unit) {
                    Some(0xDC00..=0xDFFF) => at += 10,
                    _ => return Some(escape),
                }
            }
            Some(0xDC00..=0xDFFF) => return Some(escape),
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn text_comes_back_from_its_escapes(text: String) {
            let quoted = serde_json::to_string(&text).unwrap();
            let ascii: String = text
                .encode_utf16()
                .map(|unit| format!("\\u{unit:04x}"))
                .collect();
            for escaped in [&quoted[1..quoted.len() - 1], &ascii] {
                prop_assert_eq!(lone_surrogate(escaped.as_bytes()), None);
                let mut out = Vec::new();
                unescape(escaped.as_bytes(), &mut out);
                prop_assert_eq!(&out, text.as_bytes());
            }
        }
    }

    #[test]
    fn half_a_pair_is_found() {
        for (text, expected) in [
            (r"a\ud83dx", Some(1)),
            (r"\ud83d\ud83d", Some(0)),
            (r"\udc00", Some(0)),
            (r"\ud83d\ude00", None),
            (r"\\ud83d", None),
            (r"\u00e9", None),
        ] {
            assert_eq!(lone_surrogate(text.as_bytes()), expected, "{text}");
        }
    }
}
