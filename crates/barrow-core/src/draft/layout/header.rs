//! Whether a first line names the columns.

use std::collections::{HashMap, HashSet};

use super::super::value_kind::ValueKind;

/// How many rows a header is compared with, at the most.
const ROWS: usize = 1_000;

/// Words that stand in headers everywhere, and in values hardly ever.
const USUAL: &[&str] = &[
    "id",
    "name",
    "code",
    "type",
    "date",
    "time",
    "year",
    "month",
    "day",
    "value",
    "count",
    "title",
    "description",
    "status",
    "address",
    "city",
    "state",
    "country",
    "region",
    "zip",
    "email",
    "phone",
    "price",
    "amount",
    "quantity",
    "total",
    "category",
    "group",
    "label",
    "key",
    "number",
    "no",
    "note",
    "notes",
    "comment",
    "comments",
    "latitude",
    "longitude",
    "lat",
    "lon",
    "lng",
    "url",
    "first_name",
    "last_name",
    "firstname",
    "lastname",
    "surname",
    "gender",
    "sex",
    "age",
    "unit",
    "currency",
    "version",
    "file",
    "path",
    "parent",
    "level",
    "size",
    "length",
    "width",
    "source",
    "class",
    "species",
    "abbreviation",
    "word",
    "text",
    "rank",
    "score",
];

/// What a first line is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Verdict {
    /// The header: what says so is plain.
    Header,
    /// The header, for this reason alone.
    LikelyHeader(String),
    /// A record.
    Record,
    /// A record, though nothing tells.
    Unknown,
}

/// Decides on a first line by the rows below it.
pub fn judge(head: &[String], rows: &[&[String]]) -> Verdict {
    let rows = &rows[..rows.len().min(ROWS)];
    if head.iter().all(|name| !ValueKind::of(name).is_value()) {
        return Verdict::Record;
    }
    if rows.is_empty() {
        let all = head
            .iter()
            .all(|name| ValueKind::of(name) == ValueKind::Text);
        return if all {
            Verdict::Header
        } else {
            Verdict::Unknown
        };
    }
    let columns: Vec<Column> = (0..head.len())
        .map(|place| Column::of(place, rows))
        .collect();
    let (mut yes, mut no) = (0, 0);
    for (name, column) in head.iter().zip(&columns) {
        match (column.kind, ValueKind::of(name)) {
            // No header says that a name is missing.
            (Some(_), ValueKind::Null) => no += 1,
            (Some(kind), found) if found.is_value() => match kind == found {
                true => no += 1,
                false => yes += 1,
            },
            _ => {}
        }
    }
    if is_series(head, rows) {
        return Verdict::Header;
    }
    match (yes, no) {
        (1.., 0) => return Verdict::Header,
        // One word among numbers is rather a fault of the record.
        (yes, no) if yes > no => return Verdict::Header,
        (_, 1..) => return Verdict::Record,
        _ => {}
    }
    by_words(head, &columns)
}

/// What a column of the rows is like.
struct Column<'r> {
    /// What nearly all of its values are, if that is no text.
    kind: Option<ValueKind>,
    values: Vec<&'r str>,
}

impl Column<'_> {
    fn of<'r>(place: usize, rows: &[&'r [String]]) -> Column<'r> {
        let all = rows.iter().filter_map(|row| row.get(place));
        let values: Vec<&str> = all
            .map(String::as_str)
            .filter(|text| ValueKind::of(text).is_value())
            .collect();
        let often = |kind: ValueKind| {
            let alike = values.iter().filter(|text| ValueKind::of(text) == kind);
            !values.is_empty() && alike.count() * 10 >= values.len() * 9
        };
        let kinds = [ValueKind::Number, ValueKind::Moment];
        Column {
            kind: kinds.into_iter().find(|kind| often(*kind)),
            values,
        }
    }

    /// Why a name is no value of this column of texts; none if it may be one.
    fn tells(&self, name: &str) -> Option<&'static str> {
        let name = name.trim();
        if self.values.len() < 3 || ValueKind::of(name) != ValueKind::Text {
            return None;
        }
        let nearly = |is: &dyn Fn(&str) -> bool| {
            let alike = self.values.iter().filter(|text| is(text.trim())).count();
            alike * 100 >= self.values.len() * 98
        };
        let length = self.values[0].trim().chars().count();
        if nearly(&|text| text.chars().count() == length) && name.chars().count() != length {
            return Some("has another length than all values below it");
        }
        let has_digit = |text: &str| text.chars().any(|c| c.is_ascii_digit());
        if nearly(&has_digit) && !has_digit(name) {
            return Some("has no digit, as all values below it have");
        }
        let starts_large = |text: &str| text.chars().next().is_some_and(char::is_uppercase);
        let starts_small = |text: &str| text.chars().next().is_some_and(char::is_lowercase);
        if (nearly(&starts_large) && starts_small(name))
            || (nearly(&starts_small) && starts_large(name))
        {
            return Some("is not written in the case of the values below it");
        }
        let is_large = |text: &str| !text.chars().any(char::is_lowercase);
        let has_small = |text: &str| text.chars().any(char::is_lowercase);
        if nearly(&has_small) && is_large(name) && name.chars().count() > 1 {
            return Some("is in capitals, as no value below it is");
        }
        if self.is_of_few(name) {
            return Some("is none of the few values that come again and again below it");
        }
        let has_mark = |text: &str| text.contains(['/', '@', ':', '\\']);
        if nearly(&has_mark) && !has_mark(name) {
            return Some("has no such signs as all values below it");
        }
        None
    }
}

impl Column<'_> {
    /// Whether every value comes again and again, and a name is none of them.
    fn is_of_few(&self, name: &str) -> bool {
        let mut times: HashMap<&str, usize> = HashMap::new();
        for value in &self.values {
            *times.entry(value.trim()).or_default() += 1;
        }
        self.values.len() >= 20
            && times.len() * 5 <= self.values.len()
            && times.values().all(|times| *times > 1)
            && !times.contains_key(name)
    }
}

/// Where all columns are texts, a name is told by its words.
fn by_words(head: &[String], columns: &[Column]) -> Verdict {
    let mut seen = HashSet::new();
    let is_fit = |name: &String| {
        let name = name.trim();
        name.is_empty() || (name.chars().count() <= 100 && ValueKind::of(name) == ValueKind::Text)
    };
    if !head.iter().all(is_fit) {
        return Verdict::Unknown;
    }
    let among = |(name, column): (&String, &Column)| {
        !name.trim().is_empty() && column.values.contains(&name.as_str())
    };
    let usual = |name: &&String| USUAL.contains(&name.trim().to_lowercase().as_str());
    let several = head.iter().filter(usual).count() > 1;
    if !several && head.iter().zip(columns).any(among) {
        return Verdict::Record;
    }
    if !head
        .iter()
        .all(|name| name.trim().is_empty() || seen.insert(name.trim().to_lowercase()))
    {
        return Verdict::Unknown;
    }
    let quote = |name: &str| {
        format!(
            "\"{}\"",
            crate::escape::escape_for_display(name.trim().as_bytes())
        )
    };
    for name in head {
        if USUAL.contains(&name.trim().to_lowercase().as_str()) {
            return Verdict::LikelyHeader(format!("{} is a usual name", quote(name)));
        }
    }
    if let Some((first, second)) = compounds(head, columns) {
        return Verdict::LikelyHeader(format!(
            "{} and {} are written as names of columns are, and no value below them is",
            quote(first),
            quote(second)
        ));
    }
    for (name, column) in head.iter().zip(columns) {
        if let Some(why) = column.tells(name) {
            return Verdict::LikelyHeader(format!("{} {why}", quote(name)));
        }
    }
    Verdict::Unknown
}

/// The first two names of several words in one, over values that are none.
fn compounds<'h>(head: &'h [String], columns: &[Column]) -> Option<(&'h str, &'h str)> {
    let is_one = |(name, column): &(&String, &Column)| {
        is_compound(name) && !column.values.iter().any(|value| is_compound(value))
    };
    let mut found = head.iter().zip(columns).filter(is_one);
    let (first, second) = (found.next()?.0, found.next()?.0);
    Some((first, second))
}

/// Whether a text is several words in one, as `stall_no` and `stallNo` are.
fn is_compound(text: &str) -> bool {
    let text = text.trim();
    let is_word = |word: &str| !word.is_empty() && word.chars().all(char::is_alphanumeric);
    let begins = text.starts_with(|c: char| c.is_alphabetic() || c == '_');
    let mut words = text.trim_start_matches('_').split('_');
    if !begins || !words.clone().all(is_word) {
        return false;
    }
    let inner = |pair: (char, char)| pair.0.is_lowercase() && pair.1.is_uppercase();
    words.clone().count() > 1 || words.any(|word| word.chars().zip(word.chars().skip(1)).any(inner))
}

/// Whether the numbers of a first line are names in a row, such as years, over columns
/// that are no such row.
fn is_series(head: &[String], rows: &[&[String]]) -> bool {
    let series = |line: &[String]| {
        let numbers = |text: &String| text.trim().parse::<i64>().ok();
        let mut run = 0;
        let mut longest = 0;
        for pair in line.windows(2) {
            match (numbers(&pair[0]), numbers(&pair[1])) {
                (Some(a), Some(b)) if (b - a).abs() == 1 => run += 1,
                _ => run = 0,
            }
            longest = longest.max(run);
        }
        longest
    };
    let found = series(head);
    let others = rows.iter().filter(|row| series(row) >= found).count();
    found >= 2 && others * 10 <= rows.len() && (found + 1) * 2 > head.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judged(lines: &[&str]) -> Verdict {
        let split = |line: &&str| line.split(',').map(String::from).collect::<Vec<_>>();
        let all: Vec<Vec<String>> = lines.iter().map(split).collect();
        let rows: Vec<&[String]> = all[1..].iter().map(Vec::as_slice).collect();
        judge(&all[0], &rows)
    }

    fn is_header(lines: &[&str]) -> bool {
        matches!(judged(lines), Verdict::Header | Verdict::LikelyHeader(_))
    }

    #[test]
    fn words_over_numbers_and_dates_are_names() {
        assert_eq!(judged(&["grower,kg", "Ada,1.5", "Ivy,2"]), Verdict::Header);
        assert_eq!(judged(&[",kg", "Ada,1.5", "Ivy,2"]), Verdict::Header);
        assert_eq!(
            judged(&["day,x", "2031-04-01,a", "2031-04-02,b"]),
            Verdict::Header
        );
        assert_eq!(judged(&["Ada,3", "Ivy,1.5", "Bo,2"]), Verdict::Record);
        assert_eq!(
            judged(&["Ada,NA", "Ivy,1.5", "Bo,2"]),
            Verdict::Record.clone()
        );
    }

    #[test]
    fn years_and_days_in_a_row_are_names() {
        assert_eq!(
            judged(&["stall,2029,2030,2031", "a,12,15,9", "b,7,7,30"]),
            Verdict::Header
        );
        assert_eq!(
            judged(&["stall,2031-01-01,2031-01-02", "a,12,15", "b,7,7"]),
            Verdict::Header
        );
        assert_eq!(judged(&["a,1,2,3", "b,2,3,4", "c,7,8,9"]), Verdict::Record);
    }

    #[test]
    fn among_texts_what_differs_in_kind_is_a_name() {
        assert!(is_header(&["land,iso", "Norrey,NR", "Tansy,TA", "Fen,FE"]));
        assert!(is_header(&[
            "name,town",
            "Ada,Fen",
            "Ivy,Norrey",
            "Bo,Lane"
        ]));
        assert!(is_header(&[
            "grower,town",
            "Ada,Fen",
            "Ivy,Norrey",
            "Bo,Lane"
        ]));
        assert_eq!(
            judged(&["Ada,Fen", "Ivy,Norrey", "Bo,Lane", "Zoë,Moor"]),
            Verdict::Unknown
        );
        assert_eq!(judged(&["Ada,Fen", "Ivy,Fen", "Bo,Lane"]), Verdict::Record);
    }

    #[test]
    fn several_words_in_one_are_names_over_values_that_are_none() {
        for head in [
            "market_key,market_place",
            "marketKey,marketPlace",
            "_a_b,cD",
        ] {
            assert!(is_header(&[head, "TL,Tansy Lane"]), "{head}");
        }
        for lines in [
            // The values are such, too; one name tells too little.
            ["market_key,a_b", "tansy_lane,x_y"],
            ["market_key,place", "TL,Fen"],
            ["Tansy Lane,Ivy-May", "Fen,Ada"],
        ] {
            assert!(!is_header(&lines), "{lines:?}");
        }
    }
}
