//! One file of a web server (RFC 9110): read in ranges where the server has them, else taken
//! to a temporary file first, so that it can be read again.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, SystemTime};

use async_trait::async_trait;
use barrow_core::plan::StorePlan;
use barrow_core::source::content::{fingerprint_of_places, hash_of, sample_places};
use barrow_core::source::files::safe_name;
use barrow_core::source::{Fingerprint, Source};
use futures_util::StreamExt;
use http::header::{
    ACCEPT_ENCODING, ACCEPT_RANGES, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, ETAG,
    HeaderMap, HeaderName, IF_MATCH, IF_UNMODIFIED_SINCE, LAST_MODIFIED, RANGE,
};
use reqwest::{Method, RequestBuilder, Response};
use url::Url;

use crate::address::{identity, shown};
use crate::fault::{Fault, Refused};
use crate::patience::{Patience, Tries};
use crate::ranges::{RangeReader, Ranges, Stream, all};
use crate::runtime::Network;
use crate::transport::{client, innermost, is_passing};

/// How many redirects are followed.
const REDIRECTS: usize = 10;

/// What a server says of a file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Head {
    size: Option<u64>,
    has_ranges: bool,
    etag: Option<String>,
    modified: Option<String>,
    encoding: Option<String>,
}

/// How a file is asked for.
#[derive(Clone)]
struct Requests {
    client: reqwest::Client,
    url: Url,
    settings: StorePlan,
    patience: Patience,
}

/// A file of a web server, as it was when it was found.
pub struct WebFile {
    network: Network,
    requests: Requests,
    head: Head,
    fingerprint: OnceLock<Fingerprint>,
    /// All of it, where the server gives no ranges.
    copy: Mutex<Option<File>>,
}

impl std::fmt::Debug for WebFile {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", shown(&self.requests.url))
    }
}

/// Asks for a file.
///
/// # Errors
/// It is not there, or the server does not answer.
pub fn find(network: &Network, url: Url, settings: StorePlan) -> Result<WebFile, Fault> {
    let patience = Patience::new(settings.give_up_after);
    let requests = Requests {
        client: client(patience, REDIRECTS).map_err(Fault::Other)?,
        url,
        settings,
        patience,
    };
    let head = network.wait(requests.head())?;
    Ok(WebFile {
        network: network.clone(),
        requests,
        head,
        fingerprint: OnceLock::new(),
        copy: Mutex::new(None),
    })
}

impl Requests {
    fn request(&self, method: Method) -> RequestBuilder {
        let request = self.client.request(method, self.url.clone());
        let request = request.header(ACCEPT_ENCODING, "identity");
        match (&self.settings.account, &self.settings.token) {
            (Some(user), _) => request.basic_auth(user, self.settings.secret_key.as_ref()),
            (None, Some(token)) => request.bearer_auth(token),
            (None, None) => request,
        }
    }

    /// Sends a request until an answer comes that stands.
    async fn send(&self, make: impl Fn() -> RequestBuilder) -> Result<Response, Fault> {
        let mut tries = Tries::new();
        loop {
            let (fault, may_pass) = match self.once(make()).await {
                Ok(response) => return Ok(response),
                Err(fault) => fault,
            };
            // A host that is not reached at first is not waited for as one that was.
            let most = match fault {
                Fault::Unreachable(_) => self.patience.give_up_after / 10,
                _ => self.patience.give_up_after,
            };
            if !may_pass || !tries.again(most).await {
                return Err(fault);
            }
        }
    }

    /// One try. An error says whether another may do better.
    async fn once(&self, request: RequestBuilder) -> Result<Response, (Fault, bool)> {
        let answer = tokio::time::timeout(self.patience.stall, request.send()).await;
        let response = match answer {
            Err(_) => {
                return Err((
                    Fault::Unreachable("the server does not answer".into()),
                    true,
                ));
            }
            Ok(Err(error)) => return Err(unreachable(error)),
            Ok(Ok(response)) => response,
        };
        match response.status().as_u16() {
            200..=299 => Ok(response),
            404 | 410 => Err((Fault::Missing, false)),
            412 => Err((Fault::Changed, false)),
            status => Err((
                Fault::Refused(Refused::new(status, None, &[])),
                is_passing(status),
            )),
        }
    }

    async fn head(&self) -> Result<Head, Fault> {
        match self.send(|| self.request(Method::HEAD)).await {
            Ok(response) => {
                let head = Head::of(response.headers());
                match head.has_ranges && head.size.is_some() {
                    true => Ok(head),
                    false => self.first_byte().await,
                }
            }
            // Servers that know no HEAD, or sign the method.
            Err(Fault::Refused(_)) => self.first_byte().await,
            Err(fault) => Err(fault),
        }
    }

    /// Asks for one byte: whether ranges are given shows then.
    async fn first_byte(&self) -> Result<Head, Fault> {
        let asked = self
            .send(|| self.request(Method::GET).header(RANGE, "bytes=0-0"))
            .await;
        let response = match asked {
            // A file without a byte has no first one.
            Err(Fault::Refused(refused)) if refused.status == 416 => {
                self.send(|| self.request(Method::GET)).await?
            }
            other => other?,
        };
        let mut head = Head::of(response.headers());
        let total = text(response.headers(), CONTENT_RANGE)
            .and_then(|range| range.rsplit_once('/')?.1.parse().ok());
        if response.status().as_u16() == 206 && total.is_some() {
            head.size = total;
            head.has_ranges = true;
        } else {
            head.has_ranges = false;
        }
        Ok(head)
    }
}

impl Head {
    fn of(headers: &HeaderMap) -> Head {
        let number = |name| text(headers, name)?.parse().ok();
        Head {
            size: number(CONTENT_LENGTH),
            has_ranges: text(headers, ACCEPT_RANGES).is_some_and(|unit| unit == "bytes"),
            etag: text(headers, ETAG),
            modified: text(headers, LAST_MODIFIED),
            encoding: text(headers, CONTENT_ENCODING).filter(|encoding| encoding != "identity"),
        }
    }

    /// Whether another response is of the same file.
    fn is_same(&self, other: &Head) -> bool {
        let same = |a: &Option<String>, b: &Option<String>| a.is_none() || b.is_none() || a == b;
        same(&self.etag, &other.etag) && same(&self.modified, &other.modified)
    }

    /// The tag that two versions of a file never share (RFC 9110, section 8.8.3).
    fn strong_tag(&self) -> Option<&str> {
        self.etag.as_deref().filter(|tag| !tag.starts_with("W/"))
    }

    /// What a further request says, so that it is answered only by the same file. A weak tag
    /// never matches (RFC 9110, section 13.1.1).
    fn condition(&self) -> Option<(HeaderName, &str)> {
        let by_tag = self.strong_tag().map(|tag| (IF_MATCH, tag));
        by_tag.or_else(|| Some((IF_UNMODIFIED_SINCE, self.modified.as_deref()?)))
    }
}

fn text(headers: &HeaderMap, name: HeaderName) -> Option<String> {
    Some(headers.get(name)?.to_str().ok()?.to_string())
}

fn unreachable(error: reqwest::Error) -> (Fault, bool) {
    if error.is_redirect() {
        let says = format!("it is redirected more than {REDIRECTS} times");
        return (Fault::Other(says), false);
    }
    let why = innermost(error);
    match why.contains("certificate") {
        true => (
            Fault::Other(format!("the server cannot be trusted: {why}")),
            false,
        ),
        false => (
            Fault::Unreachable(format!("the server cannot be reached: {why}")),
            true,
        ),
    }
}

impl WebFile {
    /// Whether it is read in ranges: only where a strong tag says of each that it is of the same
    /// file (RFC 9110, section 8.8.1). A date or a weak tag may be those of two versions.
    fn is_ranged(&self) -> bool {
        self.head.has_ranges
            && self.head.size.is_some()
            && self.head.encoding.is_none()
            && self.head.strong_tag().is_some()
    }

    fn ranges(&self) -> Arc<dyn Ranges> {
        Arc::new(WebRanges {
            requests: self.requests.clone(),
            head: self.head.clone(),
        })
    }

    async fn take_sample(&self, size: u64) -> Result<Fingerprint, Fault> {
        let pieces = sample_places(size).into_iter();
        let pieces: Vec<_> = futures_util::stream::iter(pieces.map(|p| all(self.ranges(), p)))
            .buffered(8)
            .collect()
            .await;
        let pieces = pieces.into_iter().collect::<Result<Vec<_>, _>>()?;
        Ok(fingerprint_of_places(
            size,
            pieces.iter().map(Vec::as_slice),
        ))
    }

    /// All of it, in a temporary file that goes with the program.
    fn copied(&self) -> io::Result<File> {
        let mut copy = self.copy.lock().unwrap_or_else(PoisonError::into_inner);
        if copy.is_none() {
            *copy = Some(self.take_copy()?);
        }
        let Some(copy) = &*copy else {
            return Err(io::ErrorKind::NotFound.into());
        };
        copy.try_clone()
    }

    fn take_copy(&self) -> io::Result<File> {
        let mut tries = Tries::new();
        loop {
            let mut file = tempfile::tempfile()?;
            let fault = match self.network.wait(self.download(&mut file)) {
                Ok(()) => return self.decoded(file),
                Err(fault) => fault,
            };
            let patience = self.requests.patience.give_up_after;
            let may_pass = matches!(fault, Fault::Unreachable(_));
            if !may_pass || !self.network.wait(tries.again(patience)) {
                return Err(fault.into_io());
            }
        }
    }

    async fn download(&self, file: &mut File) -> Result<(), Fault> {
        let requests = &self.requests;
        let response = requests.send(|| requests.request(Method::GET)).await?;
        if !self.head.is_same(&Head::of(response.headers())) {
            return Err(Fault::Changed);
        }
        let size = response.content_length();
        let mut stream = response.bytes_stream();
        let mut taken = 0;
        while let Some(bytes) = stream.next().await {
            let bytes = bytes.map_err(|error| unreachable(error).0)?;
            taken += bytes.len() as u64;
            let written = file.write_all(&bytes);
            written.map_err(|error| Fault::Other(format!("a temporary file: {error}")))?;
        }
        match size.is_some_and(|size| size != taken) {
            true => Err(Fault::Unreachable("the connection ended early".into())),
            false => Ok(()),
        }
    }

    /// What a server encoded on the way is decoded again (RFC 9110, section 8.4).
    fn decoded(&self, mut file: File) -> io::Result<File> {
        file.seek(SeekFrom::Start(0))?;
        let mut reader: Box<dyn Read> = match self.head.encoding.as_deref() {
            None => return Ok(file),
            Some("gzip" | "x-gzip") => Box::new(flate2::read::MultiGzDecoder::new(file)),
            Some("deflate") => Box::new(flate2::read::ZlibDecoder::new(file)),
            Some(other) => {
                let other = barrow_core::escape::escape_for_display(other.as_bytes());
                return Err(io::Error::other(format!(
                    "the server sends it in the encoding {other}, which is not known here"
                )));
            }
        };
        let mut decoded = tempfile::tempfile()?;
        io::copy(&mut reader, &mut decoded)?;
        Ok(decoded)
    }
}

impl Source for WebFile {
    fn name(&self) -> String {
        shown(&self.requests.url)
    }

    fn file_name(&self) -> PathBuf {
        let path = percent_encoding::percent_decode_str(self.requests.url.path());
        match path.decode_utf8_lossy() {
            path if path.trim_matches('/').is_empty() => {
                safe_name(self.requests.url.host_str().unwrap_or_default())
            }
            path => safe_name(&path),
        }
    }

    fn identity(&self) -> PathBuf {
        identity(&self.requests.url).into()
    }

    fn exists(&self) -> bool {
        self.network.wait(self.requests.head()).is_ok()
    }

    fn size(&self) -> Option<u64> {
        self.head.size.filter(|_| self.head.encoding.is_none())
    }

    fn modified(&self) -> Option<SystemTime> {
        let text = self.head.modified.as_deref()?;
        let moment = jiff::fmt::rfc2822::parse(text).ok()?.timestamp();
        let seconds = u64::try_from(moment.as_second()).ok()?;
        Some(SystemTime::UNIX_EPOCH + Duration::from_secs(seconds))
    }

    fn version(&self) -> Option<String> {
        let tag = self.head.etag.as_ref().or(self.head.modified.as_ref())?;
        Some(hash_of(tag.as_bytes()))
    }

    fn is_repeatable(&self) -> bool {
        true
    }

    fn open(&self) -> io::Result<Box<dyn Read + Send>> {
        self.open_at(0)
    }

    fn open_at(&self, from: u64) -> io::Result<Box<dyn Read + Send>> {
        if let Some(size) = self.head.size.filter(|_| self.is_ranged()) {
            let range = from.min(size)..size;
            return Ok(Box::new(RangeReader::new(
                &self.network,
                self.ranges(),
                range,
            )));
        }
        Ok(Box::new(CopyReader {
            file: self.copied()?,
            at: from,
        }))
    }

    fn fingerprint(&self) -> io::Result<Option<Fingerprint>> {
        if let Some(known) = self.fingerprint.get() {
            return Ok(Some(known.clone()));
        }
        let found = match self.head.size.filter(|_| self.is_ranged()) {
            Some(size) => self
                .network
                .wait(self.take_sample(size))
                .map_err(Fault::into_io)?,
            None => {
                let size = self.copied()?.metadata()?.len();
                barrow_core::source::content::sample_of(self.open()?, size)?
            }
        };
        Ok(Some(self.fingerprint.get_or_init(|| found).clone()))
    }

    fn delete(&self) -> io::Result<()> {
        Err(stays())
    }

    fn move_to(&self, _: &str, _: &Path) -> io::Result<String> {
        Err(stays())
    }
}

fn stays() -> io::Error {
    io::Error::other("a web server's files stay where they are")
}

/// Reads the copy from its own place: several readers share one file.
struct CopyReader {
    file: File,
    at: u64,
}

impl Read for CopyReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        use std::os::unix::fs::FileExt;
        let read = self.file.read_at(buffer, self.at)?;
        self.at += read as u64;
        Ok(read)
    }
}

/// Reads the file that was found, and no other that may take its place.
struct WebRanges {
    requests: Requests,
    head: Head,
}

#[async_trait]
impl Ranges for WebRanges {
    async fn get(&self, range: Range<u64>) -> Result<Stream, Fault> {
        let mut request = self.requests.request(Method::GET);
        request = request.header(RANGE, format!("bytes={}-{}", range.start, range.end - 1));
        if let Some((name, value)) = self.head.condition() {
            request = request.header(name, value);
        }
        let response = self
            .requests
            .once(request)
            .await
            .map_err(|(fault, _)| fault)?;
        if !self.head.is_same(&Head::of(response.headers())) {
            return Err(Fault::Changed);
        }
        let given = text(response.headers(), CONTENT_RANGE).unwrap_or_default();
        let begins = format!("bytes {}-", range.start);
        // The total is that of the file as it is now; a server that does not know it says "*".
        let total = given
            .rsplit_once('/')
            .and_then(|(_, total)| total.parse::<u64>().ok());
        if total.is_some_and(|total| self.head.size != Some(total)) {
            return Err(Fault::Changed);
        }
        if !given.starts_with(&begins) {
            return Err(Fault::Other(
                "the server gave another range than asked for".into(),
            ));
        }
        let stream = response.bytes_stream();
        Ok(stream
            .map(|bytes| bytes.map_err(|error| unreachable(error).0))
            .boxed())
    }

    fn patience(&self) -> Patience {
        self.requests.patience
    }
}
