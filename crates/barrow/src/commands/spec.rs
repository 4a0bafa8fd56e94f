//! Opens what a command goes by: a spec, or the database of the folder, and says where they
//! are from.

use std::path::Path;

use barrow_run::spec_file::environment;
use barrow_run::spec_file::settings::Settings;
use barrow_run::{Error, Overrides, Spec};
use barrow_targets::Url;

use crate::args;

/// Opens a spec, and names the files that it goes by besides itself.
pub(super) fn open(path: &Path, overrides: &Overrides, is_quiet: bool) -> Result<Spec, Error> {
    let spec = Spec::open(path, overrides)?;
    let others = spec.settings(false, false);
    if !is_quiet && !others.is_empty() {
        let names: Vec<String> = others.into_iter().map(|(name, _)| name).collect();
        anstream::eprintln!("{} uses {}", spec.name(), names.join(" and "));
    }
    Ok(spec)
}

/// The database where no spec is asked: as the command line says, the environment, or the
/// settings of this folder.
pub(super) fn database(said: Option<&String>, is_quiet: bool) -> Result<Option<Url>, Error> {
    if let Some(url) = args::database(said) {
        return Ok(Some(Url::parse(&url, Path::new(""), environment)?));
    }
    let settings = Settings::of(Path::new(""))?;
    let url = settings.database()?;
    if url.is_some() && !is_quiet {
        anstream::eprintln!("the database is that of {}", settings.name());
    }
    Ok(url)
}
