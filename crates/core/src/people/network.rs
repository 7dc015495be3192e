//! Which network somebody asks from: what limits are counted by, and what a log may keep.

use std::net::{IpAddr, Ipv6Addr};

/// The network that one household or one person commonly has: an IPv4 address, or the first
/// 64 bits of an IPv6 address (RFC 6177 §2 gives every site at least that many to itself).
/// An IPv4 address written as IPv6 (RFC 4291 §2.5.5.2) is that IPv4 address.
#[must_use]
pub fn of(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(long) => {
            let [a, b, c, d, ..] = long.segments();
            IpAddr::V6(Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0))
        }
        short => short,
    }
}

/// An address shortened so that it names a neighbourhood and no person: 24 bits of IPv4, 48 of
/// IPv6.
#[must_use]
pub fn shortened(address: IpAddr) -> String {
    match address.to_canonical() {
        IpAddr::V4(short) => {
            let [a, b, c, _] = short.octets();
            format!("{a}.{b}.{c}.0/24")
        }
        IpAddr::V6(long) => {
            let [a, b, c, ..] = long.segments();
            format!("{}/48", Ipv6Addr::new(a, b, c, 0, 0, 0, 0, 0))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_site_of_many_addresses_is_one_network() {
        let ip = |text: &str| text.parse::<IpAddr>().unwrap();
        assert_eq!(of(ip("2001:db8:1:2:aaaa::1")), of(ip("2001:db8:1:2::9")));
        assert_ne!(of(ip("2001:db8:1:2::1")), of(ip("2001:db8:1:3::1")));
        assert_eq!(of(ip("::ffff:203.0.113.9")), ip("203.0.113.9"));
        assert_eq!(shortened(ip("203.0.113.9")), "203.0.113.0/24");
        assert_eq!(shortened(ip("2001:db8:1:2::9")), "2001:db8:1::/48");
    }
}
