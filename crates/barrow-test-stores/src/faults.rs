//! Failures on demand.

use std::time::Duration;

/// One way to fail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// The connection breaks after so many bytes of the content.
    Drop(u64),
    /// Nothing more comes after so many bytes of the content.
    Stall(u64),
    /// Another status in place of the answer.
    Status(u16),
    /// The object gets another content before the answer.
    Change,
}

/// When requests fail, and how slow they are.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// Every answer comes so much later.
    pub delay: Duration,
    /// Out of a thousand requests for content, so many fail.
    pub per_thousand: u32,
    /// The ways in which they fail, one of them by chance; none means any but a change.
    pub ways: Vec<Fault>,
    /// Whether a change is one of any ways.
    pub changes: bool,
    /// Faults of the next requests for content, the first one first; before any by chance.
    pub next: Vec<Fault>,
    /// What chance begins from.
    pub seed: u64,
}

impl Faults {
    /// The fault of the next request for content.
    pub(crate) fn draw(&mut self) -> Option<Fault> {
        if !self.next.is_empty() {
            return Some(self.next.remove(0));
        }
        let mut chance = fastrand::Rng::with_seed(self.seed);
        self.seed = chance.u64(..);
        if chance.u32(..1000) >= self.per_thousand {
            return None;
        }
        let place = chance.u64(..3_000_000);
        let mut any = vec![
            Fault::Drop(place),
            Fault::Stall(place),
            Fault::Status(500),
            Fault::Status(503),
        ];
        if self.changes {
            any.push(Fault::Change);
        }
        let ways = match self.ways.is_empty() {
            true => &any[..],
            false => &self.ways,
        };
        Some(ways[chance.usize(..ways.len())].clone())
    }
}
