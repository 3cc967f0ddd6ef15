//! A service of the benchmark's own, and HTTP without a client's comforts.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;

/// A running service; dropping it kills the process.
pub struct Service {
    child: Child,
    /// Where it listens.
    pub address: String,
    /// A key that may manage it.
    key: String,
    /// Where its data is, and anything else it needs.
    _folder: tempfile::TempDir,
}

impl Service {
    /// Starts a service with more words, for which a folder is there.
    pub fn start(folder: tempfile::TempDir, words: &[&str]) -> Service {
        Service::of(folder, |data| {
            let mut program = Command::new(env!("CARGO_BIN_EXE_vastrelay"));
            program.args([
                "start",
                "--demo",
                "--listen",
                "127.0.0.1:0",
                "--workers-stay",
                "0s",
                "--data",
            ]);
            program.arg(data).args(words);
            program
        })
    }

    /// Starts a program that says when it is ready, with a folder for its data.
    pub fn of(folder: tempfile::TempDir, program: impl FnOnce(&Path) -> Command) -> Service {
        let data = folder.path().join("data");
        let key = manager(&data);
        let mut child = program(&data)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the service starts");
        let mut said = BufReader::new(child.stdout.take().expect("it is piped"));
        let mut line = String::new();
        while !line.starts_with("ready: http://") {
            line.clear();
            assert!(
                said.read_line(&mut line).expect("it can be read") > 0,
                "the service ended"
            );
        }
        thread::spawn(move || std::io::copy(&mut said, &mut std::io::sink()));
        let address = line["ready: http://".len()..]
            .split(' ')
            .next()
            .expect("an address")
            .to_owned();
        Service {
            child,
            address,
            key,
            _folder: folder,
        }
    }

    /// Returns its resident memory, in bytes.
    pub fn resident(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmRSS:"));
        line.and_then(|line| line.split_whitespace().nth(1)?.parse::<u64>().ok())
            .unwrap_or(0)
            * 1024
    }

    /// Sends a request with a key that may manage, and returns the answer.
    pub fn request(&self, method: &str, path: &str, body: &str) -> String {
        request(&self.address, &self.key, method, path, body)
    }

    /// Begins a load test with more words; its summary goes to standard output as JSON.
    pub fn load(&self, words: &[&str]) -> Child {
        Command::new(env!("CARGO_BIN_EXE_vastrelay"))
            .args(["load", "run", "--model", "pierdesk", "--forget", "--json", "--url"])
            .arg(format!("http://{}", self.address))
            .args(words)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("the load test starts")
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Makes a key that may manage the service with this data.
pub fn manager(data: &Path) -> String {
    let words = ["key", "create", "--name", "bench", "--scope", "manage", "--data"];
    let made = Command::new(env!("CARGO_BIN_EXE_vastrelay"))
        .args(words)
        .arg(data)
        .output();
    let made = made.expect("the program starts");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    String::from_utf8(made.stdout).expect("a key is text").trim().to_owned()
}

/// Sends a request and returns the answer.
pub fn request(address: &str, key: &str, method: &str, path: &str, body: &str) -> String {
    let mut stream = TcpStream::connect(address).expect("the service listens");
    let length = body.len();
    let head = format!(
        "{method} {path} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {key}\r\nconnection: close\r\ncontent-length: {length}\r\n\r\n"
    );
    let mut answer = String::new();
    if stream
        .write_all(head.as_bytes())
        .and_then(|()| stream.write_all(body.as_bytes()))
        .is_ok()
    {
        let _ = stream.read_to_string(&mut answer);
    }
    answer
}
