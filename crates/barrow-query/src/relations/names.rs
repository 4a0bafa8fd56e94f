//! What the names of columns say: whether one is a key, and of which table.

/// Endings of names that are those of keys.
const ENDINGS: [&str; 8] = ["id", "code", "key", "no", "nr", "number", "num", "uuid"];

/// Names of a key that say nothing of its table.
const GENERIC: [&str; 9] = [
    "id", "code", "key", "no", "nr", "number", "name", "num", "uuid",
];

/// Columns that refer to a row of their own table, as people name them.
const OF_OWN_TABLE: [&str; 7] = [
    "parent",
    "manager",
    "reportsto",
    "supervisor",
    "boss",
    "replaces",
    "follows",
];

/// Words that tables' names begin or end with, and that say nothing of what is in them.
const OF_NO_MEANING: [&str; 16] = [
    "tbl", "tb", "t", "table", "dim", "fact", "fct", "stg", "staging", "raw", "src", "ref",
    "export", "extract", "dump", "data",
];

/// So many tables make a word at the beginning or end of their names one of no meaning, if
/// they are half of all.
const SEVERAL: usize = 3;

/// How a name tells of another table's key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Says {
    /// It ends as the key's name does.
    Ending,
    /// It is the key's name, which is of no other table.
    Key,
    /// It is the table's name, with the key's.
    Table,
}

/// The names of tables without the words that many of them begin or end with, such as `tbl` in
/// `tbl_growers` or a year behind each.
pub fn stems(names: &[&str]) -> Vec<String> {
    let bare = |name: &str| name.rsplit('.').next().unwrap_or(name).to_lowercase();
    let words: Vec<Vec<String>> = names
        .iter()
        .map(|name| bare(name).split('_').map(String::from).collect())
        .collect();
    let is_shared = |end: fn(&[String]) -> Option<&String>, word: &String| {
        let alike = words
            .iter()
            .filter(|words| words.len() > 1 && end(words) == Some(word));
        let alike = alike.count();
        alike >= SEVERAL && alike * 2 >= words.len()
    };
    let says_nothing = |end: fn(&[String]) -> Option<&String>, word: &String| {
        OF_NO_MEANING.contains(&word.as_str()) || is_shared(end, word)
    };
    let stem = |words: &Vec<String>| {
        let mut rest = words.as_slice();
        while let [first, others @ ..] = rest
            && !others.is_empty()
            && says_nothing(<[String]>::first, first)
        {
            rest = others;
        }
        while let [others @ .., last] = rest
            && !others.is_empty()
            && says_nothing(<[String]>::last, last)
        {
            rest = others;
        }
        rest.join("_")
    };
    words.iter().map(stem).collect()
}

/// The letters and digits alone, in lower case.
pub fn plain(name: &str) -> String {
    name.chars()
        .filter(|c| c.is_alphanumeric())
        .flat_map(char::to_lowercase)
        .collect()
}

/// A table's name for one of its rows, in the English way, and the name itself.
pub fn singulars(table: &str) -> Vec<String> {
    let name = plain(table.rsplit('.').next().unwrap_or(table));
    let mut forms = vec![name.clone()];
    if let Some(stem) = name.strip_suffix("ies") {
        forms.push(format!("{stem}y"));
    }
    if let Some(stem) = name.strip_suffix("es") {
        forms.push(stem.to_string());
    }
    if let Some(stem) = name.strip_suffix('s') {
        forms.push(stem.to_string());
    }
    forms
}

/// Whether a name, its letters and digits alone, ends as those of keys do.
pub fn has_ending(name: &str) -> bool {
    ENDINGS.iter().any(|ending| name.ends_with(ending))
}

/// Whether such a name begins with that of the table, or of one of its rows.
pub fn begins_with_table(name: &str, table: &str) -> bool {
    singulars(table)
        .iter()
        .any(|stem| name.starts_with(stem.as_str()))
}

/// Whether a column may be a key by its name: for its table, or by its ending.
pub fn is_of_key(column: &str, table: &str) -> bool {
    let name = plain(column);
    has_ending(&name) || singulars(table).contains(&name)
}

/// Whether a key's name says nothing of its table.
pub fn is_generic(key: &str) -> bool {
    GENERIC.contains(&plain(key).as_str())
}

/// Whether a column refers to a row of its own table by its name.
pub fn is_of_own_table(column: &str) -> bool {
    let name = plain(column);
    OF_OWN_TABLE.iter().any(|own| name.contains(own))
}

/// What the name of a column says of the key of a table.
pub fn says(column: &str, table: &str, key: &str) -> Option<Says> {
    let (column, key_name) = (plain(column), plain(key));
    let of_table = |stem: &String| {
        let is_stem = column == *stem || column == format!("{stem}{key_name}");
        let rest = column.strip_prefix(stem.as_str());
        is_stem || rest.is_some_and(|rest| ENDINGS.contains(&rest))
    };
    let stems = singulars(table);
    let stem_in_key = stems.iter().any(|stem| key_name.starts_with(stem.as_str()));
    if stems.iter().any(of_table) || (column == key_name && stem_in_key) {
        return Some(Says::Table);
    }
    if column == key_name && !is_generic(key) {
        return Some(Says::Key);
    }
    let ends = |end: &str| end.len() > 2 && column.len() > end.len() && column.ends_with(end);
    let with_key = |stem: &String| ends(&format!("{stem}{key_name}")) || ends(stem);
    let is_ending = (!is_generic(key) && ends(&key_name)) || stems.iter().any(with_key);
    is_ending.then_some(Says::Ending)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_many_names_begin_or_end_with_says_nothing() {
        for (names, wanted) in [
            (vec!["tbl_growers", "crops"], vec!["growers", "crops"]),
            (vec!["m.dim_day", "m.fact_sales"], vec!["day", "sales"]),
            (
                vec![
                    "tl_growers_2031",
                    "tl_crops_2031",
                    "tl_stalls_2031",
                    "notes",
                ],
                vec!["growers", "crops", "stalls", "notes"],
            ),
            // Two are not many; a name is never taken away whole.
            (
                vec!["box_a", "box_b", "t", "data"],
                vec!["box_a", "box_b", "t", "data"],
            ),
        ] {
            assert_eq!(stems(&names), wanted);
        }
    }

    #[test]
    fn names_tell_of_keys() {
        for (column, table, key, wanted) in [
            ("grower_id", "growers", "id", Some(Says::Table)),
            ("growerId", "growers", "grower_id", Some(Says::Table)),
            ("grower", "growers", "name", Some(Says::Table)),
            (
                "delivery_id",
                "deliveries",
                "delivery_id",
                Some(Says::Table),
            ),
            ("stall_no", "places", "stall_no", Some(Says::Key)),
            ("id", "growers", "id", None),
            (
                "sold_by_grower_id",
                "growers",
                "grower_id",
                Some(Says::Ending),
            ),
            ("first_grower", "growers", "id", Some(Says::Ending)),
            ("price", "growers", "id", None),
            ("box_no", "growers", "id", None),
        ] {
            assert_eq!(says(column, table, key), wanted, "{column} {table} {key}");
        }
    }
}
