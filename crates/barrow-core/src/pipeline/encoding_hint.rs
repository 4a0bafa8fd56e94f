//! Hints that a file is in another encoding than the spec says.

use crate::source::Charset;
use crate::source::detect::guess;

/// What a block's bytes say against the file's encoding, if anything.
pub fn of(bytes: &[u8], charset: &Charset) -> Option<String> {
    if bytes.is_ascii() {
        return None;
    }
    match charset {
        Charset::Utf8 if std::str::from_utf8(bytes).is_err() => {
            let name = guess(bytes).name();
            (name != "UTF-8").then(|| {
                format!(
                    "it is not all UTF-8; it looks like {name}: [source] encoding = \"{}\"",
                    name.to_ascii_lowercase()
                )
            })
        }
        Charset::Single(_) if charset.reads_as_ascii() && looks_like_utf8(bytes) => Some(format!(
            "it is read as {}, and it is valid UTF-8: is \"é\" read as \"Ã©\"?",
            charset.name()
        )),
        _ => None,
    }
}

/// Whether bytes beyond ASCII are UTF-8, but for what a block's border cuts.
fn looks_like_utf8(bytes: &[u8]) -> bool {
    std::str::from_utf8(bytes).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn another_encoding_is_hinted_at() {
        let latin = Charset::new("windows-1252", false).unwrap();
        assert!(
            of("Zoë Lark".as_bytes(), &latin)
                .unwrap()
                .contains("valid UTF-8")
        );
        assert!(of(b"Zo\xEB Lark", &latin).is_none());
        assert!(of(b"plain", &Charset::Utf8).is_none());
        let hint = of(
            b"Zo\xEB Lark, Caf\xE9 M\xFCller, d\xE9j\xE0 vu",
            &Charset::Utf8,
        )
        .unwrap();
        assert!(hint.contains("windows-1252"), "{hint}");
    }
}
