//! Other words of the trade for what a spec says: each is answered with the key or type
//! that is meant, and with the section that it belongs in.

/// A word that people try, the section of the key that is meant, and the key.
type Meant = (&'static str, &'static str, &'static str);

/// Keys by their other words. Words that are unlike the key's own, since those that are
/// like it are found by their likeness.
const KEYS: &[Meant] = &[
    ("separator", "[delimited]", "delimiter"),
    ("sep", "[delimited]", "delimiter"),
    ("field_separator", "[delimited]", "delimiter"),
    ("fields_terminated_by", "[delimited]", "delimiter"),
    ("quotechar", "[delimited]", "quote"),
    ("enclosure", "[delimited]", "quote"),
    ("enclosed_by", "[delimited]", "quote"),
    ("escapechar", "[delimited]", "escape"),
    ("charset", "[source]", "encoding"),
    ("character_set", "[source]", "encoding"),
    ("codepage", "[source]", "encoding"),
    ("path", "[source]", "files"),
    ("paths", "[source]", "files"),
    ("input", "[source]", "files"),
    ("packing", "[source]", "compression"),
    ("afterwards", "[source]", "after_load"),
    ("line_ending", "[records]", "ending"),
    ("newline", "[records]", "ending"),
    ("row_delimiter", "[records]", "ending"),
    ("skip", "[records]", "preamble"),
    ("skip_rows", "[records]", "preamble"),
    ("skip_lines", "[records]", "preamble"),
    ("skip_header", "[records]", "preamble"),
    ("footer", "[records]", "trailer"),
    ("skip_footer", "[records]", "trailer"),
    ("longest", "[records]", "max_record_size"),
    ("where", "[records]", "keep_if"),
    ("filter", "[records]", "keep_if"),
    ("na", "[values]", "null_values"),
    ("na_values", "[values]", "null_values"),
    ("null", "[values]", "null_values"),
    ("null_string", "[values]", "null_values"),
    ("null_words", "[values]", "null_values"),
    ("thousands", "[values]", "group_mark"),
    ("thousands_separator", "[values]", "group_mark"),
    ("decimal", "[values]", "decimal_mark"),
    ("decimal_separator", "[values]", "decimal_mark"),
    ("decimal_point", "[values]", "decimal_mark"),
    ("dateformat", "[values]", "date"),
    ("date_format", "[values]", "date"),
    ("timestamp_format", "[values]", "timestamp"),
    ("tz", "[values]", "time_zone"),
    ("timezone", "[values]", "time_zone"),
    ("zone", "[values]", "time_zone"),
    ("take_off", "[values]", "strip"),
    ("inner_blanks", "[values]", "inner_spaces"),
    ("controls", "[values]", "control_characters"),
    ("normal_form", "[values]", "unicode_form"),
    ("stand_in", "[source]", "replacement"),
    ("header_name", "[columns]", "from"),
    ("source", "[columns]", "from"),
    ("at", "[columns]", "position"),
    ("index", "[columns]", "position"),
    ("offset", "[columns]", "start"),
    ("size", "[columns]", "width"),
    ("pattern", "[columns]", "format"),
    ("form", "[columns]", "stored_as"),
    ("swap", "[columns]", "replace"),
    ("true_words", "[columns]", "true_values"),
    ("false_words", "[columns]", "false_values"),
    ("not_null", "[columns]", "required"),
    ("nullable", "[columns]", "required"),
    ("regex", "[columns]", "matches"),
    ("enum", "[columns]", "one_of"),
    ("expression", "[columns]", "value"),
    ("url", "[target]", "database"),
    ("into", "[target]", "database"),
    ("connection", "[target]", "database"),
    ("table_name", "[target]", "table"),
    ("primary_key", "[target]", "key"),
    ("every", "[target]", "commit_every"),
    ("batch_size", "[target]", "commit_every"),
    ("if_exists", "[target]", "mode"),
    ("tolerance", "[rejects]", "max_rejects"),
    ("max_errors", "[rejects]", "max_rejects"),
    ("errors", "[rejects]", "max_rejects"),
    ("kind", "[[control_total]]", "record_type"),
    ("kind", "", "[[record_type]]"),
    ("total", "", "[[control_total]]"),
];

/// Types by their other words.
const TYPES: &[(&str, &str)] = &[
    ("int2", "smallint"),
    ("int16", "smallint"),
    ("tinyint", "smallint"),
    ("int4", "integer"),
    ("int32", "integer"),
    ("int8", "bigint"),
    ("int64", "bigint"),
    ("long", "bigint"),
    ("number", "decimal(p,s)"),
    ("money", "decimal(p,s)"),
    ("float", "double"),
    ("float4", "real"),
    ("float8", "double"),
    ("bool", "boolean"),
    ("bit", "boolean"),
    ("string", "text"),
    ("str", "text"),
    ("clob", "text"),
    ("nvarchar", "varchar(n)"),
    ("varchar2", "varchar(n)"),
    ("nchar", "char(n)"),
    ("datetime", "timestamp"),
    ("datetime2", "timestamp"),
    ("datetimeoffset", "timestamptz"),
    ("jsonb", "json"),
    ("guid", "uuid"),
    ("uniqueidentifier", "uuid"),
    ("blob", "bytes"),
    ("bytea", "bytes"),
    ("binary", "bytes"),
    ("varbinary", "bytes"),
];

/// The section and the key that a word means, where it means one.
pub fn meant(word: &str) -> Option<(&'static str, &'static str)> {
    let wanted = folded(word);
    let found = KEYS.iter().find(|(other, ..)| folded(other) == wanted);
    found.map(|(_, section, key)| (*section, *key))
}

/// The words that mean a key.
pub fn of(section: &str, name: &str) -> Vec<&'static str> {
    let meant = KEYS
        .iter()
        .filter(|(_, of, key)| *of == section && *key == name);
    meant.map(|(word, ..)| *word).collect()
}

fn folded(word: &str) -> String {
    let kept = word.chars().filter(|c| c.is_alphanumeric());
    kept.flat_map(char::to_lowercase).collect()
}

/// Advice on a word that stands for a key in `section`: the key, and where it belongs if
/// that is elsewhere.
pub fn key(word: &str, section: &str) -> Option<String> {
    let wanted = folded(word);
    let mut meant = KEYS.iter().filter(|(other, ..)| folded(other) == wanted);
    let (_, place, key) = meant
        .clone()
        .find(|(_, place, _)| *place == section)
        .or_else(|| meant.next())?;
    // The keys of [values] may stand on a column too.
    let is_column = section.starts_with("column") || section.starts_with("[columns]");
    let is_here = *place == section || (is_column && matches!(*place, "[values]" | "[columns]"));
    Some(match (is_here, place.is_empty()) {
        (true, _) => format!("it is called \"{key}\""),
        (false, true) => format!("it is called {key}"),
        (false, false) => format!("it is called \"{key}\", and belongs into {place}"),
    })
}

/// The type that another word stands for.
pub fn ty(word: &str) -> Option<&'static str> {
    let wanted = folded(word.split('(').next().unwrap_or(word));
    let meant = TYPES.iter().find(|(other, _)| *other == wanted);
    meant.map(|(_, ty)| *ty)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::spec::read_plan;
    use crate::types::TYPE_NAMES;

    #[test]
    fn the_trade_s_other_words_are_answered_with_the_key() {
        let says = |word: &str, section: &str| key(word, section).unwrap_or_default();
        assert_eq!(says("sep", "[delimited]"), "it is called \"delimiter\"");
        assert_eq!(
            says("Separator", "[records]"),
            "it is called \"delimiter\", and belongs into [delimited]"
        );
        assert_eq!(says("zebra", "[records]"), "");
    }

    #[test]
    fn every_type_that_is_meant_is_one() {
        assert!(TYPES.iter().all(|(_, ty)| TYPE_NAMES.contains(ty)));
    }

    #[test]
    fn every_key_that_is_meant_is_one() {
        for (word, section, key) in KEYS {
            let text = match *section {
                "" | "[[control_total]]" => continue,
                "[columns]" => format!("[columns]\na = {{ type = \"text\", {key} = {{}} }}\n"),
                section => format!("{section}\n{key} = {{}}\n[columns]\na = \"text\"\n"),
            };
            let problems = read_plan(&text).expect_err("a table is no value of any key");
            let unknown = |p: &crate::problem::Problem| p.message.contains("has no key");
            assert!(!problems.iter().any(unknown), "{word}: {section} {key}");
        }
    }
}
