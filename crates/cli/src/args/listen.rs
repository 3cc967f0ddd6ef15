//! The address that the service listens on.

use std::net::{SocketAddr, ToSocketAddrs};

/// Reads an address with a port; a host's name is looked up, and a port alone is one of this machine.
pub fn listen_address(text: &str) -> Result<SocketAddr, String> {
    let wrong = || format!("`{text}` is no address to listen on; write 127.0.0.1:7411, localhost:7411 or a port alone");
    if let Ok(port) = text.trim_start_matches(':').parse::<u16>() {
        return Ok(SocketAddr::from(([127, 0, 0, 1], port)));
    }
    if let Ok(address) = text.parse() {
        return Ok(address);
    }
    if text.contains("://") || !text.contains(':') {
        return Err(wrong());
    }
    let mut found: Vec<SocketAddr> = text.to_socket_addrs().map_err(|_| wrong())?.collect();
    // A client of this machine tries both; most expect the older kind.
    found.sort_by_key(SocketAddr::is_ipv6);
    found.first().copied().ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_or_a_port_alone_is_an_address() {
        assert_eq!(listen_address("127.0.0.1:7411").unwrap().port(), 7411);
        assert_eq!(listen_address("[::1]:80").unwrap().port(), 80);
        let local: SocketAddr = "127.0.0.1:7000".parse().unwrap();
        for text in ["localhost:7000", "7000", ":7000"] {
            assert_eq!(listen_address(text), Ok(local), "{text}");
        }
        for text in [
            "",
            "localhost",
            "http://localhost:7000",
            "nowhere.invalid:7000",
            "127.0.0.1:99999",
        ] {
            assert!(listen_address(text).unwrap_err().contains("127.0.0.1:7411"), "{text}");
        }
    }
}
