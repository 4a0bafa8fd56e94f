//! What went wrong elsewhere, in plain words. No address with a signature and no key is ever
//! part of it.

use std::error::Error as StdError;
use std::io;

use barrow_core::escape::escape_for_display;

/// Why a request to a store or web server failed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// There is no such object.
    #[error("it is not there")]
    Missing,
    /// The object is not the one that it was.
    #[error("it changed while it was read")]
    Changed,
    /// The service refused the request.
    #[error("{0}")]
    Refused(Refused),
    /// No answer came, however often it was asked.
    #[error("{0}")]
    Unreachable(String),
    /// Anything else.
    #[error("{0}")]
    Other(String),
}

/// A refusal by the service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    /// The status of the response (RFC 9110, section 15).
    pub status: u16,
    /// The service's own code, if it says one: `AccessDenied`.
    pub code: Option<String>,
    /// What the service says.
    pub message: Option<String>,
    /// The region that the service names.
    pub region: Option<String>,
}

impl std::fmt::Display for Refused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.status {
            401 | 403 => write!(f, "access is denied ({}", self.status)?,
            429 | 503 => write!(f, "the service is too busy ({}", self.status)?,
            500..=599 => write!(f, "the service failed ({}", self.status)?,
            _ => write!(f, "the service refused the request ({}", self.status)?,
        }
        if let Some(code) = &self.code {
            write!(f, " {code}")?;
        }
        write!(f, ")")?;
        if let Some(message) = &self.message {
            write!(f, ": {message}")?;
        }
        if let Some(region) = &self.region {
            write!(f, "; the bucket is in the region {region}")?;
        }
        Ok(())
    }
}

impl StdError for Refused {}

impl Refused {
    /// From a response: its status, the region that its header names, and its body, an error
    /// document in XML (S3, Google, Azure) or any text.
    pub fn new(status: u16, region: Option<&str>, body: &[u8]) -> Refused {
        let text = String::from_utf8_lossy(body);
        let field = |name: &str| {
            let (_, rest) = text.split_once(&format!("<{name}>"))?;
            let (value, _) = rest.split_once(&format!("</{name}>"))?;
            let value: String = value.trim().chars().take(LONGEST).collect();
            (!value.is_empty()).then(|| escape_for_display(value.as_bytes()))
        };
        Refused {
            status,
            code: field("Code"),
            message: field("Message"),
            region: region
                .map(|region| escape_for_display(region.as_bytes()))
                .or_else(|| field("Region")),
        }
    }
}

/// So much of a service's message is shown.
const LONGEST: usize = 200;

impl Fault {
    /// From what the store's client says.
    pub fn of_store(error: &object_store::Error) -> Fault {
        match error {
            object_store::Error::NotFound { .. } => Fault::Missing,
            object_store::Error::Precondition { .. } | object_store::Error::NotModified { .. } => {
                Fault::Changed
            }
            object_store::Error::InvalidPath { source } => Fault::Other(format!(
                "a key there cannot be named here: {}",
                escape_for_display(source.to_string().as_bytes())
            )),
            other => Fault::of_chain(other),
        }
    }

    /// From the first of an error's causes that is known.
    pub fn of_chain(error: &(dyn StdError + 'static)) -> Fault {
        let mut cause = Some(error);
        let mut last = error;
        while let Some(one) = cause {
            if let Some(fault) = one.downcast_ref::<Fault>() {
                return fault.clone();
            }
            if let Some(refused) = one.downcast_ref::<Refused>() {
                return Fault::Refused(refused.clone());
            }
            last = one;
            cause = one.source();
        }
        let text: String = last.to_string().chars().take(LONGEST).collect();
        Fault::Other(escape_for_display(text.as_bytes()))
    }

    /// As an error of reading.
    pub fn into_io(self) -> io::Error {
        let kind = match &self {
            Fault::Missing => io::ErrorKind::NotFound,
            Fault::Refused(refused) if matches!(refused.status, 401 | 403) => {
                io::ErrorKind::PermissionDenied
            }
            _ => io::ErrorKind::Other,
        };
        io::Error::new(kind, self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refusal_says_what_the_service_said() {
        let body = b"<?xml version=\"1.0\"?><Error><Code>AuthorizationHeaderMalformed</Code>\
            <Message>wrong\nregion</Message><Region>eu-west-1</Region></Error>";
        let refused = Refused::new(400, None, body);
        assert_eq!(
            refused.to_string(),
            "the service refused the request (400 AuthorizationHeaderMalformed): wrong\\nregion; \
             the bucket is in the region eu-west-1"
        );
        assert_eq!(
            Refused::new(403, None, b"").to_string(),
            "access is denied (403)"
        );
    }
}
