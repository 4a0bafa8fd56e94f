//! Text, with or without a longest length.

use super::cell::{Cell, Piece};
use super::kind::{Kind, Place};
use crate::rejects::Code;

/// Reads text. A value that needs no change stays where it is in the block.
#[derive(Debug)]
pub struct Text {
    most: usize,
}

impl Text {
    /// Text of at most so many characters.
    pub fn new(most: Option<u32>) -> Text {
        Text {
            most: most.map_or(usize::MAX, |n| n as usize),
        }
    }
}

impl Kind for Text {
    #[inline]
    fn read(&self, value: &[u8], place: Place<'_>) -> Result<Cell, Code> {
        // A character is at least a byte, so only a longer value needs counting.
        if value.len() > self.most && characters(value) > self.most {
            return Err(Code::TooLong);
        }
        Ok(Cell::Text(if place.stored {
            Piece::in_store(place.at, value.len())
        } else {
            Piece::in_block(place.at, value.len())
        }))
    }
}

/// How many characters valid UTF-8 holds: every byte but the continuing ones.
pub fn characters(value: &[u8]) -> usize {
    value.iter().filter(|b| (**b as i8) >= -0x40).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn length_is_counted_in_characters() {
        let four = Text::new(Some(4));
        let read = |value: &str| four.read(value.as_bytes(), Place::test(&mut Vec::new()));
        assert!(read("Café").is_ok());
        assert!(read("🥕🥕🥕🥕").is_ok());
        assert_eq!(read("Cafés"), Err(Code::TooLong));
        assert_eq!(characters("a🥕é".as_bytes()), 3);
    }
}
