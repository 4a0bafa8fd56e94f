//! What a table would refuse, found out without sending a row: what it has no room for, and
//! null where it takes none.

use barrow_core::pipeline::Batch;
use barrow_core::reason::Code;
use barrow_core::values::Cell;

use crate::encoded::EncodedBatch;
use crate::encoded::Encoder;
use crate::encoded::rows::Run;
use crate::job::Refusal;
use crate::record_table::RecordTable;
use crate::table::Table;

/// What finds the rows of a batch that the tables would refuse.
#[derive(Default)]
pub struct Foresight {
    encoders: Vec<Encoder>,
    parts: Vec<Ahead>,
}

/// What finds those of one kind of rows, once they are in the target's form.
struct Ahead {
    number: usize,
    /// The columns that may not be null: as places in the part, with their names.
    not_null: Vec<(usize, String)>,
    unfit: Unfit,
}

/// The rows of a part for which the table has no room.
pub type Unfit = Box<dyn Fn(&EncodedBatch) -> Vec<Refusal> + Send + Sync>;

impl Foresight {
    /// Adds a kind of rows: what puts them into the target's form, and what finds those in
    /// it for which the table has no room.
    pub fn add(&mut self, part: &RecordTable, table: &Table, encoder: Encoder, unfit: Unfit) {
        let not_null = part
            .columns
            .iter()
            .enumerate()
            .filter_map(|(place, column)| {
                let found = table.column(&column.name).filter(|found| found.not_null)?;
                Some((place, found.name.clone()))
            });
        self.encoders.push(encoder);
        self.parts.push(Ahead {
            number: part.number,
            not_null: not_null.collect(),
            unfit,
        });
    }

    /// The good rows of a batch that the tables would refuse, each once.
    pub fn refusals(&self, batch: &mut EncodedBatch) -> Vec<Refusal> {
        for encode in &self.encoders {
            encode(batch);
        }
        let mut all = Vec::new();
        for part in &self.parts {
            let mut refused = (part.unfit)(batch);
            part.nulls(batch, &mut refused);
            refused.sort_by_key(|refusal| refusal.row);
            refused.dedup_by_key(|refusal| refusal.row);
            all.extend(refused);
        }
        all
    }
}

impl Ahead {
    /// Adds the rows with null where the table takes none.
    fn nulls(&self, batch: &Batch, refused: &mut Vec<Refusal>) {
        let rows = &batch.parts[self.number];
        for (place, name) in &self.not_null {
            let cells = &rows.cells[place * rows.height..][..rows.height];
            let nulls = rows
                .good
                .iter()
                .filter(|row| cells[**row as usize] == Cell::Null);
            refused.extend(nulls.map(|row| Refusal {
                part: self.number,
                row: *row,
                code: Code::Refused,
                column: Some(name.clone()),
                words: "the table takes no null here".into(),
                detail: None,
            }));
        }
    }
}

/// What finds the rows of a part for which a server's table has no room.
pub fn unfit_rows(number: usize, names: Vec<String>) -> Unfit {
    Box::new(move |batch| {
        let lines = Run::of(std::slice::from_ref(batch), number);
        let refusals = lines.map(|lines| lines.refusals(&names).concat());
        refusals.unwrap_or_default()
    })
}
