//! Free text in quotes, as people write it: letters, addresses, lists, code, quotations. What
//! is expected is what was written, by the rules of RFC 4180, section 2.

mod common;

use common::{Out, try_read};
use proptest::prelude::*;

/// A record: a number, a weight, and what somebody wrote.
type Row = (u32, u32, String);

/// Lines of free text, many of which have delimiters, and some of which look like records.
fn line() -> impl Strategy<Value = String> {
    prop_oneof![
        "[A-Z][a-z]{1,6}( [a-z]{1,6}){0,5}[.,]?",
        "(Dear|Hello|Thank) (Sir|you),?",
        "[1-9][0-9]? [A-Z][a-z]{2,6} (St|Lane), [A-Z][a-z]{2,5}(, [A-Z]{2}[0-9])?",
        "[1-9][0-9]{0,2},[a-z]{1,5}",
        "[1-9][0-9]{0,2},[0-9],[a-z]{1,5}",
        "[1-9][0-9]{0,2},000 kg",
        "- [a-z]{1,6}, [a-z]{1,6}",
        "x = f\\(\"[a-z]{1,4}\", [0-9]\\);",
        "she said \"[a-z ]{1,9}\"",
        "\"[a-z]{1,4}\",\"[a-z]{1,4}\"",
        Just("\"".to_string()),
        Just(String::new()),
    ]
}

fn text() -> impl Strategy<Value = String> {
    proptest::collection::vec(line(), 1..6).prop_map(|lines| lines.join("\n"))
}

/// How the records of one file are written and read.
#[derive(Debug, Clone, Copy)]
struct Form {
    /// Whether there is a weight between the number and the text.
    has_weight: bool,
    /// Whether numbers are read as numbers.
    is_typed: bool,
    /// Whether every field is quoted.
    quotes_all: bool,
}

impl Form {
    fn spec(self) -> String {
        let number = if self.is_typed { "bigint" } else { "text" };
        let weight = match self.has_weight {
            true => format!("kg = \"{number}\"\n"),
            false => String::new(),
        };
        format!(
            "[records]\nheader = \"none\"\nending = \"lf\"\n[columns]\nid = \"{number}\"\n{weight}\
             note = {{ type = \"text\", null_values = [] }}\n"
        )
    }

    fn values(self, row: &Row) -> Vec<String> {
        let mut values = vec![row.0.to_string(), row.1.to_string(), row.2.clone()];
        if !self.has_weight {
            values.remove(1);
        }
        values
    }

    /// A record as the standard has it: quotes where they are needed, or everywhere.
    fn written(self, row: &Row) -> String {
        let field = |value: &String| match self.quotes_all || value.contains(['"', ',', '\n']) {
            true => format!("\"{}\"", value.replace('"', "\"\"")),
            false => value.clone(),
        };
        let fields: Vec<String> = self.values(row).iter().map(field).collect();
        fields.join(",")
    }

    /// The rule of doubt, as the reference states it: as how many records a record counts.
    fn doubt(self, record: &str) -> Option<u64> {
        if self.quotes_all || !self.is_typed || !record.contains('\n') {
            return None;
        }
        let lines: Vec<&str> = record.split('\n').collect();
        let (first, last) = (lines[0], lines[lines.len() - 1]);
        let between = || {
            lines[1..lines.len() - 1]
                .iter()
                .filter(|line| !line.trim().is_empty())
        };
        let alike = between().filter(|line| self.is_like(line)).count();
        let is_doubtful =
            self.is_like(first) && self.is_like(last) && alike * 2 >= between().count();
        is_doubtful.then_some(alike as u64 + 2)
    }

    fn is_like(self, line: &str) -> bool {
        let fields: Vec<&str> = line.split(',').collect();
        let bare = |field: &str| {
            let field = field.strip_prefix('"').unwrap_or(field).to_string();
            field.strip_suffix('"').unwrap_or(&field).to_string()
        };
        let is_number = |field: &&str| {
            let bare = bare(field);
            bare.is_empty() || (bare.bytes().all(|b| b.is_ascii_digit()) && bare.len() < 19)
        };
        let numbers = if self.has_weight { 2 } else { 1 };
        fields.len() == numbers + 1 && fields[..numbers].iter().all(is_number)
    }
}

fn form() -> impl Strategy<Value = Form> {
    (any::<bool>(), any::<bool>(), prop::bool::weighted(0.1)).prop_map(
        |(has_weight, is_typed, quotes_all)| Form {
            has_weight,
            is_typed,
            quotes_all,
        },
    )
}

fn rows() -> impl Strategy<Value = Vec<Row>> {
    proptest::collection::vec((1u32..999, 0u32..9, text()), 1..12)
}

fn read(form: Form, file: &str, size: usize) -> Result<Out, TestCaseError> {
    try_read(&form.spec(), file.as_bytes(), size).map_err(|e| TestCaseError::fail(e.to_string()))
}

proptest! {
    #![proptest_config(common::cases(1_500))]

    #[test]
    fn what_is_well_formed_is_read_as_written_or_rejected_whole(
        form in form(), rows in rows(), size in 1usize..300,
    ) {
        let records: Vec<String> = rows.iter().map(|row| form.written(row)).collect();
        let file = records.join("\n") + "\n";
        let out = read(form, &file, size)?;
        let doubts: Vec<Option<u64>> = records.iter().map(|record| form.doubt(record)).collect();
        let wanted: Vec<Vec<String>> = rows
            .iter()
            .zip(&doubts)
            .filter(|(_, doubt)| doubt.is_none())
            .map(|(row, _)| form.values(row))
            .collect();
        prop_assert_eq!(out.cells(), wanted, "{}", file);
        let told: Vec<u64> = out.rejects.iter().map(|reject| reject.records).collect();
        let expected: Vec<u64> = doubts.iter().filter_map(|doubt| *doubt).collect();
        prop_assert_eq!(told, expected);
        for (_, words) in out.reasons() {
            prop_assert_eq!(words, ["doubtful-quote"]);
        }
        prop_assert_eq!(out.tally.records(), out.tally.loaded() + out.tally.rejected());
    }

    #[test]
    fn a_stray_quote_costs_its_line_or_is_doubted(
        rows in rows(), place in any::<prop::sample::Index>(), size in 1usize..300,
    ) {
        let form = Form { has_weight: true, is_typed: true, quotes_all: false };
        let mut rows = rows;
        let at = place.index(rows.len());
        rows[at].2 = "plain words".into();
        let records: Vec<String> = rows.iter().map(|row| form.written(row)).collect();
        let before: String = records[..at].iter().map(|record| format!("{record}\n")).collect();
        let after: String = records[at + 1..].iter().map(|record| format!("{record}\n")).collect();
        let (head, note) = records[at].rsplit_once(',').expect("three fields");
        let planted = format!("{head},\"{note}");
        let out = read(form, &format!("{before}{planted}\n{after}"), size)?;
        // What stands before it is read as ever.
        let first = read(form, &before, size)?;
        prop_assert_eq!(&out.cells()[..first.rows.len()], first.cells());
        // So is what stands after it, where it costs its line.
        let line = before.matches('\n').count() as u64 + 1;
        let reject = out.rejects.iter().find(|reject| reject.line == line);
        if let Some(reject) = reject.filter(|r| r.reasons[0].code.word() == "unclosed-quote") {
            let raw = format!("{planted}\n").into_bytes();
            prop_assert_eq!(&reject.raw, &raw);
            let rest = read(form, &after, size)?;
            prop_assert_eq!(&out.cells()[first.rows.len()..], rest.cells());
        }
    }
}
