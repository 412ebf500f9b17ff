//! What can be wrong with a store, as what it is and not as what it was told to say.
//!
//! A store of the network says so in its answer ([`Answer`]); a disk in the system's error; and where no answer came, the client knows how
//! far it got. Texts of libraries are shown to people as details and decide nothing.

use std::{error::Error, fmt, io};

use http::StatusCode;
use object_store::client::{HttpError, HttpErrorKind};
use serde::Deserialize;
use ypogeion_pin::{causes, shows_another};

/// What went wrong with a store, by what to do about it.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// The object is not there.
    #[error("{0} is not in the store")]
    Missing(String),
    /// It will not work until somebody changes something: keys, bucket, room.
    #[error("{0}")]
    Refused(Refusal),
    /// It holds sealed bytes, and no key that opens them is kept here.
    #[error("this server keeps no key that opens copies; lend it the key of the recovery kit")]
    Locked,
    /// Its disk is not connected.
    #[error("{0} is not connected")]
    Away(String),
    /// It lists its objects in an order of its own, so that the list cannot be compared.
    #[error("its list is out of order: {0}")]
    Disorder(String),
    /// It may work later by itself.
    #[error("the store did not answer as it should: {0}")]
    Passing(Trouble),
    /// The home disk failed while reading or writing for the store.
    #[error("reading or writing at home failed")]
    Home(#[source] io::Error),
}

impl Fault {
    /// Whether trying again later may help without anybody's doing.
    pub fn passes(&self) -> bool {
        matches!(self, Fault::Passing(_) | Fault::Away(_))
    }

    /// Something passing that has no name of its own.
    pub(crate) fn odd(what: impl Into<String>) -> Self {
        Fault::Passing(Trouble::Odd(what.into()))
    }

    /// What the store itself said, where it said something; otherwise what we say of it.
    pub(crate) fn in_its_words(&self) -> String {
        match self {
            Fault::Refused(Refusal::NotAllowed(said) | Refusal::NotLetIn(said)) if !said.is_empty() => said.clone(),
            other => other.to_string(),
        }
    }
}

/// Why a store does not do what it is asked to until somebody changes something.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// The address cannot be one.
    #[error("the address of {name} cannot be used: {why}")]
    Address {
        /// The store's name.
        name: String,
        /// What is wrong with it.
        why: String,
    },
    /// It would be spoken to in the clear, outside of the house.
    #[error("{0} is not spoken to: {PLAIN_OUTSIDE}")]
    InTheClear(String),
    /// The clocks differ.
    #[error("the clocks of this server and of the store differ too much; set this server's clock")]
    Clock,
    /// Another certificate than the trusted one.
    #[error(
        "the store shows another certificate than the one that you trusted; if it was given a new one, resume with the fingerprint of that one"
    )]
    AnotherCertificate,
    /// No room in a store.
    #[error("the store is full; free some space there or raise its limit")]
    Full,
    /// No room on a disk.
    #[error("the disk is full; free some space on it")]
    DiskFull,
    /// A disk that is not written to.
    #[error("this server may not write to the disk; check whether it is read-only, and whose the folder is")]
    DiskReadOnly,
    /// No such bucket.
    #[error("the store has no such bucket; check the bucket's name")]
    NoBucket,
    /// No such folder.
    #[error("the share has no such folder; check the address")]
    NoFolder,
    /// The keys are known and may not do it. With the store's own words.
    #[error("the store does not allow this with these keys; check the keys and their permissions")]
    NotAllowed(String),
    /// The name and the password of a share, or their rights. With its own words.
    #[error("the share does not let this name and password in, or they may not write there; check both")]
    NotLetIn(String),
    /// The keys are not known.
    #[error("the store does not accept the keys; check access key and secret key")]
    Keys,
    /// It is in another region.
    #[error("the store wants another region; check the region ({0})")]
    Region(String),
    /// An object is larger than it can be.
    #[error("{0} is larger than such an object can be")]
    TooLarge(String),
    /// The secret with which the store is spoken to is sealed for a key that is not here.
    #[error("the secret key of {name} cannot be opened: {why}; enter it again")]
    Secret {
        /// The store's name.
        name: String,
        /// Why.
        why: String,
    },
    /// It cannot do that at all.
    #[error("it cannot do this{}", in_brackets(.0))]
    Unable(String),
}

/// What may be over by itself; each with what the store, or the library that speaks to it, said.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Trouble {
    /// No answer in time.
    #[error("it did not answer in time{}", in_brackets(.0))]
    Late(String),
    /// No connection.
    #[error("nothing answers at its address{}", in_brackets(.0))]
    Unreachable(String),
    /// A connection that ended too early.
    #[error("the connection to it was cut{}", in_brackets(.0))]
    Cut(String),
    /// Too many requests.
    #[error("it asks for fewer requests{}", in_brackets(.0))]
    Busy(String),
    /// Not now.
    #[error("it says that it cannot answer now{}", in_brackets(.0))]
    NotNow(String),
    /// A fault of its own.
    #[error("it says that something went wrong there{}", in_brackets(.0))]
    BrokenThere(String),
    /// It sends to another address. What was meant for one server is not another one's.
    #[error("it sends elsewhere, where nobody goes{}", in_brackets(.0))]
    Elsewhere(String),
    /// Anything else that the store or the disk said.
    #[error("it did not do what it was asked to{}", in_brackets(.0))]
    Otherwise(String),
    /// What was found out here.
    #[error("{0}")]
    Odd(String),
}

fn in_brackets(details: &str) -> String {
    if details.is_empty() { String::new() } else { format!(" (details: {details})") }
}

/// Why plain http is not spoken with somebody.
pub(crate) const PLAIN_OUTSIDE: &str =
    "it is outside of your own network, and would be spoken to in the clear; use its https address";

/// An answer that is no success.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Answer {
    /// Its status.
    pub(crate) status: StatusCode,
    /// The code in its body, as object stores give it.
    pub(crate) code: String,
    /// The sentence in its body.
    pub(crate) message: String,
}

/// The body of a refusal as object stores give it.
#[derive(Default, Deserialize)]
#[serde(default, rename_all = "PascalCase")]
struct Told {
    code: String,
    message: String,
}

impl Answer {
    /// Bytes of a body that are looked at.
    pub(crate) const MOST: usize = 16 << 10;

    /// What an answer with this status and this body says.
    pub(crate) fn read(status: StatusCode, body: &[u8]) -> Self {
        let text = String::from_utf8_lossy(&body[..body.len().min(Self::MOST)]);
        // Many are empty, or a page for people: then the status is all there is.
        let Told { code, message } = quick_xml::de::from_str(&text).unwrap_or_default();
        Answer { status, code: short(&code), message: short(&message) }
    }

    /// Whether the same may be asked again at once.
    pub(crate) fn is_hiccup(&self) -> bool {
        self.status.is_server_error()
            && self.status != StatusCode::NOT_IMPLEMENTED
            && self.status != StatusCode::INSUFFICIENT_STORAGE
            || matches!(self.status, StatusCode::TOO_MANY_REQUESTS | StatusCode::REQUEST_TIMEOUT)
    }

    /// Whether it may be about a checksum that came along and that the store does not know. One that it knows, and that is not that of the
    /// bytes, is `BadDigest`, or `XAmzContentSHA256Mismatch`: those are what it is there for.
    pub(crate) fn may_not_know_checksums(&self) -> bool {
        self.status == StatusCode::NOT_IMPLEMENTED
            || matches!(self.code.as_str(), "NotImplemented" | "InvalidRequest" | "InvalidArgument")
    }
}

/// On one line, and no longer than a person reads.
fn short(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").trim_end_matches('.').chars().take(200).collect()
}

impl fmt::Display for Answer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.code.as_str(), self.message.as_str()) {
            ("", "") => write!(f, "{}", self.status),
            (code, "") => f.write_str(code),
            ("", message) => f.write_str(message),
            (code, message) => write!(f, "{code}, {message}"),
        }
    }
}

impl Error for Answer {}

/// The last cause of an error, for people.
pub(crate) fn innermost(error: &(dyn Error + 'static)) -> String {
    short(&causes(error).last().map(ToString::to_string).unwrap_or_default())
}

/// The answer that an error is about, if one came.
pub(crate) fn answer_in<'a>(error: &'a (dyn Error + 'static)) -> Option<&'a Answer> {
    causes(error).find_map(|e| e.downcast_ref::<Answer>())
}

/// What it means that no answer came, or not all of it.
pub(crate) fn without_answer(error: &(dyn Error + 'static)) -> Fault {
    if shows_another(error) {
        return Fault::Refused(Refusal::AnotherCertificate);
    }
    let details = innermost(error);
    let kind = causes(error).find_map(|e| e.downcast_ref::<HttpError>()).map(HttpError::kind);
    Fault::Passing(match kind {
        Some(HttpErrorKind::Timeout) => Trouble::Late(details),
        Some(HttpErrorKind::Connect) => Trouble::Unreachable(details),
        Some(HttpErrorKind::Interrupted | HttpErrorKind::Request) => Trouble::Cut(details),
        _ => Trouble::Otherwise(details),
    })
}

/// What an answer means that would be the same from any store of the network.
pub(crate) fn of_status(answer: &Answer) -> Fault {
    let details = answer.to_string();
    Fault::Passing(match answer.status {
        StatusCode::INSUFFICIENT_STORAGE => return Fault::Refused(Refusal::Full),
        StatusCode::TOO_MANY_REQUESTS => Trouble::Busy(details),
        StatusCode::REQUEST_TIMEOUT | StatusCode::GATEWAY_TIMEOUT => Trouble::Late(details),
        StatusCode::SERVICE_UNAVAILABLE => Trouble::NotNow(details),
        status if status.is_server_error() => Trouble::BrokenThere(details),
        status if status.is_redirection() => Trouble::Elsewhere(details),
        _ => Trouble::Otherwise(details),
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::in_xml(
        503,
        "<?xml version=\"1.0\"?><Error><Code>SlowDown</Code><Message>Please don&apos;t.</Message><Key>507 Mill Lane.jpg</Key></Error>",
        "SlowDown",
        "SlowDown, Please don't"
    )]
    #[case::more_than_it_should(
        403,
        "<Error><Resource><Code>inner</Code></Resource><Code>AccessDenied</Code></Error>",
        "AccessDenied",
        "AccessDenied"
    )]
    #[case::a_page(502, "<html><body><h1>Bad gateway</h1>", "", "502 Bad Gateway")]
    #[case::nothing(404, "", "", "404 Not Found")]
    #[case::no_text(500, "\u{0}\u{1}", "", "500 Internal Server Error")]
    fn an_answer_is_read_by_its_form(#[case] status: u16, #[case] body: &str, #[case] code: &str, #[case] said: &str) {
        let answer = Answer::read(StatusCode::from_u16(status).unwrap(), body.as_bytes());
        assert_eq!((answer.code.as_str(), answer.to_string().as_str()), (code, said));
    }

    #[test]
    fn a_body_without_end_is_no_trouble() {
        let deep = "<Error>".repeat(100_000);
        assert_eq!(Answer::read(StatusCode::BAD_REQUEST, deep.as_bytes()).code, "");
        let long = format!("<Error><Code>{}</Code></Error>", "x".repeat(5_000));
        assert_eq!(Answer::read(StatusCode::BAD_REQUEST, long.as_bytes()).code.len(), 200);
    }

    #[test]
    fn what_is_found_in_an_error_is_found_through_errors_of_reading() {
        let answer = Answer::read(StatusCode::NOT_FOUND, b"<Error><Code>NoSuchKey</Code></Error>");
        let wrapped = io::Error::other(HttpError::new(HttpErrorKind::Unknown, answer.clone()));
        assert_eq!(answer_in(&wrapped), Some(&answer));
        assert_eq!(innermost(&wrapped), "NoSuchKey");
        assert!(answer_in(&io::Error::other("NoSuchKey")).is_none(), "texts are no answers");
    }

    #[test]
    fn without_an_answer_it_is_said_how_far_it_got() {
        for (kind, said) in [
            (HttpErrorKind::Timeout, "it did not answer in time (details: late)"),
            (HttpErrorKind::Connect, "nothing answers at its address (details: late)"),
            (HttpErrorKind::Interrupted, "the connection to it was cut (details: late)"),
            (HttpErrorKind::Decode, "it did not do what it was asked to (details: late)"),
        ] {
            let fault = without_answer(&HttpError::new(kind, io::Error::other("late")));
            assert_eq!(fault.to_string(), format!("the store did not answer as it should: {said}"));
            assert!(fault.passes());
        }
    }
}
