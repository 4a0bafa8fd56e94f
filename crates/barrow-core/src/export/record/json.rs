//! Records that name their fields: one JSON object a line.

use super::{Line, RecordWriter, Scratch, Unwritten, text_of};
use crate::export::refusal::refusal;
use crate::format::{KeyNode, KeyTree};
use crate::plan::{ColumnPlan, RecordTypePlan};
use crate::reason::Code;
use crate::types::Type;
use crate::values::{Cell, shown};
use crate::words::Nulls;

/// An object as it is written.
pub struct Json {
    root: Vec<KeyNode>,
    /// For each field, the written column that it is.
    columns: Vec<Option<usize>>,
    nulls: Nulls,
}

impl Json {
    /// For a record type. `fields` has the written column of each.
    pub fn new(
        kind: &RecordTypePlan,
        fields: &[Option<usize>],
        nulls: Nulls,
        problems: &mut Vec<String>,
    ) -> Json {
        let keys = kind.keys.clone().unwrap_or_default();
        // A column is written at the first of its ways.
        let first = keys.fields.into_iter().map(|mut field| {
            field.paths.truncate(1);
            field
        });
        let tree = KeyTree::new(first.collect());
        for node in &tree.root {
            is_writable(node, problems);
        }
        if nulls == Nulls::LeaveOut {
            let needs = tree.fields.iter().zip(fields);
            for (_, column) in needs.filter(|(field, _)| !field.optional) {
                let name = column
                    .and_then(|at| kind.loaded().nth(at))
                    .filter(|c| !c.required);
                if let Some(ColumnPlan { name, .. }) = name {
                    problems.push(format!(
                        "column {name} would be left out where it is null, and is not read without: \
                         say optional = true, or [export] nulls = \"write\""
                    ));
                }
            }
        }
        Json {
            root: tree.root,
            columns: fields.to_vec(),
            nulls,
        }
    }
}

/// A key is a value, or an object of others, and not both.
fn is_writable(node: &KeyNode, problems: &mut Vec<String>) {
    if node.wanted.len() > 1 || (!node.wanted.is_empty() && !node.within.is_empty()) {
        problems.push(format!(
            "several columns are the key \"{}\", and only one can be written there",
            node.name
        ));
    }
    if is_array(&node.within) && !is_whole_array(&node.within) {
        problems.push(format!(
            "the array \"{}\" has columns for some of its places, and not from the first on",
            node.name
        ));
    }
    node.within
        .iter()
        .for_each(|within| is_writable(within, problems));
}

/// Whether names are places in an array.
fn is_array(nodes: &[KeyNode]) -> bool {
    let is_place = |node: &KeyNode| node.name.bytes().all(|b| b.is_ascii_digit());
    !nodes.is_empty() && nodes.iter().all(is_place)
}

fn is_whole_array(nodes: &[KeyNode]) -> bool {
    nodes
        .iter()
        .enumerate()
        .all(|(place, node)| node.name == place.to_string())
}

impl RecordWriter<'_> {
    pub(super) fn json(
        &self,
        json: &Json,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        let mut object = Vec::new();
        self.members(json, &json.root, line, scratch, &mut object)?;
        let text = text_of(None, &object)?;
        scratch.replaced += self.encoded(text, out).map_err(|why| (None, why))?;
        Ok(())
    }

    /// Writes an object, or an array; returns whether there is anything in it.
    fn members(
        &self,
        json: &Json,
        nodes: &[KeyNode],
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<bool, Unwritten> {
        let is_array = is_array(nodes);
        out.push(if is_array { b'[' } else { b'{' });
        let start = out.len();
        for node in nodes {
            let before = out.len();
            if before > start {
                out.push(b',');
            }
            if !is_array {
                quoted(&node.name, out);
                out.push(b':');
            }
            let is_there = match node.wanted.first() {
                Some((field, _)) => self.value(json, *field, line, scratch, out)?,
                None => self.members(json, &node.within, line, scratch, out)?,
            };
            // Places in an array count also where there is nothing.
            if !is_there && is_array {
                out.extend_from_slice(b"null");
            } else if !is_there {
                out.truncate(before);
            }
        }
        let has_members = out.len() > start;
        match has_members || json.nulls == Nulls::Write || std::ptr::eq(nodes, json.root.as_slice())
        {
            true => out.push(if is_array { b']' } else { b'}' }),
            false => out.truncate(start - 1),
        }
        Ok(has_members || json.nulls == Nulls::Write)
    }

    /// Writes a value; false where it is left out.
    fn value(
        &self,
        json: &Json,
        field: usize,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<bool, Unwritten> {
        let Some(place) = json.columns.get(field).copied().flatten() else {
            return Ok(false);
        };
        let column = self.columns[place].plan;
        let value = line.value(place);
        let is_misfit = line.misfits.iter().any(|m| m.column as usize == place);
        if value.cell == Cell::Null && !is_misfit {
            let writes = json.nulls == Nulls::Write;
            if writes {
                out.extend_from_slice(b"null");
            }
            return Ok(writes);
        }
        if let (Cell::Float(n), false) = (value.cell, is_misfit) {
            if !n.is_finite() {
                let says = "is not a number in JSON";
                return Err((Some(place), refusal(Code::NotAllowed, says, &n.to_string())));
            }
            out.extend_from_slice(format!("{n:?}").as_bytes());
            return Ok(true);
        }
        let is_bare = column.ty.is_number() || column.ty == Type::Boolean;
        if is_bare && !is_misfit {
            let text = shown(value.cell, column.ty, value.block, value.store);
            out.extend_from_slice(text.unwrap_or_default().as_bytes());
            return Ok(true);
        }
        let mut raw = std::mem::take(&mut scratch.raw);
        raw.clear();
        let written = self.field(line, place, &mut raw, scratch);
        let text = written.and_then(|_| text_of(Some(place), &raw).map(str::to_string));
        scratch.raw = raw;
        let text = text?;
        match column.ty {
            // A document stands on one line: its line ends are between its values.
            Type::Json => out.extend(text.bytes().map(|b| match b {
                b'\n' | b'\r' => b' ',
                other => other,
            })),
            _ => quoted(&text, out),
        }
        Ok(true)
    }
}

/// Text in quotes, with its escapes.
fn quoted(text: &str, out: &mut Vec<u8>) {
    // Nothing can fail in memory.
    let _ = serde_json::to_writer(out, text);
}
