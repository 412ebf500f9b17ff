//! Problem documents (RFC 9457): a stable type for programs, a sentence for a person, and what to do.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Why a request was not done. Clients read this, never the sentence. In a document, `type` is
/// `urn:ypogeion:problem:` followed by the word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ProblemType {
    /// No or no valid credential.
    NotSignedIn,
    /// The credential is valid and does not allow this.
    NotAllowed,
    /// Wrong name or password.
    WrongPassword,
    /// This asks for the password again, which was not typed within the last minutes.
    PasswordWanted,
    /// This link asks for the passphrase that goes with it.
    PassphraseWanted,
    /// More of something than one device, or one person, may have at a time.
    TooMany,
    /// Too many attempts; wait.
    TooManyAttempts,
    /// The pairing code is unknown, used, withdrawn or expired.
    PairingCodeUnknown,
    /// The device was revoked.
    DeviceRevoked,
    /// The device was not used for a year, and its credential ended.
    DeviceEnded,
    /// There is no such thing, or it is somebody else's.
    NotFound,
    /// The request makes no sense as it stands.
    BadRequest,
    /// The name is taken.
    NameTaken,
    /// It cannot be done as things stand.
    NotNow,
    /// Larger than the service takes in one piece.
    TooLarge,
    /// The member's quota would be exceeded.
    OverQuota,
    /// The home disk has no room above its reserve.
    DiskFull,
    /// The bytes do not have the digest that was offered or sent along.
    DigestMismatch,
    /// The offset is not where the upload stands.
    WrongOffset,
    /// The upload expired, was ended, or never was.
    UploadGone,
    /// The clearance was used, or never was.
    ClearanceGone,
    /// The upload is being written to by another request.
    UploadBusy,
    /// The tus version is not spoken here.
    TusVersion,
    /// The content type is not the one this needs.
    ContentType,
    /// The name that was asked for is not this server's.
    OtherHost,
    /// The range cannot be served.
    RangeNotSatisfiable,
    /// The original's bytes at home are missing or damaged.
    OriginalDamaged,
    /// There is no preview (yet, or for this kind of file).
    NoPreview,
    /// A store did not answer as it should.
    StoreFault,
    /// No household has been set up.
    NotSetUp,
    /// The database does not answer.
    DatabaseAway,
    /// The library's disk is not there.
    LibraryAway,
    /// The file was left in a folder outside the library that is out of reach.
    OriginalAway,
    /// A fault in this program.
    Internal,
}

impl ProblemType {
    /// Every type, for tables and tests.
    pub const ALL: [ProblemType; 34] = [
        Self::NotSignedIn,
        Self::NotAllowed,
        Self::WrongPassword,
        Self::PasswordWanted,
        Self::PassphraseWanted,
        Self::TooMany,
        Self::TooManyAttempts,
        Self::PairingCodeUnknown,
        Self::DeviceRevoked,
        Self::DeviceEnded,
        Self::NotFound,
        Self::BadRequest,
        Self::NameTaken,
        Self::NotNow,
        Self::TooLarge,
        Self::OverQuota,
        Self::DiskFull,
        Self::DigestMismatch,
        Self::WrongOffset,
        Self::UploadGone,
        Self::ClearanceGone,
        Self::UploadBusy,
        Self::TusVersion,
        Self::ContentType,
        Self::OtherHost,
        Self::RangeNotSatisfiable,
        Self::OriginalDamaged,
        Self::NoPreview,
        Self::StoreFault,
        Self::NotSetUp,
        Self::DatabaseAway,
        Self::LibraryAway,
        Self::OriginalAway,
        Self::Internal,
    ];

    /// The HTTP status. The one place that decides it.
    pub fn status(self) -> u16 {
        match self {
            Self::NotSignedIn | Self::WrongPassword | Self::DeviceRevoked | Self::DeviceEnded => 401,
            Self::NotAllowed | Self::PasswordWanted | Self::PassphraseWanted => 403,
            Self::NotFound | Self::PairingCodeUnknown | Self::NoPreview => 404,
            Self::BadRequest => 400,
            Self::NameTaken | Self::NotNow | Self::WrongOffset => 409,
            Self::UploadGone | Self::ClearanceGone => 410,
            Self::TusVersion => 412,
            Self::TooLarge | Self::OverQuota => 413,
            Self::ContentType => 415,
            Self::RangeNotSatisfiable => 416,
            Self::OtherHost => 421,
            Self::UploadBusy => 423,
            Self::TooMany | Self::TooManyAttempts => 429,
            // Defined by the tus checksum extension.
            Self::DigestMismatch => 460,
            Self::Internal | Self::OriginalDamaged => 500,
            Self::StoreFault => 502,
            Self::NotSetUp | Self::DatabaseAway | Self::LibraryAway | Self::OriginalAway => 503,
            Self::DiskFull => 507,
        }
    }

    /// Whether the same request may succeed later by itself.
    pub fn passes(self) -> bool {
        matches!(
            self,
            Self::TooManyAttempts
                | Self::UploadBusy
                | Self::StoreFault
                | Self::DatabaseAway
                | Self::LibraryAway
                | Self::Internal
                | Self::NotSetUp
        )
    }

    /// The URI of the type.
    pub fn uri(self) -> String {
        let word = serde_json::to_value(self).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default();
        format!("urn:ypogeion:problem:{word}")
    }

    /// The type for a URI, if it is one of ours.
    pub fn from_uri(uri: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|t| t.uri() == uri)
    }
}

/// A problem document, sent as `application/problem+json`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema, thiserror::Error)]
#[error("{detail}")]
pub struct Problem {
    /// URI of the [`ProblemType`].
    #[serde(rename = "type")]
    pub kind: String,
    /// HTTP status.
    pub status: u16,
    /// One sentence: what was attempted, what stood in the way.
    pub title: String,
    /// The same with what to try next.
    pub detail: String,
    /// The id of the request, as in the log.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub request: Option<String>,
}

impl Problem {
    /// The type, if this client knows it.
    pub fn known(&self) -> Option<ProblemType> {
        ProblemType::from_uri(&self.kind)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_is_found_again_by_its_uri() {
        for kind in ProblemType::ALL {
            assert_eq!(ProblemType::from_uri(&kind.uri()), Some(kind));
            assert!((400..600).contains(&kind.status()));
        }
        assert_eq!(ProblemType::NotSignedIn.uri(), "urn:ypogeion:problem:not-signed-in");
    }
}
