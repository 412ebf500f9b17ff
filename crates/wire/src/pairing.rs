//! The pairing address: what a QR code carries to a device.

use url::Url;
use ypogeion_core::Digest;

/// Where to pair, with which code, and which certificate to expect there.
///
/// Written as `ypogeion:pair?at=…&code=…&cert=…`. The certificate's SHA-256 travels with the code, so that a device
/// trusts the right server with no outside authority.
#[derive(Clone, PartialEq, Eq)]
pub struct PairingAddress {
    /// Base URL of the service.
    pub at: Url,
    /// The code, eight letters and digits.
    pub code: String,
    /// SHA-256 of the service's certificate (DER). `None` for plain HTTP on loopback.
    pub certificate: Option<Digest>,
}

/// The text is not a pairing address.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("this is not a pairing address; copy all of the text beginning with \"ypogeion:pair\"")]
pub struct NotAPairingAddress;

impl PairingAddress {
    /// Reads the text of a QR code.
    pub fn parse(text: &str) -> Result<Self, NotAPairingAddress> {
        let url = Url::parse(text.trim()).map_err(|_| NotAPairingAddress)?;
        if url.scheme() != "ypogeion" || url.path() != "pair" {
            return Err(NotAPairingAddress);
        }
        let part = |name: &str| url.query_pairs().find(|(n, _)| n == name).map(|(_, v)| v.into_owned());
        let at = part("at")
            .and_then(|a| Url::parse(&a).ok())
            .filter(|u| matches!(u.scheme(), "http" | "https"))
            .ok_or(NotAPairingAddress)?;
        let code = part("code").filter(|c| !c.is_empty()).ok_or(NotAPairingAddress)?;
        let certificate = part("cert").map(|c| c.parse()).transpose().map_err(|_| NotAPairingAddress)?;
        Ok(PairingAddress { at, code, certificate })
    }
}

impl std::fmt::Debug for PairingAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The code is for one device alone.
        write!(f, "PairingAddress({})", self.at)
    }
}

impl std::fmt::Display for PairingAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let mut query = url::form_urlencoded::Serializer::new(String::new());
        query.append_pair("at", self.at.as_str()).append_pair("code", &self.code);
        if let Some(certificate) = &self.certificate {
            query.append_pair("cert", &certificate.to_string());
        }
        write!(f, "ypogeion:pair?{}", query.finish())
    }
}

/// Takes a code as typed: any case, with or without hyphens and spaces; `O` for `0`, `I` or `L` for `1`.
pub fn normalise_code(typed: &str) -> String {
    typed
        .chars()
        .filter(|c| c.is_ascii_alphanumeric())
        .map(|c| match c.to_ascii_uppercase() {
            'O' => '0',
            'I' | 'L' => '1',
            c => c,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_reads_back() {
        let address = PairingAddress {
            at: Url::parse("https://192.168.1.20:8743/").unwrap(),
            code: "K7QF2M9X".into(),
            certificate: Some(Digest::of(b"certificate")),
        };
        assert_eq!(PairingAddress::parse(&address.to_string()).unwrap(), address);
    }

    #[test]
    fn other_texts_are_refused() {
        for text in [
            "",
            "https://example.org",
            "ypogeion:pair?code=A",
            "ypogeion:pair?at=ftp://x&code=A",
            "ypogeion:pair?at=http://x&code=A&cert=12",
        ] {
            assert_eq!(PairingAddress::parse(text), Err(NotAPairingAddress), "{text}");
        }
    }

    #[test]
    fn codes_are_taken_as_people_type_them() {
        assert_eq!(normalise_code("k7qf-2m9x "), "K7QF2M9X");
        assert_eq!(normalise_code("OIL0"), "0110");
    }
}
