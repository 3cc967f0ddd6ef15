//! Does `vastrelay load run` measure what happened? It is run against a stub whose delays are known, over real HTTP.
//!
//! Prints the known delays, those at which the stub found itself writing, and those that the command reports, over 10,000
//! requests for each kind of arrival, and how far the reported ones are from both. Where other machines take this one's cores
//! away meanwhile, the stub writes late and the command sends late, which counts where arrivals are open; how much they took,
//! and how late requests were sent, is printed, too.

use serde_json::Value;
use socket2::SockRef;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Command};
use std::sync::{Arc, Mutex};
use std::thread::{self, sleep};
use std::time::{Duration, Instant};
use vastrelay_loadtest::statistics::spread;
use vastrelay_stamped::{Receiver, stamp_arrivals};
use vastrelay_wire::manage::Spread;

const FIRST: Duration = Duration::from_millis(20);
const GAP: Duration = Duration::from_millis(5);
const TOKENS: usize = 3;
const REQUESTS: usize = 10_000;
const WARM_UP: usize = 32;
const NEAR: f64 = 0.002;
/// Connections that may wait for the stub while it is held up.
const MOST_UNACCEPTED: i32 = 1024;

/// For each answer, the moments its request arrived and each of its tokens was written.
type Written = Arc<Mutex<Vec<Vec<Instant>>>>;

fn main() {
    let _awake = Awake::begin();
    for arrival in [
        ["--arrival", "closed", "--users", "8"],
        ["--arrival", "poisson", "--rate", "300"],
    ] {
        let (url, written) = stub();
        let before = core_time();
        let summary = load_run(&url, &arrival);
        let after = core_time();
        assert_eq!(summary["done"], REQUESTS, "{}", summary["errors"]);
        let written = written.lock().expect("the stub does not panic").split_off(WARM_UP);
        let between = |pair: &[Instant]| (pair[1] - pair[0]).as_secs_f64();
        let ttft = spread(written.iter().map(|moments| between(&moments[..2])).collect());
        let gaps = written.iter().flat_map(|moments| moments[1..].windows(2).map(between));
        let itl = spread(gaps.collect());
        println!("{}", arrival.join(" "));
        if let Some(((taken_before, all_before), (taken, all))) = before.zip(after) {
            let share = (taken - taken_before) as f64 / (all - all_before).max(1) as f64;
            println!("  {:.0} % of the cores' time taken by other machines", share * 100.0);
        }
        let late = |at: &str| summary["lateness"][at].as_f64().expect("the summary has it") * 1e3;
        println!(
            "  sent after they were due: p50 {:.2} ms, p99 {:.2} ms",
            late("p50"),
            late("p99")
        );
        tell("TTFT", FIRST, &ttft, &summary["ttft"]);
        tell("ITL", GAP, &itl, &summary["itl"]);
    }
}

/// Keeps the cores from falling asleep, by what runs only when nobody else wants to: a virtual core that sleeps is woken
/// milliseconds late where its machine is busy.
struct Awake(Vec<Child>);

impl Awake {
    fn begin() -> Awake {
        let cores = thread::available_parallelism().map_or(1, usize::from);
        let while_this_runs = format!("while kill -0 {} 2>/dev/null; do :; done", std::process::id());
        let spin = || {
            let words = ["--idle", "0", "sh", "-c", &while_this_runs];
            Command::new("chrt").args(words).spawn()
        };
        let spinning: Vec<Child> = (0..cores).map_while(|_| spin().ok()).collect();
        if spinning.len() < cores {
            println!("the cores cannot be kept awake: `chrt` does not run here");
        }
        Awake(spinning)
    }
}

impl Drop for Awake {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Runs the command and returns its summary.
fn load_run(url: &str, arrival: &[&str]) -> Value {
    let output = Command::new(env!("CARGO_BIN_EXE_vastrelay"))
        .args(["load", "run", "--json", "--forget", "--url", url])
        .args(["--count", &REQUESTS.to_string(), "--warm-up", &WARM_UP.to_string()])
        .args(arrival)
        .output()
        .expect("the program runs");
    serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&output.stderr)))
}

/// Returns how long other machines had this one's cores, and all time of the cores, where the system tells.
fn core_time() -> Option<(u64, u64)> {
    let text = std::fs::read_to_string("/proc/stat").ok()?;
    let times: Vec<u64> = text
        .lines()
        .next()?
        .split_whitespace()
        .filter_map(|word| word.parse().ok())
        .collect();
    // In the order of the system's manual: user, nice, system, idle, I/O, interrupts, soft ones, stolen.
    Some((*times.get(7)?, times[..8].iter().sum()))
}

/// Starts a service that answers after known delays: one thread a connection, so that each wait is its own.
fn stub() -> (String, Written) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("loopback has a free port");
    SockRef::from(&listener)
        .listen(MOST_UNACCEPTED)
        .expect("it listens already");
    let url = format!("http://{}", listener.local_addr().expect("it is bound"));
    let written = Written::default();
    let noted = written.clone();
    thread::spawn(move || {
        for connection in listener.incoming().map_while(Result::ok) {
            let noted = noted.clone();
            thread::spawn(move || answer_all(connection, &noted));
        }
    });
    (url, written)
}

/// Answers one connection's requests until the caller hangs up.
fn answer_all(connection: TcpStream, noted: &Written) -> std::io::Result<()> {
    connection.set_nodelay(true)?;
    stamp_arrivals(&connection)?;
    let mut reader = BufReader::new(Noting::new(connection.try_clone()?));
    while let Some(address) = read_request(&mut reader)? {
        match address.as_str() {
            "POST /v1/chat/completions" => answer(&connection, reader.get_ref().arrived, noted)?,
            "GET /v1/models" => {
                let model = r#"{"id": "stub", "object": "model", "created": 0, "owned_by": "bench"}"#;
                respond(
                    &connection,
                    "200 OK",
                    &format!(r#"{{"object": "list", "data": [{model}]}}"#),
                )?;
            }
            _ => respond(&connection, "404 Not Found", "{}")?,
        }
    }
    Ok(())
}

/// A connection that knows when what was read last had arrived.
struct Noting {
    connection: TcpStream,
    receiver: Receiver,
    arrived: Instant,
}

impl Noting {
    fn new(connection: TcpStream) -> Noting {
        Noting {
            connection,
            receiver: Receiver::default(),
            arrived: Instant::now(),
        }
    }
}

impl Read for Noting {
    fn read(&mut self, space: &mut [u8]) -> std::io::Result<usize> {
        let (count, at) = self.receiver.receive(&self.connection, space)?;
        self.arrived = at.unwrap_or_else(Instant::now);
        Ok(count)
    }
}

/// Reads a request with its body; returns its method and path, or `None` at the end of the connection.
fn read_request(reader: &mut BufReader<Noting>) -> std::io::Result<Option<String>> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Ok(None);
    }
    let address = line.rsplit_once(' ').map_or("", |(address, _)| address).to_owned();
    let mut length = 0;
    loop {
        line.clear();
        reader.read_line(&mut line)?;
        let header = line.trim().to_ascii_lowercase();
        if header.is_empty() {
            break;
        }
        if let Some(value) = header.strip_prefix("content-length:") {
            length = value.trim().parse().unwrap_or(0);
        }
    }
    reader.read_exact(&mut vec![0; length])?;
    Ok(Some(address))
}

fn respond(mut connection: &TcpStream, status: &str, body: &str) -> std::io::Result<()> {
    let kind = "content-type: application/json";
    let length = body.len();
    write!(
        connection,
        "HTTP/1.1 {status}\r\n{kind}\r\ncontent-length: {length}\r\n\r\n{body}"
    )
}

/// Streams an answer with the known delays, and notes when.
fn answer(mut connection: &TcpStream, arrived: Instant, noted: &Written) -> std::io::Result<()> {
    let mut moments = vec![arrived];
    let head = "HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\ntransfer-encoding: chunked\r\n\r\n";
    connection.write_all(head.as_bytes())?;
    let mut due = moments[0];
    for number in 0..TOKENS {
        due += if number == 0 { FIRST } else { GAP };
        sleep(due.saturating_duration_since(Instant::now()));
        moments.push(Instant::now());
        let piece = chunk("data: {\"choices\": [{\"delta\": {\"content\": \"x\"}}]}\n\n");
        connection.write_all(piece.as_bytes())?;
    }
    noted.lock().expect("no thread panics").push(moments);
    connection.write_all((chunk("data: [DONE]\n\n") + "0\r\n\r\n").as_bytes())
}

fn chunk(text: &str) -> String {
    format!("{:x}\r\n{text}\r\n", text.len())
}

fn tell(name: &str, known: Duration, written: &Spread, measured: &Value) {
    for (at, written) in [("p50", written.p50), ("p99", written.p99)] {
        let measured = measured[at].as_f64().expect("the summary has it");
        let apart = |from: f64| {
            let apart = (measured - from) * 1e3;
            let verdict = if apart.abs() <= NEAR * 1e3 {
                "within"
            } else {
                "FURTHER than"
            };
            format!("{apart:>5.2} ms, {verdict} 2 ms")
        };
        println!(
            "  {name:<5}{at}  known {known:>5?}  written at {:>6.2} ms  reported {:>6.2} ms  from known {}  from written {}",
            written * 1e3,
            measured * 1e3,
            apart(known.as_secs_f64()),
            apart(written),
        );
    }
}
