//! Values that come again and again, which are looked at once.
//!
//! Half of a file's columns hold few different values. Counting a repeat costs a
//! comparison instead of a look by every type: a draft of the benchmark's file takes
//! about two thirds of the time with it.

/// How many values are kept: a year's days find their place.
const SLOTS: usize = 1024;

/// Longer values hardly ever repeat.
const LONGEST: usize = 48;

/// After so many values it is told whether they repeat.
const SAMPLE: u32 = 1024;

/// A value that is kept.
#[derive(Debug, Clone, Copy, Default)]
pub struct Kept<'b> {
    /// The value.
    pub value: &'b [u8],
    /// The row where it came first.
    pub row: u32,
    /// How often it came since.
    pub times: u64,
    kept: bool,
}

/// What is known of a value.
pub enum Told {
    /// It is kept; its repeat was counted.
    Again,
    /// It is new, and would be kept in this place.
    New(usize),
    /// Values are not kept.
    NotKept,
}

/// The values of a batch's column that are kept.
#[derive(Debug, Default)]
pub struct Repeats<'b> {
    slots: Vec<Kept<'b>>,
    off: bool,
    looked: u32,
    found: u32,
    known: Option<bool>,
}

impl<'b> Repeats<'b> {
    /// Says what is known from batches before.
    pub fn wanted(&mut self, known: Option<bool>) {
        self.known = known;
        self.off = known == Some(false);
    }

    /// Whether values repeat; none if too few were seen.
    pub fn found(&self) -> Option<bool> {
        self.known
    }

    /// Looks a value up, and counts it if it is kept.
    #[inline]
    pub fn again(&mut self, value: &[u8]) -> Told {
        if self.off || value.len() > LONGEST {
            return Told::NotKept;
        }
        if self.slots.is_empty() {
            self.slots.resize(SLOTS, Kept::default());
        }
        self.looked += 1;
        if self.looked == SAMPLE && self.known.is_none() {
            self.known = Some(self.found * 2 > self.looked);
            self.off = self.known == Some(false);
        }
        let slot = slot(value);
        let kept = &mut self.slots[slot];
        if kept.kept && kept.value == value {
            kept.times += 1;
            self.found += 1;
            return Told::Again;
        }
        Told::New(slot)
    }

    /// Keeps a value in its place, and gives back the one that was there.
    pub fn put(&mut self, slot: usize, value: &'b [u8], row: u32) -> Kept<'b> {
        let new = Kept {
            value,
            row,
            times: 0,
            kept: true,
        };
        std::mem::replace(&mut self.slots[slot], new)
    }

    /// Keeps a value no longer.
    pub fn forget(&mut self, slot: usize) {
        self.slots[slot] = Kept::default();
    }

    /// The values that came again since they were put.
    pub fn drain(&mut self) -> impl Iterator<Item = Kept<'b>> + use<'b> {
        let slots = std::mem::take(&mut self.slots);
        slots.into_iter().filter(|kept| kept.times > 0)
    }
}

/// A value's place: any spread will do, and none is costly to get wrong.
#[inline]
fn slot(value: &[u8]) -> usize {
    let (head, tail) = match (value.first_chunk::<8>(), value.last_chunk::<8>()) {
        (Some(head), Some(tail)) => (u64::from_le_bytes(*head), u64::from_le_bytes(*tail)),
        _ => match (value.first_chunk::<4>(), value.last_chunk::<4>()) {
            (Some(head), Some(tail)) => (
                u64::from(u32::from_le_bytes(*head)),
                u64::from(u32::from_le_bytes(*tail)),
            ),
            _ => value
                .iter()
                .fold((0, 0), |(all, _), byte| (all << 8 | u64::from(*byte), 0)),
        },
    };
    let mixed =
        (head ^ tail.rotate_left(29) ^ value.len() as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed >> 54) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeats_are_counted_once_kept() {
        let mut repeats = Repeats::default();
        let values: [&[u8]; 5] = [
            b"Lower Field",
            b"dahlias",
            b"Lower Field",
            b"",
            b"Lower Field",
        ];
        for (row, value) in values.into_iter().enumerate() {
            if let Told::New(slot) = repeats.again(value) {
                repeats.put(slot, value, row as u32);
            }
        }
        let kept: Vec<Kept> = repeats.drain().collect();
        assert_eq!(kept.len(), 1);
        assert_eq!(
            (kept[0].value, kept[0].row, kept[0].times),
            (&b"Lower Field"[..], 0, 2)
        );
    }

    #[test]
    fn nothing_is_kept_where_all_values_differ() {
        let values: Vec<String> = (0..3_000).map(|n| n.to_string()).collect();
        let mut repeats = Repeats::default();
        let mut not_kept = 0;
        for value in &values {
            match repeats.again(value.as_bytes()) {
                Told::New(slot) => {
                    repeats.put(slot, value.as_bytes(), 1);
                }
                Told::NotKept => not_kept += 1,
                Told::Again => unreachable!("all differ"),
            }
        }
        assert_eq!(repeats.found(), Some(false));
        assert_eq!(not_kept, 3_000 - SAMPLE as usize);
    }
}
