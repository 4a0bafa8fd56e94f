//! Packed files, told by their content and not by their names.

use std::io::Read;

use crate::words::words;

words! {
    /// How a file is packed.
    Compression {
        /// By its content.
        Auto = "auto",
        /// Not at all.
        None = "none",
        /// gzip (RFC 1952).
        Gzip = "gzip",
        /// Zstandard (RFC 8878).
        Zstd = "zstd",
        /// bzip2.
        Bzip2 = "bzip2",
        /// xz.
        Xz = "xz",
    }
}

/// How many bytes tell the packing.
pub const TELLING: usize = 512;

/// What packed files begin with.
const SIGNS: [(&[u8], Compression); 4] = [
    (b"\x1F\x8B", Compression::Gzip),
    (b"\x28\xB5\x2F\xFD", Compression::Zstd),
    (b"BZh", Compression::Bzip2),
    (b"\xFD7zXZ\0", Compression::Xz),
];

impl Compression {
    /// The packing that a file's first bytes tell.
    pub fn of(first: &[u8]) -> Compression {
        let told = SIGNS.iter().find(|(sign, _)| first.starts_with(sign));
        told.map_or(Compression::None, |(_, packing)| *packing)
    }

    /// Whether a file of so few bytes may be cut off within the sign of this packing.
    pub fn is_cut(self, bytes: &[u8]) -> bool {
        let sign = SIGNS.iter().find(|(_, packing)| *packing == self);
        !bytes.is_empty() && sign.is_some_and(|(sign, _)| sign.starts_with(bytes))
    }

    /// The packing that a file's name tells.
    pub fn of_name(name: &str) -> Option<Compression> {
        const ENDINGS: [(&str, Compression); 4] = [
            (".gz", Compression::Gzip),
            (".zst", Compression::Zstd),
            (".bz2", Compression::Bzip2),
            (".xz", Compression::Xz),
        ];
        let name = name.to_ascii_lowercase();
        let told = ENDINGS.iter().find(|(ending, _)| name.ends_with(ending));
        told.map(|(_, packing)| *packing)
    }

    /// Unpacks a stream; several members, one after the other, are one file.
    ///
    /// # Errors
    /// What the unpacker says.
    pub fn unpack(
        self,
        packed: impl Read + Send + 'static,
    ) -> std::io::Result<Box<dyn Read + Send>> {
        Ok(match self {
            Compression::Auto | Compression::None => Box::new(packed),
            Compression::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
            Compression::Zstd => Box::new(zstd::stream::read::Decoder::new(packed)?),
            Compression::Bzip2 => Box::new(bzip2::read::MultiBzDecoder::new(packed)),
            Compression::Xz => Box::new(liblzma::read::XzDecoder::new_multi_decoder(packed)),
        })
    }
}
