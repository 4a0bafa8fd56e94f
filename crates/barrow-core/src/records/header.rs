//! Binds the spec's columns to a file's fields.

use std::collections::{HashMap, HashSet};

use crate::error::{Error, Unbound};
use crate::escape::escape_for_display;
use crate::nearest::nearest;
use crate::plan::{ColumnPlan, Place};
use crate::words::WhenNewColumn;

/// For so many columns that are missing the nearest name is looked for.
const MOST_HELPED: usize = 50;

/// Which field each column is, and what people should know about it.
#[derive(Debug, PartialEq, Eq)]
pub struct Bound {
    /// For each column, its field, 0-based; none for one that is computed.
    pub binding: Vec<Option<usize>>,
    /// Columns found by another writing of their name, and fields that no
    /// column asks for.
    pub notes: Vec<String>,
}

/// Finds the columns by the header's names. A name is matched exactly, then
/// without regard to case and the blanks around it.
///
/// # Errors
/// Every column that the header lacks, or has twice; every one that the spec does not name,
/// where it says to stop there.
pub fn bind(
    file: &str,
    columns: &[ColumnPlan],
    header: &[String],
    when_new: WhenNewColumn,
) -> Result<Bound, Error> {
    let mut bound = Bound {
        binding: Vec::new(),
        notes: Vec::new(),
    };
    let names = Names::of(header);
    let mut unbound = Vec::new();
    for column in columns {
        if column.place == Place::Computed {
            bound.binding.push(None);
            continue;
        }
        // One column that is missing is helped on; of thousands the file is another.
        let helps = unbound.len() < MOST_HELPED;
        match find(column, header, &names, helps) {
            Ok((field, None)) => bound.binding.push(Some(field)),
            Ok((field, Some(note))) => {
                bound.binding.push(Some(field));
                bound.notes.push(note);
            }
            Err(trouble) => unbound.push(trouble),
        }
    }
    if unbound.is_empty() {
        unbound = doubly_bound(columns, header, &bound.binding);
    }
    let read: HashSet<usize> = bound.binding.iter().flatten().copied().collect();
    let extra: Vec<String> = (0..header.len())
        .filter(|field| !read.contains(field))
        .map(|field| match header[field].as_str() {
            "" => format!("field {}, which has no name", field + 1),
            name => format!("\"{}\"", escape_for_display(name.as_bytes())),
        })
        .collect();
    let stops = when_new == WhenNewColumn::Stop && !extra.is_empty();
    if !unbound.is_empty() || stops {
        let header = header
            .iter()
            .map(|h| escape_for_display(h.as_bytes()))
            .collect();
        return Err(Error::Header {
            file: file.into(),
            unbound,
            new: if stops { extra } else { Vec::new() },
            header,
        });
    }
    if !extra.is_empty() {
        let verb = if extra.len() == 1 {
            "it is"
        } else {
            "they are"
        };
        bound.notes.push(format!(
            "the spec does not name {}, so {verb} not read",
            extra.join(", ")
        ));
    }
    Ok(bound)
}

/// Columns that are the same field as one before them.
fn doubly_bound(
    columns: &[ColumnPlan],
    header: &[String],
    binding: &[Option<usize>],
) -> Vec<Unbound> {
    let mut troubles = Vec::new();
    let mut firsts: HashMap<usize, usize> = HashMap::new();
    for (second, field) in binding.iter().enumerate() {
        let Some(place) = field else { continue };
        let first = *firsts.entry(*place).or_insert(second);
        if first < second {
            troubles.push(Unbound {
                column: columns[second].name.clone(),
                trouble: format!(
                    "it is field {} \"{}\", and so is {}",
                    place + 1,
                    escape_for_display(header[*place].as_bytes()),
                    columns[first].name
                ),
            });
        }
    }
    troubles
}

fn find(
    column: &ColumnPlan,
    header: &[String],
    names: &Names<'_>,
    helps: bool,
) -> Result<(usize, Option<String>), Unbound> {
    let name = match &column.place {
        Place::Field(field) if *field < header.len() => return Ok((*field, None)),
        Place::Field(field) => {
            return Err(Unbound {
                column: column.name.clone(),
                trouble: format!(
                    "it is field {}, and the header has {} fields",
                    field + 1,
                    header.len()
                ),
            });
        }
        Place::Named(name) => name,
        // A computed column has no field to find, and a key is in no header.
        Place::Computed | Place::Key(_) => return Ok((0, None)),
    };
    match names.find(name) {
        [field] if header[*field] == *name => Ok((*field, None)),
        [field] => Ok((
            *field,
            Some(format!(
                "column {} was found as \"{}\", which differs from \"{}\" in case or spaces",
                column.name,
                escape_for_display(header[*field].as_bytes()),
                escape_for_display(name.as_bytes())
            )),
        )),
        [] => Err(Unbound {
            column: column.name.clone(),
            trouble: match nearest(name, header.iter().map(String::as_str).filter(|_| helps)) {
                Some(near) => format!(
                    "the header has no \"{}\"; the nearest is \"{}\"",
                    escape_for_display(name.as_bytes()),
                    escape_for_display(near.as_bytes())
                ),
                None => format!(
                    "the header has no \"{}\"",
                    escape_for_display(name.as_bytes())
                ),
            },
        }),
        several => Err(Unbound {
            column: column.name.clone(),
            trouble: format!(
                "the header has \"{}\" {} times (fields {}); say which with `position`",
                escape_for_display(name.as_bytes()),
                several.len(),
                several
                    .iter()
                    .map(|f| (f + 1).to_string())
                    .collect::<Vec<_>>()
                    .join(" and ")
            ),
        }),
    }
}

/// The names of a header, each with its fields.
struct Names<'h> {
    exact: HashMap<&'h str, Vec<usize>>,
    folded: HashMap<String, Vec<usize>>,
}

impl<'h> Names<'h> {
    fn of(header: &'h [String]) -> Names<'h> {
        let mut names = Names {
            exact: HashMap::new(),
            folded: HashMap::new(),
        };
        for (field, name) in header.iter().enumerate() {
            names.exact.entry(name).or_default().push(field);
            names.folded.entry(fold(name)).or_default().push(field);
        }
        names
    }

    /// The fields of a name: as it is written, or else in another case.
    fn find(&self, name: &str) -> &[usize] {
        let exact = self.exact.get(name);
        let found = exact.or_else(|| self.folded.get(&fold(name)));
        found.map_or(&[], Vec::as_slice)
    }
}

/// A name without what does not count when it is looked for: case, and the blanks around it.
/// Wherever names of a header are compared with those of a spec, this rule applies.
///
/// ```
/// use barrow_core::records::header::fold;
///
/// assert_eq!(fold(" GR\u{dc}N "), fold("gr\u{fc}n"));
/// ```
pub fn fold(name: &str) -> String {
    name.trim().to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::Type;

    fn named(name: &str) -> ColumnPlan {
        ColumnPlan {
            name: name.to_lowercase(),
            ty: Type::Text,
            place: Place::Named(name.into()),
            required: false,
            load: true,
            when_inexact: Default::default(),
            align: None,
            pad: None,
            reader: None,
            value: None,
        }
    }

    fn header(names: &[&str]) -> Vec<String> {
        names.iter().map(|n| (*n).to_string()).collect()
    }

    #[test]
    fn an_exact_name_wins_over_one_in_another_case() {
        let bound = bind(
            "f",
            &[named("ID")],
            &header(&["id", "ID"]),
            WhenNewColumn::Ignore,
        )
        .unwrap();
        assert_eq!(bound.binding, [Some(1)]);
    }

    #[test]
    fn another_case_is_found_and_said() {
        let bound = bind(
            "f",
            &[named("Grower")],
            &header(&[" GROWER "]),
            WhenNewColumn::Stop,
        )
        .unwrap();
        assert_eq!(bound.binding, [Some(0)]);
        assert!(bound.notes[0].contains("case or spaces"));
    }

    #[test]
    fn two_columns_are_not_one_field() {
        let error = bind(
            "f",
            &[named("id"), named("ID")],
            &header(&["id", "x"]),
            WhenNewColumn::Ignore,
        )
        .unwrap_err();
        assert!(
            error
                .to_string()
                .contains("it is field 1 \"id\", and so is id"),
            "{error}"
        );
    }

    #[test]
    fn a_column_that_the_spec_does_not_name_stops_or_is_said() {
        let bound = |when| bind("f", &[named("id")], &header(&["id", "kg", ""]), when);
        let Err(Error::Header { new, unbound, .. }) = bound(WhenNewColumn::Stop) else {
            panic!("not stopped")
        };
        assert_eq!(new, ["\"kg\"", "field 3, which has no name"]);
        assert_eq!(unbound, []);
        let notes = bound(WhenNewColumn::Ignore).unwrap().notes;
        assert!(notes[0].contains("does not name \"kg\""), "{notes:?}");
    }

    #[test]
    fn every_missing_and_doubled_name_is_told() {
        let error = bind(
            "f",
            &[named("grower"), named("id")],
            &header(&["growr", "id", "id"]),
            WhenNewColumn::Ignore,
        )
        .unwrap_err();
        let Error::Header { unbound, .. } = error else {
            panic!("{error}")
        };
        assert!(unbound[0].trouble.contains("nearest is \"growr\""));
        assert!(unbound[1].trouble.contains("2 times (fields 2 and 3)"));
    }
}
