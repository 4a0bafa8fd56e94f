//! How every server begins loads, and ends those that share a transaction.

use barrow_core::words::Mode;

use super::{AtFile, ServerLoad, ServerSession, ServerTable, fits, made_first, open, ready};
use crate::error::Error;
use crate::fit;
use crate::foresight::{Foresight, unfit_rows};
use crate::job::Job;
use crate::merge::Merged;
use crate::record_table::RecordTable;
use crate::servers::send::named;
use crate::session::{Load, Loads, NotBegun};
use crate::table::Table;

impl<S: ServerSession> Loads for S {
    fn fits(&mut self, mode: Mode, part: &RecordTable, table: &Table) -> Result<(), Error> {
        match self.find(&part.table)? {
            Some(found) => fits(S::DIALECT, mode, part, &found),
            None => fit::check(part, table),
        }
    }

    fn foresight(&mut self, job: &Job) -> Result<Foresight, Error> {
        let mut foresight = Foresight::default();
        for part in &job.parts {
            let found = match self.find(&part.table)? {
                Some(found) if !job.makes_anew() => found,
                _ if !(job.create || job.makes_anew()) => continue,
                _ => self.as_made(job, part)?,
            };
            let encoder = S::encoder_of(part, &found)?;
            let named = named(part, found.table());
            let names = named.columns.into_iter().map(|column| column.name);
            let unfit = unfit_rows(part.number, names.collect());
            foresight.add(part, found.table(), encoder, unfit);
        }
        Ok(foresight)
    }

    fn begin<'s>(&'s mut self, job: &Job) -> Result<Box<dyn Load<'s> + 's>, NotBegun<'s>> {
        match ready(self, job) {
            Ok(ready) => Ok(Box::new(ServerLoad {
                server: self,
                tables: ready.tables,
                senders: ready.senders,
                encoders: ready.encoders,
                lost: ready.lost,
                merged: (job.mode == Mode::Merge).then(Merged::default),
                rows_before: ready.rows_before,
                at_file: AtFile::default(),
            })),
            Err(error) => {
                // Why it did not begin is what people want to know.
                let _ = self.roll_back_open();
                Err(NotBegun {
                    session: self,
                    error,
                })
            }
        }
    }

    fn open_together(&mut self, jobs: &[&Job]) -> Result<(), Error> {
        let opened = made_first(self, jobs).and_then(|()| open(self));
        if let Err(error) = opened {
            let _ = self.roll_back_open();
            return Err(error);
        }
        self.note_together(true);
        Ok(())
    }

    fn commit_together(&mut self) -> Result<(), Error> {
        if let Err(error) = self.run("COMMIT", "committing") {
            let _ = self.roll_back_open();
            return Err(error);
        }
        self.note_together(false);
        self.note_open(false);
        self.after_commit(&[], true)
    }

    fn roll_back(&mut self) -> Result<(), Error> {
        self.roll_back_open()
    }
}
