//! What real stores do that the protocol does not say: they know no checksums, do not look at what arrives, ignore conditions, list late,
//! lock what they hold, have another clock or another region, and forget what they were given.

use std::{fs, io, path::Path, time::Duration};

use bytes::Bytes;
use chrono::{DateTime, NaiveDateTime, TimeDelta, Utc};
use hyper::{HeaderMap, Request, Response, StatusCode, header::HeaderValue};

use crate::faults::{Faults, refusal};

/// What the store refuses before it looks at the request any further.
pub(crate) fn refused<B>(faults: &Faults, request: &Request<B>, stored: impl Fn() -> u64) -> Option<Response<s3s::Body>> {
    let headers = request.headers();
    let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok());
    if faults.clock_seconds != 0
        && let Some(at) = text("x-amz-date").and_then(|d| NaiveDateTime::parse_from_str(d, "%Y%m%dT%H%M%SZ").ok())
        && (at.and_utc() - now(faults)).abs() > TimeDelta::minutes(15)
    {
        let said = "The difference between the request time and the server's time is too large.";
        return Some(refusal(StatusCode::FORBIDDEN, "RequestTimeTooSkewed", said));
    }
    if !faults.region.is_empty() && text("authorization").is_some_and(|a| !a.contains(&format!("/{}/s3/", faults.region))) {
        let said = format!("The authorization header is malformed; the region is wrong; expecting '{}'", faults.region);
        return Some(refusal(StatusCode::BAD_REQUEST, "AuthorizationHeaderMalformed", &said));
    }
    let sums = headers.keys().any(|k| k.as_str().starts_with("x-amz-checksum") || k.as_str() == "x-amz-sdk-checksum-algorithm");
    if faults.refuses_sums && sums {
        let said = "A header you provided implies functionality that is not implemented: x-amz-checksum-sha256.";
        return Some(refusal(StatusCode::NOT_IMPLEMENTED, "NotImplemented", said));
    }
    let crc = headers.contains_key("x-amz-checksum-crc64nvme") || text("x-amz-checksum-algorithm") == Some("CRC64NVME");
    if faults.refuses_crc && crc {
        return Some(refusal(StatusCode::BAD_REQUEST, "InvalidRequest", "The algorithm type you specified is not supported."));
    }
    if faults.locked_days > 0 && request.method() == hyper::Method::DELETE {
        return Some(refusal(StatusCode::FORBIDDEN, "AccessDenied", "Access Denied because object protected by object lock."));
    }
    let length = text("content-length").and_then(|l| l.parse::<u64>().ok()).unwrap_or(0);
    if faults.capacity > 0 && request.method() == hyper::Method::PUT && stored() + length > faults.capacity {
        return Some(refusal(StatusCode::INSUFFICIENT_STORAGE, "InsufficientStorage", "There is no room left."));
    }
    None
}

/// The time by the store's clock.
pub(crate) fn now(faults: &Faults) -> DateTime<Utc> {
    Utc::now() + TimeDelta::seconds(faults.clock_seconds)
}

/// What the store says beside its answers.
pub(crate) fn said(faults: &Faults, headers: &mut HeaderMap) {
    let mut say = |name: &'static str, value: String| {
        if let Ok(value) = HeaderValue::from_str(&value) {
            headers.insert(name, value);
        }
    };
    if faults.clock_seconds != 0 {
        say("date", now(faults).format("%a, %d %b %Y %H:%M:%S GMT").to_string());
    }
    if faults.locked_days > 0 {
        let until = Utc::now() + TimeDelta::days(i64::from(faults.locked_days));
        say("x-amz-object-lock-mode", "COMPLIANCE".to_owned());
        say("x-amz-object-lock-retain-until-date", until.format("%Y-%m-%dT%H:%M:%SZ").to_string());
    }
}

/// A list without what came within the last seconds.
pub(crate) fn without_the_latest(list: &str, lag: Duration) -> String {
    let cut = Utc::now() - lag;
    let mut pieces = list.split("<Contents>");
    let mut kept = pieces.next().unwrap_or_default().to_owned();
    for piece in pieces {
        let (entry, rest) = piece.split_once("</Contents>").unwrap_or((piece, ""));
        let changed = entry.split("<LastModified>").nth(1).and_then(|t| t.split('<').next());
        let old = changed.and_then(|t| t.parse::<DateTime<Utc>>().ok()).is_none_or(|at| at <= cut);
        if old {
            kept += &format!("<Contents>{entry}</Contents>");
        }
        kept += rest;
    }
    kept
}

/// Takes whatever arrives as it is, without a look at signature or checksum.
pub(crate) fn swallow(bucket: &Path, key: &str, body: &Bytes) -> io::Result<()> {
    let fine = !key.is_empty() && key.split('/').all(|p| !p.is_empty() && p != "." && p != "..");
    if !fine {
        return Err(io::Error::other("not a key"));
    }
    let path = bucket.join(key);
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    fs::write(path, body)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_late_list_leaves_out_what_is_new_and_nothing_else() {
        let at = |seconds: i64| (Utc::now() - TimeDelta::seconds(seconds)).to_rfc3339();
        let list = format!(
            "<L><Contents><Key>old</Key><LastModified>{}</LastModified></Contents>\
             <Contents><Key>new</Key><LastModified>{}</LastModified></Contents><More>x</More></L>",
            at(60),
            at(1)
        );
        let kept = without_the_latest(&list, Duration::from_secs(30));
        assert!(kept.contains("old") && !kept.contains("new") && kept.ends_with("<More>x</More></L>"), "{kept}");
        assert_eq!(without_the_latest(&list, Duration::ZERO), list);
    }

    #[test]
    fn what_is_swallowed_stays_in_its_bucket() {
        let folder = tempfile::tempdir().unwrap();
        assert!(swallow(folder.path(), "../out", &Bytes::from_static(b"x")).is_err());
        assert!(swallow(folder.path(), "", &Bytes::new()).is_err());
        swallow(folder.path(), "sealed/ab/cd", &Bytes::from_static(b"x")).unwrap();
        assert_eq!(fs::read(folder.path().join("sealed/ab/cd")).unwrap(), b"x");
    }
}
