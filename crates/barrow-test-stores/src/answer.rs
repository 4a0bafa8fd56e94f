//! What requests share, and how they are answered.

use std::io;
use std::sync::{Mutex, MutexGuard, PoisonError};

use bytes::Bytes;
use futures_util::StreamExt;
use futures_util::stream::BoxStream;
use http_body_util::StreamBody;
use hyper::Response;
use hyper::body::Frame;

use crate::faults::{Fault, Faults};
use crate::objects::Objects;
use crate::signature::Keys;

/// What all requests share.
pub(crate) struct Shared {
    pub keys: Option<Keys>,
    pub objects: Mutex<Objects>,
    pub faults: Mutex<Faults>,
    pub log: Mutex<Vec<String>>,
}

impl Shared {
    pub fn objects(&self) -> MutexGuard<'_, Objects> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn faults(&self) -> MutexGuard<'_, Faults> {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A body that may break off.
pub(crate) type Body = StreamBody<BoxStream<'static, io::Result<Frame<Bytes>>>>;

/// A request whose body has come.
pub(crate) struct Asked {
    pub parts: hyper::http::request::Parts,
    pub body: Bytes,
}

/// So much is sent at once.
const PIECE: usize = 256 * 1024;

/// A body of bytes, which breaks off or stalls where it is to.
pub(crate) fn body(bytes: Bytes, fault: Option<&Fault>) -> Body {
    let (end, ends): (usize, Option<bool>) = match fault {
        Some(Fault::Drop(at)) => (bytes.len().min(*at as usize), Some(true)),
        Some(Fault::Stall(at)) => (bytes.len().min(*at as usize), Some(false)),
        _ => (bytes.len(), None),
    };
    let pieces: Vec<_> = (0..end)
        .step_by(PIECE)
        .map(|at| Ok(Frame::data(bytes.slice(at..end.min(at + PIECE)))))
        .collect();
    let stream = futures_util::stream::iter(pieces);
    let stream: BoxStream<'static, _> = match ends {
        None => stream.boxed(),
        Some(true) => stream
            .chain(futures_util::stream::once(async {
                // What was sent is to arrive before the line is cut.
                tokio::time::sleep(std::time::Duration::from_millis(5)).await;
                Err(io::Error::other("the line is cut"))
            }))
            .boxed(),
        Some(false) => stream.chain(futures_util::stream::pending()).boxed(),
    };
    StreamBody::new(stream)
}

/// An answer with a status and a body.
pub(crate) fn respond(status: u16, content: impl Into<Bytes>) -> Response<Body> {
    let content = content.into();
    let mut response = Response::new(body(content.clone(), None));
    *response.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    response
        .headers_mut()
        .insert("content-length", content.len().into());
    response
}
