//! Values of every sort, taken by chance: whatever is in the file is in the table.

use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use crate::databases::{Database, Kind, on_every_database};

on_every_database! {
    any_text_comes_back_as_it_was,
    any_number_comes_back_as_it_was,
    any_day_and_moment_comes_back_as_it_was,
}

/// So many values by a strategy, the same in every run.
fn some<S: Strategy>(count: usize, strategy: S) -> Vec<S::Value> {
    let mut runner = TestRunner::deterministic();
    let one = |_| strategy.new_tree(&mut runner).expect("a value").current();
    (0..count).map(one).collect()
}

/// A database whose new table `d` has loaded all rows; `columns` beside its `id`.
fn loaded(kind: Kind, columns: &str, rows: &[String]) -> Database {
    let spec = format!(
        "[source]\nfiles = [\"d.csv\"]\n[records]\nending = \"lf\"\n[columns]\nid = \"bigint\"\n{columns}\n\
         [target]\ntable = \"d\"\ncreate = true\nwhen_inexact = \"text\"\n"
    );
    let names: Vec<&str> = columns
        .lines()
        .filter_map(|l| l.split(' ').next())
        .collect();
    let mut file = format!("id,{}\n", names.join(","));
    for (id, row) in rows.iter().enumerate() {
        file += &format!("{id},{row}\n");
    }
    let files = [("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())];
    let d = Database::new(kind, &files);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(said.json()["loaded"], rows.len());
    d
}

fn any_text_comes_back_as_it_was(kind: Kind) {
    // Letters of all sorts, and everything that means something to somebody on the way.
    let texts = some(
        600,
        "\\PC{0,12}|[\u{1}-\u{1f} \"'\\\\|,;`$%_]{0,12}|(\\\\[N0tnrZb.\\\\]){1,4}|(\u{1F33C}|e\u{301}|\u{feff}|~){1,4}",
    );
    let quoted = |text: &String| format!("\"{}\"", text.replace('"', "\"\""));
    let rows: Vec<String> = texts.iter().map(quoted).collect();
    let d = loaded(kind, "note = \"text\"", &rows);
    let found = d.rows("SELECT note FROM d ORDER BY id");
    for (found, wanted) in found.iter().zip(&texts) {
        assert_eq!(found, wanted);
    }
    assert_eq!(found.len(), texts.len());
}

fn any_number_comes_back_as_it_was(kind: Kind) {
    let most = 10i128.pow(30) - 1;
    let numbers = some(
        400,
        (
            any::<i64>(),
            -most..=most,
            0u32..30,
            proptest::num::f64::NORMAL,
        ),
    );
    // A decimal with fewer and fewer digits, in words of its own.
    let decimal = |n: i128, shorter: u32| {
        let n = n / 10i128.pow(shorter);
        let sign = if n < 0 { "-" } else { "" };
        let digits = format!("{:07}", n.unsigned_abs());
        let (whole, fraction) = digits.split_at(digits.len() - 6);
        format!("{sign}{whole}.{fraction}")
    };
    let rows: Vec<String> = numbers
        .iter()
        .map(|(whole, n, shorter, float)| format!("{whole},{},{float:e}", decimal(*n, *shorter)))
        .collect();
    let columns = "whole = \"bigint\"\nexact = \"decimal(30,6)\"\nnear = \"double\"";
    let d = loaded(kind, columns, &rows);
    let found = d.rows("SELECT whole, exact, near FROM d ORDER BY id");
    assert_eq!(found.len(), numbers.len());
    for (found, (whole, n, shorter, float)) in found.iter().zip(&numbers) {
        let cells: Vec<&str> = found.split('|').collect();
        let wanted = [whole.to_string(), decimal(*n, *shorter)];
        assert_eq!(cells[..2], wanted);
        let near: f64 = cells[2].parse().expect(cells[2]);
        assert_eq!(near.to_bits(), float.to_bits(), "{}", cells[2]);
    }
}

fn any_day_and_moment_comes_back_as_it_was(kind: Kind) {
    let moments = some(
        400,
        (
            1i16..=9999,
            1i8..=12,
            1i8..=28,
            0u32..86_400,
            0u32..1_000_000,
        ),
    );
    let texts: Vec<(String, String)> = moments
        .iter()
        .enumerate()
        .map(|(at, (year, month, day, second, micro))| {
            let day = format!("{year:04}-{month:02}-{day:02}");
            let (hour, minute, second) = (second / 3600, second / 60 % 60, second % 60);
            // Every third has no fraction, and every third one that ends in zeros.
            let fraction = match at % 3 {
                0 => String::new(),
                1 => format!(".{:03}", micro / 1_000),
                _ => format!(".{micro:06}"),
            };
            let moment = format!("{day} {hour:02}:{minute:02}:{second:02}{fraction}");
            (day, moment)
        })
        .collect();
    let rows: Vec<String> = texts.iter().map(|(d, m)| format!("{d},{m}")).collect();
    let d = loaded(kind, "placed = \"date\"\nweighed = \"timestamp\"", &rows);
    let found = d.rows("SELECT placed, weighed FROM d ORDER BY id");
    assert_eq!(found.len(), texts.len());
    // How many zeros a fraction ends in is the database's affair.
    let plain = |moment: &str| match moment.contains('.') {
        true => moment
            .trim_end_matches('0')
            .trim_end_matches('.')
            .to_string(),
        false => moment.to_string(),
    };
    for (found, (day, moment)) in found.iter().zip(&texts) {
        let (placed, weighed) = found.split_once('|').expect("two cells");
        assert_eq!(placed, day);
        assert_eq!(plain(weighed), plain(moment));
    }
}
