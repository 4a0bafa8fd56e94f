//! Truth values by their words.

use super::cell::Cell;
use crate::reason::Code;
use crate::values::value_parser::{Place, ValueParser};

/// Words taken for true where the spec names none; case does not count.
pub const TRUE_WORDS: &[&str] = &["true", "t", "yes", "y", "1"];
/// Words taken for false where the spec names none; case does not count.
pub const FALSE_WORDS: &[&str] = &["false", "f", "no", "n", "0"];

/// Reads truth values.
#[derive(Debug)]
pub struct Boolean {
    words: Vec<(Vec<u8>, bool)>,
    fold_case: bool,
}

impl Boolean {
    /// By these words, exactly; by the usual ones where none are given.
    ///
    /// # Errors
    /// A word that would mean both.
    pub fn new(
        true_words: Option<&[String]>,
        false_words: Option<&[String]>,
    ) -> Result<Boolean, String> {
        let fold_case = true_words.is_none() && false_words.is_none();
        let owned = |words: &[&str]| words.iter().map(|w| (*w).to_string()).collect::<Vec<_>>();
        let given = |words: Option<&[String]>, usual: &[&str]| match words {
            Some(words) => words.to_vec(),
            None if fold_case => owned(usual),
            None => Vec::new(),
        };
        let yes = given(true_words, TRUE_WORDS);
        let no = given(false_words, FALSE_WORDS);
        if let Some(both) = yes.iter().find(|word| no.contains(word)) {
            return Err(format!("\"{both}\" would mean both true and false"));
        }
        let words = yes
            .into_iter()
            .map(|w| (w.into_bytes(), true))
            .chain(no.into_iter().map(|w| (w.into_bytes(), false)))
            .collect();
        Ok(Boolean { words, fold_case })
    }

    /// The words, as a message names them.
    pub fn expected(&self) -> String {
        let list: Vec<_> = self
            .words
            .iter()
            .map(|(w, _)| String::from_utf8_lossy(w))
            .collect();
        format!("one of {}", list.join(", "))
    }
}

impl ValueParser for Boolean {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        // The usual words as they are mostly written.
        let truth = match value {
            _ if !self.fold_case => self.look_up(value)?,
            b"true" | b"t" | b"yes" | b"y" | b"1" => true,
            b"false" | b"f" | b"no" | b"n" | b"0" => false,
            _ => self.look_up(value)?,
        };
        *cell = Cell::Bool(truth);
        Ok(())
    }
}

impl Boolean {
    fn look_up(&self, value: &[u8]) -> Result<bool, Code> {
        let same =
            |word: &[u8]| word == value || (self.fold_case && word.eq_ignore_ascii_case(value));
        match self.words.iter().find(|(word, _)| same(word)) {
            Some((_, truth)) => Ok(*truth),
            None => Err(Code::NotABoolean),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(kind: &Boolean, value: &str) -> Result<Cell, Code> {
        kind.cell(value.as_bytes(), Place::test(&mut Vec::new()))
    }

    #[test]
    fn given_words_are_exact_and_the_usual_ones_fold_case() {
        let usual = Boolean::new(None, None).unwrap();
        assert_eq!(read(&usual, "True"), Ok(Cell::Bool(true)));
        assert_eq!(read(&usual, "N"), Ok(Cell::Bool(false)));
        assert_eq!(read(&usual, "maybe"), Err(Code::NotABoolean));
        let own = Boolean::new(Some(&["J".into()]), Some(&["N".into()])).unwrap();
        assert_eq!(read(&own, "J"), Ok(Cell::Bool(true)));
        assert_eq!(read(&own, "j"), Err(Code::NotABoolean));
        assert_eq!(read(&own, "true"), Err(Code::NotABoolean));
    }

    #[test]
    fn a_word_cannot_mean_both() {
        assert!(Boolean::new(Some(&["1".into()]), Some(&["1".into()])).is_err());
    }
}
