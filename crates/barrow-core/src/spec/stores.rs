//! `[stores.NAME]`: how files in object stores and on web servers are reached.

use std::cell::RefCell;
use std::time::Duration;

use jiff::SignedDuration;

use crate::plan::StorePlan;
use crate::problem::{Problem, Spanned};
use crate::spec::toml_table::Section;

/// The keys of a store that are secrets: their values are never shown.
pub const SECRETS: [&str; 3] = ["access_key", "secret_key", "token"];

/// Reads the settings of each store, in the order of the spec.
pub fn read<'s>(mut stores: Section<'s>, problems: &'s RefCell<Vec<Problem>>) -> Vec<StorePlan> {
    let each = stores.tables_by_name().into_iter();
    let read = each.map(|(name, table)| {
        let mut s = Section::new(format!("[stores.{name}]"), Some(table), problems);
        let plan = store(&mut s, name);
        s.finish();
        plan
    });
    read.collect()
}

fn store(s: &mut Section<'_>, name: String) -> StorePlan {
    let text = |s: &mut Section<'_>, key| s.text(key).map(|text| text.value);
    StorePlan {
        name,
        endpoint: text(s, "endpoint"),
        region: text(s, "region"),
        path_style: s.flag("path_style").map(|flag| flag.value),
        allow_http: s.flag("allow_http").is_some_and(|flag| flag.value),
        anonymous: s.flag("anonymous").is_some_and(|flag| flag.value),
        profile: text(s, "profile"),
        account: text(s, "account"),
        access_key: text(s, "access_key"),
        secret_key: text(s, "secret_key"),
        token: text(s, "token"),
        key_file: text(s, "key_file"),
        give_up_after: duration(s, "give_up_after"),
    }
}

fn duration(s: &mut Section<'_>, key: &'static str) -> Option<Duration> {
    let text: Spanned<String> = s.text(key)?;
    let parsed = text.value.parse::<SignedDuration>().ok();
    let duration = parsed.and_then(|parsed| Duration::try_from(parsed).ok());
    if duration.is_none() {
        s.problem(Problem::new(
            text.span,
            format!("{} wants a time such as \"90 s\" or \"2 min\"", s.path(key)),
            "no time",
        ));
    }
    duration
}

#[cfg(test)]
mod tests {
    use super::super::read_plan;
    use super::*;

    const COLUMNS: &str = "[source]\nfiles = [\"s3://market/w.csv\"]\n[columns]\na = \"text\"\n";

    #[test]
    fn a_store_has_its_keys_and_a_time() {
        let text = format!(
            "{COLUMNS}[stores.market]\nendpoint = \"http://127.0.0.1:9000\"\nallow_http = true\n\
             secret_key = \"${{KEY}}\"\ngive_up_after = \"2 min\"\n[stores.s3]\nanonymous = true\n"
        );
        let plan = read_plan(&text).unwrap();
        assert_eq!(plan.stores.len(), 2);
        let store = plan
            .stores
            .iter()
            .find(|store| store.name == "market")
            .unwrap();
        assert_eq!(store.give_up_after, Some(Duration::from_secs(120)));
        assert!(store.allow_http && !store.anonymous);
        assert_eq!(store.secret_key.as_deref(), Some("${KEY}"));
    }

    #[test]
    fn what_a_store_does_not_know_is_told() {
        let text =
            format!("{COLUMNS}[stores.market]\nend_point = \"x\"\ngive_up_after = \"soon\"\n");
        let problems = read_plan(&text).unwrap_err();
        let says: Vec<&str> = problems.iter().map(|p| p.message.as_str()).collect();
        assert_eq!(
            says,
            [
                "[stores.market] has no key \"end_point\"",
                "[stores.market] give_up_after wants a time such as \"90 s\" or \"2 min\"",
            ]
        );
    }
}
