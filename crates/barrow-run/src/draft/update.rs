//! Changes in a spec what files contradict, and nothing else.

use std::path::Path;

use barrow_core::draft::{Chosen, Inferred};
use barrow_core::escape::visible_path;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value, value};

use super::compare::Drift;
use super::wider::{same_sort, wider};
use crate::error::Error;

/// The spec's text with what the files contradict changed, and nothing else.
///
/// # Errors
/// The text cannot be edited.
pub fn updated(text: &str, path: &Path, drift: &Drift) -> Result<String, Error> {
    let shown = visible_path(path);
    let mut document: DocumentMut = text
        .parse()
        .map_err(|e| Error::failed(format!("{shown}: {e}")))?;
    if let Some((found, _)) = &drift.encoding {
        let source = document
            .entry("source")
            .or_insert(Item::Table(Table::new()));
        if let Some(source) = source.as_table_like_mut() {
            put(source, "encoding", found.as_str().into());
        }
    }
    let columns = document
        .entry("columns")
        .or_insert(Item::Table(Table::new()));
    let Some(columns) = columns.as_table_like_mut() else {
        return Err(Error::failed(format!("{shown}: [columns] is not a table")));
    };
    if let Some((name, _, to)) = &drift.renamed {
        if let Some(item) = columns.get_mut(name) {
            rename(item, to);
        }
        return Ok(document.to_string());
    }
    for changed in drift.changed.iter().filter(|changed| changed.by_type) {
        let (Some(chosen), Some(item)) = (&changed.drafted, columns.get_mut(&changed.name)) else {
            continue;
        };
        let choice = wider(changed.ty, &chosen.choice);
        // Where the type itself takes the values, they are written in another way.
        let rewritten = choice.ty == changed.ty || !same_sort(choice.ty, changed.ty);
        set(item, &choice, rewritten);
        add_nulls(item, &changed.nulls);
        refresh(columns, &changed.name, chosen);
    }
    for changed in drift.changed.iter().filter(|changed| changed.is_lacking) {
        if let Some(item) = columns.get_mut(&changed.name) {
            spell_out(item);
            if let Some(keys) = item.as_table_like_mut() {
                put(keys, "optional", true.into());
            }
        }
    }
    for new in &drift.new {
        let chosen = &new.chosen;
        let mut keys = InlineTable::new();
        keys.insert("type", chosen.choice.ty.to_string().into());
        if let Some(from) = &chosen.from {
            keys.insert("from", from.as_str().into());
        }
        if new.optional {
            keys.insert("optional", true.into());
        }
        let mut item = value(keys);
        set(&mut item, &chosen.choice, true);
        columns.insert(&chosen.name, item);
    }
    Ok(document.to_string())
}

/// Sets a column's type, and how its values are written; other keys stay.
fn set(item: &mut Item, choice: &Inferred, rewritten: bool) {
    let ty = choice.ty.to_string();
    if let Some(short) = item.as_value_mut().filter(|value| value.is_str()) {
        let decor = short.decor().clone();
        let mut keys = InlineTable::new();
        keys.insert("type", ty.as_str().into());
        *short = match writing(choice).is_empty() || !rewritten {
            true => Value::from(ty.as_str()),
            false => Value::InlineTable(keys),
        };
        *short.decor_mut() = decor;
    }
    let Some(keys) = item.as_table_like_mut() else {
        return;
    };
    put(keys, "type", Value::from(ty));
    if rewritten {
        for (key, value) in writing(choice) {
            put(keys, key, value);
        }
    }
}

/// Sets a key; what stands around it stays.
fn put(keys: &mut dyn toml_edit::TableLike, key: &str, mut new: Value) {
    if let Some(old) = keys.get(key).and_then(Item::as_value) {
        *new.decor_mut() = old.decor().clone();
    }
    keys.insert(key, Item::Value(new));
}

/// Makes a table of keys of a column that is written as its type alone.
fn spell_out(item: &mut Item) {
    if let Some(short) = item.as_value_mut().filter(|value| value.is_str()) {
        let decor = short.decor().clone();
        let mut keys = InlineTable::new();
        keys.insert("type", short.as_str().unwrap_or_default().into());
        *short = Value::InlineTable(keys);
        *short.decor_mut() = decor;
    }
}

/// Has a column found under another name of the header.
fn rename(item: &mut Item, to: &str) {
    spell_out(item);
    if let Some(keys) = item.as_table_like_mut() {
        put(keys, "from", to.into());
    }
}

/// Adds words for null to those that a column has.
fn add_nulls(item: &mut Item, words: &[String]) {
    if words.is_empty() {
        return;
    }
    spell_out(item);
    let Some(keys) = item.as_table_like_mut() else {
        return;
    };
    let known = keys.get("null_values").and_then(Item::as_array).cloned();
    let mut list = known.unwrap_or_else(|| [""].into_iter().collect());
    for word in words {
        if !list.iter().any(|known| known.as_str() == Some(word)) {
            list.push(word.as_str());
        }
    }
    put(keys, "null_values", Value::Array(list));
}

/// Puts new evidence in the place of what a draft wrote above a column.
fn refresh(columns: &mut dyn toml_edit::TableLike, name: &str, chosen: &Chosen) {
    let Some(mut key) = columns.key_mut(name) else {
        return;
    };
    let decor = key.leaf_decor_mut();
    let above = decor
        .prefix()
        .and_then(|prefix| prefix.as_str())
        .unwrap_or_default();
    let is_evidence = |line: &str| {
        let words = line.trim_start_matches("# ");
        let is_counted = words.split_once(' ').is_some_and(|(count, rest)| {
            count.chars().all(|c| c.is_ascii_digit()) && rest.starts_with("value")
        });
        line.starts_with("# ") && (is_counted || words.starts_with("! "))
    };
    if !above.lines().any(is_evidence) {
        return;
    }
    let mut kept: Vec<String> = above
        .lines()
        .filter(|line| !is_evidence(line))
        .map(String::from)
        .collect();
    kept.push(format!("# {}", chosen.evidence.replace(['\r', '\n'], " ")));
    for remark in &chosen.remarks {
        kept.push(format!("# ! {}", remark.line().replace(['\r', '\n'], " ")));
    }
    decor.set_prefix(kept.join("\n") + "\n");
}

/// How a choice's values are written, as keys of a spec.
fn writing(choice: &Inferred) -> Vec<(&'static str, Value)> {
    let texts =
        |words: &[String]| Value::Array(words.iter().map(String::as_str).collect::<Array>());
    let mut keys = Vec::new();
    if let Some((decimal, group)) = &choice.marks {
        keys.push(("decimal_mark", decimal.as_str().into()));
        keys.push(("group_mark", group.as_str().into()));
    }
    if !choice.take_off.is_empty() {
        keys.push(("strip", texts(&choice.take_off)));
    }
    if let Some(sign) = choice.sign {
        keys.push(("sign", sign.into()));
    }
    match choice.patterns.as_slice() {
        [] => {}
        [one] => keys.push(("format", one.as_str().into())),
        several => keys.push(("format", texts(several))),
    }
    if let Some((yes, no)) = &choice.words {
        keys.push(("true_values", texts(yes)));
        keys.push(("false_values", texts(no)));
    }
    keys
}
