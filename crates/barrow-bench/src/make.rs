//! Makes the bench file: ten columns of every common kind, a tenth of the
//! records with quoted text that holds quotes and delimiters.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::time::Instant;

const SPEC: &str = r#"[source]
files = ["FILE"]
[records]
header = "names"
[columns]
delivery_id = { type = "bigint", required = true }
stall = "integer"
grower = "varchar(40)"
produce = "varchar(40)"
note = "text"
placed_on = "date"
weighed_at = "timestamp"
weight_kg = "decimal(10,2)"
price = "decimal(12,4)"
organic = "boolean"
[target]
table = "deliveries"
create = true
"#;

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
}

/// The width of each column in the fixed form.
const WIDTHS: [usize; 10] = [10, 4, 16, 16, 32, 10, 19, 9, 10, 5];

/// The spec of a form.
fn spec(form: Form, file: &str) -> String {
    let spec = SPEC.replace("FILE", file);
    match form {
        Form::Plain | Form::Utf8 => spec,
        Form::Latin => spec.replace("[records]", "encoding = \"windows-1252\"\n[records]"),
        Form::Fixed => {
            let mut widths = WIDTHS.iter();
            let spec = spec.replace("header = \"names\"", "layout = \"fixed\"");
            let (head, rest) = spec.split_once("[columns]\n").unwrap_or((&spec, ""));
            let (columns, target) = rest.split_once("[target]").unwrap_or((rest, ""));
            let wide = columns.lines().map(|line| {
                let width = widths.next().unwrap_or(&1);
                let (name, ty) = line.split_once(" = ").unwrap_or((line, "\"text\""));
                let ty = ty
                    .trim_start_matches("{ type = ")
                    .split(',')
                    .next()
                    .unwrap_or(ty);
                let ty = if ty.contains("decimal(1") && !ty.ends_with('"') {
                    format!("{ty},{}", rest_of(line))
                } else {
                    ty.to_string()
                };
                format!("{name} = {{ type = {ty}, width = {width} }}\n")
            });
            format!(
                "{head}[columns]\n{}[target]{target}",
                wide.collect::<String>()
            )
        }
    }
}

/// The scale of a decimal, which a split at commas parts from its precision.
fn rest_of(line: &str) -> &str {
    line.rsplit_once(',').map_or("", |(_, rest)| rest)
}

/// Writes the file and its spec.
pub fn file(path: &Path, records: u64, seed: u64, form: Form) -> std::io::Result<f64> {
    let clock = Instant::now();
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    std::fs::write(path.with_extension("spec.toml"), spec(form, &name))?;
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path)?);
    let mut numbers = Numbers(seed);
    if form != Form::Fixed {
        writeln!(
            out,
            "delivery_id,stall,grower,produce,note,placed_on,weighed_at,weight_kg,price,organic"
        )?;
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
    for (field, width) in text.split(',').zip(WIDTHS) {
        let plain = field.trim_matches('"').replace("\"\"", "\"");
        write!(out, "{plain:<width$}")?;
    }
    writeln!(out)
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
