//! Official clients and an agent framework's connector, unmodified, in environments of their own.

use crate::support::{Service, repository};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;

/// Returns a folder beside this file.
pub fn folder() -> PathBuf {
    repository().join("crates/cli/tests/e2e/clients")
}

fn succeeds(command: &mut Command) -> bool {
    command.output().is_ok_and(|output| output.status.success())
}

fn run(command: &mut Command) {
    let output = command.output().unwrap();
    let said = [output.stdout, output.stderr].map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    assert!(output.status.success(), "{command:?}\n{}\n{}", said[0], said[1]);
}

/// Returns the folder of a Python environment's programs, made once and again when what it should hold has changed.
pub fn python() -> &'static Path {
    static PROGRAMS: OnceLock<PathBuf> = OnceLock::new();
    PROGRAMS.get_or_init(|| {
        let environment = repository().join("target").join("test-python");
        let programs = environment.join("bin");
        let wanted = folder().join("requirements.txt");
        let has = environment.join("requirements.txt");
        let text = std::fs::read_to_string(&wanted).unwrap();
        if std::fs::read_to_string(&has).is_ok_and(|has| has == text)
            && succeeds(Command::new(programs.join("python")).arg("-V"))
        {
            return programs;
        }
        run(Command::new("python3")
            .args(["-m", "venv", "--clear"])
            .arg(&environment));
        let mut install = Command::new(programs.join("python"));
        run(install
            .args(["-m", "pip", "install", "--quiet", "--disable-pip-version-check", "-r"])
            .arg(&wanted));
        std::fs::write(has, text).unwrap();
        programs
    })
}

/// Returns a service with room for one and a queue of two, and a key.
fn narrow() -> Service {
    let mut service = Service::demo(&["--width", "1", "--queue-depth", "2"]);
    let made = service.client_json(&["key", "create", "--name", "client"]);
    service.key = Some(made["key"].as_str().unwrap().to_owned());
    service
}

fn all_good(command: &mut Command, service: &Service) {
    let output = command
        .arg(&service.url)
        .arg(service.key.as_ref().unwrap())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(
        output.status.success() && said.ends_with("all good\n"),
        "{said}\n{error}"
    );
}

#[test]
fn the_official_python_client_does_all_that_applications_do() {
    let service = narrow();
    all_good(
        Command::new(python().join("python")).arg(folder().join("client.py")),
        &service,
    );
}

#[test]
fn an_agent_frameworks_connector_does_all_that_agents_do() {
    let service = narrow();
    all_good(
        Command::new(python().join("python")).arg(folder().join("agent.py")),
        &service,
    );
}

#[test]
fn the_official_javascript_client_does_all_that_applications_do() {
    let place = repository().join("target").join("test-javascript");
    std::fs::create_dir_all(&place).unwrap();
    for file in ["package.json", "package-lock.json", "client.mjs"] {
        std::fs::copy(folder().join("javascript").join(file), place.join(file)).unwrap();
    }
    run(Command::new("npm")
        .args(["ci", "--no-audit", "--no-fund", "--prefix"])
        .arg(&place));
    all_good(Command::new("node").arg(place.join("client.mjs")), &narrow());
}
