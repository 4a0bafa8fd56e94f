//! A source that can be read from any place, for what reads an archive's directory.

use std::io::{self, BufRead, BufReader, Read, Seek, SeekFrom};

use super::super::file::SourceFile;

/// Bytes that are read at once.
const PIECE: usize = 64 * 1024;

/// Reads a source from any place. A place further on within what is read already costs
/// nothing; any other opens the source anew.
pub struct SeekReader {
    source: SourceFile,
    size: u64,
    at: u64,
    /// What is open, and where it stands.
    open: Option<(BufReader<Box<dyn Read + Send>>, u64)>,
}

impl SeekReader {
    /// Of a source whose size is known.
    pub fn new(source: &SourceFile, size: u64) -> SeekReader {
        SeekReader {
            source: source.clone(),
            size,
            at: 0,
            open: None,
        }
    }
}

impl Read for SeekReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.size {
            return Ok(0);
        }
        if let Some((reader, stands)) = &mut self.open {
            let ahead = self.at.checked_sub(*stands);
            match ahead.filter(|ahead| *ahead <= reader.buffer().len() as u64) {
                Some(ahead) => {
                    reader.consume(ahead as usize);
                    *stands = self.at;
                }
                None => self.open = None,
            }
        }
        if self.open.is_none() {
            let reader = self.source.open_at(self.at)?;
            self.open = Some((BufReader::with_capacity(PIECE, reader), self.at));
        }
        let Some((reader, stands)) = &mut self.open else {
            return Ok(0);
        };
        let read = reader.read(buffer)?;
        *stands += read as u64;
        self.at = *stands;
        Ok(read)
    }
}

impl Seek for SeekReader {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let to = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = to.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_place_has_its_bytes() {
        let bytes: Vec<u8> = (0..200_000u32).flat_map(u32::to_be_bytes).collect();
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), &bytes).unwrap();
        let source = SourceFile::local(file.path());
        let mut reader = SeekReader::new(&source, bytes.len() as u64);
        let mut piece = [0; 100];
        for at in [5, 105, 300, 799_900, 0, 65_536, 65_500, 400_000] {
            reader.seek(SeekFrom::Start(at)).unwrap();
            reader.read_exact(&mut piece).unwrap();
            assert_eq!(piece[..], bytes[at as usize..at as usize + 100], "{at}");
        }
        reader.seek(SeekFrom::End(-4)).unwrap();
        let mut rest = Vec::new();
        reader.read_to_end(&mut rest).unwrap();
        assert_eq!(rest, bytes[bytes.len() - 4..]);
    }
}
