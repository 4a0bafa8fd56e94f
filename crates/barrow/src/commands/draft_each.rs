//! `barrow draft --each`: a spec for each kind of file.

use std::path::Path;
use std::process::ExitCode;

use barrow_query::relations;
use barrow_run::Error;
use barrow_run::draft::each::DraftEach;
use barrow_run::draft::related::with_relations;
use barrow_run::draft::schema::Schema;

use crate::args;
use crate::exit;
use crate::view::draft_each as view;
use crate::view::progress::Progress;

/// Drafts the specs into a folder, with the keys by which their tables refer to each other.
pub fn run(args: &args::Draft, folder: &Path) -> Result<ExitCode, Error> {
    let threads = args.threads.map(usize::from);
    let mut progress = Progress::new(args.quiet);
    let mut drafts = DraftEach::new(args.files.clone(), folder.to_path_buf())
        .database(args.database.clone())
        .tight(args.tight)
        .threads(threads)
        .observe(&mut progress)
        .run()?;
    let related = relations::find(&drafts.kinds, threads)?;
    let schema = Schema::of(folder)?;
    for (kind, related) in drafts.kinds.iter_mut().zip(&related) {
        kind.text = schema.line.clone() + &with_relations(&kind.text, related)?;
    }
    drafts.write()?;
    let made = schema.write()?;
    view::print(&drafts, &related, folder, made.as_deref(), args.quiet)?;
    Ok(match drafts.failed.is_empty() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::FAILED),
    })
}
