//! Makes the bench file: ten columns of every common kind, a tenth of the
//! records with quoted text that holds quotes and delimiters.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::time::Instant;

/// Each column's name, its type, and its width in the fixed form.
const COLUMNS: [(&str, &str, usize); 10] = [
    ("delivery_id", "bigint", 10),
    ("stall", "integer", 4),
    ("grower", "varchar(40)", 16),
    ("produce", "varchar(40)", 16),
    ("note", "text", 32),
    ("placed_on", "date", 10),
    ("weighed_at", "timestamp", 19),
    ("weight_kg", "decimal(10,2)", 9),
    ("price", "decimal(12,4)", 10),
    ("organic", "boolean", 5),
];

const GROWERS: [&str; 8] = [
    "Tansy Lane Farm",
    "Ada Moor",
    "Hollow Oak",
    "Bram & Daughters",
    "Nine Elms",
    "Odd Acre",
    "Wren Cottage",
    "Lower Field",
];
const PRODUCE: [&str; 8] = [
    "carrots",
    "leeks",
    "sweet peas",
    "potatoes",
    "dahlias",
    "beetroot",
    "kale",
    "runner beans",
];

/// A small generator of our own, so that a seed means the same file for ever
/// (SplitMix64, as published by Steele, Lea and Flood in 2014).
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        (z ^ (z >> 31)) % most
    }
}

/// How the same records are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// Delimited, in ASCII.
    Plain,
    /// Delimited, a quarter of the growers with accents, in UTF-8.
    Utf8,
    /// The same text in windows-1252.
    Latin,
    /// In fixed widths, in ASCII.
    Fixed,
    /// Delimited by semicolons, with decimal commas and days before months; the
    /// spec trims every column and knows two null words.
    Marked,
}

/// The spec of a form.
fn spec(form: Form, file: &str) -> String {
    let encoding = if form == Form::Latin {
        "windows-1252"
    } else {
        "utf-8"
    };
    let layout = if form == Form::Fixed {
        "fixed"
    } else {
        "delimited"
    };
    let columns = COLUMNS.map(|(name, ty, width)| match form {
        Form::Fixed => format!("{name} = {{ type = \"{ty}\", width = {width} }}\n"),
        _ => format!("{name} = \"{ty}\"\n"),
    });
    let values = match form {
        Form::Marked => {
            "[delimited]\ndelimiter = \";\"\n[values]\ntrim = \"both\"\nnull_values = [\"\", \"N/A\"]\n\
             decimal_mark = \",\"\ndate = \"%d/%m/%Y\"\ntimestamp = \"%d/%m/%Y %H:%M:%S\"\n"
        }
        _ => "",
    };
    format!(
        "[source]\nfiles = [\"{file}\"]\nencoding = \"{encoding}\"\n[records]\nlayout = \"{layout}\"\n\
         {values}[columns]\n{}[target]\ntable = \"deliveries\"\ncreate = true\n",
        columns.concat()
    )
}

/// Writes the file and its spec.
pub fn file(path: &Path, records: u64, seed: u64, form: Form) -> std::io::Result<f64> {
    let clock = Instant::now();
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    std::fs::write(path.with_extension("spec.toml"), spec(form, &name))?;
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut numbers = Numbers(seed);
    let between = if form == Form::Marked { ";" } else { "," };
    if form != Form::Fixed {
        writeln!(out, "{}", COLUMNS.map(|(name, ..)| name).join(between))?;
    }
    let mut line = Vec::new();
    for id in 1..=records {
        line.clear();
        record(&mut line, &mut numbers, id)?;
        match form {
            Form::Plain => out.write_all(&line)?,
            Form::Utf8 => out.write_all(&accented(&line, "ö".as_bytes(), "é".as_bytes()))?,
            Form::Latin => out.write_all(&accented(&line, b"\xF6", b"\xE9"))?,
            Form::Fixed => fixed(&mut out, &line)?,
            Form::Marked => marked(&mut out, &line)?,
        }
    }
    out.flush()?;
    Ok(clock.elapsed().as_secs_f64())
}

/// Two of the eight growers with an accent.
fn accented(line: &[u8], o: &[u8], e: &[u8]) -> Vec<u8> {
    let text = String::from_utf8_lossy(line);
    for (plain, before, accent, after) in [
        ("Ada Moor", "Ada M", o, "or"),
        ("Nine Elms", "Nin", e, " Elms"),
    ] {
        if let Some((start, end)) = text.split_once(plain) {
            return [
                start.as_bytes(),
                before.as_bytes(),
                accent,
                after.as_bytes(),
                end.as_bytes(),
            ]
            .concat();
        }
    }
    line.to_vec()
}

/// The same record in fixed widths. Quoted text has one comma of its own.
fn fixed(out: &mut impl Write, line: &[u8]) -> std::io::Result<()> {
    let text = String::from_utf8_lossy(line)
        .trim_end()
        .replace("gate, no", "gate; no");
    for (field, (_, _, width)) in text.split(',').zip(COLUMNS) {
        let plain = field.trim_matches('"').replace("\"\"", "\"");
        write!(out, "{plain:<width$}")?;
    }
    writeln!(out)
}

/// The same record with other marks. Quoted text has one comma of its own.
fn marked(out: &mut impl Write, line: &[u8]) -> std::io::Result<()> {
    let text = String::from_utf8_lossy(line)
        .trim_end()
        .replace("gate, no", "gate; no");
    let fields = text.split(',').zip(COLUMNS).map(|(field, (_, ty, _))| {
        if ty.starts_with("decimal") {
            return field.replace('.', ",");
        }
        match (ty, field.get(..10)) {
            ("date" | "timestamp", Some(day)) => {
                let (year, month, day) = (&day[..4], &day[5..7], &day[8..]);
                format!("{day}/{month}/{year}{}", &field[10..])
            }
            _ => field.to_string(),
        }
    });
    writeln!(out, "{}", fields.collect::<Vec<_>>().join(";"))
}

fn record(out: &mut impl Write, n: &mut Numbers, id: u64) -> std::io::Result<()> {
    let grower = GROWERS[n.below(8) as usize];
    let produce = PRODUCE[n.below(8) as usize];
    let (month, day) = (1 + n.below(12), 1 + n.below(28));
    let time = (n.below(24), n.below(60), n.below(60));
    write!(out, "{id},{},{grower},{produce},", n.below(900))?;
    match n.below(10) {
        0 => write!(out, "\"left at the \"\"far\"\" gate, no. {}\"", n.below(99))?,
        1..4 => write!(out, "crate {}", n.below(10_000))?,
        _ => {}
    }
    write!(out, ",2031-{month:02}-{day:02},")?;
    write!(
        out,
        "2031-{month:02}-{day:02} {:02}:{:02}:{:02},",
        time.0, time.1, time.2
    )?;
    write!(out, "{}.{:02},", n.below(5000), n.below(100))?;
    match n.below(8) {
        0 => out.write_all(b",")?,
        _ => write!(out, "{}.{:04},", n.below(900), n.below(10_000))?,
    }
    writeln!(out, "{}", if n.below(2) == 0 { "true" } else { "false" })
}
