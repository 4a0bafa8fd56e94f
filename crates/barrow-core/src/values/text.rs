//! Text, with or without a longest length.

use super::cell::{Cell, Piece};
use crate::reason::Code;
use crate::utf8::{count_characters, starts_character};
use crate::values::value_parser::{Place, ValueParser};

/// Reads text. A value that needs no change stays where it is in the block.
#[derive(Debug)]
pub struct Text {
    most: usize,
    in_bytes: bool,
}

impl Text {
    /// Text of at most so many characters, or bytes of UTF-8.
    pub fn new(most: Option<u32>, in_bytes: bool) -> Text {
        Text {
            most: most.map_or(usize::MAX, |n| n as usize),
            in_bytes,
        }
    }

    /// How many bytes of the value the column holds.
    fn room(&self, value: &[u8]) -> usize {
        let mut borders =
            (0..=value.len()).filter(|i| value.get(*i).is_none_or(|b| starts_character(*b)));
        let end = match self.in_bytes {
            true => borders.take_while(|end| *end <= self.most).last(),
            false => borders.nth(self.most),
        };
        end.unwrap_or(value.len())
    }
}

fn text(place: &Place<'_>, length: usize) -> Cell {
    Cell::Text(if place.stored {
        Piece::in_store(place.at, length)
    } else {
        Piece::in_block(place.at, length)
    })
}

impl ValueParser for Text {
    #[inline]
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        // A character is at least a byte, so only a longer value needs counting.
        if value.len() > self.most && (self.in_bytes || count_characters(value) > self.most) {
            return Err(Code::TooLong);
        }
        *cell = text(&place, value.len());
        Ok(())
    }

    fn nearest(
        &self,
        value: &[u8],
        code: Code,
        place: Place<'_>,
        cell: &mut Cell,
    ) -> Result<(), Code> {
        if code != Code::TooLong {
            return Err(code);
        }
        *cell = text(&place, self.room(value));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn length_is_counted_in_characters() {
        let four = Text::new(Some(4), false);
        let read = |value: &str| four.cell(value.as_bytes(), Place::test(&mut Vec::new()));
        assert!(read("Café").is_ok());
        assert!(read("🥕🥕🥕🥕").is_ok());
        assert_eq!(read("Cafés"), Err(Code::TooLong));
        assert_eq!(count_characters("a🥕é".as_bytes()), 3);
    }

    #[test]
    fn the_nearest_is_cut_between_characters() {
        let cut = |most, in_bytes, value: &str| {
            let mut cell = Cell::Null;
            let kind = Text::new(Some(most), in_bytes);
            let mut store = Vec::new();
            let place = Place::test(&mut store);
            kind.nearest(value.as_bytes(), Code::TooLong, place, &mut cell)
                .unwrap();
            match cell {
                Cell::Text(piece) => {
                    String::from_utf8(piece.of(value.as_bytes(), &[]).to_vec()).unwrap()
                }
                other => panic!("{other:?}"),
            }
        };
        assert_eq!(cut(4, false, "Cafés"), "Café");
        assert_eq!(cut(4, true, "Cafés"), "Caf");
        assert_eq!(cut(5, true, "Cafés"), "Café");
        assert_eq!(cut(1, true, "🥕🥕"), "");
        assert_eq!(cut(1, false, "🥕🥕"), "🥕");
    }
}
