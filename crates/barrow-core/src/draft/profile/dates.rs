//! Whether values are dates or times, and by which patterns.

use super::super::patterns::{KNOWN, Skeleton};
use super::{Profile, Room};

/// Values of a batch that no pattern fits so far are tried with others so often.
const TRIES: u64 = 50;

/// A pattern that does not fit so many values is given up, where another fits more.
const MISSES: u64 = 3;

impl Profile {
    /// Takes a value up as a date or time, if a known pattern reads it.
    pub(super) fn date(&mut self, value: &[u8], times: u64, room: &mut Room) -> bool {
        if !(4..=40).contains(&value.len()) || !value.iter().any(u8::is_ascii_digit) {
            return false;
        }
        let mut fits = false;
        let mut misses = false;
        let mut read_by = (0, 0);
        for (place, count) in &mut self.patterns {
            if room.given_up.contains(place) {
                continue;
            }
            if KNOWN[*place].reads(value, &mut room.store) {
                *count += times;
                fits = true;
                read_by = (read_by.0 + 1, *place);
            } else {
                misses = true;
                room.missed.push(*place);
            }
        }
        if read_by.0 == 1 && misses && !room.needed.contains(&read_by.1) {
            room.needed.push(read_by.1);
        }
        if fits && misses {
            self.give_up(room);
        }
        room.missed.clear();
        if fits || room.tries >= TRIES {
            return fits;
        }
        room.tries += 1;
        let Some(skeleton) = Skeleton::of(value) else {
            return false;
        };
        for place in skeleton.patterns() {
            let known = self.patterns.iter().any(|(other, _)| other == place);
            if !known && KNOWN[*place].reads(value, &mut room.store) {
                self.patterns.push((*place, times));
                fits = true;
            }
        }
        fits
    }

    /// A pattern that misses what another reads is no longer tried, once it has
    /// missed more than a few and was never the only one that read a value: it can fit
    /// no more than the other does.
    fn give_up(&mut self, room: &mut Room) {
        for place in &room.missed {
            let misses = room.misses.entry(*place).or_default();
            *misses += 1;
            if *misses > MISSES && !room.needed.contains(place) {
                room.given_up.push(*place);
            }
        }
    }
}
