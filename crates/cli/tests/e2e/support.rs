//! A service of one's own for each test.

use reqwest::{Method, RequestBuilder};
use serde_json::{Value, json};
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdout, Command, ExitStatus, Output, Stdio};
use tempfile::TempDir;

/// A running service; dropping it kills the process.
pub struct Service {
    child: Child,
    pub url: String,
    /// What it printed until it was ready.
    pub greeting: String,
    /// Sent with every call, once it is set.
    pub key: Option<String>,
    stdout: BufReader<ChildStdout>,
    /// Where it keeps its database.
    pub data: TempDir,
}

/// Returns the binary.
pub fn vastrelay() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_vastrelay"));
    command.env_remove("VASTRELAY_URL").env_remove("VASTRELAY_KEY");
    command
}

/// Returns the repository's folder.
pub fn repository() -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    folder.canonicalize().unwrap()
}

impl Service {
    /// Starts a service with the demo model.
    pub fn demo(words: &[&str]) -> Service {
        Service::start(&[&["--demo"], words].concat())
    }

    /// Starts a service on a free port and waits until it is ready.
    pub fn start(words: &[&str]) -> Service {
        Service::start_in(
            tempfile::tempdir().unwrap(),
            &[&["--listen", "127.0.0.1:0"], words].concat(),
        )
    }

    /// Starts a service that may have this much memory, in KiB.
    pub fn limited(memory: &str, words: &[&str]) -> Service {
        let mut limited = Command::new("sh");
        limited
            .args(["-c", "ulimit -v $0; exec \"$@\"", memory])
            .arg(vastrelay().get_program());
        let words = [&["--listen", "127.0.0.1:0"], words].concat();
        Service::run(limited, tempfile::tempdir().unwrap(), &words)
    }

    /// Starts a service that may open this many files.
    pub fn with_files(files: &str, words: &[&str]) -> Service {
        let mut limited = Command::new("sh");
        limited
            .args(["-c", "ulimit -n $0; exec \"$@\"", files])
            .arg(vastrelay().get_program());
        let words = [&["--listen", "127.0.0.1:0"], words].concat();
        Service::run(limited, tempfile::tempdir().unwrap(), &words)
    }

    /// Starts a service of another file of the program.
    pub fn of(program: &Path, words: &[&str]) -> Service {
        let words = [&["--listen", "127.0.0.1:0"], words].concat();
        Service::run(Command::new(program), tempfile::tempdir().unwrap(), &words)
    }

    /// Starts a service in a folder that was there before.
    pub fn start_in(data: TempDir, words: &[&str]) -> Service {
        Service::run(vastrelay(), data, words)
    }

    /// Starts a service and returns it as soon as it listens, which it says in its log.
    pub fn start_unready(data: TempDir, words: &[&str]) -> Service {
        let mut service = Service::spawn(vastrelay(), data, &[&["--listen", "127.0.0.1:0"], words].concat());
        service.url = loop {
            let log = service.log();
            let listens = log.split_once("url=\"").and_then(|(_, rest)| rest.split_once('"'));
            if let Some((url, _)) = listens {
                break url.to_owned();
            }
            std::thread::yield_now();
        };
        service
    }

    fn run(program: Command, data: TempDir, words: &[&str]) -> Service {
        let mut service = Service::spawn(program, data, words);
        let greeting = &mut service.greeting;
        service.url = loop {
            let mut line = String::new();
            assert!(
                service.stdout.read_line(&mut line).unwrap() > 0,
                "the service ended before it was ready:\n{greeting}"
            );
            greeting.push_str(&line);
            if let Some(rest) = line.strip_prefix("ready: ") {
                break rest.split_whitespace().next().unwrap().to_owned();
            }
        };
        service
    }

    fn spawn(mut program: Command, data: TempDir, words: &[&str]) -> Service {
        let mut child = program
            .env("XDG_RUNTIME_DIR", data.path())
            .arg("start")
            .arg("--data")
            .arg(data.path())
            .args(words)
            // Pages and callers with a key may name what the repository has.
            .arg("--root")
            .arg(repository().join("demo"))
            .args(
                ["--workers-stay", "0s"]
                    .iter()
                    .filter(|_| !words.contains(&"--workers-stay")),
            )
            .stdout(Stdio::piped())
            .stderr(File::create(data.path().join("log.txt")).unwrap())
            .spawn()
            .unwrap();
        let stdout = BufReader::new(child.stdout.take().unwrap());
        Service {
            child,
            url: String::new(),
            greeting: String::new(),
            key: None,
            stdout,
            data,
        }
    }

    /// Returns the binary as its own user runs it.
    pub fn command(&self) -> Command {
        let mut command = vastrelay();
        command.env("XDG_RUNTIME_DIR", self.data.path());
        command
    }

    /// Runs the client against this service.
    pub fn client(&self, words: &[&str]) -> Output {
        self.client_later(words).wait_with_output().unwrap()
    }

    /// Starts the client against this service, for those who do something else meanwhile.
    pub fn client_later(&self, words: &[&str]) -> Child {
        let key = self.key.iter().flat_map(|key| ["--key", key.as_str()]);
        self.command()
            .args(words)
            .args(["--url", &self.url])
            .args(key)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
    }

    /// Returns the path of the socket over which its own user manages it.
    pub fn operator_socket(&self) -> PathBuf {
        let folder = std::fs::read_dir(self.data.path().join("vastrelay")).unwrap();
        let mut paths = folder.map(|entry| entry.unwrap().path());
        paths
            .find(|path| path.extension().is_some_and(|end| end == "sock"))
            .unwrap()
    }

    /// Begins a call: a managing one as the service's own user when no key is set, any other one over TCP.
    pub fn call(&self, method: Method, path: &str) -> RequestBuilder {
        let url = format!("{}{path}", self.url);
        match &self.key {
            Some(key) => reqwest::Client::new().request(method, url).bearer_auth(key),
            None if path.starts_with("/manage/") => {
                let local = reqwest::Client::builder().unix_socket(self.operator_socket());
                local
                    .build()
                    .unwrap()
                    .request(method, format!("http://localhost{path}"))
            }
            None => reqwest::Client::new().request(method, url),
        }
    }

    pub async fn get(&self, path: &str) -> (u16, Value) {
        let response = self.call(Method::GET, path).send().await.unwrap();
        (response.status().as_u16(), response.json().await.unwrap())
    }

    pub async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let response = self.send(path, body).await;
        (response.status().as_u16(), response.json().await.unwrap())
    }

    pub async fn send(&self, path: &str, body: &Value) -> reqwest::Response {
        self.call(Method::POST, path).json(body).send().await.unwrap()
    }

    /// Runs the client for JSON and returns what it prints.
    pub fn client_json(&self, words: &[&str]) -> Value {
        let output = self.client(&[words, &["--json"]].concat());
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    }

    /// Returns what it has logged.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.data.path().join("log.txt")).unwrap()
    }

    /// Kills the process at once and returns its folder.
    pub fn kill(mut self) -> TempDir {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
        std::mem::replace(&mut self.data, tempfile::tempdir().unwrap())
    }

    /// Waits until the process has ended and returns its folder.
    pub fn ended(mut self) -> TempDir {
        self.child.wait().unwrap();
        std::mem::replace(&mut self.data, tempfile::tempdir().unwrap())
    }

    /// Asks the demo model and returns the answer.
    pub async fn ask(&self, question: &str) -> String {
        let likeliest = with(chat(question), json!({"temperature": 0}));
        let (status, answer) = self.post("/v1/chat/completions", &likeliest).await;
        assert_eq!(status, 200, "{answer}");
        answer["choices"][0]["message"]["content"].as_str().unwrap().to_owned()
    }

    /// Returns the status of its first endpoint.
    pub async fn endpoint(&self) -> Value {
        self.get("/manage/status").await.1["endpoints"][0].clone()
    }

    /// Waits until its first endpoint stands as wished.
    pub async fn wait_for(&self, what: &str, wished: impl Fn(&Value) -> bool) {
        for _ in 0..20_000 {
            if wished(&self.endpoint().await) {
                return;
            }
        }
        panic!("never: {what}; {}", self.endpoint().await);
    }

    /// Returns the number of its process.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    pub fn signal(&self, name: &str) {
        signal(self.child.id(), name);
    }

    /// Returns the number of the process of its first worker, as soon as it has one.
    pub async fn any_worker(&self) -> u32 {
        loop {
            if let Some(worker) = self.workers().first() {
                return *worker;
            }
            tokio::task::yield_now().await;
        }
    }

    /// Returns the number of the process of its first worker.
    pub fn worker(&self) -> u32 {
        *self.workers().first().expect("it has a worker")
    }

    /// Returns the numbers of the processes of its workers.
    pub fn workers(&self) -> Vec<u32> {
        self.processes("worker")
    }

    /// Returns the numbers of its processes that do some work, named by their first word.
    pub fn processes(&self, work: &str) -> Vec<u32> {
        let threads = std::fs::read_dir(format!("/proc/{}/task", self.child.id())).unwrap();
        let threads = threads.filter_map(Result::ok);
        let children = threads.flat_map(|thread| std::fs::read_to_string(thread.path().join("children")));
        let children: Vec<u32> = children
            .flat_map(|some| {
                some.split_whitespace()
                    .map(|id| id.parse().unwrap())
                    .collect::<Vec<u32>>()
            })
            .collect();
        let words = |id: &u32| std::fs::read_to_string(format!("/proc/{id}/cmdline")).unwrap_or_default();
        children
            .into_iter()
            .filter(|id| words(id).contains(&format!("\0{work}")))
            .collect()
    }

    /// Returns whether a process lives.
    pub fn has_process(&self, process: u32) -> bool {
        let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
        !stat.is_empty() && !stat.contains(") Z ")
    }

    /// Sends a signal to one of its processes.
    pub fn signal_process(&self, process: u32, name: &str) {
        signal(process, name);
    }

    /// Kills one of its processes.
    pub fn kill_process(&self, process: u32) {
        signal(process, "KILL");
    }

    /// Returns the bytes of a process that lie in memory.
    pub fn resident(&self, process: u32) -> usize {
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
        let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
        let kib: usize = line.split_whitespace().nth(1).unwrap().parse().unwrap();
        kib << 10
    }

    /// Returns the bytes that a process has read from files and sockets.
    pub fn bytes_read(&self, process: u32) -> u64 {
        let read = std::fs::read_to_string(format!("/proc/{process}/io")).unwrap();
        let bytes = read.lines().find_map(|line| line.strip_prefix("rchar: "));
        bytes.unwrap().parse().unwrap()
    }

    /// Sends a request under a name.
    pub async fn send_named(&self, path: &str, body: &Value, name: &str) -> reqwest::Response {
        let request = self.call(Method::POST, path).json(body);
        request.header("x-request-id", name).send().await.unwrap()
    }

    /// Kills its first worker.
    pub fn kill_worker(&self) {
        self.signal_worker("KILL");
    }

    pub fn signal_worker(&self, name: &str) {
        signal(self.worker(), name);
    }

    /// Returns what an address answers that is no JSON.
    pub async fn text(&self, path: &str) -> String {
        let response = self.call(Method::GET, path).send().await.unwrap();
        response.text().await.unwrap()
    }

    pub fn wait(mut self) -> ExitStatus {
        self.child.wait().unwrap()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn signal(process: u32, name: &str) {
    let sent = Command::new("kill")
        .args([&format!("-{name}"), &process.to_string()])
        .status();
    assert!(sent.unwrap().success());
}

/// Returns a chat request with one question.
pub fn chat(question: &str) -> Value {
    json!({"model": "pierdesk", "messages": [{"role": "user", "content": question}]})
}

/// Returns a request with more fields.
pub fn with(mut request: Value, more: Value) -> Value {
    request
        .as_object_mut()
        .unwrap()
        .extend(more.as_object().unwrap().clone());
    request
}

/// Returns the data of each frame of a stream.
pub fn frames(body: &str) -> Vec<String> {
    body.split("\n\n")
        .filter_map(|frame| frame.strip_prefix("data: "))
        .map(str::to_owned)
        .collect()
}

/// What a completion has said: its text, log-probabilities and end.
pub type Completion = (String, Vec<Value>, Value);

/// Puts the pieces of a stream together.
pub fn whole(frames: &[Value]) -> Vec<Completion> {
    let mut all: Vec<Completion> = Vec::new();
    for choice in frames.iter().flat_map(|frame| frame["choices"].as_array().unwrap()) {
        let index = choice["index"].as_u64().unwrap() as usize;
        all.resize(all.len().max(index + 1), Default::default());
        let one = &mut all[index];
        one.0 += choice["delta"]["content"].as_str().unwrap_or("");
        one.1
            .extend(choice["logprobs"]["content"].as_array().into_iter().flatten().cloned());
        if !choice["finish_reason"].is_null() {
            one.2 = choice["finish_reason"].clone();
        }
    }
    all
}

/// Makes a key in a folder that no service uses yet.
pub fn first_key(data: &TempDir, words: &[&str]) -> String {
    // No two keys have one name.
    let name = match words.is_empty() {
        true => "first".to_owned(),
        false => format!("first {}", words.join(" ")),
    };
    let output = vastrelay()
        .args(["key", "create", "--name", &name, "--data"])
        .arg(data.path())
        .args(words)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

/// A service that wants keys, with one that may manage.
pub fn guarded(words: &[&str]) -> Service {
    let data = tempfile::tempdir().unwrap();
    let key = first_key(&data, &["--scope", "manage"]);
    let words = [&["--demo", "--listen", "127.0.0.1:0", "--require-key"], words].concat();
    let mut service = Service::start_in(data, &words);
    service.key = Some(key);
    service
}
