//! Whom a load test believes to be the service.

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use std::sync::Arc;

/// Whom a load test believes to be the service.
#[derive(Clone, Debug)]
pub enum Trust {
    /// Whomever the public authorities or these vouch for.
    Authorities(Vec<CertificateDer<'static>>),
    /// The holder of this very certificate, by whatever name it is called.
    Only(CertificateDer<'static>),
}

impl Default for Trust {
    fn default() -> Trust {
        Trust::Authorities(Vec::new())
    }
}

impl Trust {
    /// Returns how connections are encrypted.
    ///
    /// # Errors
    /// When a certificate cannot be used.
    pub(super) fn config(self) -> Result<ClientConfig, Error> {
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider.clone()).with_safe_default_protocol_versions()?;
        let builder = match self {
            Trust::Authorities(more) => {
                let mut roots = RootCertStore::from_iter(webpki_roots::TLS_SERVER_ROOTS.iter().cloned());
                for certificate in more {
                    roots.add(certificate)?;
                }
                builder.with_root_certificates(roots)
            }
            Trust::Only(certificate) => builder
                .dangerous()
                .with_custom_certificate_verifier(Arc::new(Only { certificate, provider })),
        };
        Ok(builder.with_no_client_auth())
    }
}

/// Accepts one certificate.
#[derive(Debug)]
struct Only {
    certificate: CertificateDer<'static>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Only {
    fn verify_server_cert(
        &self,
        shown: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        if *shown == self.certificate {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(Error::General(
                "it shows another certificate than the expected one".into(),
            ))
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signed, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signed, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
