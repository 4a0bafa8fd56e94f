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
