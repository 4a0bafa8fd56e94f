//! Where a field stands in its block.

/// Where a field stands in its block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Span {
    start: u32,
    len: u32,
}

impl Span {
    /// The field was in quotes, which the span leaves out.
    const QUOTED: u32 = 1 << 31;
    /// The field holds escapes that are to be taken out.
    const ESCAPED: u32 = 1 << 30;
    /// The record lacks the field.
    const LACKING: u32 = 1 << 29;
    /// All the bits of `len` that are not length. A record is below 512 MiB.
    const FLAGS: u32 = Span::QUOTED | Span::ESCAPED | Span::LACKING;

    /// A field that the record lacks and that is taken as null.
    pub const MISSING: Span = Span {
        start: 0,
        len: Span::LACKING,
    };

    /// A field whose key the record lacks, where that may not be.
    pub const NO_KEY: Span = Span {
        start: 0,
        len: Span::LACKING | Span::QUOTED,
    };

    /// Plain bytes.
    #[inline]
    pub fn plain(start: usize, end: usize) -> Span {
        Span {
            start: start as u32,
            len: (end - start) as u32,
        }
    }

    /// The same field, in quotes or with escapes.
    pub fn with(self, quoted: bool, escaped: bool) -> Span {
        let flags = if quoted { Span::QUOTED } else { 0 } | if escaped { Span::ESCAPED } else { 0 };
        Span {
            start: self.start,
            len: self.len | flags,
        }
    }

    /// Whether the field is nothing but bytes of the block.
    #[inline]
    pub fn is_plain(self) -> bool {
        self.len & Span::FLAGS == 0
    }

    /// Whether the record lacks the field.
    pub fn is_missing(self) -> bool {
        self.len & Span::LACKING != 0
    }

    /// Whether the field was in quotes.
    pub fn is_quoted(self) -> bool {
        self.len & Span::QUOTED != 0
    }

    /// Whether the field holds escapes.
    pub fn is_escaped(self) -> bool {
        self.len & Span::ESCAPED != 0
    }

    /// The field's first byte in the block.
    #[inline]
    pub fn start(self) -> usize {
        self.start as usize
    }

    /// The field's bytes in the block.
    #[inline]
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.start as usize + (self.len & !Span::FLAGS) as usize
    }
}
