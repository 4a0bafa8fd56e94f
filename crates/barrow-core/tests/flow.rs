//! The way through: sinks that keep what they get, and sinks that give up.

use std::collections::VecDeque;
use std::sync::mpsc;
use std::time::Duration;

use barrow_core::pipeline;
use barrow_core::pipeline::{Encoded, Failure, Options, Sink};
use barrow_core::plan::Plan;
use barrow_core::source::SourceFile;
use barrow_core::spec::read_plan;

const RECORDS: usize = 20_000;

/// What a pipeline over a file of far more blocks than go round at once comes to.
fn over_a_long_file<T: Send + 'static>(
    work: impl FnOnce(&Plan, Vec<SourceFile>, Options) -> T + Send + 'static,
) -> T {
    let plan = read_plan("[columns]\na = \"text\"\n").unwrap();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.csv");
    std::fs::write(&path, format!("a\n{}", "a note\n".repeat(RECORDS))).unwrap();
    let options = Options {
        threads: 2,
        block_size: 100,
        ..Options::default()
    };
    let (tell, told) = mpsc::channel();
    std::thread::spawn(move || {
        let _ = tell.send(work(&plan, vec![SourceFile::local(path)], options));
    });
    let ended = told.recv_timeout(Duration::from_secs(60));
    ended.expect("nobody waits for what never comes")
}

/// A sink that gives up at its first batch.
struct GivesUp;

impl Sink for GivesUp {
    type Encoded = ();
    type Error = ();

    fn take(&mut self, _: &mut Encoded<()>) -> Result<(), ()> {
        Err(())
    }
}

#[test]
fn a_sink_that_gives_up_ends_a_long_flow() {
    let ended = over_a_long_file(|plan, files, options| {
        pipeline::run(plan, files, options, &|_| {}, &mut GivesUp)
    });
    assert!(matches!(ended, Err(Failure::Sink(()))));
}

#[test]
fn a_sink_that_asks_for_some_batches_and_goes_ends_a_long_flow() {
    let ended = over_a_long_file(|plan, files, options| {
        pipeline::run_into(plan, files, options, &|_: &mut Encoded<()>| {}, |batches| {
            let some: Vec<_> = batches.by_ref().take(3).collect();
            Err(Failure::Sink(some.len()))
        })
    });
    assert!(matches!(ended, Err(Failure::Sink(3))));
}

#[test]
fn batches_that_are_kept_stay_as_they_came_and_the_others_come_in_order() {
    for keeps in [1, 2, 7, 16] {
        let records = over_a_long_file(move |plan, files, mut options| {
            options.waiting = keeps;
            let mut records = 0;
            let mut next = 0;
            let taken =
                pipeline::run_into(plan, files, options, &|_: &mut Encoded<()>| {}, |batches| {
                    let mut kept: VecDeque<(u64, Encoded<()>)> = VecDeque::new();
                    while let Some(batch) = batches.next() {
                        let batch = batch.map_err(Failure::Source)?;
                        assert!(batch.block.offset >= next, "in the order of the file");
                        next = batch.block.end();
                        records += batch.good();
                        kept.push_back((batch.block.offset, batch));
                        if kept.len() == keeps {
                            let (offset, batch) = kept.pop_front().expect("one");
                            assert_eq!(batch.block.offset, offset);
                            batches.give_back(batch);
                        }
                    }
                    Ok::<(), Failure<()>>(())
                });
            taken.is_ok().then_some(records)
        });
        assert_eq!(records, Some(RECORDS), "where {keeps} are kept");
    }
}

#[test]
fn a_file_that_cannot_be_read_comes_after_all_batches_before_it() {
    let found = over_a_long_file(|plan, mut files, options| {
        files.push(SourceFile::local("no such file"));
        let mut found = (0, 0);
        let ended =
            pipeline::run_into(plan, files, options, &|_: &mut Encoded<()>| {}, |batches| {
                while let Some(batch) = batches.next() {
                    match batch {
                        Ok(batch) => {
                            found.0 += batch.good();
                            batches.give_back(batch);
                        }
                        Err(_) => found.1 += 1,
                    }
                }
                Ok::<(), Failure<()>>(())
            });
        ended.is_ok().then_some(found)
    });
    assert_eq!(found, Some((RECORDS, 1)));
}

#[test]
fn a_batch_is_late_while_nothing_is_left_to_type_it_with() {
    let records = over_a_long_file(|plan, files, mut options| {
        options.waiting = 1;
        let mut records = 0;
        let taken =
            pipeline::run_into(plan, files, options, &|_: &mut Encoded<()>| {}, |batches| {
                let mut kept = Vec::new();
                // Two for each of two workers, and one that waits.
                for _ in 0..5 {
                    assert!(!batches.is_late(Duration::from_secs(60)));
                    kept.extend(batches.next().and_then(Result::ok));
                }
                assert_eq!(kept.len(), 5);
                assert!(batches.is_late(Duration::from_millis(20)));
                records += kept.iter().map(|batch| batch.good()).sum::<usize>();
                kept.into_iter().for_each(|batch| batches.give_back(batch));
                assert!(!batches.is_late(Duration::from_secs(60)));
                while let Some(Ok(batch)) = batches.next() {
                    records += batch.good();
                    batches.give_back(batch);
                }
                assert!(!batches.is_late(Duration::from_secs(60)), "all are through");
                Ok::<(), Failure<()>>(())
            });
        taken.is_ok().then_some(records)
    });
    assert_eq!(records, Some(RECORDS));
}
