//! Packs what is written.

use std::io::{self, Write};

use crate::source::Packing;

/// Packs bytes on their way to `W`.
pub enum Packer<W: Write> {
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

impl<W: Write> Packer<W> {
    /// Packs in the way that the spec says; `auto` does not pack.
    ///
    /// # Errors
    /// The packer cannot be made.
    pub fn new(packing: Packing, out: W) -> io::Result<Packer<W>> {
        Ok(match packing {
            Packing::Auto | Packing::None => Packer::None(out),
            Packing::Gzip => {
                let level = flate2::Compression::default();
                Packer::Gzip(flate2::write::GzEncoder::new(out, level))
            }
            Packing::Zstd => {
                let mut encoder = zstd::stream::write::Encoder::new(out, 0)?;
                encoder.include_checksum(true)?;
                Packer::Zstd(encoder)
            }
            Packing::Bzip2 => {
                let level = bzip2::Compression::default();
                Packer::Bzip2(bzip2::write::BzEncoder::new(out, level))
            }
            Packing::Xz => Packer::Xz(liblzma::write::XzEncoder::new(out, 6)),
        })
    }

    /// Ends the packing, and gives back where the bytes went.
    ///
    /// # Errors
    /// The last bytes cannot be written.
    pub fn finish(self) -> io::Result<W> {
        match self {
            Packer::None(out) => Ok(out),
            Packer::Gzip(encoder) => encoder.finish(),
            Packer::Zstd(encoder) => encoder.finish(),
            Packer::Bzip2(encoder) => encoder.finish(),
            Packer::Xz(encoder) => encoder.finish(),
        }
    }
}

impl<W: Write> Write for Packer<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Packer::None(out) => out.write(bytes),
            Packer::Gzip(encoder) => encoder.write(bytes),
            Packer::Zstd(encoder) => encoder.write(bytes),
            Packer::Bzip2(encoder) => encoder.write(bytes),
            Packer::Xz(encoder) => encoder.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Packer::None(out) => out.flush(),
            Packer::Gzip(encoder) => encoder.flush(),
            Packer::Zstd(encoder) => encoder.flush(),
            Packer::Bzip2(encoder) => encoder.flush(),
            Packer::Xz(encoder) => encoder.flush(),
        }
    }
}
