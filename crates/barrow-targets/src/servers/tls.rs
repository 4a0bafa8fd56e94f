//! Encrypted connections: which certificates are trusted.

use std::fs;
use std::sync::Arc;

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme,
};

use barrow_core::escape::escape_for_display;

use crate::error::Error;

/// What is asked of a server's certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trust {
    /// Nothing: the line is encrypted, and whoever answers is believed.
    Anyone,
    /// An authority that is trusted has signed it.
    Signed,
    /// The same, and it is for the host that was asked for.
    SignedForHost,
}

/// The configuration for a level of trust. `roots` is a file of certificates in PEM
/// form, instead of those that the machine trusts.
///
/// # Errors
/// The certificates cannot be read.
pub fn config(trust: Trust, roots: Option<&str>) -> Result<ClientConfig, Error> {
    let provider = Arc::new(ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| Error::new(format!("preparing an encrypted connection: {e}")))?;
    let verifier: Arc<dyn ServerCertVerifier> = match trust {
        Trust::Anyone => Arc::new(Lenient {
            provider,
            inner: None,
        }),
        Trust::Signed | Trust::SignedForHost => {
            let inner = WebPkiServerVerifier::builder_with_provider(
                Arc::new(trusted(roots)?),
                provider.clone(),
            )
            .build()
            .map_err(|e| Error::new(format!("there are no certificates to trust: {e}")))?;
            match trust {
                Trust::SignedForHost => inner,
                _ => Arc::new(Lenient {
                    provider,
                    inner: Some(inner),
                }),
            }
        }
    };
    Ok(builder
        .dangerous()
        .with_custom_certificate_verifier(verifier)
        .with_no_client_auth())
}

fn trusted(roots: Option<&str>) -> Result<RootCertStore, Error> {
    let mut store = RootCertStore::empty();
    let Some(path) = roots else {
        store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        return Ok(store);
    };
    let failed = |what: String| {
        Error::spec(format!(
            "the certificates in {}: {what}",
            escape_for_display(path.as_bytes())
        ))
    };
    let bytes = fs::read(path).map_err(|e| failed(e.to_string()))?;
    for certificate in CertificateDer::pem_slice_iter(&bytes) {
        let certificate = certificate.map_err(|e| failed(e.to_string()))?;
        store.add(certificate).map_err(|e| failed(e.to_string()))?;
    }
    Ok(store)
}

/// Asks less of a certificate than usual, as the address of the server wants it.
#[derive(Debug)]
struct Lenient {
    provider: Arc<CryptoProvider>,
    /// What checks the signature; none where anyone is believed.
    inner: Option<Arc<WebPkiServerVerifier>>,
}

impl ServerCertVerifier for Lenient {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let Some(inner) = &self.inner else {
            return Ok(ServerCertVerified::assertion());
        };
        let found =
            inner.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now);
        match found {
            // The name is looked at last, once the signature has held.
            Err(rustls::Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            other => other,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, cert, dss, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, cert, dss, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}
