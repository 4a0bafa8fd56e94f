//! Files whose lines are of several record types, told apart by their first characters,
//! or by their first field and its number of fields.

use super::delimited::{Candidate, Cut};
use super::fixed::{self, Spot};

/// Record types at the most.
const MOST: usize = 8;

/// A record type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordType {
    /// Its name.
    pub name: String,
    /// The condition that tells it, as a spec has it.
    pub condition: String,
    /// How many fields it has.
    pub fields: usize,
    /// Where they stand, in a fixed layout.
    pub spots: Vec<Spot>,
}

/// The record types of a delimited file: each first field goes with its own number of
/// fields.
pub fn delimited(candidate: &Candidate) -> Option<Vec<RecordType>> {
    let records: Vec<&Vec<String>> = candidate.records.iter().filter_map(fields_of).collect();
    if records.len() < 6 || records.len() * 50 < candidate.records.len() * 49 {
        return None;
    }
    // (first field, its number of fields, how often)
    let mut types: Vec<(&str, usize, usize)> = Vec::new();
    for fields in &records {
        let first = fields[0].as_str();
        match types.iter().position(|(known, ..)| *known == first) {
            Some(place) if types[place].1 != fields.len() => return None,
            Some(place) => types[place].2 += 1,
            None if types.len() < MOST => types.push((first, fields.len(), 1)),
            None => return None,
        }
    }
    let is_code = |text: &str| {
        (1..=10).contains(&text.chars().count())
            && text.chars().all(|c| c.is_alphanumeric() || c == '_')
    };
    let widths: std::collections::HashSet<usize> =
        types.iter().map(|(_, width, _)| *width).collect();
    let singles = types.iter().filter(|(.., times)| *times == 1).count();
    let often = types.iter().any(|(.., times)| *times >= 3);
    let is_so = types.len() >= 2
        && widths.len() >= 2
        && singles <= 2
        && often
        && types.iter().all(|(first, ..)| is_code(first))
        && records.len() >= 2 * types.len();
    is_so.then(|| {
        let each = types.iter().map(|(first, width, _)| RecordType {
            name: name(first),
            condition: format!("field(1) = '{first}'"),
            fields: *width,
            spots: Vec::new(),
        });
        each.collect()
    })
}

fn fields_of(record: &Cut) -> Option<&Vec<String>> {
    record.fields.as_ref().filter(|fields| !fields.is_empty())
}

/// The record types of a fixed layout.
pub fn fixed(lines: &[String]) -> Option<Vec<RecordType>> {
    let lines: Vec<&String> = lines
        .iter()
        .filter(|line| !line.trim().is_empty())
        .collect();
    if lines.len() < 4 {
        return None;
    }
    in_turn(&lines).or_else(|| by_first_character(&lines))
}

/// Lines that come in turn: the first of each group, the second of each, and so on; at
/// most one of them has no mark of its own.
fn in_turn(lines: &[&String]) -> Option<Vec<RecordType>> {
    (2..=4).find_map(|turn| {
        if !lines.len().is_multiple_of(turn) || lines.len() < turn * 2 {
            return None;
        }
        let phase = |at: usize| {
            lines
                .iter()
                .skip(at)
                .step_by(turn)
                .copied()
                .collect::<Vec<_>>()
        };
        let marks: Vec<Option<String>> = (0..turn).map(|at| mark(&phase(at))).collect();
        let known: Vec<&String> = marks.iter().flatten().collect();
        let differ = known
            .iter()
            .enumerate()
            .all(|(at, mark)| !known[..at].contains(mark));
        if known.len() + 1 < turn || known.len() < 2 || !differ {
            return None;
        }
        // The line without a mark must not start with one of the others.
        let free = (0..turn).find(|at| marks[*at].is_none());
        if let Some(free) = free
            && phase(free)
                .iter()
                .any(|line| known.iter().any(|mark| line.starts_with(mark.as_str())))
        {
            return None;
        }
        let mut types = Vec::new();
        for (at, mark) in marks.iter().enumerate() {
            let rows = phase(at);
            let condition = match mark {
                Some(mark) => format!("slice(1, 2) = '{mark}'"),
                None => format!(
                    "not slice(1, 2) in ({})",
                    known
                        .iter()
                        .map(|mark| format!("'{mark}'"))
                        .collect::<Vec<_>>()
                        .join(", ")
                ),
            };
            let name = match mark {
                Some(mark) => name(mark.trim()),
                None => format!("line_{}", at + 1),
            };
            types.push(of_lines(name, condition, &rows));
        }
        Some(types)
    })
}

/// What all lines of a kind start with: a letter or digit, and a space.
fn mark(lines: &[&String]) -> Option<String> {
    let first: String = lines.first()?.chars().take(2).collect();
    let is_mark = first.chars().next()?.is_ascii_alphanumeric() && first.ends_with(' ');
    (is_mark && lines.iter().all(|line| line.starts_with(&first))).then_some(first)
}

/// Lines whose first character tells how wide they are, or what stands where.
fn by_first_character(lines: &[&String]) -> Option<Vec<RecordType>> {
    let mut groups: Vec<(char, Vec<&String>)> = Vec::new();
    for line in lines {
        let first = line.chars().next()?;
        match groups.iter().position(|(known, _)| *known == first) {
            Some(place) => groups[place].1.push(line),
            None if groups.len() < MOST => groups.push((first, vec![line])),
            None => return None,
        }
    }
    let is_mark = |c: &char| c.is_ascii_alphanumeric();
    let singles = groups.iter().filter(|(_, rows)| rows.len() == 1).count();
    if groups.len() < 2 || singles > 2 || !groups.iter().all(|(first, _)| is_mark(first)) {
        return None;
    }
    let widths: Option<Vec<usize>> = groups.iter().map(|(_, rows)| one_width(rows)).collect();
    let widths = widths?;
    let differ = widths.iter().any(|width| *width != widths[0]);
    if !differ && !stand_apart(&groups, widths[0]) {
        return None;
    }
    let each = groups.iter().map(|(first, rows)| {
        of_lines(
            name(&first.to_string()),
            format!("slice(1, 1) = '{first}'"),
            rows,
        )
    });
    Some(each.collect())
}

fn one_width(rows: &[&String]) -> Option<usize> {
    let width = rows.first()?.chars().count();
    rows.iter()
        .all(|row| row.chars().count() == width)
        .then_some(width)
}

/// Whether lines of one width have digits where those of another first character have
/// letters or spaces, in many places.
fn stand_apart(groups: &[(char, Vec<&String>)], width: usize) -> bool {
    let class = |c: char| match c {
        '0'..='9' => 1u8,
        c if c.is_alphabetic() => 2,
        c if c.is_whitespace() => 4,
        _ => 8,
    };
    let sets: Vec<Vec<u8>> = groups
        .iter()
        .map(|(_, rows)| {
            let mut set = vec![0u8; width];
            for row in rows {
                for (place, c) in row.chars().enumerate() {
                    set[place] |= class(c);
                }
            }
            set
        })
        .collect();
    let enough = groups.iter().all(|(_, rows)| rows.len() >= 2);
    let apart = (0..width).filter(|place| {
        sets.windows(2)
            .all(|two| two[0][*place] & two[1][*place] == 0)
    });
    enough && apart.count() * 100 >= width * 25
}

fn of_lines(name: String, condition: String, rows: &[&String]) -> RecordType {
    let rows: Vec<Vec<char>> = rows.iter().map(|row| row.chars().collect()).collect();
    let rows: Vec<&[char]> = rows.iter().map(Vec::as_slice).collect();
    let width = rows.iter().map(|row| row.len()).max().unwrap_or(1).max(1);
    let found = if rows.len() > 1 {
        fixed::spots(&rows)
    } else {
        None
    };
    let spots = found.unwrap_or_else(|| match width {
        1 => vec![(0, 1)],
        _ if condition.starts_with("slice(1, 1)") => vec![(0, 1), (1, width - 1)],
        _ => vec![(0, width)],
    });
    RecordType {
        name,
        condition,
        fields: spots.len(),
        spots,
    }
}

/// A name from what a record starts with.
fn name(mark: &str) -> String {
    let lower = mark.to_lowercase();
    match lower.chars().next() {
        Some(c) if c.is_alphabetic() => lower,
        _ => format!("type_{lower}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(text: &str) -> Vec<String> {
        text.lines().map(String::from).collect()
    }

    #[test]
    fn a_first_field_tells_its_number_of_fields() {
        let lines =
            lines("H|2031-04-01|Fen\nD|1|carrots|2.5\nD|2|leeks|1\nD|3|peas|7\nD|4|chard|1\nT|4\n");
        let candidate = super::super::delimited::with(&lines, "|").unwrap();
        let types = delimited(&candidate).unwrap();
        let names: Vec<(&str, usize)> = types.iter().map(|t| (t.name.as_str(), t.fields)).collect();
        assert_eq!(names, [("h", 3), ("d", 4), ("t", 2)]);
        assert_eq!(types[1].condition, "field(1) = 'D'");
    }

    #[test]
    fn a_table_of_few_words_is_of_one_type() {
        let lines = lines("a|1|x\nb|2|y\na|3|\nb|4|z\na|5|x\nb|6|y\n");
        let candidate = super::super::delimited::with(&lines, "|").unwrap();
        assert_eq!(delimited(&candidate), None);
    }

    #[test]
    fn lines_that_come_in_turn_are_told_apart() {
        let text = "ALPHA ONE\n1 00010U 31001.5 -.0001\n2 00010  51.6 247.4\nBETA\n1 00011U 31002.5  .0002\n2 00011  98.7 100.1\n";
        let types = fixed(&lines(text)).unwrap();
        let told: Vec<&str> = types.iter().map(|t| t.condition.as_str()).collect();
        assert_eq!(
            told,
            [
                "not slice(1, 2) in ('1 ', '2 ')",
                "slice(1, 2) = '1 '",
                "slice(1, 2) = '2 '"
            ]
        );
    }

    #[test]
    fn a_first_character_goes_with_a_width() {
        let text =
            "D2031-04-01Ada Moor \nT000112.50\nT000207.75\nD2031-04-02Ivy Sedge\nT000301.00\n";
        let types = fixed(&lines(text)).unwrap();
        assert_eq!(types.len(), 2);
        assert_eq!(types[0].condition, "slice(1, 1) = 'D'");
        assert_eq!(types[0].spots[0], (0, 1));
    }
}
