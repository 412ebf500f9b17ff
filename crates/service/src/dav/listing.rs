//! What is in a folder, and what is known of it (RFC 4918, section 9.1: PROPFIND).
//!
//! Answered here and not by the library, which leaves properties out that it does not know, where the standard wants to be told
//! so, and writes entity tags without their quotes.

use std::{fmt::Write, sync::Arc, time::SystemTime};

use actix_web::{HttpResponse, http::StatusCode, web::Bytes};
use chrono::{DateTime, Utc};
use dav_server::{
    davpath::DavPath,
    fs::{DavFileSystem, DavMetaData, FsError},
    ls::{DavLock, DavLockSystem},
};
use futures_util::{StreamExt, stream};
use url::Url;
use xmltree::Element;
use ypogeion_catalog::folder_view::Entry;

use super::{
    locks::DeviceLocks,
    view::{StoredProperty, View, stored_properties},
};
use crate::{
    area::FOLDERS,
    failure::{Answer, Failure},
};

const DAV: &str = "DAV:";
/// Properties that every entry has, in the order in which they are told.
const LIVE: [&str; 10] = [
    "creationdate",
    "getcontentlength",
    "getcontenttype",
    "getetag",
    "getlastmodified",
    "resourcetype",
    "lockdiscovery",
    "supportedlock",
    "quota-available-bytes",
    "quota-used-bytes",
];
/// Counting what is left takes work and is told only to whom asks for it (RFC 4331, section 3).
const ONLY_WHEN_ASKED: [&str; 2] = ["quota-available-bytes", "quota-used-bytes"];

/// A property's name.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Name {
    namespace: String,
    name: String,
}

/// What somebody wants to know.
#[derive(Debug, PartialEq, Eq)]
enum Wanted {
    /// Everything.
    All,
    /// The names of everything.
    Names,
    /// Just these.
    These(Vec<Name>),
}

impl Wanted {
    /// Reads the body of a request. None at all asks for everything.
    fn parse(body: &[u8]) -> Answer<Self> {
        if body.is_empty() {
            return Ok(Wanted::All);
        }
        let bad = || Failure::bad("The body must be a \"propfind\" element in the namespace DAV:.");
        let root = Element::parse(body).map_err(|_| bad())?;
        if root.name != "propfind" || root.namespace.as_deref() != Some(DAV) {
            return Err(bad());
        }
        let children: Vec<&Element> = root.children.iter().filter_map(|c| c.as_element()).collect();
        let asked = |name: &str| children.iter().find(|c| c.name == name && c.namespace.as_deref() == Some(DAV));
        match (asked("prop"), asked("propname"), asked("allprop")) {
            (Some(prop), None, None) => Ok(Wanted::These(
                prop.children
                    .iter()
                    .filter_map(|c| c.as_element())
                    .map(|e| Name { namespace: e.namespace.clone().unwrap_or_default(), name: e.name.clone() })
                    .collect(),
            )),
            (None, Some(_), None) => Ok(Wanted::Names),
            (None, None, Some(_)) => Ok(Wanted::All),
            _ => Err(bad()),
        }
    }
}

/// Answers for one entry, or for a folder and what is in it.
pub async fn list(view: View, locks: Box<DeviceLocks>, path: DavPath, deep: bool, body: &[u8]) -> Answer<HttpResponse> {
    let wanted = Wanted::parse(body)?;
    let place = view.place(&path).map_err(|e| said(&view, e))?;
    let entry = view.entry(&place).await.map_err(|e| said(&view, e))?;
    if path.is_collection() && entry.as_ref().is_some_and(|e| !e.folder) {
        return Err(Failure::not_found());
    }
    let folder = entry.as_ref().is_none_or(|e| e.folder);
    let quota = match &wanted {
        Wanted::These(names) if names.iter().any(|n| ONLY_WHEN_ASKED.contains(&n.name.as_str())) => {
            view.get_quota().await.ok().and_then(|(used, total)| Some((used, total?.saturating_sub(used))))
        }
        _ => None,
    };
    let teller = Arc::new(Teller { view: view.clone(), locks, wanted, quota });
    let first = teller.tell(&place, entry.as_ref()).await;
    let start = format!("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n{first}");
    let parts = stream::iter([Ok(Bytes::from(start))]);
    let end = stream::iter([Ok(Bytes::from_static(b"</D:multistatus>\n"))]);
    let below = match folder && deep {
        true => view
            .entries(place)
            .then(move |entry| {
                let teller = Arc::clone(&teller);
                async move {
                    match entry {
                        Ok(entry) => Ok(Bytes::from(teller.tell(&entry.path, Some(&entry)).await)),
                        // An answer that breaks off is not taken for a whole one.
                        Err(_) => Err(Failure::bad("The catalogue does not answer.")),
                    }
                }
            })
            .left_stream(),
        false => stream::empty().right_stream(),
    };
    Ok(HttpResponse::build(StatusCode::MULTI_STATUS)
        .content_type("application/xml; charset=utf-8")
        .streaming(parts.chain(below).chain(end)))
}

/// A listing of everything below is refused (RFC 4918, section 9.1).
pub fn too_deep() -> HttpResponse {
    HttpResponse::Forbidden()
        .content_type("application/xml; charset=utf-8")
        .body("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:error xmlns:D=\"DAV:\"><D:propfind-finite-depth/></D:error>\n")
}

fn said(view: &View, error: FsError) -> Failure {
    view.trouble().unwrap_or_else(|| match error {
        FsError::PathTooLong => Failure::bad("This name is too long: at most 255 bytes, and 4096 with its folders."),
        _ => Failure::not_found(),
    })
}

struct Teller {
    view: View,
    locks: Box<DeviceLocks>,
    wanted: Wanted,
    /// Bytes used, and left.
    quota: Option<(u64, u64)>,
}

impl Teller {
    /// One entry, as the element `response`. The root has no entry.
    async fn tell(&self, place: &str, entry: Option<&Entry>) -> String {
        let kept = entry.map(stored_properties).unwrap_or_default();
        let (mut found, mut missing) = (String::new(), String::new());
        match &self.wanted {
            Wanted::All => {
                for name in LIVE.iter().filter(|n| !ONLY_WHEN_ASKED.contains(n)) {
                    found.push_str(&self.live(name, place, entry).await.unwrap_or_default());
                }
                kept.iter().for_each(|k| found.push_str(k.element()));
            }
            Wanted::Names => {
                for name in LIVE {
                    let _ = write!(found, "<D:{name}/>");
                }
                kept.iter().for_each(|k| found.push_str(&empty(&Name::of(k))));
            }
            Wanted::These(names) => {
                for name in names {
                    let live = if name.namespace == DAV { self.live(&name.name, place, entry).await } else { None };
                    let own = || kept.iter().find(|k| Name::of(k) == *name).map(|k| k.element().to_owned());
                    match live.or_else(own) {
                        Some(element) => found.push_str(&element),
                        None => missing.push_str(&empty(name)),
                    }
                }
            }
        }
        let mut text = format!("<D:response><D:href>{}</D:href>", escaped(&href(place, entry.is_none_or(|e| e.folder))));
        // One of the two there must be, also when nothing was asked for.
        if !found.is_empty() || missing.is_empty() {
            let _ = write!(text, "<D:propstat><D:prop>{found}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat>");
        }
        if !missing.is_empty() {
            let _ =
                write!(text, "<D:propstat><D:prop>{missing}</D:prop><D:status>HTTP/1.1 404 Not Found</D:status></D:propstat>");
        }
        text.push_str("</D:response>\n");
        text
    }

    async fn live(&self, name: &str, place: &str, entry: Option<&Entry>) -> Option<String> {
        // What cannot be looked at just now is not told; why, is kept for the answer.
        let meta = match entry {
            Some(entry) => Some(self.view.meta(entry).await.ok()?),
            None => None,
        };
        let file = meta.as_ref().filter(|m| !m.folder);
        let value = match name {
            "creationdate" => DateTime::<Utc>::from(meta.as_ref()?.made).to_rfc3339_opts(chrono::SecondsFormat::Secs, true),
            "getcontentlength" => file?.length.to_string(),
            "getcontenttype" => {
                file?;
                mime_guess::from_path(place).first_or_octet_stream().to_string()
            }
            "getetag" => format!("\"{}\"", file?.etag()?),
            "getlastmodified" => DateTime::<Utc>::from(meta.as_ref()?.changed).format("%a, %d %b %Y %H:%M:%S GMT").to_string(),
            "resourcetype" if file.is_some() => return Some("<D:resourcetype/>".to_owned()),
            "resourcetype" => return Some("<D:resourcetype><D:collection/></D:resourcetype>".to_owned()),
            "supportedlock" => {
                let entry = |scope| {
                    format!(
                        "<D:lockentry><D:lockscope><D:{scope}/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockentry>"
                    )
                };
                return Some(format!("<D:supportedlock>{}{}</D:supportedlock>", entry("exclusive"), entry("shared")));
            }
            "lockdiscovery" => {
                let path = DavPath::new(&href(place, false)).ok().and_then(|mut p| p.set_prefix(FOLDERS).ok().map(|()| p));
                let locks = match path {
                    Some(path) => self.locks.discover(&path).await,
                    None => Vec::new(),
                };
                return Some(format!("<D:lockdiscovery>{}</D:lockdiscovery>", locks.iter().map(active).collect::<String>()));
            }
            "quota-used-bytes" => self.quota?.0.to_string(),
            "quota-available-bytes" => self.quota?.1.to_string(),
            _ => return None,
        };
        Some(format!("<D:{name}>{}</D:{name}>", escaped(&value)))
    }
}

fn active(lock: &DavLock) -> String {
    let scope = if lock.shared { "shared" } else { "exclusive" };
    let depth = if lock.deep { "infinity" } else { "0" };
    let left = lock.timeout_at.and_then(|at| at.duration_since(SystemTime::now()).ok()).unwrap_or_default().as_secs();
    let mut owner = Vec::new();
    if let Some(element) = &lock.owner {
        let bare = xmltree::EmitterConfig::new().write_document_declaration(false);
        let _ = element.write_with_config(&mut owner, bare);
    }
    format!(
        "<D:activelock><D:lockscope><D:{scope}/></D:lockscope><D:locktype><D:write/></D:locktype><D:depth>{depth}</D:depth>{}\
         <D:timeout>Second-{left}</D:timeout><D:locktoken><D:href>{}</D:href></D:locktoken><D:lockroot><D:href>{}</D:href></D:lockroot></D:activelock>",
        String::from_utf8_lossy(&owner),
        escaped(&lock.token),
        escaped(&lock.path.with_prefix().as_url_string()),
    )
}

impl Name {
    fn of(kept: &StoredProperty) -> Self {
        Name { namespace: kept.namespace.clone().unwrap_or_default(), name: kept.name.clone() }
    }
}

/// A property without its value.
fn empty(name: &Name) -> String {
    match name.namespace.as_str() {
        "" => format!("<{}/>", name.name),
        DAV => format!("<D:{}/>", name.name),
        other => format!("<p:{} xmlns:p=\"{}\"/>", name.name, escaped(other)),
    }
}

/// The address of a place on this server.
fn href(place: &str, folder: bool) -> String {
    let Ok(mut url) = Url::parse("http://localhost/").and_then(|u| u.join(FOLDERS)) else { return String::new() };
    if let Ok(mut segments) = url.path_segments_mut() {
        segments.extend(place.split('/').filter(|s| !s.is_empty()));
        if folder {
            segments.push("");
        }
    }
    url.path().to_owned()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("", true, "/dav/")]
    #[case("Camera", true, "/dav/Camera/")]
    #[case("Größe & mehr/a b#?.jpg", false, "/dav/Gr%C3%B6%C3%9Fe%20&%20mehr/a%20b%23%3F.jpg")]
    #[case("100%.jpg", false, "/dav/100%25.jpg")]
    fn an_address_can_be_asked_for_again(#[case] place: &str, #[case] folder: bool, #[case] address: &str) {
        assert_eq!(href(place, folder), address);
        let mut path = DavPath::new(&href(place, folder)).unwrap();
        path.set_prefix(FOLDERS).unwrap();
        assert_eq!(std::str::from_utf8(path.as_bytes()).unwrap().trim_matches('/'), place);
    }

    #[test]
    fn what_is_wanted_is_understood() {
        assert_eq!(Wanted::parse(b"").unwrap(), Wanted::All);
        assert_eq!(Wanted::parse(b"<a:propfind xmlns:a='DAV:'><a:propname/></a:propfind>").unwrap(), Wanted::Names);
        let some = Wanted::parse(b"<propfind xmlns='DAV:'><prop><getetag/><x xmlns=''/><y xmlns='urn:z'/></prop></propfind>");
        let name = |namespace: &str, name: &str| Name { namespace: namespace.to_owned(), name: name.to_owned() };
        assert_eq!(some.unwrap(), Wanted::These(vec![name(DAV, "getetag"), name("", "x"), name("urn:z", "y")]));
        for bad in ["<propfind/>", "<propfind xmlns='DAV:'/>", "<propfind xmlns='DAV:'><prop/><allprop/></propfind>", "<a", "x"] {
            assert!(Wanted::parse(bad.as_bytes()).is_err(), "{bad}");
        }
    }
}
