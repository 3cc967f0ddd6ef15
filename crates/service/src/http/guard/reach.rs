//! From where the service can be reached, and under which names.

use std::net::{IpAddr, SocketAddr};

/// Names and pages that requests may come with, and whether they need a key.
///
/// A page in somebody's browser can send requests to this machine, under a name of its own that resolves to it. So only
/// known names are answered, and only the service's own pages may call it, unless others are named.
#[derive(Clone, Debug)]
pub struct Reach {
    /// Whether callers need a key.
    pub wants_key: bool,
    address: IpAddr,
    hosts: Vec<String>,
    origins: Vec<String>,
}

impl Reach {
    /// Returns the reach of a service that listens at an address, answers to more names than that, and may be called by
    /// pages of other origins.
    pub fn new(address: SocketAddr, require_key: bool, hosts: Vec<String>, origins: Vec<String>) -> Reach {
        Reach {
            wants_key: require_key || !address.ip().is_loopback(),
            address: address.ip(),
            hosts: hosts.into_iter().map(|host| host.to_lowercase()).collect(),
            origins: origins.into_iter().map(|origin| origin.to_lowercase()).collect(),
        }
    }

    /// Returns origins whose pages may call.
    pub fn origins(&self) -> &[String] {
        &self.origins
    }

    /// Returns whether requests to this `Host` are answered.
    pub(crate) fn allows_host(&self, host: &str) -> bool {
        let name = without_port(host).to_lowercase();
        if self.hosts.contains(&name) {
            return true;
        }
        // An address cannot be made to resolve to another one, so it is no name of somebody else's.
        match name.trim_matches(['[', ']']).parse::<IpAddr>() {
            Ok(ip) => ip.is_loopback() || ip == self.address || self.address.is_unspecified(),
            Err(_) => name == "localhost" && (self.address.is_loopback() || self.address.is_unspecified()),
        }
    }

    /// Returns whether a page of this `Origin` may call the service as `host`.
    pub(crate) fn allows_origin(&self, origin: &str, host: &str) -> bool {
        let own = origin
            .split_once("://")
            .is_some_and(|(_, rest)| rest.eq_ignore_ascii_case(host));
        own || self.origins.iter().any(|allowed| allowed.eq_ignore_ascii_case(origin))
    }
}

fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) && !name.ends_with(':') => name,
        _ => host,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reach(address: &str, hosts: &[&str]) -> Reach {
        let hosts = hosts.iter().map(|host| (*host).to_owned()).collect();
        Reach::new(
            address.parse().unwrap(),
            false,
            hosts,
            vec!["https://Desk.example".into()],
        )
    }

    #[test]
    fn names_of_others_are_not_answered() {
        let here = reach("127.0.0.1:7411", &["Relay.example"]);
        for host in [
            "localhost:7411",
            "127.0.0.1:7411",
            "127.0.0.1",
            "[::1]:7411",
            "LOCALHOST",
            "relay.example:80",
        ] {
            assert!(here.allows_host(host), "{host}");
        }
        for host in [
            "",
            "rebound.example:7411",
            "10.0.0.8:7411",
            "localhost.example",
            "127.0.0.1.example",
        ] {
            assert!(!here.allows_host(host), "{host}");
        }
        let wide = reach("0.0.0.0:7411", &[]);
        assert!(wide.allows_host("10.0.0.8:7411") && !wide.allows_host("rebound.example"));
        assert!(wide.wants_key && !here.wants_key);
    }

    #[test]
    fn only_own_pages_and_named_ones_may_call() {
        let here = reach("127.0.0.1:7411", &[]);
        assert!(here.allows_origin("http://localhost:7411", "localhost:7411"));
        assert!(here.allows_origin("https://desk.example", "localhost:7411"));
        assert!(here.allows_origin("HTTPS://desk.Example", "localhost:7411"));
        for origin in ["http://localhost:3000", "null", "https://desk.example.other"] {
            assert!(!here.allows_origin(origin, "localhost:7411"), "{origin}");
        }
    }
}
