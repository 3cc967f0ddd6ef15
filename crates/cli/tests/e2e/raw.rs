//! HTTP by hand: what no well-behaved client would send.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::time::Duration;

/// A connection to a service.
pub struct Raw(TcpStream);

impl Raw {
    /// Connects to a service by its URL.
    pub fn connect(url: &str) -> Raw {
        let stream = TcpStream::connect(url.strip_prefix("http://").unwrap()).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(90))).unwrap();
        Raw(stream)
    }

    /// Sends bytes.
    pub fn send(&mut self, bytes: impl AsRef<[u8]>) -> &mut Raw {
        // The service may have answered and closed already.
        let _ = self.0.write_all(bytes.as_ref());
        self
    }

    /// Closes the sending half.
    pub fn close_sending(&mut self) -> &mut Raw {
        // Nothing is left to be closed where the service has closed already.
        let _ = self.0.shutdown(Shutdown::Write);
        self
    }

    /// Reads until this text has come, or the connection is closed.
    pub fn until(&mut self, text: &str) -> String {
        let mut all = Vec::new();
        let mut buffer = [0; 4096];
        while !String::from_utf8_lossy(&all).contains(text) {
            match self.0.read(&mut buffer) {
                Ok(0) | Err(_) => break,
                Ok(count) => all.extend_from_slice(&buffer[..count]),
            }
        }
        String::from_utf8_lossy(&all).into_owned()
    }

    /// Reads until the connection is closed.
    pub fn rest(&mut self) -> String {
        let mut all = Vec::new();
        let _ = self.0.read_to_end(&mut all);
        String::from_utf8_lossy(&all).into_owned()
    }

    /// Reads an answer's head and returns its status.
    pub fn status(&mut self) -> u16 {
        let head = self.until("\r\n");
        head.get(9..12)
            .and_then(|status| status.parse().ok())
            .unwrap_or_else(|| panic!("no answer: {head:?}"))
    }
}

/// Returns a request with a JSON body, and more header lines.
pub fn request(method: &str, target: &str, headers: &[String], body: &str) -> String {
    let more: String = headers.iter().map(|line| format!("{line}\r\n")).collect();
    let length = if body.is_empty() {
        String::new()
    } else {
        format!("content-length: {}\r\n", body.len())
    };
    format!("{method} {target} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n{more}{length}\r\n{body}")
}
