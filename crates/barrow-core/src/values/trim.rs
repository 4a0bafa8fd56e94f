//! Removes the blanks at a value's ends.

/// The value without the blanks around it, and how many bytes went before it.
/// Blanks are the characters that Unicode calls white space.
#[inline]
pub fn trimmed<const LEFT: bool, const RIGHT: bool>(value: &[u8]) -> (&[u8], usize) {
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
