//! The file of a spec: what people may have named in its place.

use std::io::ErrorKind;
use std::path::{Path, PathBuf};

use barrow_core::escape::{escape_for_display, visible_address, visible_path};
use barrow_core::nearest::nearest;

use crate::error::Error;

/// The text of a spec.
///
/// # Errors
/// It is not there, or is no file of text.
pub fn read(path: &Path) -> Result<String, Error> {
    let shown = match path.to_str() {
        Some(given) => visible_address(given),
        None => visible_path(path),
    };
    if path == Path::new("-") {
        return Err(Error::request(
            "a spec does not come from standard input; - names files to read",
            "name the spec first: barrow load SPEC -",
        ));
    }
    if path.is_dir() {
        let specs = specs_in(path);
        let advice = match specs.first() {
            Some(spec) => format!("name the spec in it, such as {spec}"),
            None => "have one drafted: barrow draft FILE -o NAME.spec.toml".to_string(),
        };
        return Err(Error::request(
            format!("{shown} is a folder, and a spec is a file"),
            advice,
        ));
    }
    std::fs::read_to_string(path).map_err(|error| match error.kind() {
        ErrorKind::NotFound => {
            Error::failed(format!("there is no spec {shown}")).advised(match near(path) {
                Some(near) => format!("is it {near}?"),
                None => "have one drafted: barrow draft FILE -o NAME.spec.toml".to_string(),
            })
        }
        ErrorKind::InvalidData if !is_named_as_one(path) => not_a_spec(path),
        ErrorKind::InvalidData => Error::request(
            format!("{shown} is not text in UTF-8, and a spec is"),
            "is it the right file?",
        ),
        _ => Error::failed(format!("{shown}: {error}")),
    })
}

/// Whether a text that is no spec is a file of data, by its name and what is in it.
pub fn is_of_data(path: &Path, text: &str) -> bool {
    let has_tables = ["[source]", "[columns]", "[target]"]
        .iter()
        .any(|table| text.contains(table));
    !is_named_as_one(path) && !has_tables
}

/// Said of a file of data that stands where a spec should.
pub fn not_a_spec(path: &Path) -> Error {
    let shown = visible_path(path);
    let spec = escape_for_display(
        path.with_extension("spec.toml")
            .as_os_str()
            .as_encoded_bytes(),
    );
    Error::request(
        format!("{shown} is not a spec: a spec is a file of TOML that says how {shown} is read"),
        format!("have one drafted: barrow draft {shown} -o {spec}"),
    )
}

fn is_named_as_one(path: &Path) -> bool {
    path.extension()
        .is_some_and(|ending| ending.eq_ignore_ascii_case("toml"))
}

/// The specs in a folder, in order.
fn specs_in(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let paths = entries
        .map(|entry| entry.path())
        .filter(|path| is_named_as_one(path));
    let mut found: Vec<String> = paths.map(|path| visible_path(&path)).collect();
    found.sort();
    found
}

/// The spec whose name is most like one that is not there.
fn near(path: &Path) -> Option<String> {
    let folder = path.parent().unwrap_or(Path::new(""));
    let folder_read = match folder.as_os_str().is_empty() {
        true => PathBuf::from("."),
        false => folder.to_path_buf(),
    };
    let found = specs_in(&folder_read);
    let names: Vec<&str> = found
        .iter()
        .filter_map(|path| path.rsplit('/').next())
        .collect();
    let near = nearest(&path.file_name()?.to_string_lossy(), names)?;
    Some(visible_path(&folder.join(near)))
}
