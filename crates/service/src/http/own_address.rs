//! The service as a caller of its own.

use rustls::pki_types::CertificateDer;
use std::net::SocketAddr;
use vastrelay_loadtest::target::Trust;

/// Where the service can be reached by itself.
pub struct OwnAddress {
    /// Address and port on which it listens.
    pub socket: SocketAddr,
    /// Its certificate, where it has one.
    pub certificate: Option<CertificateDer<'static>>,
    /// The token that it sends instead of a key when it calls itself; only this process knows it.
    pub token: String,
}

impl OwnAddress {
    /// Returns whom a caller from within believes: the certificate names the service as others call it, not by this address.
    pub fn trust(&self) -> Trust {
        match &self.certificate {
            Some(certificate) => Trust::Only(certificate.clone()),
            None => Trust::default(),
        }
    }
}
