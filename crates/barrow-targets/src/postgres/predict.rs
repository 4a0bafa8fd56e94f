//! Refusals that are foreseen: where many are alike, those that the server is likely to refuse
//! are set aside before the rest is sent.

use std::ops::Range;

use postgres::Client;

use super::conflict_probe::Rows;
use super::copy::{Copier, copy, keep, reason, take_back};
use super::errors::explained;
use crate::encoded::rows::Run;
use crate::error::Error;
use crate::isolate::{Foreseen, Refused};

/// Sends rows without those that are suspect, and then each of those. It stands only if
/// each of those is refused, and for a reason for which it would have been in its turn.
pub fn predict(
    client: &mut Client,
    copier: &mut Copier,
    lines: &Run<'_>,
    places: &Range<usize>,
) -> Result<Foreseen, Error> {
    loop {
        let known = copier.suspects.reasons();
        let suspects = copier.suspects.among(client, lines, places.clone())?;
        if suspects.is_empty() {
            return Ok(Foreseen::Nothing);
        }
        if let Some(mut few) = without(client, copier, lines, places, &suspects)? {
            keep(client)?;
            few.iter_mut().for_each(|(place, _)| *place -= places.start);
            return Ok(Foreseen::But(few));
        }
        take_back(client, "barrow")?;
        // What was learned may be all that was wrong. Each part of a table has a name of
        // its own for the table's key.
        if copier.suspects.reasons() == known {
            return Ok(Foreseen::Wrong);
        }
    }
}

/// Sends rows without the suspects, and then each of those; none where that does not
/// stand.
fn without(
    client: &mut Client,
    copier: &mut Copier,
    lines: &Run<'_>,
    places: &Range<usize>,
    suspects: &Rows,
) -> Result<Option<Vec<(usize, Refused)>>, Error> {
    let (mut bytes, mut count) = (Vec::new(), 0);
    let mut next = places.start;
    for end in suspects.keys().copied().chain([places.end]) {
        let (more, rows) = lines.rows(next..end);
        bytes.extend(more);
        count += rows;
        next = end + 1;
    }
    match copy(client, &copier.copy, &bytes) {
        Ok(copied) if copied == count => confirmed(client, copier, lines, suspects),
        Ok(_) => Ok(None),
        Err(error) => {
            reason(&error)?;
            copier.suspects.learn(&error);
            Ok(None)
        }
    }
}

/// Why each of the suspects is refused; none where that is not so of all.
fn confirmed(
    client: &mut Client,
    copier: &mut Copier,
    lines: &Run<'_>,
    suspects: &Rows,
) -> Result<Option<Vec<(usize, Refused)>>, Error> {
    client
        .batch_execute("SAVEPOINT barrow_rows")
        .map_err(|e| explained(&e, "loading rows"))?;
    let mut few = Some(Vec::new());
    for (place, certain) in suspects {
        let (bytes, _) = lines.rows(*place..place + 1);
        let Err(error) = copy(client, &copier.copy, &bytes) else {
            return Ok(None);
        };
        let why = reason(&error)?;
        match &mut few {
            Some(few) if copier.suspects.are_sure(certain, &error) => few.push((*place, why)),
            // The others are tried for what is to be learned from them.
            _ => few = None,
        }
        copier.suspects.learn(&error);
        take_back(client, "barrow_rows")?;
    }
    Ok(few)
}
