//! How tables relate to each other, put into drafts of their specs.

use barrow_core::plan::Reference;
use barrow_core::types::Type;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, value};

use crate::error::Error;

/// A foreign key, and what was seen of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ForeignKey {
    /// The columns, the other table and its columns.
    pub reference: Reference,
    /// In plain words: how many values stand in how many keys.
    pub evidence: String,
}

/// How one table relates to the others.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Related {
    /// The columns that tell its rows apart; none where none do.
    pub key: Vec<String>,
    /// Other columns that do so too.
    pub other_keys: Vec<String>,
    /// Its foreign keys.
    pub references: Vec<ForeignKey>,
    /// What may be a foreign key and is not proposed as one, in plain words.
    pub notes: Vec<String>,
    /// Types that columns share with the keys which they refer to.
    pub types: Vec<(String, Type)>,
}

/// A draft's text with them.
///
/// # Errors
/// The text cannot be edited.
pub fn with_relations(text: &str, related: &Related) -> Result<String, Error> {
    let parsed: Result<DocumentMut, _> = text.parse();
    let mut document = parsed.map_err(|e| Error::failed(format!("the draft: {e}")))?;
    if let Some(columns) = document
        .get_mut("columns")
        .and_then(Item::as_table_like_mut)
    {
        for (name, ty) in &related.types {
            if let Some(column) = columns.get_mut(name).and_then(Item::as_table_like_mut) {
                column.insert("type", value(ty.to_string()));
            }
        }
        for name in &related.key {
            if let Some(column) = columns.get_mut(name).and_then(Item::as_inline_table_mut) {
                column.insert("required", true.into());
                column.fmt();
            }
        }
    }
    if let Some(target) = document.get_mut("target").and_then(Item::as_table_mut) {
        if !related.key.is_empty() {
            target.insert("key", value(list(&related.key)));
        }
        let others = related
            .other_keys
            .iter()
            .map(|name| format!("# {name} is also unique\n"));
        let words: String = others.collect();
        if let (Some(mut key), false) = (target.key_mut("key"), words.is_empty()) {
            key.leaf_decor_mut().set_prefix(words);
        }
    }
    if !related.references.is_empty() {
        let mut tables = ArrayOfTables::new();
        for foreign in &related.references {
            let mut table = Table::new();
            table
                .decor_mut()
                .set_prefix(format!("\n# {}\n", foreign.evidence));
            table.insert("columns", value(list(&foreign.reference.columns)));
            table.insert("table", value(&foreign.reference.table));
            table.insert("to", value(list(&foreign.reference.to)));
            tables.push(table);
        }
        document.insert("references", Item::ArrayOfTables(tables));
    }
    let mut text = document.to_string();
    for note in &related.notes {
        text += &format!("\n# {note}\n");
    }
    Ok(text)
}

fn list(names: &[String]) -> Array {
    names.iter().map(String::as_str).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_draft_gets_its_keys_and_keeps_the_rest() {
        let text = "# drafted\n[columns]\n# seen\nid = { type = \"bigint\" }\n\
            grower = { type = \"varchar(20)\", from = \"G\" }\n\n[target]\ntable = \"d\"\ncreate = true\n";
        let related = Related {
            key: vec!["id".into()],
            references: vec![ForeignKey {
                reference: Reference {
                    columns: vec!["grower".into()],
                    table: "growers".into(),
                    to: vec!["name".into()],
                },
                evidence: "all 3 values stand among 2 keys".into(),
            }],
            types: vec![("grower".into(), Type::VarChar(50))],
            notes: vec!["perhaps".into()],
            ..Related::default()
        };
        let found = with_relations(text, &related).unwrap();
        assert_eq!(
            found,
            "# drafted\n[columns]\n# seen\nid = { type = \"bigint\", required = true }\n\
             grower = { type = \"varchar(50)\", from = \"G\" }\n\n[target]\ntable = \"d\"\n\
             create = true\nkey = [\"id\"]\n\n# all 3 values stand among 2 keys\n[[references]]\n\
             columns = [\"grower\"]\ntable = \"growers\"\nto = [\"name\"]\n\n# perhaps\n"
        );
    }
}
