//! The settings of a folder: the nearest `barrow.toml` in it or above it.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use barrow_core::escape::visible_path;
use barrow_core::plan::StorePlan;
use barrow_core::source::files::is_address;
use barrow_core::spec::{self, SETTINGS, SettingsPlan, SpecTexts};
use barrow_stores::Stores;
use barrow_targets::{Url, secret};

use super::{environment, text};
use crate::error::Error;

/// The settings of a folder, for what goes by no spec.
#[derive(Debug, Default)]
pub struct Settings {
    texts: SpecTexts,
    path: PathBuf,
    plan: SettingsPlan,
}

impl Settings {
    /// Those that hold in `folder`; empty where no file has any.
    ///
    /// # Errors
    /// The file cannot be read, or is wrong.
    pub fn of(folder: &Path) -> Result<Settings, Error> {
        let Some(path) = nearest(folder, SETTINGS) else {
            return Ok(Settings::default());
        };
        let mut texts = SpecTexts::new(&path, "");
        texts.settle(&path, &text::read(&path)?);
        let plan = spec::settings(&texts);
        let plan = plan.map_err(|problems| Error::spec(&texts, problems))?;
        Ok(Settings { texts, path, plan })
    }

    /// The file's name for people.
    pub fn name(&self) -> String {
        visible_path(&self.path)
    }

    /// Whether they name a database, whether or not it can be reached from here.
    pub(crate) fn names_database(&self) -> bool {
        self.plan.database.is_some()
    }

    /// The database.
    ///
    /// # Errors
    /// The address is none.
    pub fn database(&self) -> Result<Option<Url>, Error> {
        let url = self.plan.database.as_deref();
        Ok(url
            .map(|url| Url::parse(url, self.folder(), environment))
            .transpose()?)
    }

    /// The folder of rejects.
    pub fn rejects(&self) -> Option<PathBuf> {
        let rejects = self.plan.rejects.as_deref()?;
        Some(match is_address(rejects) {
            true => PathBuf::from(rejects),
            false => self.folder().join(rejects),
        })
    }

    /// The places that are not this machine, by the settings and the environment.
    ///
    /// # Errors
    /// The settings name a variable that the environment does not have.
    pub fn stores(&self) -> Result<Arc<Stores>, Error> {
        let stores = Stores::new(&self.plan.stores, &environment);
        let advice = format!("set it, or change [stores] in {SETTINGS}");
        let stores = stores.map_err(|why| Error::request(why, advice))?;
        stores.secrets().for_each(secret::learn_secret);
        Ok(Arc::new(stores))
    }

    /// What they say of the places that are not this machine.
    pub(super) fn into_stores(self) -> Vec<StorePlan> {
        self.plan.stores
    }

    /// The keys of `[values]` that they say.
    pub(crate) fn value_keys(&self) -> Vec<String> {
        let keys = self.texts.taken().into_iter();
        let of_values = keys.filter(|key| key.section == "values");
        of_values.map(|key| key.key).collect()
    }

    fn folder(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new(""))
    }
}

/// The nearest file of this name in a folder or above it, as people would write its path.
pub(crate) fn nearest(folder: &Path, name: &str) -> Option<PathBuf> {
    let folder = match folder.as_os_str().is_empty() {
        true => Path::new("."),
        false => folder,
    };
    // A folder that is not there yet is in one that is.
    let whole = folder
        .ancestors()
        .find_map(|folder| match folder.as_os_str().is_empty() {
            true => std::env::current_dir().ok(),
            false => folder.canonicalize().ok(),
        })?;
    let found = whole
        .ancestors()
        .map(|folder| folder.join(name))
        .find(|path| path.is_file())?;
    let here = std::env::current_dir().and_then(|here| here.canonicalize());
    Some(here.map_or(found.clone(), |here| as_written(&here, &found)))
}

/// A path as it is written in a folder, where it is below it or above it.
fn as_written(here: &Path, path: &Path) -> PathBuf {
    if let Ok(below) = path.strip_prefix(here) {
        return below.to_path_buf();
    }
    let name = path.file_name().unwrap_or_default();
    let Some(above) = path
        .parent()
        .and_then(|folder| here.strip_prefix(folder).ok())
    else {
        return path.to_path_buf();
    };
    let up = above.components().map(|_| Path::new(".."));
    up.chain([Path::new(name)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_as_people_write_them() {
        let here = Path::new("/data/market");
        for (path, written) in [
            ("/data/market/barrow.toml", "barrow.toml"),
            ("/data/market/specs/barrow.toml", "specs/barrow.toml"),
            ("/data/barrow.toml", "../barrow.toml"),
            ("/barrow.toml", "../../barrow.toml"),
            ("/else/barrow.toml", "/else/barrow.toml"),
        ] {
            assert_eq!(
                as_written(here, Path::new(path)),
                Path::new(written),
                "{path}"
            );
        }
    }
}
