//! The smallest and the largest text.

/// The smallest and the largest text so far.
#[derive(Default)]
pub(super) struct Ends {
    pub(super) least: Vec<u8>,
    pub(super) most: Vec<u8>,
    /// Their first bytes, which tell of nearly every value that it is neither.
    pub(super) first: Option<(u64, u64)>,
}

impl Ends {
    #[inline]
    pub(super) fn take(&mut self, text: &[u8]) {
        let first = match text.first_chunk::<8>() {
            Some(chunk) => u64::from_be_bytes(*chunk),
            None => {
                let shift = |all: u64, byte: &u8| all << 8 | u64::from(*byte);
                text.iter().fold(0, shift) << (64 - 8 * text.len().max(1))
            }
        };
        match self.first {
            Some((least, most)) if first > least && first < most => return,
            Some((least, most)) => self.first = Some((first.min(least), first.max(most))),
            None => {
                self.first = Some((first, first));
                self.least.extend_from_slice(text);
                self.most.extend_from_slice(text);
            }
        }
        if text < self.least.as_slice() {
            self.least.clear();
            self.least.extend_from_slice(text);
        } else if text > self.most.as_slice() {
            self.most.clear();
            self.most.extend_from_slice(text);
        }
    }
}
