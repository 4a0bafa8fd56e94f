//! Header, spec and table side by side: one line a column, and a verdict.

use barrow_core::column_stats::ColumnStats;
use barrow_core::escape::escape_for_display;
use barrow_core::nearest::nearest;
use barrow_core::plan::{ColumnPlan, Place, RecordTypePlan};
use barrow_core::records::header::fold;
use barrow_core::types::Type;
use barrow_core::words::WhenInexact;
use barrow_targets::fit::{Fit, fit};
use barrow_targets::table::is_text_decimal;
use barrow_targets::{Column, Dialect, Table};

/// A column as the header, the spec and the table have it.
pub struct Side {
    /// The header's name, or the place in the record.
    pub header: Option<String>,
    /// The spec's column and its type.
    pub spec: Option<(String, String)>,
    /// The table's column and its type.
    pub table: Option<(String, String)>,
    /// How they fit.
    pub verdict: Verdict,
}

impl Side {
    /// Whether the header lacks a column that the spec names.
    pub fn lacks_header(&self) -> bool {
        self.spec.is_some() && self.header.is_none() && self.verdict.weight == Weight::Bad
    }
}

/// How a column's three sides fit.
pub struct Verdict {
    /// In plain words.
    pub words: String,
    /// How bad it is.
    pub weight: Weight,
}

/// How bad a verdict is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Weight {
    /// As it should be.
    Fine,
    /// To be looked at.
    Odd,
    /// A load would stop at it.
    Bad,
}

fn verdict(words: impl Into<String>, weight: Weight) -> Verdict {
    Verdict {
        words: words.into(),
        weight,
    }
}

/// What is compared.
pub struct Sides<'s> {
    /// The kind of record.
    pub kind: &'s RecordTypePlan,
    /// The header's names, where the spec reads them.
    pub header: Option<&'s [String]>,
    /// The table, where there is one.
    pub table: Option<&'s Table>,
    /// Whether a load would make a table that is missing; none where no database
    /// was named.
    pub makes: Option<bool>,
    /// The database's SQL, where one was named.
    pub dialect: Option<Dialect>,
    /// For each read column what its values were like; empty before they are read.
    pub seen: &'s [ColumnStats],
}

impl Sides<'_> {
    /// Whether the database keeps to the lengths and sizes that it declares.
    fn enforces(&self) -> bool {
        self.dialect
            .is_some_and(|dialect| dialect.enforces_lengths())
    }

    /// Every column of the three.
    pub fn all(&self) -> Vec<Side> {
        let columns = self.kind.columns.iter().enumerate();
        let mut sides: Vec<Side> = columns
            .map(|(place, column)| self.one(place, column))
            .collect();
        sides.extend(self.not_read());
        sides.extend(self.not_loaded());
        sides
    }

    fn one(&self, place: usize, column: &ColumnPlan) -> Side {
        let (header, trouble) = self.in_header(column);
        let found = self.table.filter(|_| column.load);
        let found = found.and_then(|table| table.column(&column.name));
        let shown = |name: &str, ty: String| (escape_for_display(name.as_bytes()), ty);
        Side {
            header,
            spec: Some(shown(&column.name, column.ty.to_string())),
            table: found
                .map(|found| shown(&found.name, escape_for_display(found.declared.as_bytes()))),
            verdict: trouble.unwrap_or_else(|| self.filled(place, column)),
        }
    }

    /// How a column fits the table, and whether some value fills a fixed width: where
    /// none does, the width may be that of two columns.
    fn filled(&self, place: usize, column: &ColumnPlan) -> Verdict {
        let mut verdict = self.in_table(place, column);
        let width = match (&self.kind.fixed, &column.place) {
            (Some(fixed), Place::Field(field)) if fixed.text[*field] => fixed.slices[*field].1,
            _ => return verdict,
        };
        let seen = self.kind.slot(place).and_then(|slot| self.seen.get(slot));
        if let Some(longest) = seen.and_then(|seen| seen.longest)
            && longest < width
            && verdict.weight != Weight::Bad
        {
            let and = if verdict.words.is_empty() { "" } else { "; " };
            verdict.words +=
                &format!("{and}no value fills its width of {width}: the longest has {longest}");
        }
        verdict
    }

    /// The key of a column, where records name their fields.
    fn key(&self, field: usize) -> Option<String> {
        let path = self.kind.keys.as_ref()?.fields.get(field)?.paths.first()?;
        let name = path.steps.join("/");
        Some(format!("(key {})", escape_for_display(name.as_bytes())))
    }

    /// The header's name for a column, and what is wrong with it.
    fn in_header(&self, column: &ColumnPlan) -> (Option<String>, Option<Verdict>) {
        let name = match &column.place {
            Place::Computed => return (Some("(computed)".into()), None),
            Place::Field(field) => return (Some(format!("(field {})", field + 1)), None),
            Place::Key(field) => return (self.key(*field), None),
            Place::Named(name) => name,
        };
        let Some(header) = self.header else {
            return (None, None);
        };
        let exact = header.iter().find(|h| *h == name);
        let alike = exact.or_else(|| header.iter().find(|h| fold(h) == fold(name)));
        let Some(found) = alike else {
            let near = nearest(name, header.iter().map(String::as_str));
            let near = near.map(|near| {
                format!(
                    "; the nearest is \"{}\"",
                    escape_for_display(near.as_bytes())
                )
            });
            let words = format!(
                "the header has no \"{}\"{}",
                escape_for_display(name.as_bytes()),
                near.unwrap_or_default()
            );
            return (None, Some(verdict(words, Weight::Bad)));
        };
        let differs = exact.is_none().then(|| {
            let words = format!(
                "the header's name differs from \"{}\" in case or spaces",
                escape_for_display(name.as_bytes())
            );
            verdict(words, Weight::Odd)
        });
        (Some(escape_for_display(found.as_bytes())), differs)
    }

    fn in_table(&self, place: usize, column: &ColumnPlan) -> Verdict {
        if !column.load {
            return verdict("skipped", Weight::Fine);
        }
        let Some(table) = self.table else {
            return match self.makes {
                None => verdict("", Weight::Fine),
                Some(true) => verdict("the table would be made", Weight::Fine),
                Some(false) => verdict("there is no table", Weight::Bad),
            };
        };
        let Some(found) = table.column(&column.name) else {
            let near = nearest(&column.name, table.columns.iter().map(|c| c.name.as_str()));
            let near = near
                .map(|near| format!("; the nearest is {}", escape_for_display(near.as_bytes())));
            let words = format!("missing in the table{}", near.unwrap_or_default());
            return verdict(words, Weight::Bad);
        };
        if found.generated {
            return verdict("the table computes it: say load = false", Weight::Bad);
        }
        let name = self.dialect.map_or("", |dialect| dialect.name());
        let turns = |d: &Dialect| d.turns_text_into_numbers(column.ty, &found.declared);
        if self.dialect.as_ref().is_some_and(turns) {
            let words = format!("{name} would turn its text into numbers");
            return verdict(words, Weight::Bad);
        }
        let of = Column {
            name: column.name.clone(),
            ty: column.ty,
            required: column.required,
            inexact_as_text: column.when_inexact == WhenInexact::Text,
            one_of: Vec::new(),
        };
        let seen = self.kind.slot(place).and_then(|slot| self.seen.get(slot));
        let is_text = is_text_decimal(found);
        match fit(&of, found) {
            Fit::Fits if is_text && !of.inexact_as_text => verdict(
                "fits; the table has it as text, which SQL compares as text: say when_inexact = \
                 \"text\", or make the table anew",
                Weight::Odd,
            ),
            Fit::Fits => match (found.required, column.required) {
                (true, false) => verdict("fits; null would be refused", Weight::Fine),
                _ => verdict("fits", Weight::Fine),
            },
            Fit::Narrow(why) if !self.enforces() => verdict(
                format!("fits: {why}, which {name} does not hold to"),
                Weight::Odd,
            ),
            Fit::Narrow(why) => narrow(&why, seen, column.ty, found.ty),
            Fit::Other(why) => verdict(format!("may not fit: {why}"), Weight::Odd),
        }
    }

    /// Names of the header that no column asks for.
    fn not_read(&self) -> Vec<Side> {
        let read = |name: &&String| {
            self.kind.columns.iter().any(|column| match &column.place {
                Place::Named(named) => fold(named) == fold(name),
                _ => false,
            })
        };
        let names = self.header.unwrap_or_default().iter();
        let sides = names.filter(|name| !read(name)).map(|name| Side {
            header: Some(escape_for_display(name.as_bytes())),
            spec: None,
            table: None,
            verdict: verdict("not read", Weight::Odd),
        });
        sides.collect()
    }

    /// Columns of the table that the spec does not load.
    fn not_loaded(&self) -> Vec<Side> {
        let loaded = |name: &str| {
            self.kind
                .loaded()
                .any(|c| c.name.eq_ignore_ascii_case(name))
        };
        let columns = self.table.map_or(&[][..], |table| &table.columns);
        let sides = columns
            .iter()
            .filter(|c| !loaded(&c.name))
            .map(|column| Side {
                header: None,
                spec: None,
                table: Some((
                    escape_for_display(column.name.as_bytes()),
                    escape_for_display(column.declared.as_bytes()),
                )),
                verdict: match (column.generated, column.required) {
                    (true, _) => verdict("the table computes it", Weight::Fine),
                    (false, true) => verdict("required by the table, and not loaded", Weight::Bad),
                    (false, false) => verdict("filled by the table", Weight::Fine),
                },
            });
        sides.collect()
    }
}

/// A type that is wider than the table's, compared with the values that were seen.
fn narrow(why: &str, seen: Option<&ColumnStats>, spec: Type, table: Option<Type>) -> Verdict {
    let may = || verdict(format!("may not fit: {why}"), Weight::Odd);
    match (seen, table) {
        (
            Some(ColumnStats {
                longest: Some(longest),
                ..
            }),
            Some(Type::Char(n) | Type::VarChar(n)),
        ) => match *longest <= n as usize {
            true => verdict(
                format!("fits so far: the longest has {longest} characters"),
                Weight::Fine,
            ),
            false => verdict(
                format!("does not fit: the longest has {longest} characters, and the table's {n}"),
                Weight::Bad,
            ),
        },
        (
            Some(ColumnStats {
                range: Some((least, most)),
                ..
            }),
            Some(ty),
        ) => match whole_bounds(spec, ty) {
            Some((low, high)) if *least >= low && *most <= high => {
                verdict(format!("fits so far: from {least} to {most}"), Weight::Fine)
            }
            Some(_) => verdict(
                format!("does not fit: from {least} to {most}, {why}"),
                Weight::Bad,
            ),
            None => may(),
        },
        _ => may(),
    }
}

/// The bounds of a table's whole numbers, where the spec's are whole too.
fn whole_bounds(spec: Type, table: Type) -> Option<(i128, i128)> {
    if !matches!(spec, Type::SmallInt | Type::Integer | Type::BigInt) {
        return None;
    }
    match table {
        Type::SmallInt => Some((i16::MIN.into(), i16::MAX.into())),
        Type::Integer => Some((i32::MIN.into(), i32::MAX.into())),
        Type::BigInt => Some((i64::MIN.into(), i64::MAX.into())),
        _ => None,
    }
}
