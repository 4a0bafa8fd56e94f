//! The web: files with ranges, tags and conditions (RFC 9110), and servers of other habits.

use std::io::Write;
use std::ops::Range;

use bytes::Bytes;
use hyper::header::HeaderMap;
use hyper::{Method, Response};
use jiff::Timestamp;
use percent_encoding::percent_decode_str;

use crate::answer::{Asked, Body, Shared, body, respond};
use crate::faults::Fault;
use crate::objects::Object;

/// Whether a request is for a file of the web: unsigned, for a path that is one, is to be
/// redirected, or begins with no bucket.
pub fn is_of_the_web(shared: &Shared, asked: &Asked) -> bool {
    let path = path(asked);
    let bucket = path.split('/').nth(1).unwrap_or_default();
    let is_signed = asked.parts.headers.contains_key("authorization")
        || asked
            .parts
            .uri
            .query()
            .is_some_and(|query| query.contains("X-Amz-Credential"));
    !is_signed
        && (path.starts_with("/endless/")
            || path.starts_with("/moved/")
            || shared.objects().files.contains_key(&path)
            || !shared.objects().buckets.contains_key(bucket))
}

fn path(asked: &Asked) -> String {
    let path = percent_decode_str(asked.parts.uri.path());
    path.decode_utf8_lossy().into_owned()
}

/// Answers a request.
pub fn answer(shared: &Shared, asked: &Asked) -> Response<Body> {
    let path = path(asked);
    if path.starts_with("/endless/") {
        return redirect(asked.parts.uri.path());
    }
    if let Some(to) = path.strip_prefix("/moved") {
        return redirect(to);
    }
    let fault = match asked.parts.method == Method::GET {
        true => shared.faults().draw(),
        false => None,
    };
    if fault == Some(Fault::Change)
        && let Some(file) = shared.objects().files.get_mut(&path)
    {
        *file = changed(file);
    }
    let Some(file) = shared.objects().files.get(&path).cloned() else {
        return respond(404, "");
    };
    if let Some(Fault::Status(status)) = fault {
        return respond(status, "");
    }
    let mut file = file;
    let has_ranges = !path.starts_with("/plain/") && !path.starts_with("/gzip/");
    let is_encoded = path.starts_with("/gzip/");
    if is_encoded {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), Default::default());
        let _ = encoder.write_all(&file.bytes);
        file.bytes = encoder.finish().unwrap_or_default().into();
    }
    let mut response = send(&file, &asked.parts.headers, has_ranges, fault.as_ref());
    if is_encoded {
        let encoding = hyper::header::HeaderValue::from_static("gzip");
        response.headers_mut().insert("content-encoding", encoding);
    }
    if asked.parts.method == Method::HEAD {
        *response.body_mut() = body(Bytes::new(), None);
    }
    response
}

fn redirect(to: &str) -> Response<Body> {
    let mut response = respond(302, "");
    if let Ok(to) = to.parse() {
        response.headers_mut().insert("location", to);
    }
    response
}

/// The same file with another content, of the same size.
fn changed(object: &Object) -> Object {
    let mut bytes = object.bytes.to_vec();
    if let Some(last) = bytes.last_mut() {
        *last = last.wrapping_add(1);
    }
    Object::new(bytes)
}

/// Reads an object of a store, whose protocol says how an `error` is told by its status.
pub fn read(
    shared: &Shared,
    asked: &Asked,
    bucket: &str,
    key: &str,
    error: impl Fn(u16) -> Response<Body>,
) -> Response<Body> {
    let is_get = asked.parts.method == Method::GET;
    let fault = match is_get {
        true => shared.faults().draw(),
        false => None,
    };
    let mut objects = shared.objects();
    let bucket = objects.buckets.get_mut(bucket);
    let Some(object) = bucket.and_then(|bucket| bucket.get_mut(key)) else {
        return error(404);
    };
    match fault {
        Some(Fault::Status(status)) => return error(status),
        Some(Fault::Change) => *object = changed(object),
        _ => {}
    }
    let object = object.clone();
    drop(objects);
    let mut response = send(&object, &asked.parts.headers, true, fault.as_ref());
    if !is_get {
        *response.body_mut() = body(Bytes::new(), None);
    }
    response
}

/// Sends a content, or the part of it that is asked for, if the conditions hold.
fn send(
    object: &Object,
    headers: &HeaderMap,
    has_ranges: bool,
    fault: Option<&Fault>,
) -> Response<Body> {
    if let Some(status) = condition(object, headers) {
        return respond(status, "");
    }
    let size = object.bytes.len() as u64;
    let asked = headers.get("range").and_then(|range| range.to_str().ok());
    let range = match asked
        .filter(|_| has_ranges)
        .map(|text| range_of(text, size))
    {
        Some(Some(range)) => Some(range),
        Some(None) => {
            let mut response = respond(416, "");
            header(&mut response, "content-range", &format!("bytes */{size}"));
            return response;
        }
        None => None,
    };
    let whole = 0..size;
    let sent = range.clone().unwrap_or(whole);
    let content = object.bytes.slice(sent.start as usize..sent.end as usize);
    let mut response = Response::new(body(content, fault));
    if let Some(range) = &range {
        *response.status_mut() = hyper::StatusCode::PARTIAL_CONTENT;
        let text = format!("bytes {}-{}/{size}", range.start, range.end - 1);
        header(&mut response, "content-range", &text);
    }
    header(
        &mut response,
        "content-length",
        &(sent.end - sent.start).to_string(),
    );
    header(&mut response, "etag", &object.etag);
    header(&mut response, "last-modified", &http_date(object.modified));
    if has_ranges {
        header(&mut response, "accept-ranges", "bytes");
    }
    response
}

fn header(response: &mut Response<Body>, name: &'static str, value: &str) {
    if let Ok(value) = value.parse() {
        response.headers_mut().insert(name, value);
    }
}

/// A moment as headers have it (RFC 9110, section 5.6.7).
pub fn http_date(moment: Timestamp) -> String {
    moment.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string()
}

/// The status where a condition does not hold (RFC 9110, section 13.2.2).
fn condition(object: &Object, headers: &HeaderMap) -> Option<u16> {
    let text = |name: &str| Some(headers.get(name)?.to_str().ok()?.to_string());
    let names_it = |tags: &str| {
        let mut tags = tags.split(',').map(|tag| tag.trim().trim_matches('"'));
        tags.any(|tag| tag == "*" || tag == object.etag.trim_matches('"'))
    };
    if let Some(tags) = text("if-match") {
        if !names_it(&tags) {
            return Some(412);
        }
    } else if text("if-unmodified-since")
        .is_some_and(|then| !then.eq_ignore_ascii_case(&http_date(object.modified)))
    {
        return Some(412);
    }
    text("if-none-match")
        .filter(|tags| names_it(tags))
        .map(|_| 304)
}

/// The bytes that a range means (RFC 9110, section 14.1.2); none where there are none.
fn range_of(text: &str, size: u64) -> Option<Range<u64>> {
    let (first, last) = text.strip_prefix("bytes=")?.split_once('-')?;
    let range = match (first.parse::<u64>(), last.parse::<u64>()) {
        (Ok(first), Ok(last)) => first..size.min(last + 1),
        (Ok(first), Err(_)) => first..size,
        (Err(_), Ok(last)) => size.saturating_sub(last)..size,
        (Err(_), Err(_)) => return None,
    };
    (range.start < range.end).then_some(range)
}
