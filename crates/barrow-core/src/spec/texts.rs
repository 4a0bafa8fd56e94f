//! The texts that make a spec: its own, that of the spec it extends, and so on, and the settings
//! of its folder. What one does not say, the next one does.

use std::cell::RefCell;
use std::ops::Range;
use std::path::{Path, PathBuf};

use toml::Spanned as At;
use toml::de::{DeTable, DeValue};

use crate::problem::{Problem, Spanned};
use crate::spec::keys::{SECTIONS_OF_ONE, SETTINGS};
use crate::spec::toml_table::Section;

/// What says what a record is made of: one of them alone is taken from another text.
const SHAPE: [&str; 2] = ["columns", "record_type"];

/// The texts of a spec. Places within them are bytes of all texts, one after the other.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SpecTexts {
    all: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Part {
    path: PathBuf,
    place: Range<usize>,
    is_settings: bool,
}

/// A key that the spec has from another text than its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenKey {
    /// The number of the text: 1 is the first that is not the spec's own.
    pub part: usize,
    /// The section, such as `values` or `stores.market`; empty for what is none.
    pub section: String,
    /// The key, or the name of what is taken as a whole, such as `columns`.
    pub key: String,
}

impl TakenKey {
    /// As people write it: `values.decimal_mark`, `columns`.
    pub fn name(&self) -> String {
        match self.section.is_empty() {
            true => self.key.clone(),
            false => format!("{}.{}", self.section, self.key),
        }
    }
}

impl SpecTexts {
    /// A spec's own text.
    pub fn new(path: &Path, text: &str) -> SpecTexts {
        let mut texts = SpecTexts::default();
        texts.add(path, text, false);
        texts
    }

    /// Adds the text of the spec that the last one extends.
    pub fn extend(&mut self, path: &Path, text: &str) {
        self.add(path, text, false);
    }

    /// Adds the settings of the folder, after all that is extended.
    pub fn settle(&mut self, path: &Path, text: &str) {
        self.add(path, text, true);
    }

    fn add(&mut self, path: &Path, text: &str, is_settings: bool) {
        let is_first = self.parts.is_empty();
        if !is_first {
            self.all.push('\n');
        }
        let start = self.all.len();
        // A byte order mark is for a text's beginning.
        let marked = text.strip_prefix('\u{FEFF}').filter(|_| !is_first);
        self.all.push_str(marked.unwrap_or(text));
        self.parts.push(Part {
            path: path.to_path_buf(),
            place: start..self.all.len(),
            is_settings,
        });
    }

    /// All texts, one after the other.
    pub fn all(&self) -> &str {
        &self.all
    }

    /// The paths of the texts, in order.
    pub fn paths(&self) -> impl Iterator<Item = &Path> {
        self.parts.iter().map(|part| part.path.as_path())
    }

    /// The text of this number.
    pub fn text(&self, part: usize) -> &str {
        &self.all[self.parts[part].place.clone()]
    }

    /// Which text a place is in, and where in it.
    pub fn place(&self, span: &Range<usize>) -> (usize, Range<usize>) {
        let part = self
            .parts
            .partition_point(|part| part.place.start <= span.start);
        let part = part.saturating_sub(1);
        let start = self.parts.get(part).map_or(0, |part| part.place.start);
        (part, span.start - start..span.end.max(span.start) - start)
    }

    /// The path of the spec that the last text extends, and its place.
    pub fn extends(&self) -> Option<Spanned<String>> {
        let last = self.parts.len().checked_sub(1)?;
        let padded = self.padded(last);
        let (document, _) = DeTable::parse_recoverable(&padded);
        let value = document.get_ref().get("extends")?;
        let path = value.get_ref().as_str()?;
        Some(Spanned::new(path.to_string(), value.span()))
    }

    /// The keys that the spec has from other texts than its own, in the order of the texts;
    /// none where a text is no TOML.
    pub fn taken(&self) -> Vec<TakenKey> {
        let padded = self.all_padded();
        let problems = RefCell::new(Vec::new());
        let merged = self.merged(&padded, &problems);
        merged.map(|(_, taken)| taken).unwrap_or_default()
    }

    /// The text of a part at the place that it has among all: places found in it are then those
    /// of all texts.
    fn padded(&self, part: usize) -> String {
        let place = &self.parts[part].place;
        " ".repeat(place.start) + &self.all[place.clone()]
    }

    pub(super) fn all_padded(&self) -> Vec<String> {
        (0..self.parts.len())
            .map(|part| self.padded(part))
            .collect()
    }

    /// The document that the texts make together. `padded` are the texts at their places.
    pub(super) fn merged<'t>(
        &self,
        padded: &'t [String],
        problems: &RefCell<Vec<Problem>>,
    ) -> Result<(DeTable<'t>, Vec<TakenKey>), Vec<Problem>> {
        let mut wrong = Vec::new();
        let mut documents = Vec::new();
        for text in padded {
            let (document, errors) = DeTable::parse_recoverable(text);
            wrong.extend(
                errors
                    .iter()
                    .map(|e| Problem::new(e.span().unwrap_or(0..0), e.message(), "not TOML")),
            );
            documents.push(document.into_inner());
        }
        if !wrong.is_empty() {
            return Err(wrong);
        }
        let mut taken = Vec::new();
        let mut documents = documents.into_iter().enumerate();
        let Some((_, mut merged)) = documents.next() else {
            return Ok((DeTable::new(), taken));
        };
        for (part, mut other) in documents {
            if self.parts[part].is_settings {
                other = of_settings(other, problems);
            }
            for (name, place) in no_sections(&other) {
                let message = format!("the spec {name} wants to be a table");
                let problem = Problem::new(place, message, "this is not a table");
                problems.borrow_mut().push(problem);
            }
            merge(&mut merged, other, part, &mut taken);
        }
        taken.sort_by_key(|key| key.part);
        Ok((merged, taken))
    }

    /// How many texts are extended.
    pub(super) fn extended(&self) -> usize {
        let specs = self.parts.iter().filter(|part| !part.is_settings).count();
        specs.saturating_sub(1)
    }
}

/// Settings as a spec says them: `database` is that of `[target]`, `rejects` the folder of
/// `[rejects]`.
fn of_settings<'t>(mut table: DeTable<'t>, problems: &RefCell<Vec<Problem>>) -> DeTable<'t> {
    let mut s = Section::new(SETTINGS, Some(&table), problems);
    for key in ["database", "rejects", "values", "stores"] {
        s.value(key);
    }
    s.finish();
    let mut spec = DeTable::new();
    for (key, section, name) in [
        ("database", "target", "database"),
        ("rejects", "rejects", "folder"),
    ] {
        if let Some(value) = table.remove(key) {
            let span = value.span();
            let inner = DeTable::from_iter([(At::new(span.clone(), name.into()), value)]);
            spec.insert(
                At::new(span.clone(), section.into()),
                At::new(span, DeValue::Table(inner)),
            );
        }
    }
    for key in ["values", "stores"] {
        if let Some((name, value)) = table.remove_entry(key) {
            spec.insert(name, value);
        }
    }
    spec
}

/// What has a section's name and is no table: nothing of it can be taken, which is told even
/// where nothing of it would be.
fn no_sections(document: &DeTable<'_>) -> Vec<(String, Range<usize>)> {
    let entries = document.iter();
    let wrong = entries
        .filter(|(name, value)| is_by_key(name.get_ref()) && value.get_ref().as_table().is_none());
    wrong
        .map(|(name, value)| (name.get_ref().to_string(), value.span()))
        .collect()
}

/// Whether the keys of a section are taken one by one. Of all else, whoever says it first says
/// all of it.
fn is_by_key(section: &str) -> bool {
    section == "stores" || SECTIONS_OF_ONE.contains(&section)
}

/// Adds to `own` what only `other` says.
fn merge<'t>(own: &mut DeTable<'t>, other: DeTable<'t>, part: usize, taken: &mut Vec<TakenKey>) {
    let has_shape = SHAPE.iter().any(|key| own.contains_key(*key));
    for (key, value) in other {
        let name = key.get_ref().to_string();
        if name == "extends" || (has_shape && SHAPE.contains(&name.as_str())) {
            continue;
        }
        match (own.get_mut(name.as_str()), value.get_ref()) {
            (Some(mine), DeValue::Table(_)) if is_by_key(&name) => {
                if let DeValue::Table(mine) = mine.get_mut() {
                    merge_section(&name, mine, into_table(value), part, taken);
                }
            }
            (Some(_), _) => {}
            // It is told already.
            (None, other) if is_by_key(&name) && other.as_table().is_none() => {}
            (None, DeValue::Table(table)) if is_by_key(&name) => {
                let keys = table
                    .iter()
                    .map(|(key, inner)| (key.get_ref().to_string(), inner));
                for (key, inner) in keys {
                    take(&name, &key, inner.get_ref(), part, taken);
                }
                own.insert(key, value);
            }
            (None, _) => {
                taken.push(TakenKey {
                    part,
                    section: String::new(),
                    key: name,
                });
                own.insert(key, value);
            }
        }
    }
}

/// Adds to a section the keys that only `other` has; of `[stores]`, to each store.
fn merge_section<'t>(
    section: &str,
    own: &mut DeTable<'t>,
    other: DeTable<'t>,
    part: usize,
    taken: &mut Vec<TakenKey>,
) {
    for (key, value) in other {
        let name = key.get_ref().to_string();
        match own.get_mut(name.as_str()) {
            Some(mine) if section == "stores" => {
                if let (DeValue::Table(mine), DeValue::Table(_)) = (mine.get_mut(), value.get_ref())
                {
                    let store = format!("stores.{name}");
                    merge_section(&store, mine, into_table(value), part, taken);
                }
            }
            Some(_) => {}
            None => {
                take(section, &name, value.get_ref(), part, taken);
                own.insert(key, value);
            }
        }
    }
}

fn take(section: &str, key: &str, value: &DeValue<'_>, part: usize, taken: &mut Vec<TakenKey>) {
    let one = |section: String, key: &str| TakenKey {
        part,
        section,
        key: key.to_string(),
    };
    match value {
        DeValue::Table(table) if section == "stores" => {
            let keys = table.keys();
            taken.extend(keys.map(|inner| one(format!("stores.{key}"), inner.get_ref())));
        }
        _ => taken.push(one(section.to_string(), key)),
    }
}

fn into_table(value: At<DeValue<'_>>) -> DeTable<'_> {
    match value.into_inner() {
        DeValue::Table(table) => table,
        _ => DeTable::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::super::check::plan_of;
    use super::*;

    fn texts(own: &str, house: &str, settings: &str) -> SpecTexts {
        let mut texts = SpecTexts::new(Path::new("a.spec.toml"), own);
        if !house.is_empty() {
            texts.extend(Path::new("house.spec.toml"), house);
        }
        if !settings.is_empty() {
            texts.settle(Path::new("../barrow.toml"), settings);
        }
        texts
    }

    const OWN: &str =
        "extends = \"house.spec.toml\"\n[delimited]\ndelimiter = \";\"\n[columns]\na = \"text\"\n";
    const HOUSE: &str = "[delimited]\ndelimiter = \"|\"\nquote = \"'\"\n[columns]\nz = \"date\"\n\
                         [target]\ntable = \"t\"\n";
    const SETTINGS: &str = "database = \"sqlite:m.db\"\nrejects = \"bad\"\n[values]\ndecimal_mark = \",\"\n\
                            [stores.market]\nregion = \"eu\"\n";

    #[test]
    fn what_one_does_not_say_the_next_one_does() {
        let plan = plan_of(&texts(OWN, HOUSE, SETTINGS), None).unwrap();
        assert_eq!(plan.target.table.as_deref(), Some("t"));
        assert_eq!(plan.target.into.as_deref(), Some("sqlite:m.db"));
        assert_eq!(plan.rejects.folder, Path::new("bad"));
        assert_eq!(plan.stores[0].region.as_deref(), Some("eu"));
        let columns = &plan.record_types[0].columns;
        assert_eq!(
            columns.iter().map(|c| c.name.as_str()).collect::<Vec<_>>(),
            ["a"]
        );
    }

    #[test]
    fn what_comes_from_where_is_told() {
        let taken = texts(OWN, HOUSE, SETTINGS).taken();
        let told: Vec<_> = taken.iter().map(|key| (key.part, key.name())).collect();
        let expected = [
            (1, "delimited.quote"),
            (1, "target.table"),
            (2, "target.database"),
            (2, "rejects.folder"),
            (2, "stores.market.region"),
            (2, "values.decimal_mark"),
        ];
        for (part, name) in expected {
            assert!(told.contains(&(part, name.to_string())), "{name}: {told:?}");
        }
        assert_eq!(told.len(), expected.len(), "{told:?}");
    }

    #[test]
    fn a_problem_is_placed_in_its_own_text() {
        let house = "[delimited]\nqoute = \"'\"\n";
        let settings = "[values]\ntrim = \"lots\"\n[target]\ntable = \"x\"\n";
        let texts = texts(OWN, house, settings);
        let problems = plan_of(&texts, None).unwrap_err();
        let told: Vec<_> = problems
            .iter()
            .map(|problem| {
                let (part, place) = texts.place(&problem.span);
                (part, &texts.text(part)[place])
            })
            .collect();
        assert_eq!(told, [(1, "qoute"), (2, "\"lots\""), (2, "target")]);
    }

    #[test]
    fn text_that_is_no_toml_is_placed_in_its_own_text() {
        let texts = texts(OWN, "[records\n", "");
        let problems = plan_of(&texts, None).unwrap_err();
        assert_eq!(texts.place(&problems[0].span).0, 1);
        assert!(texts.taken().is_empty());
    }

    #[test]
    fn a_byte_order_mark_before_any_text_is_passed_over() {
        let mark = |text: &str| format!("\u{FEFF}{text}");
        let texts = texts(&mark(OWN), &mark(HOUSE), &mark(SETTINGS));
        let plan = plan_of(&texts, None).unwrap();
        assert_eq!(plan.target.into.as_deref(), Some("sqlite:m.db"));
    }

    #[test]
    fn a_section_that_is_no_table_is_told_once_whoever_else_has_it() {
        for own in [format!("{OWN}[values]\ntrim = \"both\"\n"), OWN.to_string()] {
            let texts = texts(&own, "target = 7\n", "values = 5\n");
            let problems = plan_of(&texts, None).unwrap_err();
            let told: Vec<_> = problems
                .iter()
                .map(|problem| texts.place(&problem.span).0)
                .collect();
            assert_eq!(told, [1, 2], "{problems:?}");
        }
    }

    #[test]
    fn columns_and_record_types_are_one_shape() {
        let house = "[[record_type]]\nname = \"h\"\nif = \"field(1) = 'H'\"\nload = false\n";
        let own = "[columns]\na = \"text\"\n[target]\ntable = \"t\"\n";
        let own = format!("extends = \"h\"\n{own}");
        assert!(plan_of(&texts(&own, house, ""), None).is_ok());
    }

    #[test]
    fn a_spec_is_not_read_without_what_it_extends() {
        let problems = plan_of(&texts(OWN, "", SETTINGS), None).unwrap_err();
        assert_eq!(
            problems[0].message,
            "the spec that this one extends was not read"
        );
    }
}
