//! The texts that a spec is made of: its own, those that it extends, and the settings of its
//! folder.

use std::path::{Path, PathBuf};

use barrow_core::escape::visible_path;
use barrow_core::problem::{Problem, Spanned};
use barrow_core::spec::{SETTINGS, SpecTexts, TakenKey};

use super::settings::nearest;
use super::text;
use crate::error::Error;

/// Where a spec's keys come from.
#[derive(Debug)]
pub struct Origin {
    /// The texts.
    pub texts: SpecTexts,
    /// What the spec has from others than its own.
    pub taken: Vec<TakenKey>,
    /// The folder that the paths in its own text are from.
    base: PathBuf,
}

impl Origin {
    /// Reads the texts of the spec at `path`.
    ///
    /// # Errors
    /// One of them is not there, or a spec extends itself.
    pub(super) fn gather(path: &Path) -> Result<Origin, Error> {
        let mut texts = SpecTexts::new(path, &text::read(path)?);
        let mut paths = vec![path.to_path_buf()];
        while let Some(other) = texts.extends() {
            let last = paths.last().map_or(path, PathBuf::as_path);
            let found = folder_of(last).join(&other.value);
            let read = extended(&texts, &other, &found, &paths)?;
            texts.extend(&found, &read);
            paths.push(found);
        }
        if let Some(settings) = nearest(folder_of(path), SETTINGS) {
            texts.settle(&settings, &text::read(&settings)?);
        }
        Ok(Origin {
            taken: texts.taken(),
            texts,
            base: folder_of(path).to_path_buf(),
        })
    }

    /// A text that stands alone.
    pub(super) fn of_text(name: &Path, text: &str, base: &Path) -> Origin {
        Origin {
            texts: SpecTexts::new(name, text),
            taken: Vec::new(),
            base: base.to_path_buf(),
        }
    }

    /// The folder that the paths in a key's value are from: that of the file that says it.
    pub(crate) fn base_of(&self, section: &str, key: &str) -> &Path {
        let is_it = |taken: &&TakenKey| taken.section == section && taken.key == key;
        let taken = self.taken.iter().find(is_it);
        let path = taken.and_then(|taken| self.texts.paths().nth(taken.part));
        path.map_or(&self.base, |path| folder_of(path))
    }

    /// For each file that the spec has keys from: its name, and the keys.
    pub fn others(&self) -> Vec<(String, Vec<String>)> {
        let keys = |part: usize| {
            let of_part = self.taken.iter().filter(|taken| taken.part == part);
            of_part.map(TakenKey::name).collect::<Vec<_>>()
        };
        let paths = self.texts.paths().enumerate().skip(1);
        let others = paths.map(|(part, path)| (visible_path(path), keys(part)));
        others.filter(|(_, keys)| !keys.is_empty()).collect()
    }
}

/// The text of a spec that the last one of `texts` extends.
fn extended(
    texts: &SpecTexts,
    said: &Spanned<String>,
    found: &Path,
    before: &[PathBuf],
) -> Result<String, Error> {
    let wrong = |message: String, label: &str, help: &str| {
        let problem = Problem::new(said.span.clone(), message, label);
        Error::spec(texts, vec![problem.help(help)])
    };
    let shown = visible_path(found);
    let is_same = |other: &PathBuf| match (other.canonicalize(), found.canonicalize()) {
        (Ok(other), Ok(found)) => other == found,
        _ => false,
    };
    if before.iter().any(is_same) {
        return Err(wrong(
            format!("{shown} is extended already"),
            "goes round in a circle",
            "name a spec that does not extend this one",
        ));
    }
    let (message, label) = match found {
        _ if said.value.is_empty() => ("extends names no spec".to_string(), "empty"),
        found if found.is_dir() => (format!("{shown} is a folder"), "not a spec"),
        found if !found.exists() => (format!("there is no {shown}"), "not there"),
        _ => return text::read(found),
    };
    let help = "a path is from the folder of the spec that says it";
    Err(wrong(message, label, help))
}

fn folder_of(path: &Path) -> &Path {
    path.parent().unwrap_or(Path::new(""))
}
