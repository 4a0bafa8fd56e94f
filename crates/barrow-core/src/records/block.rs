//! Blocks of whole records, as the splitter hands them to the workers.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::checkpoint::Checkpoint;
use super::mark::{Mark, State};
use crate::records::file_format::FileFormat;
use crate::source::Content;
use crate::source::transcode::TextMap;

/// How many bytes a block holds unless one record needs more. Of 64, 128, 256
/// and 512 KiB, this was the fastest both for typing and for loading: a block and
/// its cells stay in a core's second-level cache.
pub const BLOCK: usize = 128 << 10;

/// What of a file is neither loaded nor rejected: lines that are no records, and records that
/// the spec leaves out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct LeftOut {
    /// Lines before the header.
    pub preamble: u64,
    /// The header.
    pub header: u64,
    /// Records after the data.
    pub trailer: u64,
    /// Comment lines.
    pub comments: u64,
    /// Blank lines.
    pub blank: u64,
    /// Records that `keep_if` does not keep.
    pub unmet: u64,
    /// Records of a kind that is not loaded.
    pub other_kinds: u64,
    /// Records that come from the folder of rejects, once they are corrected.
    #[serde(default)]
    pub in_rejects: u64,
}

impl LeftOut {
    /// Lines that are no records.
    pub fn lines(&self) -> u64 {
        self.preamble + self.header + self.trailer + self.comments + self.blank
    }

    /// Records that the spec leaves out.
    pub fn filtered(&self) -> u64 {
        self.unmet + self.other_kinds
    }

    /// Adds another file's or block's.
    pub fn add(&mut self, other: &LeftOut) {
        self.preamble += other.preamble;
        self.header += other.header;
        self.trailer += other.trailer;
        self.comments += other.comments;
        self.blank += other.blank;
        self.unmet += other.unmet;
        self.other_kinds += other.other_kinds;
        self.in_rejects += other.in_rejects;
    }
}

/// Whole records of one file, in order.
#[derive(Debug, Default)]
pub struct Block {
    /// The block's place in the order of all blocks of all files, 0-based.
    pub order: u64,
    /// The file it is from; always there once the splitter has filled it.
    pub file: Option<Arc<FileFormat>>,
    /// The bytes.
    pub bytes: Vec<u8>,
    /// Where they start in the file, 0-based.
    pub offset: u64,
    /// Where the bytes were in the file, if they were decoded before splitting.
    pub map: Option<TextMap>,
    /// The number of the first record, 1-based.
    pub first_record: u64,
    /// The line on which the block starts, 1-based.
    pub first_line: u64,
    /// Its records, in order.
    pub marks: Vec<Mark>,
    /// Whether all of them count as one record each.
    pub(super) counts_alike: bool,
    /// Records that are believed though their lines look like records: the line of each,
    /// 1-based, and how many lines do.
    pub believed: Vec<(u64, u32)>,
    /// Lines set aside since the block before.
    pub left_out: LeftOut,
    /// Bytes of the file as stored that were read for this block: what a
    /// progress bar counts.
    pub taken: u64,
    /// What the file is like, unpacked, up to the block's end, where that is asked for.
    pub checkpoint: Option<Checkpoint>,
    /// Set on a file's last block.
    pub last: Option<FileEnd>,
}

/// What is known once a file has been read to its end.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct FileEnd {
    /// The trailer's bytes.
    pub trailer: Vec<u8>,
    /// How long the file is, in bytes, unpacked.
    pub bytes: u64,
    /// What the file is as stored, if it was hashed.
    pub content: Option<Content>,
}

impl Block {
    /// Makes the block ready to be filled again, and keeps its room.
    pub fn clear(&mut self) {
        self.file = None;
        self.map = None;
        self.bytes.clear();
        self.marks.clear();
        self.believed.clear();
        self.left_out = LeftOut::default();
        self.taken = 0;
        self.checkpoint = None;
        self.last = None;
    }

    /// Where the block ends in the file, 0-based.
    pub fn end(&self) -> u64 {
        self.place(self.bytes.len())
    }

    /// Forgets the records, and lines set aside, that come before a place in the file.
    pub fn pass_over(&mut self, before: u64) {
        if self.end() <= before {
            self.first_record += self.records();
            self.marks.clear();
            self.believed.clear();
            self.left_out = LeftOut::default();
            return;
        }
        let passed = self
            .marks
            .partition_point(|m| self.place(m.start as usize) < before);
        let records: u64 = self.marks.drain(..passed).map(|mark| mark.records()).sum();
        self.first_record += records;
    }

    /// Where a place in the bytes is in the file, 0-based.
    pub fn place(&self, at: usize) -> u64 {
        self.offset + self.map.as_ref().map_or(at, |map| map.place(at)) as u64
    }

    /// A range of the bytes as they came in the file.
    pub fn raw(&self, range: std::ops::Range<usize>) -> &[u8] {
        match &self.map {
            None => &self.bytes[range],
            Some(map) => map.raw(range),
        }
    }

    /// The number in its file of the record at `index` of this block.
    pub fn record_number(&self, index: usize) -> u64 {
        match self.counts_alike {
            true => self.first_record + index as u64,
            false => {
                let before = self.marks[..index].iter().map(Mark::records);
                self.first_record + before.sum::<u64>()
            }
        }
    }

    /// Notes which records are unlike others in how they count or are read.
    pub(super) fn note_doubts(&mut self) {
        self.counts_alike = true;
        for mark in &self.marks {
            match mark.state {
                State::Doubtful(_) => self.counts_alike = false,
                State::Believed(lines) => {
                    let line = self.first_line + u64::from(mark.line);
                    self.believed.push((line, lines));
                }
                _ => {}
            }
        }
    }

    /// How many records the block has.
    pub fn records(&self) -> u64 {
        self.marks.iter().map(Mark::records).sum()
    }
}
