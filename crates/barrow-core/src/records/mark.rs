//! Where a record stands in its block, and what the splitter knows of it.

/// What the splitter already knows of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// No quote in it: every delimiter parts two fields.
    Plain,
    /// It holds a quote or an escape, so its fields want care.
    Quoted,
    /// The same, and this many of its lines look like records themselves: said, and believed.
    Believed(u32),
    /// A well-formed record of which this many lines look like records themselves. It is
    /// rejected whole, and counts as so many records.
    Doubtful(u32),
    /// Its first line opens a quote that nothing closes.
    Unclosed,
    /// It is longer than `max_record_size`; this is as much of it as the block holds.
    TooLong,
    /// A later part of one that is too long.
    TooLongRest,
    /// A blank line, where blank lines are rejected.
    Blank,
    /// Lines that were joined until the record had its fields.
    Joined,
}

/// Where a record stands in its block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    /// Its first byte in the block, 0-based.
    pub start: u32,
    /// The byte after its last, without its end.
    pub end: u32,
    /// The byte after its end.
    pub next: u32,
    /// Its line, counted from the block's first line, 0-based.
    pub line: u32,
    /// What is known of it.
    pub state: State,
}

impl State {
    /// Whether it is a whole record, whose fields can be looked for.
    pub fn is_whole(self) -> bool {
        matches!(
            self,
            State::Plain | State::Quoted | State::Believed(_) | State::Joined
        )
    }
}

impl Mark {
    /// As how many records it counts.
    #[inline]
    pub fn records(&self) -> u64 {
        match self.state {
            State::Doubtful(lines) => u64::from(lines.max(1)),
            _ => 1,
        }
    }

    /// A record at `range` of its block, whose end stops before `next`.
    pub fn new(range: std::ops::Range<usize>, next: usize, line: u32, state: State) -> Mark {
        Mark {
            start: range.start as u32,
            end: range.end as u32,
            next: next as u32,
            line,
            state,
        }
    }

    /// The record's bytes in the block, without its end.
    pub fn range(&self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }

    /// The record's bytes in the block, with its end.
    pub fn raw_range(&self) -> std::ops::Range<usize> {
        self.start as usize..self.next as usize
    }
}
