//! Which objects an address means: one by its name, those that a glob matches, or those whose
//! keys begin so.

use std::collections::HashSet;

use barrow_core::escape::escape_for_display;
use barrow_core::source::archive::matches;
use barrow_core::source::files::natural;
use glob::Pattern;
use object_store::list::PaginatedListOptions;
use object_store::path::Path;
use object_store::{ObjectMeta, ObjectStoreExt};

use crate::connect::Client;
use crate::fault::Fault;

/// Characters that make a key a glob.
const GLOB: [char; 3] = ['*', '?', '['];

/// What a key that ends so means is every object that begins with it.
const PREFIX_ENDS: [char; 5] = ['/', '-', '_', '=', '.'];

/// The objects that a key means, in natural order; none where there is none.
///
/// # Errors
/// The store does not answer, or does not let us see.
pub async fn find(client: &Client, key: &str) -> Result<Vec<ObjectMeta>, Fault> {
    let is_prefix = key.is_empty() || key.ends_with(PREFIX_ENDS);
    let is_glob = key.contains(GLOB);
    if !is_prefix && !is_glob {
        return Ok(vec![one(client, key).await?]);
    }
    let start = key.find(GLOB).map_or(key, |at| &key[..at]);
    let mut found = under(client, start).await?;
    // A name that has a glob's characters and is there is meant as it stands.
    let literal = found
        .iter()
        .position(|object| object.location.as_ref() == key);
    if let (true, Some(literal)) = (is_glob, literal) {
        return Ok(vec![found.swap_remove(literal)]);
    }
    if is_glob {
        let pattern = Pattern::new(key).map_err(|error| {
            let key = escape_for_display(key.as_bytes());
            Fault::Other(format!("{key} is not a pattern: {error}"))
        })?;
        found.retain(|object| matches(&pattern, object.location.as_ref()));
    }
    // What has nothing in it and others within it stands for a folder, in programs that show
    // folders.
    let folders: HashSet<String> = found.iter().flat_map(folders_of).collect();
    found.retain(|object| object.size > 0 || !folders.contains(object.location.as_ref()));
    found.sort_by(|a, b| natural(a.location.as_ref(), b.location.as_ref()));
    Ok(found)
}

/// The folders that an object's key goes through.
fn folders_of(object: &ObjectMeta) -> Vec<String> {
    let key = object.location.as_ref();
    let slashes = key.match_indices('/');
    slashes.map(|(at, _)| key[..at].to_string()).collect()
}

/// The object of this name.
async fn one(client: &Client, key: &str) -> Result<ObjectMeta, Fault> {
    let path = path_of(key)?;
    let found = client.objects.head(&path).await;
    found.map_err(|error| Fault::of_store(&error))
}

/// A key as the store's client has it.
///
/// # Errors
/// A key that it cannot name: with an empty part, `.` or `..`, or a slash at an end, which it
/// would take off, and so name another object.
pub fn path_of(key: &str) -> Result<Path, Fault> {
    let cannot = |why: &str| {
        Fault::Other(format!(
            "the key {} cannot be named here: {}",
            escape_for_display(key.as_bytes()),
            escape_for_display(why.as_bytes())
        ))
    };
    let path = Path::parse(key).map_err(|error| cannot(&error.to_string()))?;
    match path.as_ref() == key {
        true => Ok(path),
        false => Err(cannot("a slash at its start or end would be taken off")),
    }
}

/// Whether a listing names each object as the store has it: the client takes slashes off the
/// ends of keys, and so may name another object.
///
/// # Errors
/// Two objects have one name, or one does not begin as all that were asked for.
fn are_told_apart(found: &[ObjectMeta], start: &str) -> Result<(), Fault> {
    let mut seen = HashSet::new();
    let odd = found.iter().find(|object| {
        let key = object.location.as_ref();
        !seen.insert(key) || !(key.starts_with(start) || start.strip_suffix('/') == Some(key))
    });
    match odd {
        None => Ok(()),
        Some(object) => Err(Fault::Other(format!(
            "there is a key like {} with a slash at its start or end, which cannot be told \
             from the other here: name the objects one by one",
            escape_for_display(object.location.as_ref().as_bytes())
        ))),
    }
}

/// Every object whose key begins so.
///
/// # Errors
/// As [`find`].
pub async fn under(client: &Client, start: &str) -> Result<Vec<ObjectMeta>, Fault> {
    let mut found = Vec::new();
    let mut page_token = None;
    loop {
        let options = PaginatedListOptions {
            page_token,
            ..PaginatedListOptions::default()
        };
        let prefix = (!start.is_empty()).then_some(start);
        let page = client.listings.list_paginated(prefix, options).await;
        let page = page.map_err(|error| Fault::of_store(&error))?;
        found.extend(page.result.objects);
        page_token = page.page_token;
        if page_token.is_none() {
            are_told_apart(&found, start)?;
            return Ok(found);
        }
    }
}

/// A listing that failed, for there is no such bucket; each protocol has its code for that.
fn no_bucket(error: object_store::Error) -> Fault {
    let says = error.to_string();
    let codes = ["NoSuchBucket", "ContainerNotFound"];
    match codes.iter().any(|code| says.contains(code)) {
        true => Fault::Missing,
        false => Fault::of_store(&error),
    }
}

/// A few keys that begin as a key that is not there does, for advice.
///
/// # Errors
/// The bucket is not there, or may not be listed.
pub async fn near(client: &Client, key: &str) -> Result<Vec<String>, Fault> {
    let options = PaginatedListOptions {
        max_keys: Some(3),
        ..PaginatedListOptions::default()
    };
    let page = client.listings.list_paginated(Some(key), options).await;
    let objects = page.map_err(no_bucket)?.result.objects;
    let keys = objects
        .into_iter()
        .map(|object| object.location.to_string());
    Ok(keys.collect())
}
