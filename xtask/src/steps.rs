//! The steps, each a few commands.

use crate::circles::circles;
use crate::names::forbidden;
use crate::rooms::disorder;
use std::path::{Path, PathBuf};
use std::process::Command;

/// Done, or what went wrong.
pub type Outcome = Result<(), String>;

/// Builds everything and starts the service with demo data; more words go to `vastrelay start`.
pub fn demo(words: &[&str]) -> Outcome {
    console()?;
    run(Command::new("cargo").args(["install", "--locked", "--force", "--path", "crates/cli"]))?;
    let folder = installed_programs();
    println!("\n`vastrelay` is in {}. In another terminal:\n", folder.display());
    println!("  vastrelay ask --model pierdesk \"When is the last boat back on Sunday?\"\n");
    run(Command::new(folder.join("vastrelay"))
        .args([
            "start",
            "--root",
            "demo",
            "--spec",
            "demo/pierdesk.toml",
            "demo/lighthouse.toml",
        ])
        .args(words))
}

/// Installs what the tests need and runs them; more words go to `cargo test`.
pub fn test(words: &[&str]) -> Outcome {
    install_debian_packages()?;
    console()?;
    run(npm().args(["run", "test"]))?;
    run(Command::new("cargo").args(["test", "--workspace"]).args(words))
}

/// Measures kernels and engine, and unless there are words about these, the service too.
pub fn bench(words: &[&str]) -> Outcome {
    bench_engine(words)?;
    if words.is_empty() { bench_service() } else { Ok(()) }
}

/// Measures kernels and engine against the machine's limits, and against the same model in JAX where there is Python.
fn bench_engine(words: &[&str]) -> Outcome {
    let run_it = ["run", "--quiet", "--release", "-p", "vastrelay-bench", "--"];
    let mut command = Command::new("cargo");
    command.args(run_it).args(words);
    if !words.contains(&"--quick") {
        match jax() {
            Ok(python) => drop(command.env("VASTRELAY_JAX_PYTHON", python)),
            Err(error) => eprintln!("without JAX: {error}"),
        }
    }
    run(&mut command)
}

/// Installs JAX into an environment of its own; returns its Python.
fn jax() -> Result<PathBuf, String> {
    let folder = root().join("target/jax");
    let python = folder.join("bin/python");
    let wanted = root().join("benches/jax/requirements.txt");
    let installed = folder.join("installed");
    if !is_newer(&installed, &wanted) {
        run(Command::new("python3").args(["-m", "venv"]).arg(&folder))?;
        run(Command::new(&python)
            .args(["-m", "pip", "install", "--quiet", "-r"])
            .arg(&wanted))?;
        std::fs::write(installed, "").map_err(|error| error.to_string())?;
    }
    Ok(python)
}

/// Measures the service: what attacks do to other callers, whether load tests measure what happened, and whether the batch
/// strip is smooth.
fn bench_service() -> Outcome {
    install_debian_packages()?;
    console()?;
    run(Command::new("cargo").args(["bench", "-p", "vastrelay", "-p", "vastrelay-service", "--benches"]))
}

/// Grades the demo model.
pub fn verify() -> Outcome {
    grade("vastrelay-demo-grade", &[])
}

/// Prints what each precision of a model costs.
pub fn verify_weights(words: &[&str]) -> Outcome {
    grade("precisions", words)
}

fn grade(program: &str, words: &[&str]) -> Outcome {
    let run_it = ["run", "--quiet", "--release", "-p", "vastrelay-demo-grade", "--bin"];
    run(Command::new("cargo").args(run_it).args([program, "--"]).args(words))
}

/// Builds the console into `console/dist`, which the service's binary takes in.
pub fn console() -> Outcome {
    let lock = root().join("console/package-lock.json");
    let installed = root().join("console/node_modules/.package-lock.json");
    if !is_newer(&installed, &lock) {
        run(npm().args(["ci", "--no-audit", "--no-fund"]))?;
    }
    run(npm().args(["run", "build"]))
}

/// Makes the console's types anew from the description of the interface.
pub fn types() -> Outcome {
    let words = ["run", "--quiet", "-p", "vastrelay-service", "--example", "description"];
    let output = Command::new("cargo").args(words).current_dir(root()).output();
    let output = output.map_err(|error| format!("cannot run cargo: {error}"))?;
    if !output.status.success() {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned());
    }
    std::fs::write(root().join("console/openapi.json"), output.stdout).map_err(|error| error.to_string())?;
    run(npm().args(["run", "types"]))
}

/// Makes sure that no files use each other in a circle.
fn no_circles() -> Outcome {
    let mut found = circles(&root().join("crates"))?;
    found.extend(circles(&root())?);
    if found.is_empty() {
        return Ok(());
    }
    let list = found.join("\n  ");
    Err(format!(
        "files use each other in a circle; what both need wants a file of its own:\n  {list}"
    ))
}

/// Makes sure that crates name nothing that they must know nothing about.
fn no_forbidden_names() -> Outcome {
    match forbidden(&root().join("crates"))? {
        found if found.is_empty() => Ok(()),
        found => Err(found.join("\n")),
    }
}

/// Makes sure that rooms are few and use each other in one direction.
fn rooms_in_order() -> Outcome {
    match disorder(&root().join("crates"))? {
        found if found.is_empty() => Ok(()),
        found => Err(found.join("\n")),
    }
}

/// Checks form and types of everything.
pub fn lint() -> Outcome {
    console()?;
    no_circles()?;
    rooms_in_order()?;
    no_forbidden_names()?;
    run(npm().args(["run", "lint"]))?;
    run(Command::new("cargo").args(["fmt", "--all", "--check"]))?;
    run(Command::new("cargo").args(["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"]))?;
    // A workspace of their own, as they want instrumented builds; here they are only kept from falling behind.
    let fuzz = [
        "clippy",
        "--locked",
        "--manifest-path",
        "fuzz/Cargo.toml",
        "--target-dir",
        "target",
    ];
    run(Command::new("cargo").args(fuzz).args(["--", "-D", "warnings"]))?;
    run(Command::new("cargo")
        .args(["doc", "--workspace", "--no-deps", "--quiet"])
        .env("RUSTDOCFLAGS", "-D warnings"))
}

/// Installs what the tests need of Debian unless it is there: a browser, the scraper, Python environments.
fn install_debian_packages() -> Outcome {
    let makes_environments = || {
        let words = ["-c", "import ensurepip, venv"];
        Command::new("python3")
            .args(words)
            .output()
            .is_ok_and(|output| output.status.success())
    };
    let packages = [
        ("chromium", on_path("chromium")),
        ("chromium-driver", on_path("chromedriver")),
        ("prometheus", on_path("prometheus") && on_path("promtool")),
        ("python3-venv", makes_environments()),
    ];
    let missing: Vec<&str> = packages
        .into_iter()
        .filter(|(_, there)| !there)
        .map(|(name, _)| name)
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    let sudo: &[&str] = if on_path("sudo") { &["sudo"] } else { &[] };
    let apt = |words: &[&str]| {
        let line: Vec<&str> = sudo.iter().chain(&["apt-get"]).chain(words).copied().collect();
        run(Command::new(line[0])
            .args(&line[1..])
            .env("DEBIAN_FRONTEND", "noninteractive"))
    };
    apt(&["update", "--quiet"])?;
    apt(&[
        &["install", "--quiet", "--yes", "--no-install-recommends"],
        missing.as_slice(),
    ]
    .concat())
}

/// Returns the folder that `cargo install` puts programs into.
fn installed_programs() -> PathBuf {
    let named = ["CARGO_INSTALL_ROOT", "CARGO_HOME"]
        .iter()
        .find_map(std::env::var_os)
        .map(PathBuf::from);
    let home = || PathBuf::from(std::env::var_os("HOME").unwrap_or_default()).join(".cargo");
    named.unwrap_or_else(home).join("bin")
}

fn on_path(name: &str) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).any(|folder| folder.join(name).is_file())
}

fn is_newer(file: &Path, than: &Path) -> bool {
    let modified = |path: &Path| path.metadata().and_then(|metadata| metadata.modified());
    matches!((modified(file), modified(than)), (Ok(a), Ok(b)) if a >= b)
}

fn npm() -> Command {
    let mut npm = Command::new("npm");
    npm.arg("--prefix").arg(root().join("console"));
    npm
}

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .expect("xtask lies in the workspace")
        .to_owned()
}

pub(crate) fn run(command: &mut Command) -> Outcome {
    let shown = format!("{command:?}").replace('"', "");
    eprintln!("$ {shown}");
    let status = command
        .current_dir(root())
        .status()
        .map_err(|error| format!("cannot run {shown}: {error}"))?;
    if status.success() {
        Ok(())
    } else {
        Err(format!("{shown} failed: {status}"))
    }
}
