//! Takes connections, and sends each request to the store or the web.

use std::convert::Infallible;
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::TokioIo;
use tokio::net::TcpListener;
use tokio::runtime::{Builder, Runtime};

use crate::answer::{Asked, Body, Shared};
use crate::faults::Faults;
use crate::objects::{Object, Objects};
use crate::signature::Keys;
use crate::{blobs, s3, web};

/// How a server is started.
#[derive(Debug, Clone)]
pub struct Options {
    /// The address that it listens at.
    pub ip: IpAddr,
    /// The port; 0 for any that is free.
    pub port: u16,
    /// The key that requests to the store are signed with; none where all may.
    pub keys: Option<Keys>,
    /// A folder whose folders are buckets.
    pub folder: Option<PathBuf>,
    /// How it fails.
    pub faults: Faults,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            ip: IpAddr::V4(Ipv4Addr::LOCALHOST),
            port: 0,
            keys: Some(Keys::default()),
            folder: None,
            faults: Faults::default(),
        }
    }
}

/// A server; it stops when it is dropped.
pub struct Server {
    address: SocketAddr,
    shared: Arc<Shared>,
    runtime: Option<Runtime>,
}

impl Server {
    /// Starts a server.
    ///
    /// # Errors
    /// The port is not free, or the folder cannot be read.
    pub fn start(options: Options) -> io::Result<Server> {
        let mut objects = Objects::default();
        if let Some(folder) = &options.folder {
            objects.take_in(folder)?;
        }
        let shared = Arc::new(Shared {
            keys: options.keys,
            objects: Mutex::new(objects),
            faults: Mutex::new(options.faults),
            log: Mutex::default(),
        });
        let runtime = Builder::new_multi_thread().enable_all().build()?;
        let listener = runtime.block_on(TcpListener::bind((options.ip, options.port)))?;
        let address = listener.local_addr()?;
        runtime.spawn(accept(listener, shared.clone()));
        Ok(Server {
            address,
            shared,
            runtime: Some(runtime),
        })
    }

    /// Where it is: `http://127.0.0.1:4711`.
    pub fn address(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Puts an object into a bucket, which is made where it is missing.
    pub fn put(&self, bucket: &str, key: &str, bytes: impl Into<Bytes>) {
        let mut objects = self.shared.objects();
        let bucket = objects.buckets.entry(bucket.to_string()).or_default();
        bucket.insert(key.to_string(), Object::new(bytes));
    }

    /// The keys of a bucket, in order.
    pub fn keys(&self, bucket: &str) -> Vec<String> {
        let objects = self.shared.objects();
        let bucket = objects.buckets.get(bucket);
        bucket
            .map(|bucket| bucket.keys().cloned().collect())
            .unwrap_or_default()
    }

    /// The content of an object.
    pub fn get(&self, bucket: &str, key: &str) -> Option<Bytes> {
        let objects = self.shared.objects();
        Some(objects.buckets.get(bucket)?.get(key)?.bytes.clone())
    }

    /// How many uploads are neither complete nor given up.
    pub fn open_uploads(&self) -> usize {
        self.shared.objects().uploads.len()
    }

    /// Puts a file onto the web, under a path that begins with a slash. What the first part
    /// of the path is called decides how it is served: `/plain/` without ranges, `/gzip/`
    /// encoded on the way, `/endless/` by redirects to itself, `/moved/x` by one to `/x`.
    pub fn put_file(&self, path: &str, bytes: impl Into<Bytes>) {
        let mut objects = self.shared.objects();
        objects.files.insert(path.to_string(), Object::new(bytes));
    }

    /// Fails so from now on.
    pub fn fail(&self, faults: Faults) {
        *self.shared.faults() = faults;
    }

    /// The requests so far, as `GET /market/out/sales-1.psv bytes=0-99`, and forgets them.
    pub fn take_requests(&self) -> Vec<String> {
        let mut log = self
            .shared
            .log
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut log)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

async fn accept(listener: TcpListener, shared: Arc<Shared>) {
    loop {
        let Ok((stream, _)) = listener.accept().await else {
            continue;
        };
        let _ = stream.set_nodelay(true);
        let shared = shared.clone();
        tokio::spawn(async move {
            let service = service_fn(|request| answer(shared.clone(), request));
            // A connection that breaks is the client's affair, or was asked for.
            let _ = hyper::server::conn::http1::Builder::new()
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}

async fn answer(
    shared: Arc<Shared>,
    request: Request<Incoming>,
) -> Result<Response<Body>, Infallible> {
    let (parts, body) = request.into_parts();
    let body = body
        .collect()
        .await
        .map(|body| body.to_bytes())
        .unwrap_or_default();
    let range = parts.headers.get("range").and_then(|r| r.to_str().ok());
    let range = range.map_or(String::new(), |range| format!(" {range}"));
    let line = format!("{} {}{range}", parts.method, parts.uri);
    shared
        .log
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .push(line);
    let delay = shared.faults().delay;
    if !delay.is_zero() {
        tokio::time::sleep(delay).await;
    }
    let asked = Asked { parts, body };
    Ok(match web::is_of_the_web(&shared, &asked) {
        _ if blobs::is_of_blobs(&asked) => blobs::answer(&shared, &asked),
        true => web::answer(&shared, &asked),
        false => s3::answer(&shared, &asked),
    })
}
