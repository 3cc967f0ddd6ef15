//! TLS with a given certificate.

use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Most bytes of a certificate chain or key.
const MOST_BYTES: u64 = 1 << 20;

/// Why a certificate cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TlsError {
    /// A file cannot be read as PEM.
    #[error("{path} has no {what} in PEM format: {reason}")]
    Pem {
        /// The file.
        path: PathBuf,
        /// What it should hold.
        what: &'static str,
        /// What is wrong.
        reason: String,
    },
    /// Certificate and key do not go together.
    #[error("certificate {certificate} and key {key} cannot be used: {reason}")]
    Pair {
        /// The certificate's file.
        certificate: PathBuf,
        /// The key's file.
        key: PathBuf,
        /// Why.
        reason: String,
    },
}

/// How connections are encrypted.
pub(crate) struct Tls {
    /// What is offered to callers.
    pub config: Arc<ServerConfig>,
    /// The service's own certificate.
    pub certificate: CertificateDer<'static>,
}

impl Tls {
    /// Reads a certificate chain and its private key.
    pub fn read(certificate: &Path, key: &Path) -> Result<Tls, TlsError> {
        let pem = |path: &Path, what, reason: String| TlsError::Pem {
            path: path.to_owned(),
            what,
            reason,
        };
        let bytes = |path: &Path, what| {
            vastrelay_files::read_linked(path, MOST_BYTES).map_err(|error| pem(path, what, error.to_string()))
        };
        let read = |error: rustls::pki_types::pem::Error| pem(certificate, "certificate", error.to_string());
        let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(&bytes(certificate, "certificate")?)
            .collect::<Result<_, _>>()
            .map_err(read)?;
        let Some(own) = chain.first().cloned() else {
            return Err(pem(certificate, "certificate", "the file contains none".into()));
        };
        let private = PrivateKeyDer::from_pem_slice(&bytes(key, "private key")?)
            .map_err(|e| pem(key, "private key", e.to_string()))?;
        let pair = |reason: String| TlsError::Pair {
            certificate: certificate.to_owned(),
            key: key.to_owned(),
            reason,
        };
        let config = ServerConfig::builder_with_provider(rustls::crypto::ring::default_provider().into())
            .with_safe_default_protocol_versions()
            .map_err(|e| pair(e.to_string()))?
            .with_no_client_auth()
            .with_single_cert(chain, private)
            .map_err(|e| pair(e.to_string()))?;
        Ok(Tls {
            config: config.into(),
            certificate: own,
        })
    }
}
