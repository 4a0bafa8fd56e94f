//! The physical lines of a file.

use super::block::BLOCK;
use super::ending::{FileEnding, Found};
use super::opening::{Text, open};
use crate::error::Error;
use crate::plan::Plan;
use crate::source::{Charset, SourceFile};

/// The physical lines of a file, one after the other.
pub struct Physical {
    /// The file's encoding.
    pub charset: Charset,
    /// The text that is held; a line is a range of it.
    pub text: Vec<u8>,
    source: Text,
    ending: FileEnding,
    at: usize,
}

impl Physical {
    /// Opens a file.
    ///
    /// # Errors
    /// As [`open`].
    pub fn open(plan: &Plan, source: &SourceFile, block_size: usize) -> Result<Physical, Error> {
        let (start, mut source, mut text) = open(plan, source, block_size)?;
        let ending = loop {
            let decided = FileEnding::decide(&plan.records, &start.charset, &text, source.whole)?;
            match decided {
                Some(ending) => break ending,
                None => source.fill(block_size, &mut text)?,
            }
        };
        Ok(Physical {
            charset: start.charset,
            text,
            source,
            ending,
            at: 0,
        })
    }

    /// The next line with its end; none after the last.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn next_line(&mut self) -> Result<Option<std::ops::Range<usize>>, Error> {
        loop {
            if self.at < self.text.len()
                && let Found::End(_, next) =
                    self.ending.line_end(&self.text, self.at, self.source.whole)
            {
                let line = self.at..next;
                self.at = next;
                return Ok(Some(line));
            }
            if self.source.whole {
                return Ok(None);
            }
            self.text.drain(..self.at);
            if let Some(transcoder) = &mut self.source.transcoder {
                transcoder.hand_on(self.at);
            }
            self.at = 0;
            let want = self.text.len().max(BLOCK);
            self.source.fill(want, &mut self.text)?;
        }
    }
}
