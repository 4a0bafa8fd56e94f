//! Reads the sections of where rows go, and what becomes of the others.

use toml::de::DeValue;

use crate::problem::{Problem, Spanned};
use crate::spec::raw::{Export, Rejects, Target};
use crate::spec::toml_table::{Section, whole};
use crate::words::{Every, Tolerance};

/// `[target]`.
pub fn target(mut s: Section<'_>) -> Target {
    let target = Target {
        into: s.text("database"),
        table: s.text("table"),
        mode: s.word("mode"),
        create: s.flag("create"),
        every: every(&mut s),
        key: s.texts("key"),
        ledger: s.flag("ledger"),
        may_empty: s.flag("may_empty"),
        when_cascading: s.word("when_cascading"),
        when_inexact: s.word("when_inexact"),
        empty_with: s.word("empty_with"),
        run_column: s.text("run_column"),
        before: s.texts("before"),
        after: s.texts("after"),
    };
    s.finish();
    target
}

fn every(s: &mut Section<'_>) -> Option<Spanned<Every>> {
    let value = s.value("commit_every")?;
    let every = match value.value {
        DeValue::String(text) if text == "all" => Some(Every::All),
        other => whole(other).filter(|n| *n > 0).map(Every::Records),
    };
    match every {
        Some(every) => Some(Spanned::new(every, value.span)),
        None => s.wrong(
            "commit_every",
            value.span,
            "\"all\" or a number of records",
            value.value,
        ),
    }
}

/// `[export]`.
pub fn export(mut s: Section<'_>) -> Export {
    let export = Export {
        is_there: s.is_there(),
        preamble: s.texts("preamble"),
        trailer: s.texts("trailer"),
        byte_order_mark: s.flag("byte_order_mark"),
        when_unfit: s.word("when_unfit"),
        when_unencodable: s.word("when_unencodable"),
        stand_in: s.text("replacement"),
        nulls: s.word("nulls"),
    };
    s.finish();
    export
}

/// `[rejects]`.
pub fn rejects(mut s: Section<'_>) -> Rejects {
    let rejects = Rejects {
        tolerance: tolerance(&mut s),
        folder: s.text("folder"),
        table: s.text("table"),
        per: s.word("per"),
        keep: s.count("keep"),
    };
    s.finish();
    rejects
}

fn tolerance(s: &mut Section<'_>) -> Option<Spanned<Tolerance>> {
    let value = s.value("max_rejects")?;
    let read = match value.value {
        DeValue::String(text) => Tolerance::parse(text),
        DeValue::Integer(_) => whole(value.value)
            .map(Tolerance::Records)
            .ok_or_else(|| "max_rejects is 0 or more".to_string()),
        _ => Err("max_rejects is a number of records, or a share such as \"0.5%\"".to_string()),
    };
    match read {
        Ok(tolerance) => Some(Spanned::new(tolerance, value.span)),
        Err(message) => {
            s.problem(Problem::new(value.span, message, "not a limit"));
            None
        }
    }
}
