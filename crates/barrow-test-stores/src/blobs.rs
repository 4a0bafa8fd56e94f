//! The same objects by the protocol of blobs: containers are buckets.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hyper::{Method, Response};
use percent_encoding::percent_decode_str;
use ring::hmac;

use crate::answer::{Asked, Body, Shared, respond};
use crate::faults::Fault;
use crate::objects::Object;
use crate::signature::{Keys, pairs};
use crate::web::{http_date, read};
use crate::xml::{element, plain, texts};

/// At most so many blobs are listed at once.
const MOST_BLOBS: usize = 5000;

/// Whether a request is of this protocol: each says the version that it speaks.
pub fn is_of_blobs(asked: &Asked) -> bool {
    asked.parts.headers.contains_key("x-ms-version")
}

/// Answers a request.
pub fn answer(shared: &Shared, asked: &Asked) -> Response<Body> {
    if let Some(keys) = &shared.keys
        && let Err(says) = check(asked, keys)
    {
        return error(403, "AuthenticationFailed", &says);
    }
    let uri = &asked.parts.uri;
    let path = percent_decode_str(uri.path()).decode_utf8_lossy();
    let path = path.trim_start_matches('/');
    let (container, key) = path.split_once('/').unwrap_or((path, ""));
    if !shared.objects().buckets.contains_key(container) {
        return error(404, "ContainerNotFound", "there is no such container");
    }
    let request = Request {
        shared,
        asked,
        container: container.to_string(),
        key: key.to_string(),
        query: pairs(uri.query().unwrap_or_default()),
    };
    request.answer()
}

/// A request, taken apart.
struct Request<'r> {
    shared: &'r Shared,
    asked: &'r Asked,
    container: String,
    key: String,
    query: Vec<(String, String)>,
}

impl Request<'_> {
    fn asks(&self, name: &str) -> Option<&str> {
        let found = self.query.iter().find(|(key, _)| key == name);
        found.map(|(_, value)| value.as_str())
    }

    fn header(&self, name: &str) -> Option<&str> {
        self.asked.parts.headers.get(name)?.to_str().ok()
    }

    fn answer(&self) -> Response<Body> {
        match (&self.asked.parts.method, self.asks("comp")) {
            (&Method::GET, Some("list")) => self.list(),
            (&Method::GET | &Method::HEAD, None) => self.read(),
            (&Method::PUT, Some("block")) => self.put_block(),
            (&Method::PUT, Some("blocklist")) => self.put_block_list(),
            (&Method::PUT, None) => self.put(),
            (&Method::DELETE, None) => match self.delete(&self.key) {
                true => respond(202, ""),
                false => error(404, "BlobNotFound", "there is no such blob"),
            },
            (&Method::POST, Some("batch")) => self.batch(),
            _ => error(400, "UnsupportedHttpVerb", "this is not done here"),
        }
    }

    /// Get Blob, Get Blob Properties.
    fn read(&self) -> Response<Body> {
        read(
            self.shared,
            self.asked,
            &self.container,
            &self.key,
            |status| match status {
                404 => error(404, "BlobNotFound", "there is no such blob"),
                503 => error(503, "ServerBusy", "ask less often"),
                other => error(other, "InternalError", "try again"),
            },
        )
    }

    /// Puts the content down, and answers with its tag.
    fn store(&self, object: Object, status: u16) -> Response<Body> {
        let mut response = respond(status, "");
        let headers = response.headers_mut();
        if let (Ok(tag), Ok(at)) = (object.etag.parse(), http_date(object.modified).parse()) {
            headers.insert("etag", tag);
            headers.insert("last-modified", at);
        }
        let mut objects = self.shared.objects();
        if let Some(blobs) = objects.buckets.get_mut(&self.container) {
            blobs.insert(self.key.clone(), object);
        }
        response
    }

    /// Put Blob, Copy Blob.
    fn put(&self) -> Response<Body> {
        if let Some(from) = self.header("x-ms-copy-source") {
            return self.copy(from);
        }
        if self.header("x-ms-blob-type") != Some("BlockBlob") {
            return error(400, "InvalidHeaderValue", "x-ms-blob-type is not BlockBlob");
        }
        let is_there = {
            let objects = self.shared.objects();
            let blobs = objects.buckets.get(&self.container);
            blobs.is_some_and(|blobs| blobs.contains_key(&self.key))
        };
        if self.header("if-none-match") == Some("*") && is_there {
            return error(409, "BlobAlreadyExists", "the blob is there");
        }
        self.store(Object::new(self.asked.body.clone()), 201)
    }

    fn copy(&self, from: &str) -> Response<Body> {
        let path = from.split_once("://").map_or(from, |(_, rest)| rest);
        let path = path.split_once('/').map_or("", |(_, path)| path);
        let path = percent_decode_str(path.split('?').next().unwrap_or_default());
        let path = path.decode_utf8_lossy().into_owned();
        let found = path.split_once('/').and_then(|(container, key)| {
            let objects = self.shared.objects();
            objects.buckets.get(container)?.get(key).cloned()
        });
        let Some(found) = found else {
            return error(404, "BlobNotFound", "there is no such blob");
        };
        let mut response = self.store(Object::new(found.bytes), 202);
        let done = hyper::header::HeaderValue::from_static("success");
        response.headers_mut().insert("x-ms-copy-status", done);
        response
    }

    fn put_block(&self) -> Response<Body> {
        if let Some(Fault::Status(status)) = self.shared.faults().draw() {
            return error(status, "InternalError", "try again");
        }
        let Some(id) = self
            .asks("blockid")
            .filter(|id| STANDARD.decode(id).is_ok())
        else {
            return error(400, "InvalidQueryParameterValue", "blockid is not base64");
        };
        let mut objects = self.shared.objects();
        let blocks = objects
            .blocks
            .entry((self.container.clone(), self.key.clone()));
        let blocks = blocks.or_default();
        blocks.insert(id.to_string(), self.asked.body.clone());
        respond(201, "")
    }

    fn put_block_list(&self) -> Response<Body> {
        let text = String::from_utf8_lossy(&self.asked.body).into_owned();
        let ids = ["Uncommitted", "Latest"].map(|name| texts(&text, name));
        let ids = ids.into_iter().flatten().map(plain);
        let of = (self.container.clone(), self.key.clone());
        let blocks = self.shared.objects().blocks.remove(&of).unwrap_or_default();
        let mut whole = Vec::new();
        for id in ids {
            match blocks.get(&id) {
                Some(block) => whole.extend_from_slice(block),
                None => return error(400, "InvalidBlockList", "a block was not sent"),
            }
        }
        self.store(Object::new(whole), 201)
    }

    fn delete(&self, key: &str) -> bool {
        let mut objects = self.shared.objects();
        let blobs = objects.buckets.get_mut(&self.container);
        blobs.is_some_and(|blobs| blobs.remove(key).is_some())
    }

    /// Blob Batch: deletions, each a request of its own within the body.
    fn batch(&self) -> Response<Body> {
        let text = String::from_utf8_lossy(&self.asked.body).into_owned();
        let mut out = String::new();
        for (number, line) in text
            .lines()
            .filter_map(|line| line.strip_prefix("DELETE "))
            .enumerate()
        {
            let path = line.split(' ').next().unwrap_or_default();
            let path = path.split('?').next().unwrap_or_default();
            let path = percent_decode_str(path).decode_utf8_lossy().into_owned();
            let key = path.trim_start_matches('/').strip_prefix(&self.container);
            let key = key.unwrap_or_default().trim_start_matches('/');
            let status = match self.delete(key) {
                true => "202 Accepted",
                false => "404 Not Found",
            };
            out += &format!(
                "--answers\r\nContent-Type: application/http\r\nContent-ID: {number}\r\n\r\n\
                 HTTP/1.1 {status}\r\nx-ms-version: 2021-08-06\r\n\r\n\r\n"
            );
        }
        let mut response = respond(202, out + "--answers--\r\n");
        let kind = hyper::header::HeaderValue::from_static("multipart/mixed; boundary=answers");
        response.headers_mut().insert("content-type", kind);
        response
    }

    /// List Blobs.
    fn list(&self) -> Response<Body> {
        let prefix = self.asks("prefix").unwrap_or_default();
        let most = self.asks("maxresults").and_then(|most| most.parse().ok());
        let most = MOST_BLOBS.min(most.unwrap_or(MOST_BLOBS));
        let from = self.asks("marker").or(self.asks("startFrom"));
        let from = from.unwrap_or_default().max(prefix);
        let objects = self.shared.objects();
        let blobs = objects.buckets.get(&self.container).into_iter();
        let mut blobs = blobs
            .flat_map(|blobs| blobs.range(from.to_string()..))
            .take_while(|(key, _)| key.starts_with(prefix));
        let mut inner = String::new();
        for (key, blob) in blobs.by_ref().take(most) {
            let properties = element("Last-Modified", &http_date(blob.modified))
                + &element("Etag", blob.etag.trim_matches('"'))
                + &element("Content-Length", &blob.bytes.len().to_string())
                + &element("Content-Type", "application/octet-stream");
            inner += &format!(
                "<Blob>{}<Properties>{properties}</Properties></Blob>",
                element("Name", key)
            );
        }
        let marker = blobs.next().map_or("", |(key, _)| key.as_str());
        let text = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?><EnumerationResults>{}<Blobs>{inner}</Blobs>{}\
             </EnumerationResults>",
            element("Prefix", prefix),
            element("NextMarker", marker)
        );
        respond(200, text)
    }
}

fn error(status: u16, code: &str, says: &str) -> Response<Body> {
    let inner = element("Code", code) + &element("Message", says);
    let text = format!("<?xml version=\"1.0\" encoding=\"utf-8\"?><Error>{inner}</Error>");
    respond(status, text)
}

/// Checks the signature by the account's key ("Authorize with Shared Key": blobs, version
/// 2015-02-21 and later). The account's name is the key's id.
fn check(asked: &Asked, keys: &Keys) -> Result<(), String> {
    let headers = &asked.parts.headers;
    let header = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
    let given = header("authorization").ok_or("the request is not signed")?;
    let given = given.strip_prefix(&format!("SharedKey {}:", keys.id));
    let given = given.ok_or("the account is not known")?;
    let given = STANDARD.decode(given).map_err(|e| e.to_string())?;
    let mut text = format!("{}\n", asked.parts.method);
    for name in [
        "content-encoding",
        "content-language",
        "content-length",
        "content-md5",
        "content-type",
        "date",
        "if-modified-since",
        "if-match",
        "if-none-match",
        "if-unmodified-since",
        "range",
    ] {
        let value = header(name).filter(|value| (name, *value) != ("content-length", "0"));
        text += &format!("{}\n", value.unwrap_or_default());
    }
    let mut own: Vec<&str> = headers.keys().map(|name| name.as_str()).collect();
    own.retain(|name| name.starts_with("x-ms-"));
    own.sort_unstable();
    for name in own {
        text += &format!("{name}:{}\n", header(name).unwrap_or_default().trim());
    }
    text += &format!("/{}{}", keys.id, asked.parts.uri.path());
    let mut query = pairs(asked.parts.uri.query().unwrap_or_default());
    query.sort();
    for (name, value) in query {
        text += &format!("\n{}:{value}", name.to_lowercase());
    }
    let key = hmac::Key::new(hmac::HMAC_SHA256, keys.secret.as_bytes());
    let wrong = |_| "the signature is not that of the key".to_string();
    hmac::verify(&key, text.as_bytes(), &given).map_err(wrong)
}
