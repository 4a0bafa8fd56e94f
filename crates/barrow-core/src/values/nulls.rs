//! The words that mean null.

/// A set of words, matched exactly.
#[derive(Debug)]
pub struct Words {
    words: Vec<Vec<u8>>,
    /// A bit for each length a word has; the last one for all longer ones. Most
    /// values are told apart from every word by it alone.
    lengths: u64,
}

impl Words {
    /// These words.
    pub fn new(words: &[String]) -> Words {
        Words {
            lengths: words
                .iter()
                .fold(0, |bits, word| bits | Words::bit(word.len())),
            words: words.iter().map(|w| w.clone().into_bytes()).collect(),
        }
    }

    /// Whether `value` is one of them.
    #[inline]
    pub fn has(&self, value: &[u8]) -> bool {
        if self.lengths & Words::bit(value.len()) == 0 {
            return false;
        }
        value.is_empty() || self.words.iter().any(|w| w == value)
    }

    fn bit(length: usize) -> u64 {
        1 << length.min(63)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_match_whole_and_exactly() {
        let words = Words::new(&[String::new(), "N/A".into(), "x".repeat(80)]);
        assert!(words.has(b"") && words.has(b"N/A") && words.has(&[b'x'; 80]));
        assert!(!words.has(b"n/a") && !words.has(b"N/") && !words.has(&[b'x'; 81]));
    }
}
