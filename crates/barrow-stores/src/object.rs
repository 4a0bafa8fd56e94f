//! An object of a store, as a file.

use std::io::{self, Read};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::SystemTime;

use async_trait::async_trait;
use barrow_core::escape::escape_for_display;
use barrow_core::source::content::{fingerprint_of_places, hash_of, sample_places};
use barrow_core::source::files::safe_name;
use barrow_core::source::{Fingerprint, Source};
use futures_util::StreamExt;
use object_store::{CopyMode, CopyOptions, GetOptions, GetRange, ObjectMeta, ObjectStoreExt};

use crate::address::{Address, Scheme};
use crate::connect::Client;
use crate::fault::Fault;
use crate::listing::path_of;
use crate::patience::Patience;
use crate::ranges::{RangeReader, Ranges, Stream, all};
use crate::runtime::Network;

/// How many places of an object are asked for at once.
const PLACES_AT_ONCE: usize = 16;

/// An object, as it was when it was found.
pub struct Object {
    pub network: Network,
    pub client: Client,
    pub scheme: Scheme,
    pub bucket: String,
    pub meta: ObjectMeta,
    fingerprint: OnceLock<Fingerprint>,
}

impl std::fmt::Debug for Object {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", self.address(self.meta.location.as_ref()))
    }
}

impl Object {
    /// An object that a listing has.
    pub fn new(
        network: &Network,
        client: &Client,
        scheme: Scheme,
        bucket: &str,
        meta: ObjectMeta,
    ) -> Object {
        Object {
            network: network.clone(),
            client: client.clone(),
            scheme,
            bucket: bucket.to_string(),
            meta: ObjectMeta {
                e_tag: meta.e_tag.map(quoted),
                ..meta
            },
            fingerprint: OnceLock::new(),
        }
    }

    fn address(&self, key: &str) -> String {
        format!("{}://{}/{key}", self.scheme.word(), self.bucket)
    }

    fn ranges(&self) -> Arc<dyn Ranges> {
        Arc::new(ObjectRanges {
            client: self.client.clone(),
            meta: self.meta.clone(),
        })
    }

    async fn head(&self) -> Result<ObjectMeta, Fault> {
        let found = self.client.objects.head(&self.meta.location).await;
        found.map_err(|error| Fault::of_store(&error))
    }

    async fn take_sample(&self) -> Result<Fingerprint, Fault> {
        let places = sample_places(self.meta.size);
        let pieces = places.into_iter().map(|place| all(self.ranges(), place));
        let pieces: Vec<Result<Vec<u8>, Fault>> = futures_util::stream::iter(pieces)
            .buffered(PLACES_AT_ONCE)
            .collect()
            .await;
        let pieces = pieces.into_iter().collect::<Result<Vec<_>, _>>()?;
        let pieces = pieces.iter().map(Vec::as_slice);
        Ok(fingerprint_of_places(self.meta.size, pieces))
    }

    /// The key that the object would have in a folder: an address of the same bucket, or a
    /// folder beside it.
    fn key_in(&self, folder: &str) -> Result<String, Fault> {
        let own = self.meta.location.filename().unwrap_or_default();
        let folder = match Address::parse(folder) {
            Ok(Address::Object {
                scheme,
                bucket,
                key,
            }) if folder.contains("://") => {
                if (scheme, &bucket) != (self.scheme, &self.bucket) {
                    let says = "an object moves within its own bucket";
                    return Err(Fault::Other(says.into()));
                }
                key
            }
            _ => {
                let key = self.meta.location.as_ref();
                let before = key.rfind('/').map_or("", |at| &key[..=at]);
                format!("{before}{folder}")
            }
        };
        Ok(format!("{}/{own}", folder.trim_end_matches('/'))
            .trim_start_matches('/')
            .into())
    }

    /// Copies it to the first name that is free, and returns that.
    async fn copy_to(&self, key: &str) -> Result<String, Fault> {
        let (stem, ending) = match key.rsplit_once('.') {
            Some((stem, ending)) if !ending.contains('/') => (stem, format!(".{ending}")),
            _ => (key, String::new()),
        };
        let numbered = (2..).map(|n| format!("{stem}-{n}{ending}"));
        for name in std::iter::once(key.to_string()).chain(numbered) {
            let to = path_of(&name)?;
            match self.client.objects.head(&to).await {
                Ok(_) => continue,
                Err(object_store::Error::NotFound { .. }) => {}
                Err(error) => return Err(Fault::of_store(&error)),
            }
            let options = CopyOptions::new().with_mode(CopyMode::Overwrite);
            let copied = self
                .client
                .objects
                .copy_opts(&self.meta.location, &to, options);
            copied.await.map_err(|error| Fault::of_store(&error))?;
            return Ok(name);
        }
        Err(Fault::Other("no name is free".into()))
    }

    async fn move_to(&self, folder: &str) -> Result<String, Fault> {
        let key = self.key_in(folder)?;
        if key == self.meta.location.as_ref() {
            return Ok(key);
        }
        let name = self.copy_to(&key).await?;
        let copy = self.client.objects.head(&path_of(&name)?).await;
        let copy = copy.map_err(|error| Fault::of_store(&error))?;
        if copy.size != self.meta.size {
            return Err(Fault::Other("the copy is not of its size".into()));
        }
        let deleted = self.client.objects.delete(&self.meta.location).await;
        deleted.map_err(|error| Fault::of_store(&error))?;
        Ok(name)
    }
}

impl Source for Object {
    fn name(&self) -> String {
        escape_for_display(self.address(self.meta.location.as_ref()).as_bytes())
    }

    fn file_name(&self) -> PathBuf {
        safe_name(self.meta.location.as_ref())
    }

    fn identity(&self) -> PathBuf {
        self.address(self.meta.location.as_ref()).into()
    }

    fn exists(&self) -> bool {
        self.network.wait(self.head()).is_ok()
    }

    fn size(&self) -> Option<u64> {
        Some(self.meta.size)
    }

    fn modified(&self) -> Option<SystemTime> {
        Some(self.meta.last_modified.into())
    }

    fn version(&self) -> Option<String> {
        self.meta.e_tag.as_ref().map(|tag| hash_of(tag.as_bytes()))
    }

    fn is_repeatable(&self) -> bool {
        true
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        self.open_at(0)
    }

    fn open_at(&self, from: u64) -> io::Result<Box<dyn Read + Send>> {
        let range = from.min(self.meta.size)..self.meta.size;
        Ok(Box::new(RangeReader::new(
            &self.network,
            self.ranges(),
            range,
        )))
    }

    fn fingerprint(&self) -> io::Result<Option<Fingerprint>> {
        if let Some(known) = self.fingerprint.get() {
            return Ok(Some(known.clone()));
        }
        let found = self
            .network
            .wait(self.take_sample())
            .map_err(Fault::into_io)?;
        Ok(Some(self.fingerprint.get_or_init(|| found).clone()))
    }

    fn is_still(&self, _: &Fingerprint) -> io::Result<bool> {
        let now = self.network.wait(self.head()).map_err(Fault::into_io)?;
        Ok((now.size, now.e_tag.map(quoted), now.last_modified)
            == (
                self.meta.size,
                self.meta.e_tag.clone(),
                self.meta.last_modified,
            ))
    }

    fn delete(&self) -> io::Result<()> {
        let deleted = self
            .network
            .wait(self.client.objects.delete(&self.meta.location));
        deleted.map_err(|error| Fault::of_store(&error).into_io())
    }

    fn move_to(&self, folder: &str, _: &Path) -> io::Result<String> {
        let moved = self.network.wait(self.move_to(folder));
        let key = moved.map_err(Fault::into_io)?;
        Ok(escape_for_display(self.address(&key).as_bytes()))
    }
}

/// A tag as headers have it (RFC 9110, section 8.8.3): the lists of some services have it without
/// its quotes.
fn quoted(tag: String) -> String {
    match tag.starts_with('"') || tag.starts_with("W/") {
        true => tag,
        false => format!("\"{tag}\""),
    }
}

/// Reads the object that was found, and no other that may take its place.
struct ObjectRanges {
    client: Client,
    meta: ObjectMeta,
}

#[async_trait]
impl Ranges for ObjectRanges {
    async fn get(&self, range: Range<u64>) -> Result<Stream, Fault> {
        let options = GetOptions {
            range: (range != (0..self.meta.size)).then_some(GetRange::Bounded(range.clone())),
            if_match: self.meta.e_tag.clone(),
            if_unmodified_since: match self.meta.e_tag {
                Some(_) => None,
                None => Some(self.meta.last_modified),
            },
            ..GetOptions::default()
        };
        let got = self
            .client
            .objects
            .get_opts(&self.meta.location, options)
            .await;
        let got = got.map_err(|error| match Fault::of_store(&error) {
            Fault::Missing => Fault::Changed,
            fault => fault,
        })?;
        let tag = got.meta.e_tag.clone().map(quoted);
        let is_the_same =
            got.meta.size == self.meta.size && (tag.is_none() || tag == self.meta.e_tag);
        if !is_the_same || got.range != range {
            return Err(Fault::Changed);
        }
        let stream = got.into_stream();
        Ok(stream
            .map(|bytes| {
                bytes.map_err(|error| match Fault::of_store(&error) {
                    // A connection that breaks is nobody's decision.
                    Fault::Other(says) => Fault::Unreachable(says),
                    fault => fault,
                })
            })
            .boxed())
    }

    fn patience(&self) -> Patience {
        self.client.patience
    }
}
