//! What every database does alike: one suite, which SQLite, PostgreSQL, MariaDB and one in
//! memory run. A new database adds itself to `suite!` at the end.

mod memory;

use std::path::Path;
use std::sync::atomic::{AtomicU32, Ordering};

use barrow_core::export::RowBatch;
use barrow_core::pipeline::{self, Failure, Options};
use barrow_core::plan::Plan;
use barrow_core::reason::Code;
use barrow_core::source::SourceFile;
use barrow_core::spec::read_plan;
use barrow_core::types::Type;
use barrow_core::values::shown;
use barrow_core::words::Mode;
use barrow_targets::{
    BatchSource, Column, EncodedBatch, Encoder, Error, Job, Load, Query, RecordTable, Refusal,
    Select, Session, Url,
};
use tempfile::TempDir;

const SPEC: &str = "[columns]\nid = { type = \"integer\", required = true }\n\
    name = \"varchar(20)\"\nkg = \"decimal(8,2)\"\nday = \"date\"\n";

const HEADER: &str = "id,name,kg,day\n";

/// A database of one test's own.
struct Place {
    session: Box<dyn Session>,
    _folder: TempDir,
}

impl Place {
    fn memory() -> Place {
        Place {
            session: Box::<memory::Memory>::default(),
            _folder: tempfile::tempdir().unwrap(),
        }
    }

    fn file() -> Place {
        let folder = tempfile::tempdir().unwrap();
        let url = Url::parse("sqlite:m.db", folder.path(), |_| None).unwrap();
        Place {
            session: url.open(true).unwrap(),
            _folder: folder,
        }
    }

    /// A new database of the server whose address is in a variable.
    fn server(variable: &str) -> Place {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let address = std::env::var(variable).unwrap_or_else(|_| {
            panic!("{variable} is not set: run scripts/test, which starts the servers")
        });
        let open = |address: &str| {
            let url = Url::parse(address, Path::new(""), |_| None).unwrap();
            url.open(false).unwrap()
        };
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let name = format!("c_{}_{number}", std::process::id());
        open(&address)
            .script(&format!("CREATE DATABASE {name}"))
            .unwrap();
        Place {
            session: open(&address.replacen("/barrow?", &format!("/{name}?"), 1)),
            _folder: tempfile::tempdir().unwrap(),
        }
    }
}

fn plan() -> Plan {
    read_plan(SPEC).unwrap()
}

/// A job for the table `crops`, whose key is the id where one is wanted.
fn job(mode: Mode, has_key: bool) -> Job {
    let plan = plan();
    let column = |column: &barrow_core::plan::ColumnPlan| Column {
        inexact_as_text: false,
        name: column.name.clone(),
        ty: column.ty,
        required: column.required,
        one_of: Vec::new(),
    };
    Job {
        parts: vec![RecordTable {
            number: 0,
            table: "crops".into(),
            columns: plan.record_types[0].loaded().map(column).collect(),
            key: has_key.then(|| "id".to_string()).into_iter().collect(),
            run_column: None,
            references: Vec::new(),
        }],
        mode,
        truncates: false,
        is_emptied: false,
        may_cascade: false,
        create: true,
        tag: Job::new_tag(),
    }
}

/// Batches that come one by one, and how many came.
struct Coming(Vec<EncodedBatch>, usize);

impl BatchSource for Coming {
    fn wait(&mut self) -> bool {
        let comes = self.1 < self.0.len();
        self.1 += usize::from(comes);
        comes
    }

    fn ready(&self) -> &[EncodedBatch] {
        &self.0[..self.1]
    }
}

/// A load, and what encodes its rows.
struct Loading<'s>(Box<dyn Load<'s> + 's>, Encoder);

/// Reads a file, encodes it and sends it, and returns what was refused.
fn send(Loading(load, encoder): &mut Loading<'_>, file: &str) -> Vec<Refusal> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("crops.csv");
    std::fs::write(&path, format!("{HEADER}{file}")).unwrap();
    let mut all = Vec::new();
    let files = vec![SourceFile::local(path)];
    let options = Options::default();
    pipeline::run_into(&plan(), files, options, &**encoder, |batches| {
        for batch in batches.by_ref() {
            all.push(batch.map_err(Failure::<Error>::Source)?);
        }
        Ok(())
    })
    .unwrap_or_else(|_| panic!("the file is read"));
    assert!(all.iter().all(|batch| batch.rejects.is_empty()));
    let refused = load.send(&mut Coming(all, 0)).unwrap();
    refused.into_iter().flatten().collect()
}

fn begin<'s>(session: &'s mut dyn Session, job: &Job) -> Loading<'s> {
    let begun = session.begin(job);
    let mut load = begun.unwrap_or_else(|not| panic!("{}", not.error.message));
    let encoder = load.encoder();
    Loading(load, encoder)
}

/// The rows of the table, in the order of their text.
fn rows(session: &mut dyn Session) -> Vec<String> {
    let columns: Vec<(String, Type)> = plan().record_types[0]
        .loaded()
        .map(|c| (c.name.clone(), c.ty))
        .collect();
    let query = Query::Table(Select {
        table: "crops".into(),
        columns: columns.iter().map(|(name, _)| name.clone()).collect(),
        condition: None,
        order: None,
    });
    let open = session.open_query(&query, &columns).unwrap();
    let (decoder, mut found) = (open.decoder, Vec::new());
    open.rows
        .fetch(&mut |raw| {
            let mut batch = RowBatch::default();
            decoder(raw, &mut batch);
            assert!(batch.misfits.is_empty(), "{:?}", batch.misfits);
            for row in 0..batch.height() {
                let cells = batch.row(row).iter().zip(&columns);
                let text = |(cell, (_, ty)): (&_, &(String, Type))| {
                    shown(*cell, *ty, &raw.text, &batch.store).unwrap_or("∅".into())
                };
                found.push(cells.map(text).collect::<Vec<_>>().join("|"));
            }
            true
        })
        .unwrap();
    found.sort();
    found
}

fn rows_come_back_as_they_went(place: &mut Place) {
    let session = place.session.as_mut();
    let file = "1,Kale,2.50,2031-04-03\n2,\"Gr\u{fc}n, \u{20ac}\",-0.07,1999-12-31\n3,,,\n";
    let mut load = begin(session, &job(Mode::Append, false));
    assert_eq!(load.0.rows_before(), [0]);
    assert_eq!(send(&mut load, file), []);
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [3]);
    let expected = [
        "1|Kale|2.50|2031-04-03",
        "2|Gr\u{fc}n, \u{20ac}|-0.07|1999-12-31",
        "3|∅|∅|∅",
    ];
    assert_eq!(rows(session), expected);
    let table = session.describe("crops").unwrap().expect("it was made");
    let names: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "name", "kg", "day"]);
    assert!(session.describe("cellars").unwrap().is_none());
}

fn a_key_that_is_there_is_refused_and_the_others_load(place: &mut Place) {
    let session = place.session.as_mut();
    let mut load = begin(session, &job(Mode::Append, true));
    let refused = send(&mut load, "1,a,,\n2,b,,\n1,c,,\n3,d,,\n2,e,,\n");
    let found: Vec<(u32, Code)> = refused.iter().map(|r| (r.row, r.code)).collect();
    assert_eq!(found, [(2, Code::DuplicateKey), (4, Code::DuplicateKey)]);
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [3]);
    assert_eq!(rows(session), ["1|a|∅|∅", "2|b|∅|∅", "3|d|∅|∅"]);
}

fn what_is_rolled_back_leaves_nothing(place: &mut Place) {
    let session = place.session.as_mut();
    let mut load = begin(session, &job(Mode::Append, true));
    send(&mut load, "1,a,,\n");
    load.0.commit().unwrap();
    send(&mut load, "2,b,,\n");
    let (session, after) = load.0.roll_back();
    assert_eq!(after.unwrap(), [1]);
    assert_eq!(rows(session), ["1|a|∅|∅"]);
    // The session goes on, and what was rolled back may come again.
    let mut load = begin(session, &job(Mode::Append, true));
    assert_eq!(load.0.rows_before(), [1]);
    assert_eq!(send(&mut load, "2,c,,\n"), []);
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [2]);
    assert_eq!(rows(session), ["1|a|∅|∅", "2|c|∅|∅"]);
}

fn a_file_is_rolled_back_by_itself(place: &mut Place) {
    let session = place.session.as_mut();
    let mut load = begin(session, &job(Mode::Append, true));
    load.0.begin_file().unwrap();
    send(&mut load, "1,a,,\n");
    load.0.begin_file().unwrap();
    send(&mut load, "2,b,,\n1,again,,\n");
    load.0.roll_back_file().unwrap();
    load.0.begin_file().unwrap();
    send(&mut load, "3,c,,\n");
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [2]);
    assert_eq!(rows(session), ["1|a|∅|∅", "3|c|∅|∅"]);
}

fn truncate_empties_the_table_with_the_commit(place: &mut Place) {
    let session = place.session.as_mut();
    let mut load = begin(session, &job(Mode::Append, false));
    send(&mut load, "1,a,,\n2,b,,\n");
    let (session, _) = load.0.finish();
    let mut load = begin(session, &job(Mode::Truncate, false));
    assert_eq!(load.0.rows_before(), [2]);
    send(&mut load, "3,c,,\n");
    let (session, after) = load.0.roll_back();
    assert_eq!(after.unwrap(), [2]);
    let mut load = begin(session, &job(Mode::Truncate, false));
    send(&mut load, "3,c,,\n");
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [1]);
    assert_eq!(rows(session), ["3|c|∅|∅"]);
}

fn a_table_that_is_missing_stops_the_load_and_leaves_the_session(place: &mut Place) {
    let session = place.session.as_mut();
    let missing = Job {
        truncates: false,
        is_emptied: false,
        may_cascade: false,
        create: false,
        ..job(Mode::Append, false)
    };
    let Err(not) = session.begin(&missing) else {
        panic!("there is no table");
    };
    assert_eq!(not.error.message, "there is no table crops");
    let mut load = begin(not.session, &job(Mode::Append, false));
    send(&mut load, "1,a,,\n");
    let (session, after) = load.0.finish();
    assert_eq!(after.unwrap(), [1]);
    assert!(session.lock(7, false).unwrap());
}

macro_rules! suite {
    ($($name:ident: $place:expr;)*) => {
        $(mod $name {
            use super::*;

            #[test]
            fn rows_come_back_as_they_went() {
                super::rows_come_back_as_they_went(&mut $place);
            }

            #[test]
            fn a_key_that_is_there_is_refused_and_the_others_load() {
                super::a_key_that_is_there_is_refused_and_the_others_load(&mut $place);
            }

            #[test]
            fn what_is_rolled_back_leaves_nothing() {
                super::what_is_rolled_back_leaves_nothing(&mut $place);
            }

            #[test]
            fn a_file_is_rolled_back_by_itself() {
                super::a_file_is_rolled_back_by_itself(&mut $place);
            }

            #[test]
            fn truncate_empties_the_table_with_the_commit() {
                super::truncate_empties_the_table_with_the_commit(&mut $place);
            }

            #[test]
            fn a_table_that_is_missing_stops_the_load_and_leaves_the_session() {
                super::a_table_that_is_missing_stops_the_load_and_leaves_the_session(&mut $place);
            }
        })*
    };
}

suite! {
    in_memory: Place::memory();
    sqlite: Place::file();
    postgres: Place::server("BARROW_TEST_POSTGRES");
    mariadb: Place::server("BARROW_TEST_MARIADB");
}
