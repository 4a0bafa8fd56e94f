//! `[source]`: which files, and how their bytes are read.

use super::{Key, Takes};

/// The keys, in the order of the documents.
pub const KEYS: &[Key] = &[
    Key {
        section: "[source]",
        name: "files",
        takes: Takes::Texts,
        default: "none",
        meaning: "A path, a glob, an address (`s3://bucket/out/*.psv`, `gs://`, `az://`, `https://`), a member of an archive (`week.zip/*.csv`), `-` (standard input) or `@LIST` (a text file that names one file a line), or a list of these. A zip or tar is all of its files. Globs come in natural order: `week2` before `week10`; on this machine, as in a shell, a star does not match a name that begins with a dot. Files on the command line replace it. [The guide](guide.md#files-that-are-elsewhere) says what an address means.",
        example: r#"files = ["deliveries-*.psv"]"#,
    },
    Key {
        section: "[source]",
        name: "encoding",
        takes: Takes::WordsOrText(&["utf-8", "auto"]),
        default: r#"`"utf-8"`"#,
        meaning: r#"A label of the WHATWG Encoding Standard, `"utf-32le"`, `"utf-32be"`, `"ebcdic-037"`, `"ebcdic-500"`, `"ebcdic-1047"`, the DOS pages `"ibm437"`, `"ibm850"` and `"ibm852"` (also `"cp437"` …; 866 is in the standard), or `"auto"`: by byte order mark, then UTF-8 if all of the file is valid UTF-8, then by what its bytes look like; the summary says which was taken and why. `"auto"` reads the file once more beforehand (of standard input, only the first block)."#,
        example: r#"encoding = "windows-1252""#,
    },
    Key {
        section: "[source]",
        name: "when_undecodable",
        takes: Takes::Words(&["reject", "null", "replace", "stop"]),
        default: r#"`"reject"`"#,
        meaning: r#"A field whose bytes do not decode: `"reject"` its record, make the field `"null"`, `"replace"` the bytes by `replacement`, or `"stop"` the load. The second and third are counted as repairs."#,
        example: r#"when_undecodable = "replace""#,
    },
    Key {
        section: "[source]",
        name: "replacement",
        takes: Takes::Text,
        default: r#"`"\uFFFD"`"#,
        meaning: "What replaces them.",
        example: r#"replacement = "?""#,
    },
    Key {
        section: "[source]",
        name: "compression",
        takes: Takes::Words(&["auto", "none", "gzip", "zstd", "bzip2", "xz"]),
        default: r#"`"auto"`"#,
        meaning: r#"`"none"`, `"gzip"`, `"zstd"`, `"bzip2"`, `"xz"`; `"auto"` decides by the content, not the name. A file that is not packed at all is read as it is, with a notice. A packed file that is cut off or damaged is an error, and nothing is committed. (zstd without a checksum cannot detect every damage.)"#,
        example: r#"compression = "gzip""#,
    },
    Key {
        section: "[source]",
        name: "when_empty",
        takes: Takes::Words(&["stop", "skip"]),
        default: r#"`"stop"`"#,
        meaning: r#"A file without a record, or without a byte, stops the load; `"skip"` skips it."#,
        example: r#"when_empty = "skip""#,
    },
    Key {
        section: "[source]",
        name: "when_changed",
        takes: Takes::Words(&["stop", "load", "replace"]),
        default: r#"`"stop"`"#,
        meaning: r#"A file whose path was loaded before, with other content of which rows are in the table, stops a load that appends: its earlier rows would stay beside the new ones. `"load"` says that they belong there; `"replace"` deletes the earlier rows in the same transaction, found by `[target] run_column`: only where all files of the run that loaded them have changed."#,
        example: r#"when_changed = "load""#,
    },
    Key {
        section: "[source]",
        name: "after_load",
        takes: Takes::WordsOrAny(&["keep", "delete"]),
        default: r#"`"keep"`"#,
        meaning: r#"What happens to a file once its rows are committed: `"keep"`, `"delete"`, or `{ move_to = "done" }` (from the spec's folder; of an object in a store, a folder beside it or an address of its bucket; a file that is there already stays, and the moved one is numbered). Files in archives and on the web stay. Only for files without rejects, unless `{ move_to = "done", even_with_rejects = true }` or `{ delete = true, even_with_rejects = true }`. A file that was written to since it was read stays. A failure here rolls nothing back; it is reported, and the exit code is 1."#,
        example: r#"after_load = { move_to = "done" }"#,
    },
];
