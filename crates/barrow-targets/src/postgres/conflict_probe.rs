//! Which rows a table is likely to refuse, for the reasons that it refused others for: a
//! key that is there already, or one that another table does not have. The server is
//! asked for many rows at once, which costs a part of what it takes to find them by sending.
//!
//! A wrong or missing answer costs time and nothing else.

use std::collections::{BTreeMap, HashSet};
use std::ops::Range;

use postgres::error::{DbError, SqlState};
use postgres::types::ToSql;
use postgres::{Client, Statement};

use super::DIALECT;
use super::encode::Field;
use super::errors::explained;
use super::keys::{Array, Keys};
use crate::encoded::rows::Run;
use crate::error::Error;

/// The reasons that a table refused rows for, as far as it can be asked for more of them.
#[derive(Default)]
pub struct Candidates {
    to: Destination,
    reasons: Vec<Reason>,
}

/// Rows that are likely to be refused, by their places, each with the reasons for which it
/// will be in its turn: its key is there, or comes with a row before it that is not itself
/// among these; or a key that it names is not there. A row whose key comes with one of
/// these has none, since it may go in.
pub type Rows = BTreeMap<usize, Vec<usize>>;

/// Where rows go.
#[derive(Default)]
struct Destination {
    /// The table, quoted.
    table: String,
    /// The columns that are sent, as the table writes them, and whether they are whole
    /// numbers on the wire.
    columns: Vec<(String, bool)>,
}

/// A constraint that refused rows.
struct Reason {
    schema: String,
    table: String,
    constraint: String,
    is_key: bool,
    /// Whether it is worth while to ask: it refused a row since it was last asked without result.
    is_live: bool,
    asking: Option<Asking>,
}

/// How a constraint is asked for.
struct Asking {
    /// The columns that it takes, as places among those that are sent.
    columns: Vec<usize>,
    sql: String,
    /// Says of keys which are there, or lack.
    each: Statement,
    /// Says of ranges of keys in which there are any.
    ranges: Option<Statement>,
}

/// Keys in a row of which the range is asked for first. Often they are in the order of
/// the file, and none of the range is there; a key that is asked for by itself costs a
/// third of what it costs to load its row.
const RANGE: usize = 128;

/// The columns of a unique index, with their types.
const KEY: &str = "
SELECT a.attname::text, format('%I.%I', tn.nspname, t.typname)
  FROM pg_index i
  JOIN pg_class x ON x.oid = i.indexrelid
  JOIN pg_namespace n ON n.oid = x.relnamespace
  JOIN pg_class c ON c.oid = i.indrelid
  JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1])
  JOIN pg_type t ON t.oid = a.atttypid
  JOIN pg_namespace tn ON tn.oid = t.typnamespace
 WHERE n.nspname = $1 AND c.relname = $2 AND x.relname = $3
   AND i.indpred IS NULL AND i.indexprs IS NULL";

/// The columns of a foreign key, with their types, the table that it names, quoted, and
/// that table's columns. A table that refers to itself is left out: what it lacks may still come.
const FOREIGN: &str = "
SELECT a.attname::text, format('%I.%I', tn.nspname, t.typname),
       k.confrelid::regclass::text, b.attname::text
  FROM pg_constraint k
  JOIN pg_class c ON c.oid = k.conrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
 CROSS JOIN LATERAL unnest(k.conkey, k.confkey) AS p(own, named)
  JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = p.own
  JOIN pg_attribute b ON b.attrelid = k.confrelid AND b.attnum = p.named
  JOIN pg_type t ON t.oid = a.atttypid
  JOIN pg_namespace tn ON tn.oid = t.typnamespace
 WHERE n.nspname = $1 AND c.relname = $2 AND k.conname = $3
   AND k.contype = 'f' AND k.confrelid <> k.conrelid";

/// So that each key is looked for by the index. The server does not know how many rows there are
/// when it makes its plan, and may well choose to read the whole table for each answer. The
/// settings end with the savepoint.
const BEGIN: &str = "SAVEPOINT barrow_ask; \
    SET LOCAL enable_seqscan = off; SET LOCAL enable_hashjoin = off; \
    SET LOCAL enable_mergejoin = off; SET LOCAL jit = off; \
    SET LOCAL plan_cache_mode = force_generic_plan";

/// And takes back a failure.
const END: &str = "ROLLBACK TO barrow_ask; RELEASE barrow_ask";

impl Candidates {
    /// For rows of these columns, which go into a table.
    pub fn new(table: &str, names: &[String], fields: &[Field]) -> Candidates {
        let columns = names.iter().zip(fields);
        let columns = columns.map(|(name, field)| (name.clone(), field.is_whole()));
        Candidates {
            to: Destination {
                table: table.to_string(),
                columns: columns.collect(),
            },
            reasons: Vec::new(),
        }
    }

    /// Learns why a row was refused.
    pub fn learn(&mut self, error: &postgres::Error) {
        let Some(error) = error.as_db_error() else {
            return;
        };
        let is_key = *error.code() == SqlState::UNIQUE_VIOLATION;
        if !is_key && *error.code() != SqlState::FOREIGN_KEY_VIOLATION {
            return;
        }
        if let Some(known) = self.reasons.iter_mut().find(|reason| reason.is_of(error)) {
            known.is_live = true;
        } else if let (Some(schema), Some(table), Some(constraint)) =
            (error.schema(), error.table(), error.constraint())
        {
            self.reasons.push(Reason {
                schema: schema.into(),
                table: table.into(),
                constraint: constraint.into(),
                is_key,
                is_live: true,
                asking: None,
            });
        }
    }

    /// How many reasons are known.
    pub fn reasons(&self) -> usize {
        self.reasons.len()
    }

    /// Whether a row that was refused after rows behind it would have been in its turn, too.
    /// `certain` are the reasons for which it would.
    pub fn are_sure(&self, certain: &[usize], error: &postgres::Error) -> bool {
        let Some(error) = error.as_db_error() else {
            return false;
        };
        // A key that is not there now was not there before.
        if *error.code() == SqlState::FOREIGN_KEY_VIOLATION {
            return true;
        }
        // A table's parts have names of their own for what is one key, and one question.
        let named = self.reasons.iter().find(|reason| reason.is_of(error));
        let asked = named.and_then(Reason::question);
        let is_it = |at: &usize| self.reasons[*at].question() == asked;
        asked.is_some() && certain.iter().any(is_it)
    }

    /// The rows among some that are likely to be refused.
    ///
    /// # Errors
    /// The connection is lost.
    pub fn among(
        &mut self,
        client: &mut Client,
        lines: &Run<'_>,
        places: Range<usize>,
    ) -> Result<Rows, Error> {
        let mut found = Rows::new();
        let mut repeated = Vec::new();
        let mut asked = HashSet::new();
        let reasons = self.reasons.iter_mut().enumerate();
        for (number, reason) in reasons.filter(|(_, reason)| reason.is_live) {
            let lost = |e: postgres::Error| explained(&e, "asking which keys are there");
            client.batch_execute(BEGIN).map_err(lost)?;
            let answer = reason.ask(client, &self.to, &mut asked, lines, places.clone());
            client.batch_execute(END).map_err(lost)?;
            // A server that will not have the question is not asked again, until
            // the constraint refuses a row.
            let answer = answer.unwrap_or_default();
            reason.is_live = !answer.refused.is_empty() || !answer.repeated.is_empty();
            for place in answer.refused {
                found.entry(place).or_default().push(number);
            }
            let of = |(place, first)| (place, first, number);
            repeated.extend(answer.repeated.into_iter().map(of));
        }
        add_repeated(&mut found, repeated);
        Ok(found)
    }
}

/// Adds rows whose keys come with others before them: their places, those of the first of
/// the same key, and the reasons.
fn add_repeated(found: &mut Rows, mut repeated: Vec<(usize, usize, usize)>) {
    // So that it is known of the first whether it is among them when the second comes.
    repeated.sort_unstable();
    for (place, first, number) in repeated {
        let goes_in = !found.contains_key(&first);
        let certain = found.entry(place).or_default();
        if goes_in {
            certain.push(number);
        }
    }
}

/// What a constraint says of rows.
#[derive(Default)]
struct Answer {
    /// The places of those that it will refuse, whatever comes with them.
    refused: Vec<usize>,
    /// Of those whose key came before: the place, and that of the first with the key.
    repeated: Vec<(usize, usize)>,
}

impl Reason {
    /// Whether it is the constraint that an error names.
    fn is_of(&self, error: &DbError) -> bool {
        error.schema() == Some(&self.schema)
            && error.table() == Some(&self.table)
            && error.constraint() == Some(&self.constraint)
    }

    /// What the server is asked, once that is known.
    fn question(&self) -> Option<&str> {
        self.asking.as_ref().map(|asking| asking.sql.as_str())
    }

    /// Which rows the constraint is likely to refuse. `asked` are the questions that were
    /// put already: a table's parts have the same constraint each by a name of its own.
    fn ask(
        &mut self,
        client: &mut Client,
        to: &Destination,
        asked: &mut HashSet<String>,
        lines: &Run<'_>,
        places: Range<usize>,
    ) -> Result<Answer, postgres::Error> {
        if self.asking.is_none() {
            self.asking = self.prepare(client, to)?;
        }
        let Some(asking) = &self.asking else {
            return Ok(Answer::default());
        };
        if !asked.insert(asking.sql.clone()) {
            return Ok(Answer::default());
        }
        let keys = Keys::of(&asking.columns, lines.each(places));
        let found = asking.ask(client, &keys)?;
        let mut answer = Answer::default();
        let mut firsts = vec![None; keys.count()];
        for (place, number) in &keys.rows {
            let first = *firsts[*number].get_or_insert(*place);
            if found[*number] {
                answer.refused.push(*place);
            } else if self.is_key && first < *place {
                answer.repeated.push((*place, first));
            }
        }
        Ok(answer)
    }

    /// The question; none where the rows do not have all columns of the constraint.
    fn prepare(
        &self,
        client: &mut Client,
        to: &Destination,
    ) -> Result<Option<Asking>, postgres::Error> {
        let catalog = if self.is_key { KEY } else { FOREIGN };
        let of = client.query(catalog, &[&self.schema, &self.table, &self.constraint])?;
        let (mut columns, mut types, mut pairs) = (Vec::new(), Vec::new(), Vec::new());
        let mut table = to.table.clone();
        for (number, row) in of.iter().enumerate() {
            let mut name: String = row.get(0);
            let Some(column) = to.columns.iter().position(|(known, _)| *known == name) else {
                return Ok(None);
            };
            if !self.is_key {
                (table, name) = (row.get(2), row.get(3));
            }
            columns.push(column);
            types.push(row.get::<_, String>(1));
            pairs.push((DIALECT.quoted(&name), format!("k.c{number}")));
        }
        let is_there = if self.is_key { "" } else { "NOT" };
        let (name, ty) = match (&pairs[..], &types[..]) {
            ([], _) | (_, []) => return Ok(None),
            ([(name, _), ..], [ty, ..]) => (name.clone(), ty.clone()),
        };
        let equal: Vec<String> = pairs.iter().map(|(t, k)| format!("t.{t} = {k}")).collect();
        let sql = question(&types, is_there, &table, &equal.join(" AND "));
        let is_range = self.is_key && columns.len() == 1 && to.columns[columns[0]].1;
        let within = format!("t.{name} BETWEEN k.c0 AND k.c1");
        let ranges = question(&[ty.clone(), ty], "", &table, &within);
        Ok(Some(Asking {
            columns,
            each: client.prepare(&sql)?,
            sql,
            ranges: is_range.then(|| client.prepare(&ranges)).transpose()?,
        }))
    }
}

/// Asks for which of several arrays' elements, `k`, there are rows of a table, `t`.
fn question(types: &[String], is_there: &str, table: &str, holds: &str) -> String {
    let arrays = types.iter().enumerate();
    let arrays: Vec<String> = arrays
        .map(|(at, ty)| format!("${}::{ty}[]", at + 1))
        .collect();
    let names: Vec<String> = (0..types.len()).map(|at| format!("c{at}")).collect();
    format!(
        "SELECT k.number FROM unnest({}) WITH ORDINALITY AS k({}, number) \
         WHERE {is_there} EXISTS (SELECT FROM {table} t WHERE {holds})",
        arrays.join(", "),
        names.join(", "),
    )
}

impl Asking {
    /// Of which keys the rows are suspect.
    fn ask(&self, client: &mut Client, keys: &Keys<'_>) -> Result<Vec<bool>, postgres::Error> {
        let mut numbers: Vec<usize> = (0..keys.count()).collect();
        if let Some(ranges) = &self.ranges {
            let found = run(client, ranges, &keys.ranges(RANGE))?;
            let of = |range: usize| range * RANGE..keys.count().min((range + 1) * RANGE);
            numbers = found.into_iter().flat_map(of).collect();
        }
        let mut is_found = vec![false; keys.count()];
        let found = run(client, &self.each, &keys.arrays(&numbers))?;
        for number in found.into_iter().filter_map(|at| numbers.get(at)) {
            is_found[*number] = true;
        }
        Ok(is_found)
    }
}

/// The places of the elements that a question finds.
fn run(
    client: &mut Client,
    question: &Statement,
    arrays: &[Array],
) -> Result<Vec<usize>, postgres::Error> {
    let values: Vec<_> = arrays.iter().map(|a| a as &(dyn ToSql + Sync)).collect();
    let rows = client.query(question, &values)?;
    // WITH ORDINALITY counts from 1.
    let place = |row: &postgres::Row| Ok((row.try_get::<_, i64>(0)? - 1) as usize);
    rows.iter().map(place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_row_after_another_with_its_key_is_certain_only_if_that_one_goes_in() {
        // 3 will be refused by reason 0. 5 has the key of 3, and 6 that of 5; 7 and 9 have
        // that of 1, which goes in; 8 has one key with 7 and one with 2.
        let mut found = Rows::from([(3, vec![0])]);
        let repeated = vec![
            (9, 1, 1),
            (8, 7, 2),
            (8, 2, 1),
            (7, 1, 1),
            (6, 5, 2),
            (5, 3, 1),
        ];
        add_repeated(&mut found, repeated);
        let wanted = [
            (3, vec![0]),
            (5, vec![]),
            (6, vec![]),
            (7, vec![1]),
            (8, vec![1]),
            (9, vec![1]),
        ];
        assert_eq!(found, Rows::from(wanted));
    }
}
