//! Trusting one certificate by its fingerprint: the household's own server, or a store at home, for which no authority vouches.
//!
//! A fingerprint is the SHA-256 of the certificate as it is sent (DER), as `openssl x509 -fingerprint -sha256` prints it.

use std::sync::{Arc, OnceLock};

pub use rustls::Error;
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, OtherError, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use ypogeion_core::Digest;

/// A server shows another certificate than the trusted one.
#[derive(Debug)]
struct AnotherCertificate;

impl std::fmt::Display for AnotherCertificate {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("not the certificate that is trusted")
    }
}

impl std::error::Error for AnotherCertificate {}

/// What a server showed to somebody who only looked.
#[derive(Clone, Debug, Default)]
pub struct Shown(Arc<OnceLock<Digest>>);

impl Shown {
    /// The fingerprint, once a server was asked.
    pub fn get(&self) -> Option<Digest> {
        self.0.get().copied()
    }
}

/// Trusts this one certificate, whatever its names and dates say; with none, nothing is trusted.
///
/// # Errors
/// If the library of the protocol has no version in common with itself.
pub fn trusting(certificate: Option<Digest>) -> Result<ClientConfig, Error> {
    config(certificate, Shown::default())
}

/// Trusts nobody, and remembers what was shown.
///
/// # Errors
/// As [`trusting`].
pub fn looking() -> Result<(ClientConfig, Shown), Error> {
    let shown = Shown::default();
    Ok((config(None, shown.clone())?, shown))
}

fn config(certificate: Option<Digest>, shown: Shown) -> Result<ClientConfig, Error> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let verifier = Arc::new(Pinned { certificate, shown, provider: Arc::clone(&provider) });
    Ok(ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(verifier)
        .with_no_client_auth())
}

#[derive(Debug)]
struct Pinned {
    certificate: Option<Digest>,
    shown: Shown,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let seen = Digest::of(end_entity);
        self.shown.0.get_or_init(|| seen);
        if self.certificate == Some(seen) {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(Error::Other(OtherError(Arc::new(AnotherCertificate))))
        }
    }

    // That the server has the key of the certificate is shown by these, and they are looked at as always.
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// A fingerprint as `openssl` prints it, for comparing by eye: `3F:0A:9C:…`.
pub fn printed(certificate: &Digest) -> String {
    let hex = certificate.to_string().to_uppercase();
    hex.as_bytes().chunks(2).map(|two| String::from_utf8_lossy(two)).collect::<Vec<_>>().join(":")
}

/// Reads a fingerprint, with colons or spaces or without.
pub fn read(text: &str) -> Option<Digest> {
    let digits: String = text.chars().filter(|c| !matches!(c, ':' | ' ')).collect();
    digits.to_ascii_lowercase().parse().ok()
}

/// An error and what it comes from; through errors of reading, whose source is that of what they wrap, and not what they wrap.
pub fn causes<'a>(error: &'a (dyn std::error::Error + 'static)) -> impl Iterator<Item = &'a (dyn std::error::Error + 'static)> {
    std::iter::successors(Some(error), |error| match error.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref) {
        Some(inner) => Some(inner as &(dyn std::error::Error + 'static)),
        None => error.source(),
    })
}

/// Whether an error that a library reports says that a server shows another certificate than the trusted one.
pub fn shows_another(error: &(dyn std::error::Error + 'static)) -> bool {
    causes(error).any(|e| match e.downcast_ref::<Error>() {
        Some(Error::Other(OtherError(inner))) => inner.is::<AnotherCertificate>(),
        _ => e.is::<AnotherCertificate>(),
    })
}

/// Whether an error that a library reports says that no authority vouches for the certificate, or that it is for another name or has run
/// out: whoever knows the server may trust it by its fingerprint.
pub fn is_about_trust(error: &(dyn std::error::Error + 'static)) -> bool {
    for error in causes(error) {
        match error.downcast_ref::<Error>() {
            Some(Error::InvalidCertificate(CertificateError::Revoked)) => return false,
            Some(Error::InvalidCertificate(_)) => return true,
            _ => {}
        }
    }
    shows_another(error)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fingerprint_reads_as_openssl_prints_it() {
        let digest = Digest::of(b"the certificate of the box under the stairs");
        let text = printed(&digest);
        assert_eq!((text.len(), text.matches(':').count()), (95, 31));
        assert_eq!(read(&text), Some(digest));
        assert_eq!(read(&digest.to_string()), Some(digest));
        assert_eq!(read(&text[..94]), None);
        assert_eq!(read("3F:0A"), None);
    }
}
