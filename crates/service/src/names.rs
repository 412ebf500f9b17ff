//! The names under which this server answers.
//!
//! Another site can give its own name this server's address (DNS rebinding); a browser then takes its scripts for the console's. So a
//! request has to ask for a name that is known to be this server's. An address in figures is nobody's name, and is always answered.

use std::{collections::HashSet, net::IpAddr};

use actix_web::{
    Error, ResponseError,
    body::{EitherBody, MessageBody},
    dev::{ServiceRequest, ServiceResponse},
    http::header::HOST,
    middleware::Next,
    web,
};
use ypogeion_wire::problem::ProblemType;

use crate::{failure::Failure, settings::Settings};

/// What home networks put behind a machine's name: mDNS (RFC 6762), RFC 8375, the name that ICANN has set aside for private use, and what
/// routers have long been using. None of them can be bought by anybody.
const HOME: [&str; 6] = ["local", "home.arpa", "internal", "lan", "home", "localdomain"];

/// The names.
#[derive(Clone, Debug)]
pub struct Names(HashSet<String>);

impl Names {
    /// This machine's own name in its home, the one that devices are told, and what the settings add.
    pub fn of(settings: &Settings, machine: &str) -> Self {
        let machine = machine.to_ascii_lowercase();
        let first = machine.split('.').next().unwrap_or_default().to_owned();
        let told = settings.advertise.as_ref().and_then(|url| url.host_str()).map(str::to_ascii_lowercase);
        let mut names: HashSet<String> = settings.names.iter().map(|n| n.to_ascii_lowercase()).chain(told).collect();
        names.extend(HOME.iter().map(|end| format!("{first}.{end}")));
        names.extend([machine, first, "localhost".to_owned()]);
        Names(names)
    }

    /// Whether a request that says it wants this host (with or without a port) is answered.
    pub fn know(&self, said: &str) -> bool {
        let host = match said.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
            Some((six, _)) => return six.parse::<std::net::Ipv6Addr>().is_ok(),
            None => said.rsplit_once(':').map_or(said, |(host, _)| host),
        };
        let host = host.strip_suffix('.').unwrap_or(host);
        host.parse::<IpAddr>().is_ok() || self.0.contains(&host.to_ascii_lowercase())
    }
}

/// Refuses what is asked of a name that is not this server's. A request without any comes from no browser.
pub async fn only_ours(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<EitherBody<impl MessageBody>>, Error> {
    let names = request.app_data::<web::Data<Names>>().cloned();
    let header = request.headers().get(HOST).map(|v| v.to_str().unwrap_or_default().to_owned());
    // Both can be said, and both count.
    let said = header.into_iter().chain(request.uri().authority().map(ToString::to_string));
    let stranger = said.into_iter().find(|host| !names.as_ref().is_some_and(|names| names.know(host)));
    match stranger {
        None => Ok(next.call(request).await?.map_into_left_body()),
        Some(host) => {
            let shown: String = host.chars().filter(|c| !c.is_control()).take(100).collect();
            let failure = Failure::new(
                ProblemType::OtherHost,
                format!("This server is not known as {shown}. If that is its name, add it to \"names\" in the settings file."),
            );
            Ok(request.into_response(failure.error_response().map_into_right_body()))
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("127.0.0.1:8740", true)]
    #[case("192.168.1.20", true)]
    #[case("[fd00::20]:8743", true)]
    #[case("[::1]", true)]
    #[case("localhost:8740", true)]
    #[case("LocalHost", true)]
    #[case("attic", true)]
    #[case("attic.local:8743", true)]
    #[case("Attic.Local.", true)]
    #[case("attic.example.org", true)]
    #[case("pictures.example.org:443", true)]
    #[case("photos.example.net", true)]
    #[case("example.org", false)]
    #[case("attic.example.com", false)]
    #[case("attic.local.example.com", false)]
    #[case("127.0.0.1.example.com", false)]
    #[case("127.0.0.1.", true)]
    #[case("[attic]", false)]
    #[case("[::1", false)]
    #[case("localhost.example.com:8740", false)]
    #[case("", false)]
    fn a_name_is_this_servers_or_it_is_not(#[case] said: &str, #[case] ours: bool) {
        let mut settings = Settings::for_tests();
        settings.advertise = Some("https://pictures.example.org".parse().unwrap());
        settings.names = vec!["Photos.example.net".into()];
        assert_eq!(Names::of(&settings, "Attic.example.org").know(said), ours, "{said}");
    }
}
