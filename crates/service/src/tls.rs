//! The household's own certificate. No outside authority: its fingerprint travels in the pairing code.

use std::{fs, io, path::Path, sync::Arc};

use rustls::{
    ServerConfig,
    pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer},
};
use ypogeion_core::Digest;
use ypogeion_engine::private::write_private;

/// A certificate with its key.
pub struct Certificate {
    der: Vec<u8>,
    key: Vec<u8>,
}

impl Certificate {
    /// Reads the certificate from `folder`, or makes one that stays valid for as long as a household may need it.
    pub fn read_or_make(folder: &Path, names: &[String]) -> io::Result<Self> {
        let (certificate, key) = (folder.join("certificate.der"), folder.join("certificate.key.der"));
        match (fs::read(&certificate), fs::read(&key)) {
            (Ok(der), Ok(key)) => return Ok(Certificate { der, key }),
            (Err(e), _) | (_, Err(e)) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
        let mut parameters = rcgen::CertificateParams::new(names.to_vec()).map_err(io::Error::other)?;
        parameters.distinguished_name.push(rcgen::DnType::CommonName, "Ypogeion household server");
        parameters.not_before = rcgen::date_time_ymd(2020, 1, 1);
        parameters.not_after = rcgen::date_time_ymd(2100, 1, 1);
        let pair = rcgen::KeyPair::generate().map_err(io::Error::other)?;
        let made = parameters.self_signed(&pair).map_err(io::Error::other)?;
        let (der, key_der) = (made.der().to_vec(), pair.serialize_der());
        write_private(&key, &key_der)?;
        write_private(&certificate, &der)?;
        Ok(Certificate { der, key: key_der })
    }

    /// SHA-256 of the certificate, as devices remember it.
    pub fn fingerprint(&self) -> Digest {
        Digest::of(&self.der)
    }

    /// The configuration of a server with this certificate.
    pub fn server_config(&self) -> Result<ServerConfig, rustls::Error> {
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(self.key.clone()));
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_no_client_auth()
            .with_single_cert(vec![CertificateDer::from(self.der.clone())], key)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_certificate_is_made_once() {
        let folder = tempfile::tempdir().unwrap();
        let names = ["localhost".to_owned(), "127.0.0.1".to_owned()];
        let first = Certificate::read_or_make(folder.path(), &names).unwrap();
        let again = Certificate::read_or_make(folder.path(), &names).unwrap();
        assert_eq!(first.fingerprint(), again.fingerprint());
        first.server_config().unwrap();
    }
}
