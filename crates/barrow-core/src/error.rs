//! What can go wrong below the program, in the words that people read.

use std::path::PathBuf;

/// A column that a file's header does not give.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unbound {
    /// The spec's column.
    pub column: String,
    /// What is wrong, in one plain line.
    pub trouble: String,
}

/// A failure of a file. Nothing of a load is kept where one happens.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// A file could not be opened or read.
    #[error("{file}: {source}")]
    Read {
        /// The file as people named it.
        file: String,
        /// What the system said.
        source: std::io::Error,
    },
    /// A file is packed in another way than the spec says.
    #[error("{file} is packed with \"{found}\", and the spec says compression = \"{said}\"")]
    Compression {
        /// The file as people named it.
        file: String,
        /// What the spec says.
        said: &'static str,
        /// What the content says.
        found: &'static str,
    },
    /// A packed file is cut off or damaged.
    #[error(
        "{file}: the {packing} packing is damaged or cut off after {unpacked} bytes of content \
         ({stored} bytes of the file were read): {source}"
    )]
    Damaged {
        /// The file as people named it.
        file: String,
        /// Its packing.
        packing: &'static str,
        /// How many bytes of the file as stored had been read.
        stored: u64,
        /// How many bytes had been unpacked.
        unpacked: u64,
        /// What the unpacker said.
        source: std::io::Error,
    },
    /// A file whose name says that it is packed, and whose bytes are neither that nor text.
    #[error(
        "{file} is damaged: its name says {packing}, and its first bytes are neither that nor text; \
         [source] compression = \"none\" reads it as it is"
    )]
    NotPacked {
        /// The file as people named it.
        file: String,
        /// The packing that its name says.
        packing: &'static str,
    },
    /// A file of objects is no whole JSON array.
    #[error("{file}, line {line}: {fault}")]
    BadArray {
        /// The file as people named it.
        file: String,
        /// The line, 1-based.
        line: u64,
        /// What is wrong with it.
        fault: &'static str,
    },
    /// A file is in another encoding than the spec says.
    #[error("{0}")]
    Encoding(String),
    /// Bytes that do not decode, where the spec says to stop at them.
    #[error(
        "{file}, line {line}: {value} does not decode as {encoding}, and the spec says to stop there"
    )]
    Undecodable {
        /// The file as people named it.
        file: String,
        /// The line, 1-based.
        line: u64,
        /// The field, its bytes written out.
        value: String,
        /// The encoding.
        encoding: &'static str,
    },
    /// A file could not be written.
    #[error("cannot write {}: {source}", path.display())]
    Write {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: std::io::Error,
    },
    /// A path names no file, or a pattern matches none.
    #[error("{0}")]
    NoFile(String),
    /// The file ends before its preamble, header or trailer is complete.
    #[error("{file} ends before its {part}: {trouble}")]
    TooShort {
        /// The file as people named it.
        file: String,
        /// Which part is not whole.
        part: &'static str,
        /// What there is instead.
        trouble: String,
    },
    /// A file was changed within the part of it that is committed.
    #[error(
        "{file} has changed within its first {bytes} bytes, whose records are committed already"
    )]
    Changed {
        /// The file as people named it.
        file: String,
        /// How long that part is, unpacked.
        bytes: u64,
    },
    /// A file has no record, and the spec does not say to skip it.
    #[error(
        "{file} has no {}, and [source] when_empty is \"stop\": say \"skip\" if that may be",
        if *is_blank { "byte" } else { "record" }
    )]
    Empty {
        /// The file as people named it.
        file: String,
        /// Whether it has no byte at all.
        is_blank: bool,
    },
    /// The header does not have the spec's columns.
    #[error("{}", header_words(file, unbound, new, header))]
    Header {
        /// The file as people named it.
        file: String,
        /// Every column that was not found.
        unbound: Vec<Unbound>,
        /// Every column of the file that the spec does not name, where that stops a load.
        new: Vec<String>,
        /// The header's names, made visible.
        header: Vec<String>,
    },
    /// A record has a key that the spec does not name, and the spec does not say to ignore it.
    #[error(
        "{file}, line {line}: the key \"{key}\" is none that the spec names, and [records] \
         when_new_column is \"stop\": name it under [columns], or say \"ignore\""
    )]
    NewKey {
        /// The file as people named it.
        file: String,
        /// The line, 1-based.
        line: u64,
        /// The key, made visible.
        key: String,
    },
    /// No line of a file's start has the columns' names.
    #[error("none of the first {lines} lines of {file} has the columns' names: {wanted}")]
    NoHeader {
        /// The file as people named it.
        file: String,
        /// How many lines were looked through.
        lines: u64,
        /// The names that were looked for.
        wanted: String,
    },
    /// The preamble and header are longer than anything that could be one.
    #[error(
        "{file}: no end of the header in its first {bytes} bytes; are the record end and the quote \
         those of the file?"
    )]
    EndlessHeader {
        /// The file as people named it.
        file: String,
        /// How far was looked.
        bytes: usize,
    },
    /// This many bytes follow one another without a record among them.
    #[error("{file}: from line {line} on, {bytes} bytes hold no record that could be handed on")]
    NoRecord {
        /// The file as people named it.
        file: String,
        /// The line on which they start, 1-based.
        line: u64,
        /// How many were read.
        bytes: usize,
    },
    /// A part of the program failed where it never should.
    #[error("a worker failed: {0}; nothing was committed, please report this with the spec")]
    Worker(String),
}

/// How many names are listed at the most; a file may have thousands.
const MOST_NAMED: usize = 50;

fn header_words(file: &str, unbound: &[Unbound], new: &[String], header: &[String]) -> String {
    let mut words = match unbound {
        [] => format!("the header of {file} has what the spec does not name"),
        _ => format!("the header of {file} does not have every column of the spec"),
    };
    for Unbound { column, trouble } in unbound.iter().take(MOST_NAMED) {
        words += &format!("\n  {column}: {trouble}");
    }
    if unbound.len() > MOST_NAMED {
        words += &format!("\n  and {} columns more", unbound.len() - MOST_NAMED);
    }
    if !new.is_empty() {
        words += &format!(
            "\n  not in the spec: {}\n    name {} in [columns] (load = false skips one), or say \
             [records] when_new_column = \"ignore\"",
            some(new),
            if new.len() == 1 { "it" } else { "them" }
        );
    }
    if let Some(other) = other_delimiter(header) {
        words += &format!("\n  {other}");
    }
    words + &format!("\n  the header's names: {}", some(header))
}

/// Names, the first of many.
fn some(names: &[String]) -> String {
    match names.len() {
        0..=MOST_NAMED => names.join(", "),
        all => format!(
            "{}, and {} more",
            names[..MOST_NAMED].join(", "),
            all - MOST_NAMED
        ),
    }
}

/// A header of one field that another delimiter would part.
fn other_delimiter(header: &[String]) -> Option<String> {
    let [only] = header else { return None };
    let candidates = [
        (",", ","),
        (";", ";"),
        ("\\t", "\\t"),
        ("|", "|"),
        ("\u{1}", "\\u0001"),
    ];
    let parts = |mark: &str| only.split(mark).count();
    let (mark, written) = candidates.into_iter().max_by_key(|(mark, _)| parts(mark))?;
    (parts(mark) > 1).then(|| {
        format!(
            "the header is one field; with [delimited] delimiter = \"{written}\" it has {}",
            parts(mark)
        )
    })
}
