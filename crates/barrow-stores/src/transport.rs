//! Every request goes this way: tried again while the service is busy or out of reach, with
//! growing waits, and told in plain words where it is given up.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use async_trait::async_trait;
use futures_util::StreamExt;
use http_body_util::BodyExt;
use object_store::ClientOptions;
use object_store::client::{
    HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse,
    HttpResponseBody, HttpService,
};

use crate::fault::{Fault, Refused};
use crate::patience::{Patience, Tries};

/// A service that has never answered is given up after so long: its name is wrong, or it is
/// not running.
const FIRST_CONTACT: Duration = Duration::from_secs(5);

/// Whether a host is a service of the machine itself, which says who it is: an address that
/// only this machine has (RFC 3927), or a name that the cloud gives it. Where there is none,
/// nothing answers, and nobody is to wait.
fn is_of_the_machine(host: &str) -> bool {
    let host = host.trim_start_matches('[');
    host.starts_with("169.254.")
        || host.starts_with("fd00:ec2:")
        || matches!(host, "metadata.google.internal" | "metadata")
}

/// How long the machine's own services are waited for.
const OF_THE_MACHINE_WAIT: Duration = Duration::from_secs(2);

/// So much of a refusal is read.
const MOST_OF_A_REFUSAL: usize = 16 * 1024;

/// The client for the web, with the certificates that the system trusts (`SSL_CERT_FILE`,
/// `SSL_CERT_DIR`) and the proxies of the usual variables.
///
/// # Errors
/// Certificates or proxies that cannot be read, in plain words.
pub fn client(patience: Patience, redirects: usize) -> Result<reqwest::Client, String> {
    let mut roots = rustls::RootCertStore::empty();
    for certificate in rustls_native_certs::load_native_certs().certs {
        // One that cannot be read is left out: others may do.
        let _ = roots.add(certificate);
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let tls = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .with_root_certificates(roots)
        .with_no_client_auth();
    let redirects = match redirects {
        0 => reqwest::redirect::Policy::none(),
        most => reqwest::redirect::Policy::limited(most),
    };
    reqwest::Client::builder()
        .tls_backend_preconfigured(tls)
        .user_agent(concat!("barrow/", env!("CARGO_PKG_VERSION")))
        .connect_timeout(patience.stall.min(Duration::from_secs(10)))
        // Ours is sooner, and says what it waited for.
        .read_timeout(patience.stall * 2)
        .redirect(redirects)
        .http1_only()
        .build()
        .map_err(|error| error.without_url().to_string())
}

/// Makes clients for a store.
#[derive(Debug)]
pub struct Connector {
    /// How long requests are tried again.
    pub patience: Patience,
    /// Whether requests may go without encryption.
    pub allow_http: bool,
}

impl HttpConnector for Connector {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        let client = client(self.patience, 0).map_err(|why| object_store::Error::Generic {
            store: "HTTP",
            source: Box::new(Fault::Other(why)),
        })?;
        Ok(HttpClient::new(Transport {
            client,
            patience: self.patience,
            allow_http: self.allow_http,
            has_answered: AtomicBool::new(false),
        }))
    }
}

#[derive(Debug)]
struct Transport {
    client: reqwest::Client,
    patience: Patience,
    allow_http: bool,
    has_answered: AtomicBool,
}

#[async_trait]
impl HttpService for Transport {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let host = request.uri().host().unwrap_or_default().to_string();
        let is_of_the_machine = is_of_the_machine(&host);
        let is_plain = request.uri().scheme_str() == Some("http");
        if is_plain && !self.allow_http && !is_of_the_machine {
            return Err(given_up(Fault::Other(format!(
                "{host} is asked without encryption; if that may be, say allow_http = true under \
                 [stores.NAME]"
            ))));
        }
        let mut tries = Tries::new();
        loop {
            let fault = match self.once(&request, is_of_the_machine).await {
                Ok(response) => return Ok(response),
                Err((_, false)) if is_of_the_machine => return Err(given_up(no_key())),
                Err((fault, false)) => return Err(given_up(fault)),
                Err((fault, true)) => fault,
            };
            let most = match self.has_answered.load(Ordering::Relaxed) {
                true => self.patience.give_up_after,
                false => self.patience.give_up_after.min(FIRST_CONTACT),
            };
            if is_of_the_machine {
                return Err(given_up(no_key()));
            }
            if !tries.again(most).await {
                return Err(given_up(fault));
            }
        }
    }
}

impl Transport {
    /// One try. An error says whether another may do better.
    async fn once(
        &self,
        request: &HttpRequest,
        is_of_the_machine: bool,
    ) -> Result<HttpResponse, (Fault, bool)> {
        let wait = match is_of_the_machine {
            true => OF_THE_MACHINE_WAIT,
            false => self.patience.stall,
        };
        let answer = tokio::time::timeout(wait, self.answer(request.clone())).await;
        let response = match answer {
            Err(_) => return Err((stalled(request, wait), true)),
            Ok(Err(error)) => return Err(unreachable(request, error)),
            Ok(Ok(response)) => response,
        };
        self.has_answered.store(true, Ordering::Relaxed);
        let status = response.status().as_u16();
        match status {
            200..=299 | 304 | 404 | 409 | 412 | 416 => Ok(response),
            _ => {
                let refused = refusal(response).await;
                Err((Fault::Refused(refused), is_passing(status)))
            }
        }
    }

    /// The request by the client for the web, and its answer as the store takes it.
    async fn answer(&self, request: HttpRequest) -> Result<HttpResponse, reqwest::Error> {
        let request = request.map(|body| match body.as_bytes() {
            Some(bytes) => bytes.clone().into(),
            None => reqwest::Body::wrap(body),
        });
        let response = self.client.execute(request.try_into()?).await?;
        let response: http::Response<reqwest::Body> = response.into();
        Ok(response.map(|body| HttpResponseBody::new(body.map_err(broken_off))))
    }
}

fn broken_off(error: reqwest::Error) -> HttpError {
    HttpError::new(HttpErrorKind::Interrupted, error.without_url())
}

/// Whether a status may be another the next time.
pub fn is_passing(status: u16) -> bool {
    matches!(status, 408 | 429 | 500 | 502 | 503 | 504)
}

async fn refusal(response: HttpResponse) -> Refused {
    let status = response.status().as_u16();
    let region = response.headers().get("x-amz-bucket-region").cloned();
    let mut body = Vec::new();
    let mut pieces = response.into_body().bytes_stream();
    while let Some(Ok(piece)) = pieces.next().await {
        body.extend_from_slice(&piece);
        if body.len() > MOST_OF_A_REFUSAL {
            break;
        }
    }
    Refused::new(status, region.as_ref().and_then(|r| r.to_str().ok()), &body)
}

fn stalled(request: &HttpRequest, wait: Duration) -> Fault {
    let host = request.uri().host().unwrap_or_default();
    Fault::Unreachable(format!("{host} did not answer within {} s", seconds(wait)))
}

/// Why there was no response, and whether there may be one the next time.
fn unreachable(request: &HttpRequest, error: reqwest::Error) -> (Fault, bool) {
    let host = request.uri().host().unwrap_or_default();
    let why = innermost(error);
    let is_certificate = why.contains("certificate");
    let fault = match is_certificate {
        true => Fault::Other(format!("{host} cannot be trusted: {why}")),
        false => Fault::Unreachable(format!("{host} cannot be reached: {why}")),
    };
    (fault, !is_certificate)
}

/// The innermost cause of an error, which says most. Never the address: what is asked for may
/// have a key in it.
pub fn innermost(error: reqwest::Error) -> String {
    let error = error.without_url();
    let mut last: &dyn std::error::Error = &error;
    while let Some(cause) = last.source() {
        last = cause;
    }
    last.to_string()
}

/// Seconds for people: without a fraction where there is none.
pub fn seconds(time: Duration) -> String {
    let seconds = (time.as_secs_f64() * 10.0).round() / 10.0;
    seconds.to_string()
}

/// The machine itself was asked who it is, and does not say.
fn no_key() -> Fault {
    Fault::Other(
        "there is no key for it: set the cloud's usual variables (AWS_ACCESS_KEY_ID and \
         AWS_SECRET_ACCESS_KEY, AZURE_STORAGE_ACCOUNT_KEY, GOOGLE_APPLICATION_CREDENTIALS), or \
         say it under [stores.NAME]; where no key is needed, anonymous = true"
            .into(),
    )
}

fn given_up(fault: Fault) -> HttpError {
    HttpError::new(HttpErrorKind::Unknown, fault)
}

#[cfg(test)]
mod tests {
    use reqwest::ResponseBuilderExt;

    use super::*;

    #[test]
    fn the_machines_own_services_are_known() {
        for (host, expected) in [
            ("169.254.169.254", true),
            ("169.254.170.23", true),
            ("[fd00:ec2::254]", true),
            ("metadata.google.internal", true),
            ("s3.eu-west-1.amazonaws.com", false),
            ("10.0.0.1", false),
        ] {
            assert_eq!(is_of_the_machine(host), expected, "{host}");
        }
    }

    #[test]
    fn an_error_of_the_client_does_not_tell_the_address() {
        let error = || {
            let address = "https://market.example/s.csv?sig=hushhush".parse().unwrap();
            let response = http::Response::builder().status(500).url(address);
            let response = reqwest::Response::from(response.body("").unwrap());
            response.error_for_status().unwrap_err()
        };
        assert!(error().to_string().contains("hushhush"));
        let broken_off = broken_off(error());
        let source = std::error::Error::source(&broken_off).unwrap();
        for told in [innermost(error()), source.to_string()] {
            assert!(told.contains("500") && !told.contains("market"), "{told}");
        }
    }

    #[test]
    fn only_what_may_pass_is_tried_again() {
        let passing = [408, 429, 500, 502, 503, 504];
        for status in 300..600 {
            assert_eq!(is_passing(status), passing.contains(&status), "{status}");
        }
    }

    #[test]
    fn seconds_have_no_digits_that_say_nothing() {
        assert_eq!(seconds(Duration::from_secs(20)), "20");
        assert_eq!(seconds(Duration::from_millis(1540)), "1.5");
    }
}
