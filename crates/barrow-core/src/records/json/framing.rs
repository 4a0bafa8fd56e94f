//! Where objects begin and end in a file.
//!
//! One object a line is framed by its lines, as any record is: a fault costs one of them. In a
//! text sequence each begins with a record separator (RFC 7464). In an array objects are
//! found by their braces, and what stands between them is passed over; so the rejects of an
//! array, each with its comma, are read again.

use super::array_marks::ArrayMarks;
use super::frames::{Frames, SEPARATOR};
use crate::records::delimited::scan::Progress;
use crate::records::mark::{Mark, State};

/// Limits of what is marked.
pub struct Limits {
    /// How many bytes a record has at the most.
    pub longest: usize,
    /// How many records are marked at the most.
    pub most: usize,
}

/// Marks every object that `bytes` hold whole, from `progress` on. `whole` says that no
/// bytes will follow.
pub fn frame(
    frames: Frames,
    limits: &Limits,
    bytes: &[u8],
    whole: bool,
    progress: &mut Progress,
    marks: &mut Vec<Mark>,
) {
    let passed = |from: usize, array: &mut ArrayMarks| {
        let mut at = from;
        while at < bytes.len() && (bytes[at].is_ascii_whitespace() || array.takes(bytes[at])) {
            at += 1;
        }
        at
    };
    progress.array.is_array = frames == Frames::Array;
    while marks.len() < limits.most {
        let start = passed(progress.at, &mut progress.array);
        progress.line += lines(&bytes[progress.at..start]);
        progress.at = start;
        if start == bytes.len() {
            if whole {
                progress.array.ends(progress.line);
            }
            return;
        }
        let (end, state) = match end_of(frames, &bytes[start..], whole, limits.longest) {
            None => return,
            Some((length, state)) => (start + length, state),
        };
        // What follows belongs to the record, as far as it is there.
        let mut array = progress.array;
        array.record(&bytes[start..end], state == State::Plain, progress.line);
        let next = passed(end, &mut array);
        if next == bytes.len() && !whole {
            return;
        }
        progress.array = array;
        marks.push(Mark::new(start..end, next, progress.line, state));
        progress.line += lines(&bytes[start..next]);
        progress.at = next;
    }
}

fn lines(bytes: &[u8]) -> u32 {
    memchr::memchr_iter(b'\n', bytes).count() as u32
}

/// How long the record at the start of `bytes` is; `None` where more bytes are needed.
fn end_of(frames: Frames, bytes: &[u8], whole: bool, longest: usize) -> Option<(usize, State)> {
    let found = match frames {
        Frames::Sequence => memchr::memchr(SEPARATOR, &bytes[1..]).map(|at| at + 1),
        _ => match bytes[0] {
            b'{' | b'[' => closing(bytes),
            _ => bytes
                .iter()
                .position(|byte| matches!(byte, b',' | b']' | b'\n')),
        },
    };
    match found {
        Some(length) if length <= longest => Some((trimmed(&bytes[..length]), State::Plain)),
        None if !whole && bytes.len() <= longest => None,
        None if whole && frames == Frames::Sequence && bytes.len() <= longest => {
            Some((trimmed(bytes), State::Plain))
        }
        // What nothing closes, or is too long, costs its line.
        _ => {
            let line = memchr::memchr(b'\n', bytes).unwrap_or(bytes.len());
            match line.max(1) {
                length if length <= longest => Some((trimmed(&bytes[..length]), State::Plain)),
                _ => Some((longest.min(bytes.len()), State::TooLong)),
            }
        }
    }
}

fn trimmed(record: &[u8]) -> usize {
    record.trim_ascii_end().len().max(1)
}

/// Where the object that begins `bytes` is closed: the byte after its brace.
fn closing(bytes: &[u8]) -> Option<usize> {
    let mut depth = 0usize;
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'{' | b'[' => depth += 1,
            b'}' | b']' => {
                depth = depth.saturating_sub(1);
                if depth == 0 {
                    return Some(at + 1);
                }
            }
            b'"' => {
                at += 1;
                loop {
                    at += memchr::memchr2(b'"', b'\\', bytes.get(at..)?)?;
                    match bytes[at] {
                        b'"' => break,
                        _ => at += 2,
                    }
                }
            }
            _ => {}
        }
        at += 1;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn records(bytes: &[u8], longest: usize) -> Vec<String> {
        let frames = Frames::of(bytes, true).unwrap();
        let mut whole = Vec::new();
        let limits = Limits { longest, most: 100 };
        frame(
            frames,
            &limits,
            bytes,
            true,
            &mut Progress::default(),
            &mut whole,
        );
        // However the bytes come, the records are the same.
        let mut piecewise = Vec::new();
        let mut progress = Progress::default();
        for end in 0..bytes.len() {
            frame(
                frames,
                &limits,
                &bytes[..end],
                false,
                &mut progress,
                &mut piecewise,
            );
        }
        frame(frames, &limits, bytes, true, &mut progress, &mut piecewise);
        assert_eq!(whole, piecewise);
        let text = |mark: &Mark| String::from_utf8_lossy(&bytes[mark.range()]).into_owned();
        whole.iter().map(text).collect()
    }

    #[test]
    fn arrays_and_sequences_give_their_objects() {
        let array = b"[\n {\"a\": \"}\\\"]\", \"b\": [1, {}]},{\"a\":2}\n, 5, \"x\" ]\n";
        assert_eq!(
            records(array, 1000),
            [
                "{\"a\": \"}\\\"]\", \"b\": [1, {}]}",
                "{\"a\":2}",
                "5",
                "\"x\" "
            ]
            .map(|record| record.trim_end().to_string())
        );
        let sequence = b"\x1e{\"a\":1}\n\x1e{\n\"a\":\n2}\n";
        assert_eq!(
            records(sequence, 1000),
            ["\x1e{\"a\":1}", "\x1e{\n\"a\":\n2}"]
        );
    }

    #[test]
    fn what_nothing_closes_costs_its_line() {
        let array = b"[{\"a\":\"1},\n{\"a\":2},\n{\"a\":3}]";
        assert_eq!(
            records(array, 1000),
            ["{\"a\":\"1},", "{\"a\":2}", "{\"a\":3}"]
        );
    }
}
