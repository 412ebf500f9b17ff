//! Which part of the service an address belongs to.
//!
//! The router looks at a path after its percent-encoding is undone; whoever decides by the path as it came decides about another
//! one. So there is one spelling here: what the router would decode before it goes to the API or to the uploads, or to find the
//! folders, is spelt in another way than this service spells, and goes nowhere.

use actix_web::HttpRequest;

/// A part of the service.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Area {
    /// The API: `/api`.
    Api,
    /// Resumable uploads: `/tus`.
    Uploads,
    /// Devices' folders: `/dav`. The names in it may be encoded, its own name may not.
    Folders,
    /// The console's pages and files: everything else.
    Pages,
}

/// Where devices' folders are.
pub const FOLDERS: &str = "/dav";

/// The parts that have a name of their own.
const NAMED: [(&str, Area); 3] = [("/api", Area::Api), ("/tus", Area::Uploads), (FOLDERS, Area::Folders)];

/// Where a request goes. `None`: nowhere, it is spelt in a way that nobody here would.
pub fn of(request: &HttpRequest) -> Option<Area> {
    place(request.path(), routed(request))
}

/// The path as the router looks at it.
pub fn routed(request: &HttpRequest) -> &str {
    request.match_info().as_str()
}

/// The same, for a path as it came and as it is routed.
///
/// Invariants of what comes back:
/// * [`Area::Api`] and [`Area::Uploads`]: nothing in it is encoded, so that every look at either spelling says the same.
/// * [`Area::Pages`]: in no spelling that the router or a careless reader knows does the path belong to another part.
fn place(came: &str, routed: &str) -> Option<Area> {
    let named = |path: &str| NAMED.iter().find(|(name, _)| below(&path.to_ascii_lowercase(), name)).copied();
    let stray = |path: &str| {
        let mut parts = path.strip_prefix('/').unwrap_or(path).split('/').peekable();
        std::iter::from_fn(|| parts.next().map(|p| (p, parts.peek().is_none())))
            .any(|(part, last)| part == "." || part == ".." || part.contains('\\') || (part.is_empty() && !last))
    };
    match named(routed).or_else(|| named(came)) {
        Some((name, Area::Folders)) => below(came, name).then_some(Area::Folders),
        // No route, page or file of the console has a name that would have to be encoded.
        Some((name, area)) => (!came.contains('%') && below(came, name) && !stray(came)).then_some(area),
        None => (!came.contains('%') && !stray(came)).then_some(Area::Pages),
    }
}

fn below(path: &str, name: &str) -> bool {
    path.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::api("/api/record", Some(Area::Api))]
    #[case::uploads("/tus/", Some(Area::Uploads))]
    #[case::folders("/dav", Some(Area::Folders))]
    #[case::a_name_in_a_folder("/dav/K%69te%20one/a%2Fb.jpg", Some(Area::Folders))]
    #[case::first_page("/", Some(Area::Pages))]
    #[case::page("/library", Some(Area::Pages))]
    #[case::like_the_api("/apiary", Some(Area::Pages))]
    #[case::encoded_letter("/api/%72ecord", None)]
    #[case::encoded_prefix("/%61pi/record", None)]
    #[case::encoded_prefix_of_folders("/d%61v/x", None)]
    #[case::encoded_slash("/api%2Frecord", None)]
    #[case::upper_case("/API/record", None)]
    #[case::upper_case_folders("/Dav/x", None)]
    #[case::encoded_twice("/%2561pi/record", None)]
    #[case::doubled_slash("/api//record", None)]
    #[case::before_it("//api/record", None)]
    #[case::dot("/api/./record", None)]
    #[case::up("/library/../api/record", None)]
    #[case::encoded_up("/library/%2e%2e/api/record", None)]
    #[case::backslash("/x\\..\\api", None)]
    fn an_address_has_one_spelling(#[case] came: &str, #[case] expected: Option<Area>) {
        let decoded = actix_web::dev::Url::new(came.replace('\\', "%5C").parse().unwrap());
        assert_eq!(place(came, decoded.path()), expected, "{came} is routed as {}", decoded.path());
    }
}
