//! Numbers in words that people read.

/// A number with its digits in groups of three: `1,204,331`.
///
/// ```
/// assert_eq!(barrow_run::words::number(1_204_331), "1,204,331");
/// ```
pub fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, digit) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// `1 record`, `2 records`.
pub fn counted(n: u64, word: &str) -> String {
    format!("{} {word}{}", number(n), if n == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_grouped() {
        assert_eq!(number(0), "0");
        assert_eq!(number(999), "999");
        assert_eq!(number(1_204_331), "1,204,331");
        assert_eq!(counted(1, "record"), "1 record");
    }
}
