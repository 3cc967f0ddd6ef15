//! Every command that the README and the docs show works as written, against the demo.

use crate::support::{Service, repository, vastrelay};
use std::path::Path;
use std::process::{Command, Output, Stdio};
use vastrelay_specimen::gguf::Precision;

/// Returns the commands of a file's console blocks, in order, with their continuation lines and without comments. Set-up is
/// left out.
fn commands(file: &str) -> Vec<String> {
    let text = std::fs::read_to_string(repository().join(file)).unwrap();
    let mut commands: Vec<String> = Vec::new();
    for block in text.split("```console\n").skip(1) {
        let block = block.split("```").next().unwrap();
        for line in block.lines() {
            match line.strip_prefix("$ ") {
                Some(command) => commands.push(command.split("  #").next().unwrap().trim().to_owned()),
                // The rest of a command that goes on, or what it prints.
                None if commands
                    .last()
                    .is_some_and(|command| command.matches('\'').count() % 2 == 1) =>
                {
                    let command = commands.last_mut().unwrap();
                    command.push('\n');
                    command.push_str(line);
                }
                None => {}
            }
        }
    }
    commands.retain(|command| !command.starts_with("cargo xtask"));
    commands
}

/// Makes load tests short: how long one lasts is not what is tested.
fn shortened(command: &str) -> String {
    let mut words: Vec<&str> = command.split(' ').collect();
    for at in 1..words.len() {
        if ["--duration", "--each"].contains(&words[at - 1]) {
            words[at] = "1s";
        }
    }
    words.join(" ")
}

/// A folder with what the docs take for granted.
fn prepare(folder: &Path) {
    let demo = repository().join("demo/models/pierdesk-1");
    std::fs::create_dir(folder.join("my-model")).unwrap();
    for file in std::fs::read_dir(demo).unwrap() {
        let file = file.unwrap();
        std::fs::copy(file.path(), folder.join("my-model").join(file.file_name())).unwrap();
    }
    let file = vastrelay_specimen::gguf::of_folder(&folder.join("my-model"), Precision::F32).unwrap();
    std::fs::write(folder.join("my-model.gguf"), file).unwrap();
    let text = "The desk opens at eight. The last boat back leaves at 18:00. ".repeat(40);
    std::fs::write(folder.join("desk.toml"), "model = \"my-model\"\n").unwrap();
    std::fs::write(folder.join("notes.txt"), &text).unwrap();
    std::fs::write(folder.join("letter.txt"), text).unwrap();
}

/// Runs a command in a shell, with our own binary on its path.
fn run(service: &Service, folder: &Path, command: &str) -> Output {
    let program = vastrelay().get_program().to_owned();
    let path = std::env::var("PATH").unwrap();
    let programs = Path::new(&program).parent().unwrap().display();
    Command::new("sh")
        .args(["-c", &command.replace("http://127.0.0.1:7411", &service.url)])
        .env("PATH", format!("{programs}:{path}"))
        .env("VASTRELAY_URL", &service.url)
        .env("XDG_RUNTIME_DIR", service.data.path())
        .env_remove("VASTRELAY_KEY")
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .unwrap()
}

/// Runs a file's commands, one after the other, in a folder of their own.
fn works(file: &str, least: usize, endpoints: &[&str]) {
    let folder = tempfile::tempdir().unwrap();
    prepare(folder.path());
    let service = Service::start(endpoints);
    let commands = commands(file);
    assert!(commands.len() >= least, "{commands:?}");
    for command in &commands {
        if let Some(words) = command.strip_prefix("vastrelay start ") {
            // It serves until it is stopped; the paths are those of the folder.
            let folder = format!("{}/", folder.path().display());
            let words = words
                .replace("=./", &format!("={folder}"))
                .replace(" ./", &format!(" {folder}"));
            drop(Service::start(&words.split(' ').collect::<Vec<_>>()));
            continue;
        }
        let output = run(&service, folder.path(), &shortened(command));
        let said = String::from_utf8_lossy(&output.stderr);
        // Here it has no terminal to draw on.
        let is_fine = output.status.success() || command == "vastrelay watch" && said.contains("not a terminal");
        assert!(
            is_fine,
            "{command}\n{said}\n{}",
            String::from_utf8_lossy(&output.stdout)
        );
    }
}

#[test]
fn every_command_of_the_readme_works() {
    let demo = repository().join("demo");
    let spec = |name: &str| demo.join(name).display().to_string();
    works(
        "README.md",
        8,
        &["--spec", &spec("pierdesk.toml"), &spec("lighthouse.toml")],
    );
}

#[test]
fn every_command_of_the_docs_works() {
    works("docs/guide.md", 25, &["--demo"]);
    works("docs/operations.md", 0, &["--demo"]);
    works("docs/reference.md", 0, &["--demo"]);
}
