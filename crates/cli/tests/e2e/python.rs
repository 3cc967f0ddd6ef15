//! The official OpenAI client for Python, unmodified, in an environment of its own.

use crate::support::{Service, repository};
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;

/// The client's version that is tested.
const CLIENT: &str = "openai==2.8.1";

/// Returns a Python that has the client, installing it once; `None` where there is no Python.
fn python() -> Option<PathBuf> {
    if !Command::new("python3")
        .arg("--version")
        .output()
        .is_ok_and(|output| output.status.success())
    {
        return None;
    }
    let folder = repository().join("target").join("test-python");
    let python = folder.join("bin/python");
    let has_client = || {
        Command::new(&python)
            .args(["-c", "import openai"])
            .output()
            .is_ok_and(|output| output.status.success())
    };
    if !has_client() {
        let made = Command::new("python3")
            .args(["-m", "venv", "--clear"])
            .arg(&folder)
            .status()
            .unwrap();
        assert!(
            made.success(),
            "python3 cannot make an environment; Debian's python3-venv lets it"
        );
        let installed = Command::new(&python)
            .args(["-m", "pip", "install", "--quiet", CLIENT])
            .status()
            .unwrap();
        assert!(installed.success(), "{CLIENT} cannot be installed");
        assert!(has_client());
    }
    Some(python)
}

#[test]
fn the_official_client_lists_chats_streams_completes_and_gets_typed_errors() {
    let Some(python) = python() else {
        // Not by a macro, whose output the test runner would keep to itself.
        let _ = writeln!(
            std::io::stderr(),
            "SKIPPED: there is no python3 here, so the official client was not tried"
        );
        return;
    };
    let service = Service::demo(&["--width", "1", "--queue-depth", "2"]);
    let script = repository().join("crates/cli/tests/e2e/client.py");
    let output = Command::new(python).arg(script).arg(&service.url).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(
        output.status.success(),
        "{said}\n{}",
        String::from_utf8_lossy(&output.stderr)
    );
    assert!(said.ends_with("all good\n"), "{said}");
}
