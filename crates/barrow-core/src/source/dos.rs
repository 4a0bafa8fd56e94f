//! The code pages of DOS, which files of old programs are still in, and how a text in
//! one is told from a text in a later encoding.
//!
//! Nothing in a file says which of them it is. But a wrong one shows in the words: a
//! sign or a control character stands in the middle of one, or a capital after a small
//! letter, or letters of two scripts.

use encoding_rs::Encoding;
use oem_cp::code_table::{DECODING_TABLE_CP437, DECODING_TABLE_CP850, DECODING_TABLE_CP852};

/// A page: its label, two more that are in use, and the characters of 0x80 to 0xFF.
pub type Page = (&'static str, [&'static str; 2], &'static [char; 128]);

/// The pages, the likelier first where two say the same. Page 866 is in the WHATWG
/// standard.
pub static PAGES: [Page; 3] = [
    ("ibm850", ["cp850", "dos-850"], &DECODING_TABLE_CP850),
    ("ibm437", ["cp437", "dos-437"], &DECODING_TABLE_CP437),
    ("ibm852", ["cp852", "dos-852"], &DECODING_TABLE_CP852),
];

/// Words that are kept to compare encodings by, at the most.
const MOST_WORDS: usize = 2_000;

/// A longer one is rather no word.
const LONGEST_WORD: usize = 40;

/// Words of a file that have bytes beyond ASCII.
#[derive(Debug, Default)]
pub struct Words(Vec<Vec<u8>>);

/// Two encodings that a file may be in, each with what it makes of a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rival {
    /// The other encoding's label.
    pub label: &'static str,
    /// A word of the file by the encoding that was taken.
    pub here: String,
    /// The same by the other.
    pub there: String,
}

impl Words {
    /// Takes up the words of a piece of a file.
    pub fn take(&mut self, piece: &[u8]) {
        let is_part = |byte: &u8| byte.is_ascii_alphabetic() || *byte >= 0x80;
        for word in piece.split(|byte| !is_part(byte)) {
            if self.0.len() >= MOST_WORDS {
                return;
            }
            if word.len() > 1 && word.len() <= LONGEST_WORD && !word.is_ascii() {
                self.0.push(word.to_vec());
            }
        }
    }

    /// How many words in a hundred look like words, once decoded.
    fn share(&self, decode: &dyn Fn(&[u8]) -> String) -> usize {
        let good = self.0.iter().filter(|word| is_word(&decode(word)));
        good.count() * 100 / self.0.len().max(1)
    }

    /// The label of the DOS page that explains the words better than `guess` does, and
    /// the encoding that explains them as well, if one does.
    pub fn judge(&self, guess: &'static Encoding) -> (Option<&'static str>, Option<Rival>) {
        if self.0.is_empty() {
            return (None, None);
        }
        let by_guess = |word: &[u8]| guess.decode_without_bom_handling(word).0.into_owned();
        let guessed = self.share(&by_guess);
        let mut best: Option<(usize, &Page)> = None;
        for page in &PAGES {
            let share = self.share(&|word| decode(page, word));
            if best.is_none_or(|(most, _)| share > most) {
                best = Some((share, page));
            }
        }
        let Some((share, page)) = best.filter(|(share, _)| *share >= 80) else {
            return (None, None);
        };
        if share >= guessed + 20 {
            return (Some(page.0), self.twin(page));
        }
        let rival = |word: &Vec<u8>| {
            let (here, there) = (by_guess(word), decode(page, word));
            (is_word(&here) && is_word(&there) && here != there).then_some(Rival {
                label: page.0,
                here,
                there,
            })
        };
        let is_near = share + 10 >= guessed;
        (
            None,
            is_near.then(|| self.0.iter().find_map(rival)).flatten(),
        )
    }

    /// Another page that explains the words as well, but reads one of them otherwise.
    fn twin(&self, page: &Page) -> Option<Rival> {
        let share = self.share(&|word| decode(page, word));
        let others = PAGES.iter().filter(|other| other.0 != page.0);
        let as_good = others.filter(|other| self.share(&|word| decode(other, word)) >= share);
        as_good.into_iter().find_map(|other| {
            let words = self
                .0
                .iter()
                .map(|word| (decode(page, word), decode(other, word)));
            let (here, there) = words.into_iter().find(|(here, there)| here != there)?;
            Some(Rival {
                label: other.0,
                here,
                there,
            })
        })
    }
}

/// A text by a page.
fn decode(page: &Page, text: &[u8]) -> String {
    let character = |byte: &u8| match byte.is_ascii() {
        true => char::from(*byte),
        false => page.2[usize::from(byte - 0x80)],
    };
    text.iter().map(character).collect()
}

/// Whether a text looks like a word: letters of one script, and no capital right after
/// a small letter.
fn is_word(text: &str) -> bool {
    let is_latin = |c: char| c.is_ascii_alphabetic() || ('\u{C0}'..='\u{24F}').contains(&c);
    let mut before = None;
    for c in text.chars() {
        let same_script = before.is_none_or(|b| is_latin(b) == is_latin(c));
        let is_letter = c.is_alphabetic() && !('\u{2000}'..='\u{2FFF}').contains(&c);
        // In ª and º words of Spanish end.
        let rises = before.is_some_and(char::is_lowercase) && c.is_uppercase();
        if !is_letter || !same_script || rises {
            return false;
        }
        before = Some(c);
    }
    before.is_some()
}

#[cfg(test)]
mod tests {
    use super::*;
    use encoding_rs::{WINDOWS_1251, WINDOWS_1252};

    fn words(text: &str, bytes: impl Fn(char) -> u8) -> Words {
        let mut words = Words::default();
        words.take(&text.chars().map(bytes).collect::<Vec<u8>>());
        words
    }

    fn by_page(label: &'static str) -> impl Fn(char) -> u8 {
        let page = PAGES.iter().find(|page| page.0 == label).unwrap();
        move |c| match page.2.iter().position(|known| *known == c) {
            Some(place) => place as u8 + 0x80,
            None => c as u8,
        }
    }

    const GERMAN: &str = "Grüße März Öl Äpfel süß Möhren Zoë Böhm Kräuter";
    const POLISH: &str = "łąka żyto źródło śliwka Łódź gęś mąka ćma";

    #[test]
    fn a_dos_page_is_told_from_the_encoding_of_windows() {
        let dos = words(GERMAN, by_page("ibm850"));
        assert_eq!(dos.judge(WINDOWS_1252).0, Some("ibm850"));
        let windows = words(GERMAN, |c| c as u8);
        assert_eq!(windows.judge(WINDOWS_1252).0, None);
        let polish = words(POLISH, by_page("ibm852"));
        assert_eq!(polish.judge(WINDOWS_1252).0, Some("ibm852"));
    }

    #[test]
    fn another_script_is_left_alone() {
        let mut russian = Words::default();
        russian.take(&WINDOWS_1251.encode("Морковь Картофель капуста").0);
        assert_eq!(russian.judge(WINDOWS_1251), (None, None));
    }

    #[test]
    fn where_two_pages_read_a_word_otherwise_both_are_named() {
        // A small ó is 0xA2 in all three; 0xC6 is ã in one, and a line in another.
        let same = words("Möhren", by_page("ibm437"));
        assert_eq!(same.judge(WINDOWS_1252), (Some("ibm850"), None));
        let mut either = Words::default();
        either.take(b"\x86ker \x86pple");
        let (page, rival) = either.judge(WINDOWS_1252);
        assert_eq!(page, Some("ibm850"));
        let rival = rival.unwrap();
        assert_eq!(
            (rival.label, rival.here.as_str(), rival.there.as_str()),
            ("ibm852", "åker", "ćker")
        );
    }
}
