//! `barrow export`: writes a table or a query out as a flat file.

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Instant;

use barrow_core::plan::Plan;
use barrow_core::source::Packing;
use barrow_core::source::content::hash_of;
use barrow_core::spec;
use barrow_core::types::Type;
use barrow_core::visible::{visible, visible_path};
use barrow_targets::ledger::{self, Counts as LedgerCounts, File, Outcome, Run};
use barrow_targets::{Session, Url};

use super::job::{Spec, environment};
use crate::args::{Export, Out};
use crate::failure::{BEYOND_TOLERANCE, Failure};
use crate::loading::{books, run_id};
use crate::outgoing::files::{Files, Into, Made, may_write};
use crate::outgoing::summary::{self, Exported};
use crate::outgoing::{Output, Parting, pipe, plain, writer};
use crate::view::progress::Progress;

/// What is written, and by what.
struct Order {
    plan: Plan,
    /// The spec's name, and the hash of its text.
    spec: String,
    spec_hash: String,
    url: Url,
    /// The table's name, or the query.
    what: String,
    query: String,
}

/// Exports, and says what came of it.
pub fn run(args: &Export) -> Result<ExitCode, Failure> {
    let clock = Instant::now();
    let started = books::now();
    let order = order(args)?;
    let (writer, lines) = writer(&order.plan, args.out.split_by.as_deref())?;
    let mut target = order.url.open(false)?;
    let columns: Vec<(String, Type)> = writer.columns().map(|c| (c.name.clone(), c.ty)).collect();
    let decoder = target.ask_out(&order.query, &columns)?;
    let files = files(&args.out, &order.plan)?;
    let output = Output::new(&order.plan, &writer, &lines, parting(&args.out), files);
    let threads = args.threads.map_or_else(threads, usize::from);
    let progress = Progress::of_rows(args.quiet);
    let taken = pipe::run(
        target.as_mut(),
        &decoder,
        &writer,
        threads,
        output,
        &progress,
    );
    progress.end();
    drop(target);
    let output = match taken {
        // Whoever read the rows has had enough.
        Err(Failure::ReaderGone) => return Ok(ExitCode::SUCCESS),
        taken => taken?,
    };
    let tolerance = order.plan.rejects.tolerance;
    let all = output.counts.rows + output.counts.unfit;
    let is_within = tolerance.allows(output.counts.unfit, all)
        || order.plan.export.when_unfit == barrow_core::words::WhenUnfit::Stop;
    let (made, counts, beyond) = match is_within {
        true => {
            let (made, counts) = output.finish()?;
            (made, counts, None)
        }
        false => {
            let words = format!("more than the limit of {tolerance}, so nothing is committed");
            (Vec::new(), output.counts, Some(words))
        }
    };
    if beyond.is_none() {
        list(&args.out, &made)?;
        register(&order, &made, counts.unfit, &started);
    }
    let exported = Exported {
        from: format!("{}, {}", order.url, order.what),
        spec: order.spec,
        made,
        counts,
        elapsed: clock.elapsed(),
        to_stdout: args.out.output == Path::new("-"),
        beyond,
        reading: None,
    };
    summary::print(&exported, args.report, args.quiet)?;
    Ok(match exported.beyond {
        None => ExitCode::SUCCESS,
        Some(_) => ExitCode::from(BEYOND_TOLERANCE),
    })
}

fn threads() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// How the command line parts an export into files.
pub fn parting(out: &Out) -> Parting {
    Parting {
        rows: out.split_rows,
        size: out.split_size,
        by: out.split_by.clone(),
    }
}

/// The files that the command line names.
pub fn files(out: &Out, plan: &Plan) -> Result<Files, Failure> {
    let into = match out.output == Path::new("-") {
        true => Into::Stdout,
        false => Into::Path(out.output.clone()),
    };
    if let Some(list) = &out.list {
        may_write(list, out.overwrite)?;
    }
    let parted = out.split_rows.is_some() || out.split_size.is_some() || out.split_by.is_some();
    let packing = match plan.source.packing {
        Packing::Auto => packing_of(&out.output),
        said => said,
    };
    Files::new(into, packing, parted, out.overwrite)
}

/// A spec that goes by the content when it reads goes by the name when it writes.
fn packing_of(path: &Path) -> Packing {
    let ending = path.extension().and_then(|e| e.to_str()).unwrap_or("");
    match ending.to_ascii_lowercase().as_str() {
        "gz" => Packing::Gzip,
        "zst" => Packing::Zstd,
        "bz2" => Packing::Bzip2,
        "xz" => Packing::Xz,
        _ => Packing::None,
    }
}

fn order(args: &Export) -> Result<Order, Failure> {
    match &args.spec {
        Some(path) => by_spec(args, path),
        None => without_spec(args),
    }
}

fn by_spec(args: &Export, path: &Path) -> Result<Order, Failure> {
    let spec = Spec::read(path, args.database.as_deref(), args.table.as_deref())?;
    let url = spec.url(args.database.as_deref())?;
    let kind = spec.plan.kinds.first();
    let own = kind.and_then(|kind| kind.table.clone());
    let table = args
        .table
        .clone()
        .or(own)
        .or(spec.plan.target.table.clone());
    let columns: Vec<String> = kind.map_or(Vec::new(), |kind| {
        let written = kind.loaded().filter(|c| c.value.is_none());
        written.map(|c| c.name.clone()).collect()
    });
    let (what, query) = query(args, &url, table.as_deref(), &columns)?;
    Ok(Order {
        spec: spec.name(),
        spec_hash: hash_of(spec.text.as_bytes()),
        plan: spec.plan,
        url,
        what,
        query,
    })
}

/// What is asked for: the query, or the table's columns.
fn query(
    args: &Export,
    url: &Url,
    table: Option<&str>,
    columns: &[String],
) -> Result<(String, String), Failure> {
    if let Some(query) = &args.query {
        return Ok(("a query".into(), query.clone()));
    }
    let Some(table) = table else {
        return Err(Failure::wrong(
            "there is no table to write out",
            "say --table NAME, --query SQL, or [target] table in the spec",
        ));
    };
    let dialect = url.dialect();
    let names: Vec<String> = columns.iter().map(|name| dialect.quoted(name)).collect();
    let mut sql = format!("SELECT {} FROM {}", names.join(", "), dialect.table(table));
    if let Some(condition) = &args.condition {
        sql += &format!(" WHERE ({condition}\n)");
    }
    if let Some(order) = &args.order_by {
        sql += &format!(" ORDER BY {order}");
    }
    Ok((format!("table {}", visible(table.as_bytes())), sql))
}

/// An export that has no spec makes one: of the table's columns, or the query's.
fn without_spec(args: &Export) -> Result<Order, Failure> {
    let Some(into) = &args.database else {
        return Err(Failure::wrong(
            "there is no database to ask",
            "say --database sqlite:market.db",
        ));
    };
    let url = Url::parse(into, Path::new(""), environment)?;
    let columns = columns(args, &url)?;
    let file = args.out.output.file_name();
    let file = file
        .filter(|name| *name != "-")
        .and_then(|name| name.to_str());
    let text = plain::spec(
        &columns,
        file,
        Some(&url.to_string()),
        args.table.as_deref(),
    );
    let plan = spec::read_plan(&text).map_err(|problems| Failure::Spec {
        path: PathBuf::from("the spec of this export"),
        text: text.clone(),
        problems,
    })?;
    if let Some(path) = &args.spec_out {
        write_out(path, &text, args.out.overwrite)?;
    }
    let names: Vec<String> = columns.iter().map(|(name, _)| name.clone()).collect();
    let (what, query) = query(args, &url, args.table.as_deref(), &names)?;
    Ok(Order {
        spec: "RFC 4180, UTF-8".into(),
        spec_hash: hash_of(text.as_bytes()),
        plan,
        url,
        what,
        query,
    })
}

fn columns(args: &Export, url: &Url) -> Result<Vec<(String, Type)>, Failure> {
    let mut target = url.open(false)?;
    if let Some(query) = &args.query {
        return Ok(target.columns_out(query)?);
    }
    let table = args.table.as_deref().unwrap_or_default();
    let found = target.describe(table)?.ok_or_else(|| {
        Failure::wrong(
            format!("there is no table {}", visible(table.as_bytes())),
            "is its name right, and the database?",
        )
    })?;
    let columns = found.columns.into_iter();
    Ok(columns
        .map(|c| (c.name, c.ty.unwrap_or(Type::Text)))
        .collect())
}

/// Writes a file that is made at once; one that was made meanwhile is not written over.
fn write_out(path: &Path, text: &str, overwrites: bool) -> Result<(), Failure> {
    may_write(path, overwrites)?;
    let written = super::spec_file::put_in_place(path, text, overwrites);
    written.map_err(|e| {
        let shown = visible_path(path);
        Failure::not_done(format!("{shown}: {e}"))
    })
}

/// Writes the names of the files, as `@LIST` reads them: from the list's own folder.
pub fn list(out: &Out, made: &[Made]) -> Result<(), Failure> {
    let Some(list) = &out.list else { return Ok(()) };
    let folder = std::path::absolute(list.parent().unwrap_or(Path::new(""))).unwrap_or_default();
    let mut text = String::new();
    for path in made.iter().filter_map(|made| made.path.as_ref()) {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
        let near = path.strip_prefix(&folder).unwrap_or(&path);
        text += &near.to_string_lossy();
        text.push('\n');
    }
    write_out(list, &text, out.overwrite)
}

/// Notes the export in the ledger, where there is one. The files are written: that they
/// cannot be noted is said, and no more.
fn register(order: &Order, made: &[Made], unfit: u64, started: &str) {
    let registered = order.url.open(false)
        .map_err(Failure::from)
        .and_then(|mut target| note(order, target.as_mut(), made, unfit, started));
    if let Err(failure) = registered {
        anstream::eprintln!(
            "note: the ledger could not be told of this export: {}",
            failure.message()
        );
    }
}

fn note(
    order: &Order,
    target: &mut dyn Session,
    made: &[Made],
    unfit: u64,
    started: &str,
) -> Result<(), Failure> {
    if !ledger::is_there(target)? {
        return Ok(());
    }
    let table_key = match order.what.strip_prefix("table ") {
        Some(table) => ledger::export_key(target, table)?,
        None => hash_of(format!("export\n{}", order.what).as_bytes()),
    };
    let id = run_id();
    let counts = |rows: u64, unfit: u64| LedgerCounts {
        read: rows + unfit,
        loaded: rows,
        not_kept: unfit,
        ..LedgerCounts::default()
    };
    let run = Run {
        run: id.clone(),
        spec: order.spec.clone(),
        spec_hash: order.spec_hash.clone(),
        table: order.what.trim_start_matches("table ").to_string(),
        table_key: table_key.clone(),
        mode: "export".into(),
        started_at: started.to_string(),
        ended_at: books::now(),
        outcome: Outcome::Exported,
        files: made.len() as u64,
        counts: counts(made.iter().map(|m| m.rows).sum(), unfit),
        ..books::by_whom()
    };
    ledger::write_run(target, &run, true)?;
    for (at, file) in made.iter().enumerate() {
        let path = file.path.as_ref();
        let name = path.and_then(|path| path.file_name());
        let entry = File {
            run: id.clone(),
            number: at as u64 + 1,
            path: path.map_or("-".into(), |path| {
                let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
                visible_path(&path)
            }),
            name: name.map_or("-".into(), |name| visible(name.as_encoded_bytes())),
            table: run.table.clone(),
            table_key: table_key.clone(),
            bytes: file.content.bytes,
            content: Some(file.content.hash.clone()),
            outcome: Outcome::Exported,
            counts: counts(file.rows, 0),
            ..File::default()
        };
        ledger::write_file(target, &entry, true)?;
    }
    Ok(())
}
