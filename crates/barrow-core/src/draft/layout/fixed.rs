//! Where the fields of set widths stand.
//!
//! A column of spaces parts two fields, even where a few values run over it. Where no
//! spaces part them, a change from digits to letters does, in lines that are all as long.

use super::super::value_kind::ValueKind;
use super::header::{self, Verdict};
use crate::escape::escape_for_display;

/// Wider lines are no listing.
const WIDEST: usize = 8_192;

/// Lines above the header, at the most.
const MOST_TITLES: usize = 6;

/// A field's first character, from 0, and its width.
pub type Spot = (usize, usize);

/// A listing of set widths.
#[derive(Debug, Clone)]
pub struct Found {
    /// Lines above the header, or above the records where there is none.
    pub preamble: usize,
    /// The header's names, if there is one.
    pub header: Option<Vec<String>>,
    /// Why the first line is a header, where that is not plain; or that nothing tells.
    pub doubt: Option<String>,
    /// A first line that is taken for a title.
    pub title: Option<String>,
    /// The fields.
    pub spots: Vec<Spot>,
    /// Whether lines end early.
    pub is_ragged: bool,
    /// The share of lines that nothing runs over in, in percent.
    pub share: u64,
    /// Some lines under a ruler.
    pub ruler: Vec<String>,
}

/// Finds the fields of set widths of some lines.
pub fn find(lines: &[String]) -> Option<Found> {
    let rows: Vec<(usize, Vec<char>)> = lines
        .iter()
        .enumerate()
        .filter(|(_, line)| !line.trim().is_empty())
        .map(|(place, line)| (place, line.trim_end().chars().collect()))
        .collect();
    if rows.len() < 2 || rows.iter().any(|(_, row)| row.contains(&'\t')) {
        return None;
    }
    // The first line may be a header, whose words stand where they like.
    let least = usize::from(rows.len() > 2);
    let most = MOST_TITLES.min(rows.len().saturating_sub(3)).max(least);
    (least..=most).find_map(|above| {
        let body: Vec<&[char]> = rows[above..]
            .iter()
            .map(|(_, row)| row.as_slice())
            .collect();
        let head = above.checked_sub(1).map(|line| rows[line].1.as_slice());
        let spots = spots_below(&body, head)?;
        Some(finish(lines, &rows, above, spots))
    })
}

fn finish(lines: &[String], rows: &[(usize, Vec<char>)], above: usize, spots: Vec<Spot>) -> Found {
    let mut above = above;
    let parted = parted(&rows[above..], &spots);
    let mut header = None;
    let mut doubt = None;
    let mut title = None;
    let mut preamble = rows[above].0;
    let is_rule = |row: &[char]| {
        row.iter()
            .all(|c| matches!(c, '-' | '=' | '+' | '_' | ' ' | '|'))
    };
    if above > 0 {
        let ruled = usize::from(is_rule(&rows[above].1));
        let body: Vec<Vec<String>> = rows[above + ruled..]
            .iter()
            .take(1_000)
            .map(|(_, row)| cells(row, &spots))
            .collect();
        let body: Vec<&[String]> = body.iter().map(Vec::as_slice).collect();
        let line = above - 1;
        let names = names(&rows[line].1, &spots);
        let cut = cells(&rows[line].1, &spots);
        let filled = cut.iter().filter(|cell| !cell.is_empty()).count();
        let is_title = ruled == 0 && filled * 2 < spots.len();
        let verdict = match (ruled, header::judge(&cut, &body)) {
            // What fills less than half of the fields is no record.
            _ if is_title => {
                title = Some(lines[rows[line].0].clone());
                Verdict::Record
            }
            (1, _) => Verdict::Header,
            // A line that runs over where no record does is none.
            (_, Verdict::Unknown) if runs_over(&rows[line].1, &parted) => Verdict::Header,
            (_, verdict) => verdict,
        };
        match verdict {
            Verdict::Header | Verdict::LikelyHeader(_) => {
                // What stands between the header and the records is passed over as one.
                preamble = match ruled {
                    1 => rows[above].0,
                    _ => rows[line].0,
                };
                above += ruled;
                header = Some(names);
                if let Verdict::LikelyHeader(why) = verdict {
                    doubt = Some(why);
                }
            }
            Verdict::Unknown => {
                preamble = rows[line].0;
                above = line;
                doubt = Some(String::new());
            }
            Verdict::Record if is_title => {}
            Verdict::Record => {
                preamble = rows[line].0;
                above = line;
            }
        }
    }
    let body = &rows[above..];
    let width = spots.last().map_or(0, |(start, width)| start + width);
    let runs = body
        .iter()
        .filter(|(_, row)| runs_over(row, &parted))
        .count();
    let shortest = lines[body[0].0..]
        .iter()
        .filter(|line| !line.trim().is_empty())
        .map(|line| line.chars().count())
        .min()
        .unwrap_or(0);
    let shown: Vec<&[char]> = body.iter().map(|(_, row)| row.as_slice()).collect();
    Found {
        preamble,
        header,
        doubt,
        title,
        is_ragged: shortest < width,
        share: ((body.len() - runs) * 100 / body.len().max(1)) as u64,
        ruler: ruler(&spots, &shown),
        spots,
    }
}

/// The fields of lines that all are records; none if nothing parts them.
pub fn spots(rows: &[&[char]]) -> Option<Vec<Spot>> {
    spots_below(rows, None)
}

/// The same below a line that may be a header, whose words need room too.
fn spots_below(rows: &[&[char]], head: Option<&[char]>) -> Option<Vec<Spot>> {
    let width = rows.iter().map(|row| row.len()).max()?;
    if !(4..=WIDEST).contains(&width) {
        return None;
    }
    let at = |row: &[char], place: usize| row.get(place).copied().unwrap_or(' ');
    let count = |place: usize, is: &dyn Fn(char) -> bool| {
        rows.iter().filter(|row| is(at(row, place))).count()
    };
    let may_run_over = match rows.len() {
        0..12 => 0,
        12..40 => 1,
        many => many * 3 / 100,
    };
    let is_space = |c: char| c.is_whitespace();
    let gap: Vec<bool> = (0..width)
        .map(|place| count(place, &is_space) + may_run_over >= rows.len())
        .collect();
    let runs = runs(&gap, |place| {
        let beyond = rows.iter().filter(|row| row.len() > place).count();
        // A space within the one long text at the end parts nothing.
        // Nor does one that stands where a few names happen to have theirs.
        let letters = count(place, &|c: char| c.is_alphabetic());
        let filled = rows.len() - count(place, &is_space);
        let is_inner = filled > 0
            && filled * 2 < rows.len()
            && letters == filled
            && !gap[place.saturating_sub(2)];
        beyond >= 2 && beyond * 5 >= rows.len() && !is_inner
    });
    let lengths: Vec<usize> = rows.iter().map(|row| row.len()).collect();
    let are_alike =
        lengths.iter().filter(|length| **length == width).count() * 10 >= rows.len() * 9;
    let share = |place: usize, is: &dyn Fn(char) -> bool| count(place, is) * 100 / rows.len();
    let parts = |place: usize| {
        let before = place - 1;
        let digits = share(before, &|c: char| c.is_ascii_digit()) == 100;
        let letters = share(before, &|c: char| c.is_alphabetic()) >= 60;
        let spaces = share(before, &is_space);
        let is_full = share(place, &is_space) == 0;
        let filled = 100 - spaces;
        let is_text = share(before, &|c: char| c.is_alphabetic()) * 10 >= filled * 8;
        let text_to_number = spaces >= 60 && is_full && is_text;
        let to_letter = digits && share(place, &|c: char| c.is_alphabetic()) >= 60;
        let to_digit =
            letters && spaces == 0 && is_full && share(place, &|c: char| c.is_ascii_digit()) == 100;
        text_to_number || (runs.len() < 3 && (to_letter || to_digit))
    };
    let mut fields: Vec<(usize, usize)> = Vec::new();
    for (start, end) in &runs {
        let mut from = *start;
        if are_alike && rows.len() > 1 {
            for place in start + 1..*end {
                if parts(place) {
                    fields.push((from, place));
                    from = place;
                }
            }
        }
        fields.push((from, *end));
    }
    if fields.len() < 2 {
        return None;
    }
    let column = |field: &(usize, usize)| -> Vec<String> {
        let cell = |row: &&[char]| {
            row.iter()
                .skip(field.0)
                .take(field.1 - field.0)
                .collect::<String>()
        };
        rows.iter().map(cell).collect()
    };
    let is_typed = |field: &(usize, usize)| {
        let cells = column(field);
        let kinds = cells
            .iter()
            .map(|cell| ValueKind::of(cell))
            .filter(|kind| kind.is_value());
        let kinds: Vec<ValueKind> = kinds.collect();
        let typed = kinds
            .iter()
            .filter(|kind| **kind != ValueKind::Text)
            .count();
        !kinds.is_empty() && typed * 10 >= kinds.len() * 9
    };
    // Words of prose stand below each other by chance; numbers do not.
    let wide_gap = |pair: &[(usize, usize)]| pair[1].0 >= pair[0].1 + 2;
    let is_listing = are_alike && rows.len() > 2
        || fields.iter().any(is_typed)
        || (rows.len() >= 8 && fields.windows(2).any(wide_gap));
    if !is_listing || (rows.len() < 3 && !are_alike) {
        return None;
    }
    if let Some(head) = head {
        make_room(&mut fields, head);
    }
    let width = fields.last().map_or(width, |(_, end)| width.max(*end));
    Some(bounds(rows, &fields, width))
}

/// The stretches that are no gap. `parts` says whether enough lines go on so far.
fn runs(gap: &[bool], parts: impl Fn(usize) -> bool) -> Vec<(usize, usize)> {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for (place, is_gap) in gap.iter().enumerate() {
        match runs.last_mut() {
            _ if *is_gap => {}
            Some((_, end)) if *end == place || !parts(place) => *end = place + 1,
            _ => runs.push((place, place + 1)),
        }
    }
    runs
}

/// Widens fields by the words of a header, where they are as many and stand over them.
fn make_room(fields: &mut [(usize, usize)], head: &[char]) {
    let gap: Vec<bool> = head.iter().map(|c| c.is_whitespace()).collect();
    let words = runs(&gap, |_| true);
    if words.len() != fields.len() {
        return;
    }
    let wide = fields
        .iter()
        .zip(&words)
        .map(|(a, b)| (a.0.min(b.0), a.1.max(b.1)));
    let wide: Vec<(usize, usize)> = wide.collect();
    if wide.windows(2).all(|pair| pair[0].1 <= pair[1].0) {
        fields.copy_from_slice(&wide);
    }
}

/// Where each field's room begins and ends: what stands right grows to the left, what
/// stands left to the right.
fn bounds(rows: &[&[char]], fields: &[(usize, usize)], width: usize) -> Vec<Spot> {
    let stands_right = |(start, end): (usize, usize)| {
        let filled = |place: usize| {
            rows.iter()
                .filter(|row| row.get(place).is_some_and(|c| !c.is_whitespace()))
                .count()
        };
        filled(end - 1) > filled(start)
    };
    let mut starts = vec![0];
    for pair in fields.windows(2) {
        let ((_, end), (start, _)) = (pair[0], pair[1]);
        starts.push(match (stands_right(pair[0]), stands_right(pair[1])) {
            _ if start == end => start,
            // A line may end where a number does.
            (true, _) => end,
            (false, false) => start,
            (false, true) => end + (start - end).div_ceil(2),
        });
    }
    let ends = starts.iter().skip(1).copied().chain([width]);
    starts
        .iter()
        .copied()
        .zip(ends)
        .map(|(start, end)| (start, end - start))
        .collect()
}

fn cells(row: &[char], spots: &[Spot]) -> Vec<String> {
    let cell = |(start, width): &Spot| {
        let text: String = row.iter().skip(*start).take(*width).collect();
        text.trim().to_string()
    };
    spots.iter().map(cell).collect()
}

/// The starts of fields that spaces part from the field before, in nearly all lines.
fn parted(rows: &[(usize, Vec<char>)], spots: &[Spot]) -> Vec<usize> {
    let is_parted = |start: &usize| {
        let runs = rows.iter().filter(|(_, row)| goes_on(row, *start));
        runs.count() * 5 <= rows.len()
    };
    let starts = spots.iter().skip(1).map(|(start, _)| *start);
    starts.filter(is_parted).collect()
}

/// Whether something stands right before a place, and at it.
fn goes_on(row: &[char], place: usize) -> bool {
    let filled = |place: usize| row.get(place).is_some_and(|c| !c.is_whitespace());
    place > 0 && filled(place - 1) && filled(place)
}

/// Whether a value goes on from one field into the next.
fn runs_over(row: &[char], parted: &[usize]) -> bool {
    parted.iter().any(|start| goes_on(row, *start))
}

/// A header's names: as they stand over the fields, or one word after the other where
/// they are as many.
fn names(row: &[char], spots: &[Spot]) -> Vec<String> {
    let line: String = row.iter().collect();
    let words: Vec<String> = line.split_whitespace().map(String::from).collect();
    let starts: Vec<usize> = spots.iter().skip(1).map(|(start, _)| *start).collect();
    if words.len() == spots.len() && runs_over(row, &starts) {
        return words;
    }
    cells(row, spots)
}

/// Some lines under a ruler, with a mark where each field starts.
pub fn ruler(spots: &[Spot], rows: &[&[char]]) -> Vec<String> {
    let width = spots.last().map_or(0, |(start, width)| start + width);
    let mut tens = String::new();
    let mut marks = String::new();
    for place in 0..width {
        tens.push(match (place + 1) % 10 {
            0 => char::from_digit(((place + 1) / 10 % 10) as u32, 10).unwrap_or('0'),
            5 => '+',
            _ => '.',
        });
        marks.push(if spots.iter().any(|(start, _)| *start == place) {
            '^'
        } else {
            ' '
        });
    }
    let shown = rows
        .iter()
        .take(3)
        .map(|row| escape_for_display(row.iter().collect::<String>().as_bytes()));
    [tens]
        .into_iter()
        .chain(shown)
        .chain([marks.trim_end().to_string()])
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str) -> Found {
        let lines: Vec<String> = text.lines().map(String::from).collect();
        find(&lines).unwrap_or_else(|| panic!("nothing found in\n{text}"))
    }

    fn starts(found: &Found) -> Vec<usize> {
        found.spots.iter().map(|(start, _)| *start).collect()
    }

    #[test]
    fn columns_of_spaces_part_fields() {
        let listing = "product       crates  price\ncarrots           12   1.50\nsweet peas         7  12.25\n\
                       leeks            110   0.75\n";
        let found = found(listing);
        assert_eq!(
            found.header.as_deref().unwrap(),
            ["product", "crates", "price"]
        );
        assert_eq!(found.preamble, 0);
        assert_eq!(found.spots.len(), 3);
        let rows: Vec<Vec<char>> = listing
            .lines()
            .skip(1)
            .map(|l| l.chars().collect())
            .collect();
        assert_eq!(cells(&rows[1], &found.spots), ["sweet peas", "7", "12.25"]);
    }

    #[test]
    fn lines_may_end_with_a_number_and_begin_with_a_title() {
        let found = found(
            "total 12\ncarrots    12 kg\nleeks     110\npeas        7 kg\nchard       3 kg\n",
        );
        assert_eq!((found.preamble, found.header), (1, None));
        assert_eq!(found.title.as_deref(), Some("total 12"));
        // The number ends where the second record does.
        assert_eq!(found.spots[1].0 + found.spots[1].1, 13);
    }

    #[test]
    fn a_ruled_header_is_passed_over() {
        let found = found("name    kg\n------- --\nAda      1\nIvy     12\nBo       3\n");
        assert_eq!(found.header.as_deref().unwrap(), ["name", "kg"]);
        assert_eq!(found.preamble, 1);
    }

    #[test]
    fn digits_and_letters_part_where_no_spaces_do() {
        let found =
            found("0001Ada Moor    0012.50\n0002Bram        0150.00\n0003Ivy         0007.75\n");
        assert_eq!(starts(&found), [0, 4, 16]);
        assert!(found.header.is_none());
    }

    #[test]
    fn a_few_values_may_run_over() {
        let mut text = String::new();
        for n in 0..60 {
            text += &format!(
                "{:<10} {:>5}\n",
                if n == 30 { "a very long one" } else { "grower" },
                n
            );
        }
        let found = found(&text);
        assert_eq!(found.spots.len(), 2);
        assert!(found.share < 100 || found.spots[0].1 >= 10);
    }

    #[test]
    fn prose_is_no_listing() {
        let text = "It came in the morning, and\nnobody had seen it before.\nThe growers went home late,\n\
                    since there was much to do.\nThen all was quiet again.\n";
        let lines: Vec<String> = text.lines().map(String::from).collect();
        assert!(find(&lines).is_none());
    }
}
