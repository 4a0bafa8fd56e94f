//! A file that is gone on with at a checkpoint gives what it gives when it is read at once.

mod common;

use std::fmt::Write as _;
use std::io::Write;

use barrow_core::Error;
use barrow_core::plan::Plan;
use barrow_core::records::block::Block;
use barrow_core::records::checkpoint::Checkpoint;
use barrow_core::records::splitter::Splitter;
use barrow_core::source::tree_hash::PIECE;
use barrow_core::source::{Content, SourceFile};
use common::plan;

/// A record's number, line and bytes.
type Record = (u64, u64, Vec<u8>);

/// What reading a file gave.
#[derive(Debug, Default, PartialEq)]
struct Given {
    records: Vec<Record>,
    /// After each block: where it ends, how many records there were, comments and blank lines
    /// with them, and what the file was like.
    places: Vec<(u64, usize, u64, Checkpoint)>,
    content: Option<Content>,
}

fn read(
    plan: &Plan,
    source: &SourceFile,
    from: u64,
    checkpoint: Option<Checkpoint>,
) -> Result<Given, Error> {
    let mut splitter = Splitter::new(plan, vec![source.clone()], 3000)
        .hashing(true)
        .telling_checkpoints(true)
        .from(from, checkpoint, true);
    let (mut given, mut block, mut passed) = (Given::default(), Block::default(), 0);
    while splitter.next(&mut block)? {
        for (index, mark) in block.marks.iter().enumerate() {
            let line = block.first_line + u64::from(mark.line);
            let bytes = block.bytes[mark.start as usize..mark.end as usize].to_vec();
            given
                .records
                .push((block.record_number(index), line, bytes));
        }
        passed += block.left_out.comments + block.left_out.blank;
        let checkpoint = block.checkpoint.clone().expect("it was asked for");
        given
            .places
            .push((block.end(), given.records.len(), passed, checkpoint));
        if let Some(end) = &block.last {
            given.content.clone_from(&end.content);
        }
    }
    Ok(given)
}

fn file(bytes: &[u8]) -> (tempfile::NamedTempFile, SourceFile) {
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    file.write_all(bytes).expect("room for a small file");
    let source = SourceFile::local(file.path());
    (file, source)
}

/// Specs, and how the records of each are written.
fn cases() -> Vec<(Plan, String)> {
    let quoted = plan(
        "[records]\nmax_record_size = 4000\ncomment = \"#\"\n\
         [columns]\nid = \"bigint\"\nnote = \"text\"\n",
    );
    let mut text = String::from("id,note\n");
    for n in 0..9_000 {
        let _ = match n % 50 {
            7 => writeln!(text, "{n},\"two\nlines, {n}\""),
            8 => writeln!(text, "# a comment {n}\n"),
            9 if n % 1000 == 9 => writeln!(text, "{n},{}", "long ".repeat(2000)),
            _ => writeln!(text, "{n},note {n}"),
        };
    }
    let fixed = plan(
        "[records]\nlayout = \"fixed\"\nheader = \"none\"\n\
         [columns]\nid = { type = \"bigint\", width = 8 }\nnote = { type = \"text\", width = 12 }\n",
    );
    let widths = (0..15_000)
        .map(|n| format!("{n:>8}note {:<7}\n", n % 77))
        .collect();
    vec![(quoted, text), (fixed, widths)]
}

#[test]
fn going_on_anywhere_gives_what_reading_at_once_gives() {
    for (plan, text) in cases() {
        let (_kept, source) = file(text.as_bytes());
        let whole = read(&plan, &source, 0, None).expect("it is right");
        assert!(whole.records.len() > 8_000);
        let mut tried = 0;
        for (end, before, passed, checkpoint) in &whole.places {
            let is_last = before == &whole.records.len();
            if is_last || checkpoint.next.is_none() {
                continue;
            }
            tried += 1;
            let rest = read(&plan, &source, *end, Some(checkpoint.clone())).expect("it is same");
            assert_eq!(rest.records, whole.records[*before..], "from {end}");
            assert_eq!(rest.content, whole.content);
            let (last, rest_last) = (whole.places.last(), rest.places.last());
            let (last, rest_last) = (last.expect("a block"), rest_last.expect("a block"));
            assert_eq!(last.3, rest_last.3);
            assert_eq!(
                last.2 - passed,
                rest_last.2,
                "comments and blank lines from {end}"
            );
        }
        assert!(tried > 40, "{tried} places");
    }
}

#[test]
fn only_the_start_and_what_is_hashed_again_is_read() {
    let (plan, text) = cases().remove(1);
    let (_kept, source) = file(text.as_bytes());
    let whole = read(&plan, &source, 0, None).expect("it is right");
    let (end, before, _, checkpoint) = &whole.places[70];
    let pieces = *end as usize / PIECE * PIECE;
    assert!(pieces > 0 && *end as usize > pieces);
    // What lies between is not looked at, where the file is known to be the same.
    let mut bytes = text.clone().into_bytes();
    bytes[10_000] = b'X';
    let (_kept, other) = file(&bytes);
    let rest = read(&plan, &other, *end, Some(checkpoint.clone())).expect("it is taken as same");
    assert_eq!(rest.records, whole.records[*before..]);
    assert_eq!(rest.content, whole.content);
    // What is hashed again tells.
    bytes[pieces] = b'X';
    let (_kept, other) = file(&bytes);
    let error = read(&plan, &other, *end, Some(checkpoint.clone()));
    assert!(matches!(error, Err(Error::Changed { bytes, .. }) if bytes == *end));
}
