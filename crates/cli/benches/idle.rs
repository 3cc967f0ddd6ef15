//! What does a service cost that does nothing? With 200 parked endpoints and 20 that wait for calls, each at a twentieth of a core.
//!
//! Prints the share of a core that the service takes (aim: at most 2 %), and the 95th percentile of the time that listings take (aim: at most
//! 50 ms). `cargo bench -p vastrelay --bench idle`.

#[allow(dead_code, reason = "others use the rest")]
mod serve;

use serve::{manager, request};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const PARKED: usize = 200;
const WAITING: usize = 20;
const IDLE: Duration = Duration::from_secs(20);
const LOOKS: usize = 200;
/// Ticks of the clock in which the system counts a process's time.
const TICKS: f64 = 100.0;

fn main() {
    let folder = tempfile::tempdir().expect("a folder");
    let key = manager(folder.path());
    let model = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/models/pierdesk-1");
    let port = TcpListener::bind("127.0.0.1:0").and_then(|free| free.local_addr());
    let address = port.expect("a free port").to_string();
    let mut service = Command::new(env!("CARGO_BIN_EXE_vastrelay"))
        .args(["start", "--listen", &address, "--workers-stay", "0s", "--data"])
        .arg(folder.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    while call(&address, &key, "GET", "/health/live", "").0 != 200 {
        std::thread::sleep(Duration::from_millis(5));
    }
    for number in 0..PARKED + WAITING {
        let spec = format!(
            "model = {:?}\ndevice.cores = 0.05\nbatch.width = 2\nmemory.pages = 64\n",
            model.display().to_string()
        );
        let body = format!("{{\"name\": \"desk-{number}\", \"spec\": {spec:?}, \"beside\": \"/\"}}");
        let (status, said) = call(&address, &key, "POST", "/manage/endpoints", &body);
        assert_eq!(status, 201, "{said}");
        if number < PARKED {
            let path = format!("/manage/endpoints/desk-{number}/park");
            assert_eq!(call(&address, &key, "POST", &path, "{\"within\": 0}").0, 202);
        }
    }
    std::thread::sleep(Duration::from_secs(2));
    let before = seconds_of(&service);
    std::thread::sleep(IDLE);
    let share = 100.0 * (seconds_of(&service) - before) / IDLE.as_secs_f64();
    println!(
        "{PARKED} parked endpoints and {WAITING} that wait at a twentieth of a core each: the service takes {share:.2} % of a core"
    );
    for path in ["/v1/models", "/manage/status", "/health/ready"] {
        let mut times: Vec<f64> = (0..LOOKS).map(|_| time_of(&address, &key, path)).collect();
        times.sort_by(f64::total_cmp);
        println!(
            "GET {path}: {:.2} ms at the median, {:.2} ms at p95",
            times[LOOKS / 2] * 1e3,
            times[LOOKS * 95 / 100] * 1e3
        );
    }
    service.kill().expect("it runs");
    service.wait().expect("it ends");
}

/// Returns the seconds of processor time that a process has taken.
fn seconds_of(service: &Child) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", service.id())).expect("it runs");
    let after = stat.rsplit(") ").next().expect("fields after the name");
    let fields: Vec<f64> = after.split(' ').map(|field| field.parse().unwrap_or(0.0)).collect();
    (fields[11] + fields[12]) / TICKS
}

fn time_of(address: &str, key: &str, path: &str) -> f64 {
    let begun = Instant::now();
    assert_eq!(call(address, key, "GET", path, "").0, 200);
    begun.elapsed().as_secs_f64()
}

/// Calls the service; returns the status, 0 when nobody listens, and the answer.
fn call(address: &str, key: &str, method: &str, path: &str, body: &str) -> (u16, String) {
    if TcpStream::connect(address).is_err() {
        return (0, String::new());
    }
    let answer = request(address, key, method, path, body);
    let status = answer.split(' ').nth(1).and_then(|status| status.parse().ok());
    (status.unwrap_or(0), answer)
}
