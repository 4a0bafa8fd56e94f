//! JSON documents, UUIDs and bytes written as text.

use base64::Engine;
use base64::alphabet;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};

use super::cell::{Cell, Piece};
use crate::reason::Code;
use crate::values::value_parser::{Place, ValueParser};

/// Reads JSON (RFC 8259): a whole document, kept letter by letter as it came.
/// One that is nested deeper than 128 levels is not taken.
#[derive(Debug)]
pub struct Json;

impl ValueParser for Json {
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        serde_json::from_slice::<serde::de::IgnoredAny>(value).map_err(|_| Code::NotJson)?;
        *cell = Cell::Text(if place.stored {
            Piece::in_store(place.at, value.len())
        } else {
            Piece::in_block(place.at, value.len())
        });
        Ok(())
    }
}

/// Reads UUIDs (RFC 9562): with hyphens or without, in braces, or as a URN.
#[derive(Debug)]
pub struct Uuid;

impl ValueParser for Uuid {
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let uuid = uuid::Uuid::try_parse_ascii(value).map_err(|_| Code::NotAUuid)?;
        *cell = stored(uuid.as_bytes(), place);
        Ok(())
    }
}

/// The standard alphabet of RFC 4648, section 4, with its padding or without.
const BASE64: GeneralPurpose = GeneralPurpose::new(
    &alphabet::STANDARD,
    GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent),
);

/// Reads bytes: in hexadecimal, which may start with `0x` or `\x`, or in base64.
#[derive(Debug)]
pub struct Bytes {
    /// In base64, and not in hexadecimal.
    pub base64: bool,
}

impl ValueParser for Bytes {
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let bytes = if self.base64 {
            BASE64.decode(value).map_err(|_| Code::NotBytes)?
        } else {
            hexadecimal(value).ok_or(Code::NotBytes)?
        };
        *cell = stored(&bytes, place);
        Ok(())
    }
}

fn hexadecimal(value: &[u8]) -> Option<Vec<u8>> {
    let digits = match value {
        [b'0', b'x' | b'X', digits @ ..] | [b'\\', b'x', digits @ ..] => digits,
        digits => digits,
    };
    let half = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
    let pairs = digits.chunks(2).map(|pair| match pair {
        [high, low] => Some(half(*high)? << 4 | half(*low)?),
        _ => None,
    });
    pairs.collect()
}

fn stored(bytes: &[u8], place: Place<'_>) -> Cell {
    let at = place.store.len();
    place.store.extend_from_slice(bytes);
    Cell::Bytes(Piece::in_store(at, bytes.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes(kind: &impl ValueParser, value: &str) -> Result<Vec<u8>, Code> {
        let mut store = Vec::new();
        match kind.cell(value.as_bytes(), Place::test(&mut store))? {
            Cell::Bytes(piece) => Ok(piece.of(&[], &store).to_vec()),
            Cell::Text(piece) => Ok(piece.of(value.as_bytes(), &store).to_vec()),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn json_is_kept_as_it_came_or_refused() {
        for good in ["{\"id\": 7,  \"a\":[1e400, null]}", "5", "\"x\"", " [] "] {
            assert_eq!(bytes(&Json, good), Ok(good.as_bytes().to_vec()));
        }
        for bad in ["{'id': 7}", "{\"a\":1,}", "", "nul", "[1] 2", "\"\u{1}\""] {
            assert_eq!(bytes(&Json, bad), Err(Code::NotJson), "{bad}");
        }
        assert_eq!(bytes(&Json, &"[".repeat(100_000)), Err(Code::NotJson));
    }

    #[test]
    fn a_uuid_has_four_usual_forms() {
        let wanted = (0u8..16).map(|n| n * 17).collect::<Vec<_>>();
        for form in [
            "00112233-4455-6677-8899-aabbccddeeff",
            "00112233445566778899AABBCCDDEEFF",
            "{00112233-4455-6677-8899-aabbccddeeff}",
            "urn:uuid:00112233-4455-6677-8899-aabbccddeeff",
        ] {
            assert_eq!(bytes(&Uuid, form), Ok(wanted.clone()), "{form}");
        }
        for bad in ["", "0011", "00112233-4455-6677-8899-aabbccddeefg"] {
            assert_eq!(bytes(&Uuid, bad), Err(Code::NotAUuid));
        }
    }

    #[test]
    fn bytes_are_written_in_two_ways() {
        let hex = Bytes { base64: false };
        for form in ["00ff7E", "0x00ff7e", "\\x00FF7E"] {
            assert_eq!(bytes(&hex, form), Ok(vec![0, 255, 126]), "{form}");
        }
        assert_eq!(bytes(&hex, "0x"), Ok(vec![]));
        for bad in ["0", "0g", "00 ff"] {
            assert_eq!(bytes(&hex, bad), Err(Code::NotBytes), "{bad}");
        }
        let base64 = Bytes { base64: true };
        // RFC 4648, section 10.
        assert_eq!(bytes(&base64, "Zm9vYg=="), Ok(b"foob".to_vec()));
        assert_eq!(bytes(&base64, "Zm9vYg"), Ok(b"foob".to_vec()));
        assert_eq!(bytes(&base64, "Zm9v!"), Err(Code::NotBytes));
    }
}
