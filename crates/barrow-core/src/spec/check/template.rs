//! Checks templates of computed values.

use super::conditions::inner;
use crate::nearest::did_you_mean;
use crate::plan::{ColumnPlan, Part, RecordTypePlan, Template};

use crate::problem::{Problem, Spanned};

/// What a template may name beside columns.
const FACTS: [(&str, Part); 5] = [
    ("file", Part::File),
    ("line", Part::Line),
    ("record", Part::Record),
    ("run", Part::Run),
    ("now", Part::Now),
];

/// What the names of a template stand for.
pub struct Names<'n> {
    /// The spec's own text.
    pub text: &'n str,
    /// The columns of the record, those up to the template's own.
    pub before: &'n [ColumnPlan],
    /// All columns of the record.
    pub all: &'n [ColumnPlan],
    /// The kinds that come before this one.
    pub record_types: &'n [RecordTypePlan],
}

/// Reads a template.
pub fn template(
    written: &Spanned<String>,
    names: &Names<'_>,
    problems: &mut Vec<Problem>,
) -> Option<Template> {
    let mut parts = Vec::new();
    let mut literal = String::new();
    let mut rest = written.value.char_indices().peekable();
    let mut fine = true;
    while let Some((at, c)) = rest.next() {
        // A brace that stands for itself is doubled.
        if matches!(c, '{' | '}') && rest.next_if(|(_, next)| *next == c).is_some() {
            literal.push(c);
            continue;
        }
        if c == '}' {
            fine = false;
            let span = inner(names.text, written, &(at..at + 1));
            problems.push(
                Problem::new(span, "a brace closes nothing", "closes nothing")
                    .help("write }} for a brace of the text itself"),
            );
            continue;
        }
        if c != '{' {
            literal.push(c);
            continue;
        }
        let name: String = rest
            .by_ref()
            .map(|(_, c)| c)
            .take_while(|c| *c != '}')
            .collect();
        let end = at + name.len() + 2;
        let closed = written.value.get(end - 1..end) == Some("}");
        match names.part(&name) {
            Ok(part) if closed => {
                if !literal.is_empty() {
                    parts.push(Part::Text(std::mem::take(&mut literal)));
                }
                parts.push(part);
            }
            found => {
                fine = false;
                let span = inner(names.text, written, &(at..end.min(written.value.len())));
                let (message, help) = match (closed, found) {
                    (true, Err(wrong)) => wrong,
                    _ => (
                        "nothing closes this brace".to_string(),
                        Some("write {{ for a brace of the text itself".into()),
                    ),
                };
                problems.push(Problem::new(span, message, "here").maybe_help(help));
            }
        }
    }
    if !literal.is_empty() || parts.is_empty() {
        parts.push(Part::Text(literal));
    }
    fine.then_some(Template { parts })
}

impl Names<'_> {
    fn part(&self, name: &str) -> Result<Part, (String, Option<String>)> {
        if let Some((_, part)) = FACTS.iter().find(|(fact, _)| *fact == name) {
            return Ok(part.clone());
        }
        if let Some(place) = self.before.iter().position(|c| c.name == name) {
            return Ok(Part::Column(place));
        }
        if let Some(place) = self.all.iter().position(|c| c.name == name) {
            if self.all[place].value.is_none() && !self.is_computed(place) {
                return Ok(Part::Column(place));
            }
            return Err((
                format!("{name} is computed itself, and comes later"),
                Some("put it before this column".into()),
            ));
        }
        if let Some((kind, column)) = name.split_once('.')
            && let Some(carried) = self.carried(kind, column)?
        {
            return Ok(carried);
        }
        let columns = self.all.iter().map(|c| c.name.as_str());
        let known = FACTS.iter().map(|(fact, _)| *fact).chain(columns);
        let help = did_you_mean(name, known).unwrap_or_else(|| {
            "it may be {file}, {line}, {record}, {run}, {now}, or {column} of this record".into()
        });
        Err((format!("there is no {{{name}}}"), Some(help)))
    }

    fn is_computed(&self, place: usize) -> bool {
        self.all[place].place == crate::plan::Place::Computed
    }

    /// `kind.column`, where there is such a kind before this one.
    fn carried(&self, kind: &str, column: &str) -> Result<Option<Part>, (String, Option<String>)> {
        let named = |k: &RecordTypePlan| k.name.as_deref() == Some(kind);
        let Some(kind_place) = self.record_types.iter().position(named) else {
            return Ok(None);
        };
        let columns = &self.record_types[kind_place].columns;
        match columns.iter().position(|c| c.name == column) {
            Some(column) => Ok(Some(Part::Carried {
                kind: kind_place,
                column,
            })),
            None => {
                let known = columns.iter().map(|c| c.name.as_str());
                Err((
                    format!("the record type {kind} has no column {column}"),
                    did_you_mean(column, known),
                ))
            }
        }
    }
}
