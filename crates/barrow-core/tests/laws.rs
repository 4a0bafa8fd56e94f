//! What holds for any bytes.

mod common;

use common::{Out, read, try_read};
use proptest::prelude::*;

const SPECS: [&str; 9] = [
    "[records]\nheader = \"none\"\nmax_record_size = 40\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[records]\nheader = \"none\"\ntrailer = 2\ncomment = \"#\"\nmax_record_size = 60\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[records]\nheader = \"none\"\nmax_record_size = 50\n[delimited]\nescape = \"\\\\\"\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[records]\nheader = \"none\"\nending = \"#a#\"\n[delimited]\ndelimiter = \",,\"\n[columns]\na = \"text\"\nb = \"integer\"\n",
    "[records]\nheader = \"none\"\nending = \"lf\"\nwhen_blank = \"reject\"\n[delimited]\nquote = \"\"\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[source]\nencoding = \"shift_jis\"\n[records]\nheader = \"none\"\nmax_record_size = 50\n[delimited]\nescape = \"\\\\\"\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[source]\nencoding = \"utf-16be\"\nwhen_undecodable = \"replace\"\n[records]\nheader = \"none\"\ntrailer = 1\n[columns]\na = \"text\"\nb = \"text\"\n",
    "[records]\nheader = \"none\"\nmax_record_size = 70\nwhen_short = \"join\"\n[columns]\na = \"text\"\nb = \"text\"\nc = \"text\"\n",
    "[source]\nencoding = \"big5\"\n[records]\nlayout = \"fixed\"\nending = \"none\"\n[columns]\na = { type = \"text\", width = 3 }\nb = { type = \"integer\", width = 2 }\n",
];

/// Bytes in which everything that means something is frequent.
fn bytes() -> impl Strategy<Value = Vec<u8>> {
    let byte = prop_oneof![
        4 => proptest::sample::select(b"\",\n\r#\\ a".to_vec()),
        1 => any::<u8>(),
        1 => Just(0),
    ];
    proptest::collection::vec(byte, 0..400)
}

/// A reject's record, line, offset, words and bytes.
type Kept = (u64, u64, u64, String, Vec<u8>);

/// What a run found, with the pieces of a record that is too long put together.
fn found(out: &Out) -> (Vec<String>, Vec<Kept>) {
    let rows = out.rows.iter().map(|row| format!("{row:?}")).collect();
    let mut rejects: Vec<Kept> = Vec::new();
    for reject in &out.rejects {
        match rejects.last_mut() {
            Some(last) if reject.reasons.is_empty() => last.4.extend_from_slice(&reject.raw),
            _ => {
                // How much of a record that is too long is shown depends on the block.
                let words: Vec<_> = reject
                    .reasons
                    .iter()
                    .map(|r| (r.code, r.offset, r.column.clone()))
                    .collect();
                rejects.push((
                    reject.record,
                    reject.line,
                    reject.offset,
                    format!("{words:?}"),
                    reject.raw.clone(),
                ));
            }
        }
    }
    (rows, rejects)
}

/// The records of a text by RFC 4180, read as plainly as can be, one character after the
/// other; none for a text that is not well-formed. Empty fields are null, but in quotes.
fn plainly_read(text: &str) -> Option<Vec<Vec<String>>> {
    let mut records = Vec::new();
    let mut rest = text.chars().peekable();
    while rest.peek().is_some() {
        let mut record = Vec::new();
        loop {
            let mut field = String::new();
            if rest.next_if_eq(&'"').is_some() {
                loop {
                    match rest.next()? {
                        '"' if rest.next_if_eq(&'"').is_some() => field.push('"'),
                        '"' => break,
                        c => field.push(c),
                    }
                }
            } else {
                while let Some(c) = rest.next_if(|c| !matches!(c, ',' | '\n')) {
                    field.push(c);
                }
                if field.is_empty() {
                    field.push_str("NULL");
                }
            }
            record.push(field);
            match rest.next() {
                Some(',') => {}
                Some('\n') | None => break,
                // Text after a closing quote.
                Some(_) => return None,
            }
        }
        records.push(record);
    }
    Some(records)
}

proptest! {
    #![proptest_config(common::cases(400))]

    #[test]
    fn blocks_of_any_size_give_the_same_records(
        which in 0..SPECS.len(), bytes in bytes(), size in 1usize..300,
    ) {
        let whole = try_read(SPECS[which], &bytes, 1 << 20);
        let parts = try_read(SPECS[which], &bytes, size);
        match (whole, parts) {
            (Ok(whole), Ok(parts)) => {
                prop_assert_eq!(found(&whole), found(&parts));
                prop_assert_eq!(whole.tally.left_out(), parts.tally.left_out());
                prop_assert_eq!(whole.trailer, parts.trailer);
            }
            (Err(a), Err(b)) => {
                let words = |e: barrow_core::Error| e.to_string().split_once(" ends").map(|x| x.1.to_string());
                prop_assert_eq!(words(a), words(b));
            }
            (a, b) => prop_assert!(false, "{:?} but {:?}", a.err(), b.err()),
        }
    }

    #[test]
    fn places_are_those_of_the_file_and_the_tally_balances(which in 0..3usize, bytes in bytes()) {
        let out = try_read(SPECS[which], &bytes, 97);
        prop_assume!(out.is_ok());
        let out = out.map_err(|e| TestCaseError::fail(e.to_string()))?;
        // Only where line feeds end the lines can they be counted from outside.
        let feeds = bytes.iter().find(|b| matches!(b, b'\r' | b'\n')) != Some(&b'\r');
        for (record, rejects) in out.rejects.iter().enumerate() {
            let at = rejects.offset as usize;
            prop_assert_eq!(&bytes[at..at + rejects.raw.len()], &rejects.raw[..], "{}", record);
        }
        if feeds {
            let places = out.rejects.iter().map(|r| (r.line, r.offset));
            for (line, offset) in places.chain(out.rows.iter().map(|r| (r.1, r.2))) {
                let before = &bytes[..offset as usize];
                prop_assert_eq!(line as usize, 1 + before.iter().filter(|b| **b == b'\n').count());
            }
        }
        let told = out.rejects.iter().filter(|r| !r.reasons.is_empty()).count() as u64;
        prop_assert_eq!(out.tally.rejected(), told);
        prop_assert_eq!(out.tally.loaded(), out.rows.len() as u64);
        prop_assert_eq!(
            out.tally.all_records(),
            out.tally.loaded() + out.tally.rejected() + out.tally.left_out().filtered()
        );
        // Records are numbered one by one, rows and rejects together.
        let mut numbers: Vec<u64> = out.rows.iter().map(|r| r.0)
            .chain(out.rejects.iter().filter(|r| !r.reasons.is_empty()).map(|r| r.record)).collect();
        numbers.sort_unstable();
        prop_assert_eq!(numbers, (1..=out.tally.records()).collect::<Vec<_>>());
    }

    #[test]
    fn a_plain_reader_finds_the_same_in_what_is_well_formed(
        fields in proptest::collection::vec("[a\"]{0,2}|\"([a,\n]|\"\"){0,4}\"", 0..12),
        ends in proptest::collection::vec("[,\n]", 12), size in 1usize..200,
    ) {
        let text: String = fields.iter().zip(&ends).map(|(field, end)| format!("{field}{end}")).collect();
        let records = plainly_read(&text);
        prop_assume!(records.is_some());
        let records = records.unwrap_or_default();
        let spec = "[records]\nending = \"lf\"\nheader = \"none\"\n[columns]\na = \"text\"\nb = \"text\"\n";
        let out = try_read(spec, text.as_bytes(), size).map_err(|e| TestCaseError::fail(e.to_string()))?;
        // A blank line is no record.
        let records: Vec<_> = records.into_iter().filter(|record| *record != ["NULL"]).collect();
        prop_assert_eq!(out.tally.records(), records.len() as u64);
        let (rows, odd): (Vec<_>, Vec<_>) = records.into_iter().partition(|record| record.len() == 2);
        prop_assert_eq!(out.cells(), rows);
        prop_assert_eq!(out.rejects.len(), odd.len());
    }

    #[test]
    fn what_is_quoted_reads_back(rows in proptest::collection::vec(("\\PC{0,8}|[\",\r\n a]{0,6}", "[\",\r\n a]{0,6}"), 1..20)) {
        let spec = "[records]\nending = \"lf\"\nheader = \"none\"\n[columns]\na = \"text\"\nb = \"text\"\n";
        let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
        let bytes: String =
            rows.iter().map(|(a, b)| format!("{},{}\n", quoted(a), quoted(b))).collect();
        let out = read(spec, &bytes);
        let wanted: Vec<_> = rows.iter().map(|(a, b)| vec![a.as_str(), b.as_str()]).collect();
        prop_assert_eq!(out.cells(), wanted);
    }

    #[test]
    fn any_spec_at_all_is_a_plan_or_problems(text in "\\PC{0,200}|(\\[(records|columns|delimited|target)\\]\n[a-z_]{1,9} = [\"0-9a-z]{1,6}\n){0,4}") {
        let told = barrow_core::spec::read_plan(&text).map_err(|problems| problems.len());
        prop_assert_ne!(told.err(), Some(0));
    }

    #[test]
    fn any_condition_or_template_at_all_is_read_or_told(
        text in "\\PC{0,60}|([a-d()=<>+*/',.0-9\"{} -]|and|or|not|is|null|in|between|length){0,24}|([a-dᢀé(),='{}+ ]){0,8}",
    ) {
        let text = toml::Value::String(text).to_string();
        let spec = format!(
            "[records]\nkeep_if = {text}\n[columns]\na = \"integer\"\nb = \"text\"\nc = \"date\"\n\
             d = {{ type = \"text\", value = {text} }}\n[[check]]\nthat = {text}\n"
        );
        match barrow_core::spec::read_plan(&spec) {
            Ok(_) => { read(&spec, "a,b,c\n1,x,2031-04-01\n,,\n0,y,0001-01-01\n"); }
            Err(problems) => for problem in problems {
                // A caret that is not on a character's border could not be drawn.
                prop_assert!(spec.get(problem.span.clone()).is_some(), "{:?}", problem);
            },
        }
    }

    #[test]
    fn a_total_is_met_exactly_by_the_sum_of_any_decimals(
        numbers in proptest::collection::vec((any::<i64>(), 0u32..=18), 0..40), off in -1i128..=1,
    ) {
        // Worked out in whole units of ten to the power of -18.
        let text = |n: i64, scale: u32| {
            let digits = format!("{:0>width$}", n.unsigned_abs(), width = scale as usize + 1);
            let (whole, fraction) = digits.split_at(digits.len() - scale as usize);
            format!("{}{whole}.{fraction}", if n < 0 { "-" } else { "" })
        };
        let sum: i128 = numbers.iter().map(|(n, s)| i128::from(*n) * 10i128.pow(18 - s)).sum();
        let stated = sum + off;
        let unit = 10u128.pow(18);
        let (whole, rest) = (stated.unsigned_abs() / unit, stated.unsigned_abs() % unit);
        let sign = if stated < 0 { "-" } else { "" };
        let lines: String = numbers.iter().map(|(n, s)| text(*n, *s) + "\n").collect();
        let file = format!("{lines}{sign}{whole}.{rest:018}\n");
        let spec = "[records]\nheader = \"none\"\ntrailer = 1\n[columns]\na = \"decimal(38,18)\"\n\
            [[control_total]]\nin = \"trailer\"\nfield = 1\nsum = \"a\"\n";
        let out = read(spec, file);
        prop_assert_eq!(out.rows.len(), numbers.len());
        prop_assert_eq!(out.tally.differences.is_empty(), off == 0);
    }
}
