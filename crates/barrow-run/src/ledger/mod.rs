//! The ledger: what was loaded, when, from what and with what result.

mod document;

use barrow_core::escape::escape_for_display;
use barrow_targets::ledger::{self, File, Run, Wanted};
use barrow_targets::{Session, Url};
use jiff::civil::DateTime;

use crate::error::Error;

/// The ledger of a database.
pub struct Ledger {
    url: Url,
    session: Box<dyn Session>,
    is_there: bool,
}

/// Which runs to list.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// Runs into this table.
    pub table: Option<String>,
    /// Runs that began at this time or later, in UTC: `2031-04-03`, `2031-04-03 08:05`.
    pub since: Option<String>,
    /// Only runs whose rows are not in the table, or not all.
    pub failed: bool,
    /// At most so many.
    pub limit: u64,
}

/// Runs, the newest first.
#[derive(Debug)]
pub struct Runs {
    /// The database.
    pub database: String,
    /// Whether it has a ledger.
    pub has_ledger: bool,
    /// The runs.
    pub runs: Vec<Run>,
    /// Whether there are more than were asked for.
    pub has_more: bool,
}

/// A run in full.
#[derive(Debug)]
pub struct RunInFull {
    /// The run.
    pub run: Run,
    /// Its files.
    pub files: Vec<File>,
    /// The runs that mended its rejects.
    pub mends: Vec<Run>,
}

impl Ledger {
    /// Opens the ledger of a database.
    ///
    /// # Errors
    /// The database is not there, or refuses the connection.
    pub fn open(url: Url) -> Result<Ledger, Error> {
        let mut session = url.open_existing()?;
        let is_there = ledger::is_there(session.as_mut())?;
        Ok(Ledger {
            url,
            session,
            is_there,
        })
    }

    /// The database.
    pub fn url(&self) -> &Url {
        &self.url
    }

    /// Whether the database has a ledger.
    pub fn is_there(&self) -> bool {
        self.is_there
    }

    /// Lists runs.
    ///
    /// # Errors
    /// The database cannot be asked, or the time is none.
    pub fn runs(&mut self, filter: &Filter) -> Result<Runs, Error> {
        if !self.is_there {
            return Ok(Runs {
                database: self.url.to_string(),
                has_ledger: false,
                runs: Vec::new(),
                has_more: false,
            });
        }
        let wanted = Wanted {
            owing_in: None,
            run: None,
            table: filter.table.clone(),
            since: filter.since.as_deref().map(moment).transpose()?,
            failed: filter.failed,
            going_into: None,
            // One more, to say that there are more.
            limit: Some(filter.limit.saturating_add(1)),
        };
        let mut runs = ledger::runs(self.session.as_mut(), &wanted)?;
        let has_more = runs.len() as u64 > filter.limit;
        runs.truncate(usize::try_from(filter.limit).unwrap_or(usize::MAX));
        Ok(Runs {
            database: self.url.to_string(),
            has_ledger: true,
            runs,
            has_more,
        })
    }

    /// The run whose id begins so.
    ///
    /// # Errors
    /// There is none, or there are several.
    pub fn run(&mut self, id: &str) -> Result<RunInFull, Error> {
        if !self.is_there {
            return Err(not_there(id, &self.url));
        }
        let session = self.session.as_mut();
        let run = find(session, &self.url, id)?;
        let files = ledger::files_of(session, &run.run)?;
        let mends = ledger::mends_of(session, &run.run)?;
        Ok(RunInFull { run, files, mends })
    }
}

/// A day or a moment as the ledger writes it.
fn moment(text: &str) -> Result<String, Error> {
    let day = text
        .parse::<jiff::civil::Date>()
        .map(|day| day.at(0, 0, 0, 0));
    // A day parses as a moment too, and a moment as a day, which would lose its hour.
    let moment = text.parse::<DateTime>().or(day);
    let moment = moment.map_err(|_| {
        Error::request(
            format!("{} is not a time", escape_for_display(text.as_bytes())),
            "write it as 2031-04-03, or \"2031-04-03 08:05\", in UTC",
        )
    })?;
    Ok(moment.strftime("%Y-%m-%d %H:%M:%S").to_string())
}

fn not_there(id: &str, url: &Url) -> Error {
    Error::request(
        format!(
            "there is no run {} in {url}",
            escape_for_display(id.as_bytes())
        ),
        "barrow ledger without a run lists them",
    )
}

/// The run whose id begins so.
pub(crate) fn find(session: &mut dyn Session, url: &Url, id: &str) -> Result<Run, Error> {
    let wanted = Wanted {
        run: Some(id.to_string()),
        ..Wanted::default()
    };
    let mut found = ledger::runs(session, &wanted)?;
    if found.len() > 1 {
        let ids: Vec<&str> = found.iter().map(|run| run.run.as_str()).collect();
        return Err(Error::request(
            format!(
                "{} may be any of these runs: {}",
                escape_for_display(id.as_bytes()),
                ids.join(", ")
            ),
            "say more of its id",
        ));
    }
    found.pop().ok_or_else(|| not_there(id, url))
}
