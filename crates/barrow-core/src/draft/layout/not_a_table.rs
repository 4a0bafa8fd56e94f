//! Files that are no tables, told by their first bytes.

use crate::error::Error;
use crate::source::open::Input;
use crate::source::{Compression, SourceFile};

/// How many bytes are looked at: a tar archive's name stands at 257.
const LOOKED: usize = 8 << 10;

/// Says what a file is that is no table.
///
/// # Errors
/// It is no table, or cannot be read.
pub fn refuse(source: &SourceFile) -> Result<(), Error> {
    let mut first = Vec::with_capacity(LOOKED);
    let mut input = Input::open(source, Compression::Auto)?;
    input.fill(LOOKED, &mut first)?;
    let packed = match input.packing() {
        Compression::None => "",
        _ => "packed ",
    };
    let Some((what, advice)) = kind(&first) else {
        return Ok(());
    };
    let name = source.name();
    Err(Error::NoFile(format!(
        "{name} is {} {packed}{what}, and no table\n  {advice}",
        if packed.is_empty() && what.starts_with(['a', 'e', 'i', 'o', 'E', 'X']) {
            "an"
        } else {
            "a"
        }
    )))
}

/// What bytes are the start of, and what to do with it; none if they may be a table.
fn kind(first: &[u8]) -> Option<(String, &'static str)> {
    const UNPACK: &str = "unpack it first, then draft the file inside";
    const EXPORT: &str = "save or export the table as delimited text, then draft that";
    const OTHER: &str = "draft takes delimited and fixed-width text";
    let starts = |magic: &[u8]| first.starts_with(magic);
    let named = |what: &str, advice| Some((what.to_string(), advice));
    if starts(b"PK\x03\x04") || starts(b"PK\x05\x06") {
        let holds = |text: &[u8]| memchr::memmem::find(first, text).is_some();
        return match () {
            () if holds(b"xl/") => named("office sheet (xlsx)", EXPORT),
            () if holds(b"word/") || holds(b"ppt/") => named("office document", EXPORT),
            () if holds(b"application/vnd.oasis.opendocument.spreadsheet") => {
                named("office sheet (ods)", EXPORT)
            }
            () if holds(b"[Content_Types].xml") => named("office file", EXPORT),
            () => named("zip archive", UNPACK),
        };
    }
    if first.get(257..262) == Some(b"ustar") {
        return named("tar archive", UNPACK);
    }
    if starts(b"SQLite format 3\0") {
        return named(
            "SQLite database",
            "name it as a database: --database sqlite:FILE",
        );
    }
    for (magic, what) in [
        (&b"PAR1"[..], "Parquet file"),
        (b"ARROW1", "Arrow file"),
        (b"ORC", "ORC file"),
        (b"Obj\x01", "Avro file"),
        (b"RDX2", "R data file"),
        (b"RDX3", "R data file"),
        (b"\x89HDF\r\n\x1a\n", "HDF5 file"),
        (b"CDF\x01", "netCDF file"),
        (b"CDF\x02", "netCDF file"),
    ] {
        if starts(magic) && (what != "ORC file" || first.get(3).is_some_and(|b| *b < 32)) {
            return named(what, EXPORT);
        }
    }
    let text = String::from_utf8_lossy(first);
    let trimmed = text.trim_start_matches('\u{FEFF}').trim_start();
    if let Some(what) = markup(trimmed) {
        return Some(what);
    }
    let known = infer::get(first)?;
    let is_text = matches!(known.matcher_type(), infer::MatcherType::Text);
    if is_text {
        return None;
    }
    Some((
        format!("{} file ({})", known.extension(), known.mime_type()),
        OTHER,
    ))
}

/// What a text is that is made of something else than records.
fn markup(text: &str) -> Option<(String, &'static str)> {
    const OTHER: &str = "draft takes delimited and fixed-width text";
    let lower: String = text
        .chars()
        .take(64)
        .collect::<String>()
        .to_ascii_lowercase();
    if lower.starts_with("<?xml") || lower.starts_with("<svg") {
        return Some(("XML document".into(), OTHER));
    }
    if lower.starts_with("<!doctype html") || lower.starts_with("<html") {
        return Some(("web page (HTML)".into(), OTHER));
    }
    if !text.starts_with(['{', '[']) {
        return None;
    }
    // A list of objects, or one object over lines: the first thing inside is a name.
    let inner = text[1..].trim_start();
    let opens = text.starts_with('[') && inner.starts_with(['{', '['])
        || text.starts_with('{') && inner.starts_with('"');
    opens.then(|| ("JSON document".into(), OTHER))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_table_is_named() {
        let what = |bytes: &[u8]| kind(bytes).map(|(what, _)| what).unwrap_or_default();
        assert_eq!(what(b"PK\x03\x04\x14\0\0\0\0\0flights.csv"), "zip archive");
        assert_eq!(
            what(b"PK\x03\x04....[Content_Types].xml..xl/workbook"),
            "office sheet (xlsx)"
        );
        assert_eq!(what(b"SQLite format 3\0..."), "SQLite database");
        assert_eq!(what(b"PAR1\x15\x04"), "Parquet file");
        assert!(what(b"%PDF-1.7\n%\xE2").contains("pdf"));
        assert!(what(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR").contains("png"));
        assert!(what(b"\x7FELF\x02\x01\x01\0\0\0\0\0\0\0\0\0\x03\0\x3e\0\x01\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0").contains("elf"));
        assert_eq!(what(b"[\n {\"a\": 1}]"), "JSON document");
        assert_eq!(what(b"<?xml version=\"1.0\"?><a/>"), "XML document");
        for table in [
            "a,b\n1,2\n",
            "ORCHARD,kg\n1,2\n",
            "[x],[y]\n1,2\n",
            "{x};1\n",
        ] {
            assert_eq!(what(table.as_bytes()), "", "{table}");
        }
    }
}
