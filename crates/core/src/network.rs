//! Addresses of the own network.

use std::net::IpAddr;

/// Whether an address is one of this machine or of a private network: what is sent there in the clear is read by nobody further away.
///
/// Loopback and link-local addresses; IPv4: RFC 1918; IPv6: unique local addresses, RFC 4193.
pub fn is_private(address: IpAddr) -> bool {
    match address.to_canonical() {
        IpAddr::V4(four) => four.is_loopback() || four.is_private() || four.is_link_local(),
        IpAddr::V6(six) => six.is_loopback() || six.is_unique_local() || six.is_unicast_link_local(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("127.0.0.1", true)]
    #[case("10.1.2.3", true)]
    #[case("172.16.0.1", true)]
    #[case("172.32.0.1", false)]
    #[case("192.168.178.20", true)]
    #[case("169.254.7.7", true)]
    #[case("100.64.0.1", false)]
    #[case("8.8.8.8", false)]
    #[case("0.0.0.0", false)]
    #[case("::1", true)]
    #[case("fd12::20", true)]
    #[case("fe80::1", true)]
    #[case("2001:db8::1", false)]
    #[case("::ffff:192.168.1.1", true)]
    #[case("::ffff:8.8.8.8", false)]
    fn private_is_what_the_standards_say(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(is_private(address.parse().unwrap()), expected, "{address}");
    }
}
