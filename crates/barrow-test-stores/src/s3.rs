//! The object store.

use hyper::{Method, Response};
use percent_encoding::percent_decode_str;

use crate::answer::{Asked, Body, Shared, respond};
use crate::faults::Fault;
use crate::objects::{Object, Parts, tag};
use crate::signature::{Signed, pairs};
use crate::web::read;
use crate::xml::{document, element, plain, texts};

/// At most so many keys are listed at once.
const MOST_KEYS: usize = 1000;

/// A request, taken apart.
struct Request<'r> {
    shared: &'r Shared,
    asked: &'r Asked,
    bucket: String,
    key: String,
    query: Vec<(String, String)>,
}

/// Answers a request.
pub fn answer(shared: &Shared, asked: &Asked) -> Response<Body> {
    let uri = &asked.parts.uri;
    if let Some(keys) = &shared.keys {
        let signed = Signed {
            method: asked.parts.method.as_str(),
            path: uri.path(),
            query: uri.query().unwrap_or_default(),
            headers: &asked.parts.headers,
        };
        if let Err((code, says)) = signed.check(keys) {
            let mut response = error(
                if code.starts_with("Auth") { 400 } else { 403 },
                code,
                &says,
            );
            if let Ok(region) = keys.region.parse() {
                response.headers_mut().insert("x-amz-bucket-region", region);
            }
            return response;
        }
    }
    let decode = |text: &str| percent_decode_str(text).decode_utf8_lossy().into_owned();
    let path = uri.path().trim_start_matches('/');
    let (bucket, key) = path.split_once('/').unwrap_or((path, ""));
    let request = Request {
        shared,
        asked,
        bucket: decode(bucket),
        key: decode(key),
        query: pairs(uri.query().unwrap_or_default()),
    };
    if !shared.objects().buckets.contains_key(&request.bucket) {
        return error(404, "NoSuchBucket", "there is no such bucket");
    }
    request.answer()
}

fn error(status: u16, code: &str, says: &str) -> Response<Body> {
    let inner = element("Code", code) + &element("Message", says);
    let text = format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Error>{inner}</Error>");
    respond(status, text)
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
        let is_upload = self.asks("uploadId").is_some();
        match (&self.asked.parts.method, self.key.is_empty()) {
            (&Method::GET, true) => self.list(),
            (&Method::POST, true) if self.asks("delete").is_some() => self.delete_many(),
            (&Method::GET | &Method::HEAD, false) => self.read(),
            (&Method::PUT, false) if is_upload => self.put_part(),
            (&Method::PUT, false) => self.put(),
            (&Method::POST, false) if self.asks("uploads").is_some() => self.begin_upload(),
            (&Method::POST, false) if is_upload => self.complete_upload(),
            (&Method::DELETE, false) if is_upload => {
                let id = self.asks("uploadId").unwrap_or_default();
                self.shared.objects().uploads.remove(id);
                respond(204, "")
            }
            (&Method::DELETE, false) => {
                let mut objects = self.shared.objects();
                if let Some(bucket) = objects.buckets.get_mut(&self.bucket) {
                    bucket.remove(&self.key);
                }
                respond(204, "")
            }
            _ => error(405, "MethodNotAllowed", "this is not done here"),
        }
    }

    fn read(&self) -> Response<Body> {
        read(
            self.shared,
            self.asked,
            &self.bucket,
            &self.key,
            |status| match status {
                404 => error(404, "NoSuchKey", "there is no such object"),
                503 => error(503, "SlowDown", "ask less often"),
                other => error(other, "InternalError", "try again"),
            },
        )
    }

    fn store(&self, object: Object) -> String {
        let etag = object.etag.clone();
        let mut objects = self.shared.objects();
        if let Some(bucket) = objects.buckets.get_mut(&self.bucket) {
            bucket.insert(self.key.clone(), object);
        }
        etag
    }

    fn put(&self) -> Response<Body> {
        if let Some(from) = self.header("x-amz-copy-source") {
            return self.copy(from);
        }
        let is_there = {
            let objects = self.shared.objects();
            let bucket = objects.buckets.get(&self.bucket);
            bucket.is_some_and(|bucket| bucket.contains_key(&self.key))
        };
        if self.header("if-none-match") == Some("*") && is_there {
            return error(412, "PreconditionFailed", "the object is there");
        }
        let etag = self.store(Object::new(self.asked.body.clone()));
        tagged(respond(200, ""), &etag)
    }

    fn copy(&self, from: &str) -> Response<Body> {
        let from = percent_decode_str(from).decode_utf8_lossy().into_owned();
        let from = from.trim_start_matches('/');
        let found = from.split_once('/').and_then(|(bucket, key)| {
            let objects = self.shared.objects();
            objects.buckets.get(bucket)?.get(key).cloned()
        });
        let Some(found) = found else {
            return error(404, "NoSuchKey", "there is no such object");
        };
        let etag = self.store(Object::new(found.bytes));
        respond(200, document("CopyObjectResult", &element("ETag", &etag)))
    }

    fn begin_upload(&self) -> Response<Body> {
        let id = format!("{:016x}", fastrand::u64(..));
        let parts = Parts {
            bucket: self.bucket.clone(),
            key: self.key.clone(),
            ..Parts::default()
        };
        self.shared.objects().uploads.insert(id.clone(), parts);
        let inner = element("Bucket", &self.bucket)
            + &element("Key", &self.key)
            + &element("UploadId", &id);
        respond(200, document("InitiateMultipartUploadResult", &inner))
    }

    fn put_part(&self) -> Response<Body> {
        if let Some(Fault::Status(status)) = self.shared.faults().draw() {
            return error(status, "InternalError", "try again");
        }
        let id = self.asks("uploadId").unwrap_or_default();
        let number = self
            .asks("partNumber")
            .and_then(|number| number.parse().ok());
        let mut objects = self.shared.objects();
        let (Some(upload), Some(number)) = (objects.uploads.get_mut(id), number) else {
            return error(404, "NoSuchUpload", "there is no such upload");
        };
        let part = Object::new(self.asked.body.clone());
        let etag = part.etag.clone();
        upload.parts.insert(number, part);
        tagged(respond(200, ""), &etag)
    }

    fn complete_upload(&self) -> Response<Body> {
        let id = self.asks("uploadId").unwrap_or_default();
        let text = String::from_utf8_lossy(&self.asked.body).into_owned();
        let numbers = texts(&text, "PartNumber").into_iter();
        let numbers: Vec<u32> = numbers
            .filter_map(|number| number.trim().parse().ok())
            .collect();
        let tags: Vec<String> = texts(&text, "ETag").into_iter().map(plain).collect();
        let mut objects = self.shared.objects();
        let Some(upload) = objects.uploads.get(id) else {
            return error(404, "NoSuchUpload", "there is no such upload");
        };
        let mut whole = Vec::new();
        let is_right = numbers.iter().zip(&tags).all(|(number, tag)| {
            let part = upload
                .parts
                .get(number)
                .filter(|part| part.etag.trim_matches('"') == tag.trim_matches('"'));
            part.map(|part| whole.extend_from_slice(&part.bytes))
                .is_some()
        });
        if !is_right || numbers.is_empty() || !numbers.is_sorted() {
            return error(400, "InvalidPart", "a part is not what was sent");
        }
        let is_here = (&upload.bucket, &upload.key) == (&self.bucket, &self.key);
        if !is_here {
            return error(404, "NoSuchUpload", "the upload is of another object");
        }
        objects.uploads.remove(id);
        drop(objects);
        let etag = tag(&whole, &format!("-{}", numbers.len()));
        let object = Object {
            etag,
            ..Object::new(whole)
        };
        let etag = self.store(object);
        let inner =
            element("Bucket", &self.bucket) + &element("Key", &self.key) + &element("ETag", &etag);
        respond(200, document("CompleteMultipartUploadResult", &inner))
    }

    fn delete_many(&self) -> Response<Body> {
        let text = String::from_utf8_lossy(&self.asked.body).into_owned();
        let mut objects = self.shared.objects();
        let mut inner = String::new();
        for key in texts(&text, "Key").into_iter().map(plain) {
            if let Some(bucket) = objects.buckets.get_mut(&self.bucket) {
                bucket.remove(&key);
            }
            inner += &format!("<Deleted>{}</Deleted>", element("Key", &key));
        }
        respond(200, document("DeleteResult", &inner))
    }

    /// ListObjectsV2.
    fn list(&self) -> Response<Body> {
        let prefix = self.asks("prefix").unwrap_or_default();
        let delimiter = self
            .asks("delimiter")
            .filter(|delimiter| !delimiter.is_empty());
        let most = self.asks("max-keys").and_then(|most| most.parse().ok());
        let most = MOST_KEYS.min(most.unwrap_or(MOST_KEYS));
        let after = self.asks("continuation-token").or(self.asks("start-after"));
        let after = after.unwrap_or_default();
        let objects = self.shared.objects();
        let Some(bucket) = objects.buckets.get(&self.bucket) else {
            return error(404, "NoSuchBucket", "there is no such bucket");
        };
        let mut inner = element("Name", &self.bucket) + &element("Prefix", prefix);
        let mut folders: Vec<&str> = Vec::new();
        let (mut count, mut last, mut is_cut) = (0, "", false);
        for (key, object) in bucket.range(prefix.to_string()..) {
            if !key.starts_with(prefix) {
                break;
            }
            if key.as_str() <= after {
                continue;
            }
            let folder = delimiter.and_then(|delimiter| {
                let at = key[prefix.len()..].find(delimiter)?;
                Some(&key[..prefix.len() + at + delimiter.len()])
            });
            if folder.is_some_and(|folder| folders.last() == Some(&folder)) {
                continue;
            }
            if count == most {
                is_cut = true;
                break;
            }
            count += 1;
            last = key;
            match folder {
                Some(folder) => folders.push(folder),
                None => {
                    inner += &format!(
                        "<Contents>{}{}{}{}</Contents>",
                        element("Key", key),
                        element(
                            "LastModified",
                            &object
                                .modified
                                .strftime("%Y-%m-%dT%H:%M:%S.000Z")
                                .to_string()
                        ),
                        element("ETag", &object.etag),
                        element("Size", &object.bytes.len().to_string()),
                    );
                }
            }
        }
        for folder in folders {
            inner += &format!(
                "<CommonPrefixes>{}</CommonPrefixes>",
                element("Prefix", folder)
            );
        }
        inner += &element("KeyCount", &count.to_string());
        inner += &element("MaxKeys", &most.to_string());
        inner += &element("IsTruncated", if is_cut { "true" } else { "false" });
        if is_cut {
            inner += &element("NextContinuationToken", last);
        }
        respond(200, document("ListBucketResult", &inner))
    }
}

fn tagged(mut response: Response<Body>, etag: &str) -> Response<Body> {
    if let Ok(etag) = etag.parse() {
        response.headers_mut().insert("etag", etag);
    }
    response
}
