//! Names for tables of ours that stand beside others.

use barrow_core::source::content::hash_of;

/// The name of a table of ours beside another, in the same schema. It is short enough
/// for any server, and no two tables have the same.
pub fn shadow_table(name: &str, ending: &str) -> String {
    let (schema, table) = match name.split_once('.') {
        Some((schema, table)) => (format!("{schema}."), table),
        None => (String::new(), name),
    };
    if table.len() <= LONGEST {
        return format!("{schema}{table}{ending}");
    }
    // The same from one version of the program to the next.
    let hash = hash_of(table.as_bytes());
    let fits = |(at, c): &(usize, char)| at + c.len_utf8() <= LONGEST;
    let short: String = table
        .char_indices()
        .take_while(fits)
        .map(|(_, c)| c)
        .collect();
    format!("{schema}{short}_{}{ending}", &hash[..8])
}

/// A table's name of so many bytes has room for an ending: PostgreSQL's names have 63
/// bytes, and the index of a key adds `_pkey`.
const LONGEST: usize = 28;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_beside_others_are_short_and_differ() {
        assert_eq!(shadow_table("d", "_barrow_new"), "d_barrow_new");
        assert_eq!(shadow_table("yard.d", "_barrow_new"), "yard.d_barrow_new");
        let long = |last: &str| shadow_table(&format!("{}{last}", "ü".repeat(30)), "_barrow_new");
        assert!(long("a").len() + "_pkey".len() <= 63, "{}", long("a"));
        assert_ne!(long("a"), long("b"));
    }
}
