//! Names for columns, made from those of a header.

use std::collections::HashSet;

/// Words that many databases keep for themselves; a name that is one gets an
/// underscore, so that nobody has to quote it.
const KEPT: &[&str] = &[
    "all",
    "and",
    "as",
    "by",
    "case",
    "check",
    "column",
    "default",
    "desc",
    "distinct",
    "end",
    "from",
    "group",
    "in",
    "index",
    "into",
    "is",
    "key",
    "limit",
    "not",
    "null",
    "on",
    "or",
    "order",
    "primary",
    "references",
    "select",
    "table",
    "then",
    "to",
    "union",
    "unique",
    "user",
    "using",
    "values",
    "when",
    "where",
    "with",
];

/// Names fit for SQL, each once: small letters, digits and underscores.
pub fn fit(header: &[String]) -> Vec<String> {
    let mut taken = HashSet::new();
    header
        .iter()
        .enumerate()
        .map(|(place, name)| {
            let base = one(name, place);
            let mut free = base.clone();
            let mut number = 2;
            while !taken.insert(free.clone()) {
                free = format!("{base}_{number}");
                number += 1;
            }
            free
        })
        .collect()
}

/// A table's name from the names of its files: the whole of one, what several have in
/// common.
///
/// ```
/// use barrow_core::draft::table_name;
///
/// assert_eq!(table_name(&["auto-mpg2.csv".into()]), "auto_mpg2");
/// assert_eq!(table_name(&["sales-w1.csv.gz".into(), "sales-w2.csv.gz".into()]), "sales");
/// ```
pub fn table_name(files: &[String]) -> String {
    let stems: Vec<&str> = files.iter().map(|file| stem(file)).collect();
    let first = stems.first().copied().unwrap_or_default();
    let common = match stems.len() {
        0 | 1 => first,
        _ => {
            let length = first
                .char_indices()
                .map(|(at, c)| at + c.len_utf8())
                .take_while(|end| {
                    stems
                        .iter()
                        .all(|stem| stem.get(..*end) == first.get(..*end))
                })
                .last()
                .unwrap_or(0);
            // A name that several go on from ends before its last mark.
            let whole = &first[..length];
            let cut = whole.rfind(|c: char| !c.is_alphanumeric());
            match cut.filter(|at| *at > 0 && stems.iter().any(|stem| stem.len() > length)) {
                Some(at) => &whole[..at],
                None => whole.trim_end_matches(|c: char| c.is_ascii_digit()),
            }
        }
    };
    let name = one(if common.is_empty() { first } else { common }, 0);
    match name.strip_prefix("c_") {
        Some(rest) if rest.starts_with(char::is_numeric) => format!("t_{rest}"),
        _ if name == "column_1" => "t".into(),
        _ => name,
    }
}

/// A file's name without what says how it is packed and laid out.
fn stem(file: &str) -> &str {
    const PACKED: [&str; 5] = [".gz", ".zst", ".bz2", ".xz", ".z"];
    let lower = file.to_ascii_lowercase();
    let packed = PACKED.iter().find(|end| lower.ends_with(**end));
    let bare = packed.map_or(file, |end| &file[..file.len() - end.len()]);
    match bare.rfind('.') {
        Some(at) if at > 0 => &bare[..at],
        _ => bare,
    }
}

fn one(name: &str, place: usize) -> String {
    let mut out = String::new();
    for c in name.trim().chars() {
        if c.is_alphanumeric() {
            out.extend(c.to_lowercase());
        } else if !out.ends_with('_') && !out.is_empty() {
            out.push('_');
        }
    }
    let out = out.trim_end_matches('_');
    match out.chars().next() {
        None => format!("column_{}", place + 1),
        Some(c) if c.is_numeric() => format!("c_{out}"),
        Some(_) if KEPT.contains(&out) => format!("{out}_"),
        Some(_) => out.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_fit_and_unique() {
        let header = [
            "Grower name",
            " Weight (kg) ",
            "2031",
            "order",
            "",
            "grower_name",
            "Größe",
        ];
        let header = header.map(String::from);
        let wanted = [
            "grower_name",
            "weight_kg",
            "c_2031",
            "order_",
            "column_5",
            "grower_name_2",
            "größe",
        ];
        assert_eq!(fit(&header), wanted);
    }
}
