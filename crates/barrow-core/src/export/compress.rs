//! Compresses what is written.

use std::io::{self, Write};

use crate::source::Compression;

/// Compresses bytes on their way to `W`.
pub enum Compressor<W: Write> {
    /// As they are.
    None(W),
    /// By gzip.
    Gzip(flate2::write::GzEncoder<W>),
    /// By zstd.
    Zstd(zstd::stream::write::Encoder<'static, W>),
    /// By bzip2.
    Bzip2(bzip2::write::BzEncoder<W>),
    /// By xz.
    Xz(liblzma::write::XzEncoder<W>),
}

impl<W: Write> Compressor<W> {
    /// Packs in the way that the spec says; `auto` does not pack.
    ///
    /// # Errors
    /// The compressor cannot be made.
    pub fn new(packing: Compression, out: W) -> io::Result<Compressor<W>> {
        Ok(match packing {
            Compression::Auto | Compression::None => Compressor::None(out),
            Compression::Gzip => {
                let level = flate2::Compression::default();
                Compressor::Gzip(flate2::write::GzEncoder::new(out, level))
            }
            Compression::Zstd => {
                // The usual level, 3. The ways of higher ones are not compiled: .cargo/config.toml.
                let mut encoder = zstd::stream::write::Encoder::new(out, 0)?;
                encoder.include_checksum(true)?;
                Compressor::Zstd(encoder)
            }
            Compression::Bzip2 => {
                let level = bzip2::Compression::default();
                Compressor::Bzip2(bzip2::write::BzEncoder::new(out, level))
            }
            Compression::Xz => Compressor::Xz(liblzma::write::XzEncoder::new(out, 6)),
        })
    }

    /// Ends the compression, and returns the writer below it.
    ///
    /// # Errors
    /// The last bytes cannot be written.
    pub fn finish(self) -> io::Result<W> {
        match self {
            Compressor::None(out) => Ok(out),
            Compressor::Gzip(encoder) => encoder.finish(),
            Compressor::Zstd(encoder) => encoder.finish(),
            Compressor::Bzip2(encoder) => encoder.finish(),
            Compressor::Xz(encoder) => encoder.finish(),
        }
    }
}

impl<W: Write> Write for Compressor<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Compressor::None(out) => out.write(bytes),
            Compressor::Gzip(encoder) => encoder.write(bytes),
            Compressor::Zstd(encoder) => encoder.write(bytes),
            Compressor::Bzip2(encoder) => encoder.write(bytes),
            Compressor::Xz(encoder) => encoder.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Compressor::None(out) => out.flush(),
            Compressor::Gzip(encoder) => encoder.flush(),
            Compressor::Zstd(encoder) => encoder.flush(),
            Compressor::Bzip2(encoder) => encoder.flush(),
            Compressor::Xz(encoder) => encoder.flush(),
        }
    }
}
