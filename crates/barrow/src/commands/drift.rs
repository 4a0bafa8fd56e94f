//! What files have that a spec has not: new or missing columns, values that its
//! types do not take. `draft --compare` tells it, `draft --update` writes it.

use std::path::Path;

use barrow_core::draft::{Choice, Chosen, Draft};
use barrow_core::flow::{self, Batch, Encoded, Sink};
use barrow_core::plan::{ColumnPlan, Place};
use barrow_core::reason::Code;
use barrow_core::records::block::BLOCK;
use barrow_core::records::splitter::Splitter;
use barrow_core::source::SourceFile;
use barrow_core::tally::{ReasonKind, Tally};
use barrow_core::types::Type;
use barrow_core::visible::{visible, visible_path};
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value, value};

use super::job::Spec;
use crate::failure::Failure;
use crate::view::{counted, number};

/// How files differ from a spec.
#[derive(Default)]
pub struct Drift {
    /// Columns of the spec that the files lack.
    pub missing: Vec<String>,
    /// Columns of the files that the spec lacks.
    pub new: Vec<Chosen>,
    /// Columns whose values the spec does not take.
    pub changed: Vec<Changed>,
    /// A column that has another name in the files: its own, the spec's name for the
    /// header, and the header's.
    pub renamed: Option<(String, String, String)>,
    /// The encoding that the files are in, and the spec's.
    pub encoding: Option<(String, String)>,
    /// Words that stand for null in the files.
    pub nulls: Vec<String>,
    /// Whether the records were read by the spec.
    pub was_read: bool,
}

/// A column whose values its spec does not take.
pub struct Changed {
    /// The spec's column.
    pub name: String,
    /// Its type in the spec.
    pub ty: Type,
    /// What a draft makes of it, if the files have it.
    pub drafted: Option<Chosen>,
    /// Why, in plain lines.
    pub why: Vec<String>,
    /// Whether another type would take the values.
    pub by_type: bool,
    /// Words among the rejected values that stand for null.
    pub nulls: Vec<String>,
}

/// Counts what the spec rejects, column by column.
struct Counter(Tally);

impl Sink for Counter {
    type Encoded = ();
    type Error = Failure;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Failure> {
        self.0.add(batch, batch.good() as u64, &[]);
        Ok(())
    }
}

impl Drift {
    /// Compares files with a spec.
    pub fn find(
        spec: &Spec,
        files: &[SourceFile],
        drafted: &Draft,
        options: flow::Options,
    ) -> Result<Drift, Failure> {
        if spec.plan.has_kinds() {
            return Err(Failure::wrong(
                "a spec with several record types is not compared with files",
                "barrow check says what it makes of them",
            ));
        }
        let columns = &spec.plan.kinds[0].columns;
        let mut drift = Drift {
            encoding: other_encoding(spec, drafted),
            nulls: drafted
                .judgement
                .nulls
                .iter()
                .map(|w| (*w).to_string())
                .collect(),
            ..Drift::default()
        };
        let splitter = Splitter::new(&spec.plan, Vec::new(), BLOCK);
        for file in files {
            if let Some(header) = splitter.header_names(file)? {
                drift.compare_header(&header, columns, drafted);
            }
        }
        drift.find_renamed(columns);
        if drift.missing.is_empty() {
            let mut counter = Counter(Tally::default());
            let flowed = flow::run(&spec.plan, files.to_vec(), options, &|_| {}, &mut counter);
            flowed.map_err(|failure| match failure {
                flow::Failure::Source(error) => error.into(),
                flow::Failure::Sink(failure) => failure,
            })?;
            drift.was_read = true;
            for column in columns {
                drift.compare_values(column, &counter.0, drafted);
            }
        }
        Ok(drift)
    }

    /// Whether the files are as the spec says.
    pub fn is_none(&self) -> bool {
        self.missing.is_empty()
            && self.new.is_empty()
            && self.changed.is_empty()
            && self.encoding.is_none()
    }

    /// One column that is missing, and one new one of its sort, are rather the same under
    /// another name.
    fn find_renamed(&mut self, columns: &[ColumnPlan]) {
        let ([missing], [new]) = (self.missing.as_slice(), self.new.as_slice()) else {
            return;
        };
        let Some(column) = columns.iter().find(|column| column.name == *missing) else {
            return;
        };
        if let Place::Named(from) = &column.place
            && same_sort(column.ty, new.choice.ty)
        {
            self.renamed = Some((missing.clone(), from.clone(), original(new).to_string()));
        }
    }

    fn compare_header(&mut self, header: &[String], columns: &[ColumnPlan], drafted: &Draft) {
        let folded = |text: &str| text.trim().to_lowercase();
        let named = |column: &ColumnPlan| match &column.place {
            Place::Named(name) => Some(name.clone()),
            Place::Field(_) | Place::Computed => None,
        };
        for column in columns {
            if let Some(name) = named(column)
                && !header.iter().any(|h| folded(h) == folded(&name))
                && !self.missing.contains(&column.name)
            {
                self.missing.push(column.name.clone());
            }
        }
        for name in header {
            let known = columns
                .iter()
                .filter_map(named)
                .any(|n| folded(&n) == folded(name));
            let told = self.new.iter().any(|chosen| original(chosen) == name);
            if !known && !told {
                let chosen = drafted
                    .columns
                    .iter()
                    .find(|chosen| original(chosen) == name);
                self.new.extend(chosen.cloned());
            }
        }
    }

    fn compare_values(&mut self, column: &ColumnPlan, tally: &Tally, drafted: &Draft) {
        let kinds = tally.kinds();
        let mine: Vec<&ReasonKind> = kinds
            .into_iter()
            .filter(|kind| kind.column.as_deref() == Some(column.name.as_str()))
            .collect();
        if mine.is_empty() {
            return;
        }
        let why = mine.iter().map(|kind| {
            let value = kind.value.as_deref().map(|value| format!(" \"{value}\""));
            format!(
                "{} {}, first: {} line {}{}",
                number(kind.count),
                kind.says,
                kind.file,
                number(kind.line),
                value.unwrap_or_default()
            )
        });
        let chosen =
            drafted
                .columns
                .iter()
                .enumerate()
                .find(|(other, chosen)| match &column.place {
                    Place::Named(name) => original(chosen).trim().eq_ignore_ascii_case(name.trim()),
                    Place::Field(field) => other == field,
                    Place::Computed => false,
                });
        self.changed.push(Changed {
            name: column.name.clone(),
            ty: column.ty,
            drafted: chosen.map(|(_, chosen)| chosen.clone()),
            why: why.collect(),
            by_type: mine.iter().any(|kind| is_of_type(kind.code)),
            nulls: self
                .nulls
                .iter()
                .filter(|_| !column.ty.is_text() && mine.iter().any(|kind| is_unread(kind.code)))
                .cloned()
                .collect(),
        });
    }

    /// What differs, one line each.
    pub fn words(&self) -> Vec<String> {
        let shown = |text: &str| visible(text.as_bytes());
        let mut words = Vec::new();
        if let Some((found, said)) = &self.encoding {
            words.push(format!(
                "encoding  {said} → {found}: the files are in another"
            ));
        }
        if let Some((name, from, to)) = &self.renamed {
            words.push(format!(
                "renamed   {}: \"{}\" → \"{}\"? the one is missing, the other new",
                shown(name),
                shown(from),
                shown(to)
            ));
            return words;
        }
        for name in &self.missing {
            words.push(format!("missing   {}: a header lacks it", shown(name)));
        }
        for chosen in &self.new {
            let name = shown(original(chosen));
            words.push(format!("new       \"{name}\": {}", chosen.choice.ty));
        }
        for changed in &self.changed {
            let now = match (&changed.drafted, changed.by_type) {
                (Some(chosen), true) => {
                    let wider = wider(changed.ty, &chosen.choice);
                    match wider.ty == changed.ty {
                        true => format!("{}, written otherwise", changed.ty),
                        false => format!("{} → {}", changed.ty, wider.ty),
                    }
                }
                _ => changed.ty.to_string(),
            };
            let why = changed.why.join("; ");
            words.push(format!("changed   {} {now}: {why}", shown(&changed.name)));
        }
        words
    }
}

fn original(chosen: &Chosen) -> &str {
    chosen.from.as_deref().unwrap_or(&chosen.name)
}

/// The encoding that the files are in and the spec's, where they read the files otherwise.
fn other_encoding(spec: &Spec, drafted: &Draft) -> Option<(String, String)> {
    let said = spec.plan.source.charset.as_ref()?;
    let found = &drafted.shape.encoding.0;
    let differs = !drafted.shape.is_ascii && !said.name().eq_ignore_ascii_case(found);
    differs.then(|| (found.clone(), said.name().to_ascii_lowercase()))
}

/// Whether a fault is that a value is not written as its type is.
fn is_unread(code: Code) -> bool {
    matches!(
        code,
        Code::NotANumber
            | Code::NotADate
            | Code::NotATime
            | Code::NotATimestamp
            | Code::NotABoolean
            | Code::NotAUuid
            | Code::NotJson
    )
}

/// Whether a fault is one that another type or writing would take.
fn is_of_type(code: Code) -> bool {
    matches!(
        code,
        Code::NotANumber
            | Code::NotADate
            | Code::NotATime
            | Code::NotATimestamp
            | Code::NoSuchDate
            | Code::NotABoolean
            | Code::NotJson
            | Code::NotAUuid
            | Code::NotBytes
            | Code::OutOfRange
            | Code::TooLong
            | Code::TooPrecise
    )
}

/// What takes the values of the spec's type and those that were found.
fn wider(spec: Type, found: &Choice) -> Choice {
    let digits = |ty: Type| match ty {
        Type::SmallInt => Some((5, 0)),
        Type::Integer => Some((10, 0)),
        Type::BigInt => Some((19, 0)),
        Type::Decimal { precision, scale } => Some((precision - scale, scale)),
        _ => None,
    };
    let length = |ty: Type| match ty {
        Type::Char(n) | Type::VarChar(n) => Some(n),
        Type::Text => Some(u32::MAX),
        _ => None,
    };
    let whole = |ty: Type| matches!(ty, Type::SmallInt | Type::Integer | Type::BigInt);
    let ty = match (spec, found.ty) {
        (a, b) if whole(a) && whole(b) => match digits(a) >= digits(b) {
            true => a,
            false => b,
        },
        (a, b) => match (digits(a), digits(b), length(a), length(b)) {
            (Some((i, s)), Some((j, t)), ..) if i.max(j) + s.max(t) <= 38 => Type::Decimal {
                precision: i.max(j) + s.max(t),
                scale: s.max(t),
            },
            (.., Some(n), Some(m)) => {
                if n >= m {
                    a
                } else {
                    b
                }
            }
            _ => b,
        },
    };
    Choice {
        ty: match ty {
            Type::VarChar(length) if ty != spec => Type::VarChar(rounded(length)),
            ty => ty,
        },
        ..found.clone()
    }
}

/// A length of text that leaves some room.
fn rounded(length: u32) -> u32 {
    const LENGTHS: [u32; 9] = [10, 20, 40, 60, 100, 200, 500, 1_000, 4_000];
    let fits = LENGTHS.into_iter().find(|room| length <= *room);
    fits.unwrap_or(length)
}

/// The spec's text with what the files contradict changed, and nothing else.
///
/// # Errors
/// The text cannot be edited.
pub fn updated(text: &str, path: &Path, drift: &Drift) -> Result<String, Failure> {
    let shown = visible_path(path);
    let mut document: DocumentMut = text
        .parse()
        .map_err(|e| Failure::not_done(format!("{shown}: {e}")))?;
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
        return Err(Failure::not_done(format!("{shown}: [columns] is no table")));
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
    for chosen in &drift.new {
        let mut keys = InlineTable::new();
        keys.insert("type", chosen.choice.ty.to_string().into());
        if let Some(from) = &chosen.from {
            keys.insert("from", from.as_str().into());
        }
        let mut item = value(keys);
        set(&mut item, &chosen.choice, true);
        columns.insert(&chosen.name, item);
    }
    Ok(document.to_string())
}

fn same_sort(a: Type, b: Type) -> bool {
    (a.is_number() && b.is_number()) || (a.is_text() && b.is_text()) || a == b
}

/// Sets a column's type, and how its values are written; other keys stay.
fn set(item: &mut Item, choice: &Choice, rewritten: bool) {
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
fn writing(choice: &Choice) -> Vec<(&'static str, Value)> {
    let list = |words: &[&str]| Value::Array(words.iter().copied().collect::<Array>());
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
        keys.push(("true_values", list(&[yes])));
        keys.push(("false_values", list(&[no])));
    }
    keys
}

/// What was found, for programs.
pub fn document(drift: &Drift, spec: &str, records: u64, was_changed: bool) -> serde_json::Value {
    use serde_json::json;
    let new: Vec<_> = drift
        .new
        .iter()
        .map(|chosen| json!({ "name": original(chosen), "type": chosen.choice.ty.to_string() }))
        .collect();
    let changed: Vec<_> = drift
        .changed
        .iter()
        .map(|c| {
            let now = match (&c.drafted, c.by_type) {
                (Some(chosen), true) => Some(wider(c.ty, &chosen.choice).ty.to_string()),
                _ => None,
            };
            json!({ "column": c.name, "type": c.ty.to_string(), "would_be": now, "why": c.why })
        })
        .collect();
    json!({
        "spec": spec, "same": drift.is_none(), "records": records, "was_read": drift.was_read,
        "missing": drift.missing, "new": new, "changed": changed,
        "renamed": drift.renamed.as_ref().map(|(column, from, to)| {
            json!({ "column": column, "from": from, "to": to })
        }),
        "encoding": drift.encoding.as_ref().map(|(found, said)| json!({ "spec": said, "files": found })),
        "spec_was_changed": was_changed,
    })
}

/// What was found, in one line.
pub fn told(drift: &Drift, spec: &str, records: u64) -> String {
    match (drift.is_none(), drift.was_read) {
        (true, _) => format!(
            "{spec} reads all {} as they are",
            counted(records, "record")
        ),
        (false, true) => format!("{spec} and the files differ:"),
        (false, false) => format!("{spec} and the files differ, so no record was read by it:"),
    }
}
