//! What is stored: objects in buckets, files of the web, uploads that are not complete.

use std::collections::{BTreeMap, HashMap};
use std::io;
use std::path::Path;

use bytes::Bytes;
use jiff::Timestamp;
use ring::digest::{SHA256, digest};

/// An object, or a file of the web.
#[derive(Debug, Clone)]
pub struct Object {
    /// Its content.
    pub bytes: Bytes,
    /// Its tag, in quotes.
    pub etag: String,
    /// When it was written.
    pub modified: Timestamp,
}

impl Object {
    /// An object with this content, written now.
    pub fn new(bytes: impl Into<Bytes>) -> Object {
        let bytes = bytes.into();
        Object {
            etag: tag(&bytes, ""),
            bytes,
            modified: Timestamp::now(),
        }
    }
}

/// A tag of a content.
pub fn tag(bytes: &[u8], more: &str) -> String {
    let hash: String = digest(&SHA256, bytes).as_ref()[..16]
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    format!("\"{hash}{more}\"")
}

/// An upload that is under way.
#[derive(Debug, Default)]
pub struct Parts {
    /// Where it goes.
    pub bucket: String,
    /// Its key.
    pub key: String,
    /// The parts so far, by their numbers.
    pub parts: BTreeMap<u32, Object>,
}

/// All that is stored.
#[derive(Debug, Default)]
pub struct Objects {
    /// The buckets, each with its objects in the order of their keys.
    pub buckets: HashMap<String, BTreeMap<String, Object>>,
    /// Uploads that are not complete, by their ids.
    pub uploads: HashMap<String, Parts>,
    /// Blocks of blobs that are not committed, by container and key, each by its id.
    pub blocks: HashMap<(String, String), HashMap<String, Bytes>>,
    /// The files of the web, by their paths.
    pub files: HashMap<String, Object>,
}

impl Objects {
    /// Takes in a folder: each folder in it is a bucket, and each file a file of the web as
    /// well.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn take_in(&mut self, folder: &Path) -> io::Result<()> {
        let mut waiting = vec![folder.to_path_buf()];
        while let Some(next) = waiting.pop() {
            for entry in std::fs::read_dir(next)? {
                let path = entry?.path();
                if path.is_dir() {
                    waiting.push(path);
                    continue;
                }
                let name = path.strip_prefix(folder).unwrap_or(&path);
                let name = name.to_string_lossy().into_owned();
                let object = Object::new(std::fs::read(&path)?);
                self.files.insert(format!("/{name}"), object.clone());
                if let Some((bucket, key)) = name.split_once('/') {
                    let bucket = self.buckets.entry(bucket.to_string()).or_default();
                    bucket.insert(key.to_string(), object);
                }
            }
        }
        Ok(())
    }
}
