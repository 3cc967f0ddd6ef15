//! `vastrelay device`, and which kind of device is meant.

use crate::args::device::{DeviceCommand, DeviceListOptions, DeviceMeasureOptions, DeviceShowOptions};
use crate::client::Client;
use crate::cpu;
use crate::failure::Failure;
use crate::machine::{device_memory, machine_cores};
use crate::output::{ago, device_name, hundredths, json, line, price};
use comfy_table::{CellAlignment, Table, presets};
use std::path::Path;
use vastrelay_planner::amounts::{bytes, count_of};
use vastrelay_planner::{CpuProfile, DeviceProfile, Profile};
use vastrelay_wire::manage::{DeviceOwner, DevicePlace, DeviceStatus};

/// Returns a profile that ships with the product, or that of a file.
///
/// # Errors
/// When it is neither, or the file is no profile.
pub fn profile(wanted: &str) -> Result<Profile, Failure> {
    vastrelay_serving::devices::registry::profile(wanted, Path::new(wanted)).map_err(Failure::usage)
}

/// Shows devices.
pub async fn run(command: &DeviceCommand) -> Result<(), Failure> {
    match command {
        DeviceCommand::List(options) => list(options).await,
        DeviceCommand::Show(options) => show(options),
        DeviceCommand::Measure(options) => measure(options),
    }
}

async fn list(options: &DeviceListOptions) -> Result<(), Failure> {
    let client = Client::new(&options.connection)?;
    let devices: Vec<DeviceStatus> = client.get("/manage/devices").await?;
    if options.json {
        return json(&devices);
    }
    for device in &devices {
        let (name, memory) = (device_name(&device.name, device.simulated), bytes(device.memory));
        line(match (device.places.len(), device.cores) {
            (1, Some(cores)) => format!("{name}, {memory}, {}", count_of(cores, "core")),
            (1, None) => format!("{name}, {memory}"),
            (count, _) => format!("{count} × {name}, {memory} each"),
        });
        let alike = device.places.chunk_by(|a, b| is_empty(a) && is_empty(b));
        line(format!("{}", table(alike.flat_map(rows))));
    }
    Ok(())
}

/// Returns whether nothing is on a device.
fn is_empty(place: &DevicePlace) -> bool {
    place.owners.is_empty() && place.others == 0 && place.changing == 0
}

/// Returns, for a device or for several empty ones, a row for each owner, then what others hold and what is free.
fn rows(alike: &[DevicePlace]) -> Vec<Vec<String>> {
    let (place, last) = (&alike[0], &alike[alike.len() - 1]);
    let number = match alike.len() {
        1 => place.number.to_string(),
        _ => format!("{} to {}", place.number, last.number),
    };
    let owner = |owner: &DeviceOwner| {
        vec![
            format!(
                "{}, release {}, replica {}",
                owner.endpoint, owner.release, owner.replica
            ),
            bytes(owner.reserved()),
            match &owner.weights_of {
                None => bytes(owner.weights),
                Some(other) => format!("those of {other}"),
            },
            bytes(owner.kv_reserved),
            bytes(owner.kv_used),
            bytes(owner.workspace + owner.process),
            match owner.cores {
                0.0 => "–".into(),
                cores => hundredths(cores).to_string(),
            },
            format!("{:.0} %", owner.busy_share * 100.0),
            ago(owner.uptime),
        ]
    };
    let mut rows: Vec<Vec<String>> = place.owners.iter().map(owner).collect();
    if place.changing > 0 {
        rows.push(vec!["replicas that come or go".into(), bytes(place.changing)]);
    }
    if place.others > 0 {
        rows.push(vec!["other programs".into(), bytes(place.others)]);
    }
    rows.push(vec!["free".into(), bytes(place.free)]);
    for (index, row) in rows.iter_mut().enumerate() {
        row.insert(0, if index == 0 { number.clone() } else { String::new() });
    }
    rows
}

fn table(rows: impl Iterator<Item = Vec<String>>) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    table.set_header([
        "device",
        "owner",
        "memory",
        "weights",
        "KV reserved",
        "KV used",
        "workspace, process",
        "cores",
        "busy",
        "for",
    ]);
    for column in table.column_iter_mut().skip(2) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    table.add_rows(rows);
    table
}

/// Measures this machine's processor and keeps its profile.
fn measure(options: &DeviceMeasureOptions) -> Result<(), Failure> {
    let cores = machine_cores();
    let asked = options.cores.unwrap_or(cores.usual(1));
    if asked == 0 || asked > cores.most {
        return Err(Failure::usage(format!(
            "--cores {asked} does not work; this machine has {}",
            cores.most
        )));
    }
    let file = options.out.clone().map_or_else(cpu::file, Ok)?;
    let speed = cpu::measure(asked)?;
    cpu::keep(&speed, &file)?;
    let profile = cpu::of_speed(Some(speed));
    if options.json {
        return json(&profile);
    }
    show_cpu(&profile);
    line(format!("kept in {}", file.display()));
    Ok(())
}

fn show(options: &DeviceShowOptions) -> Result<(), Failure> {
    let profile = if options.device == "cpu" {
        Profile::Cpu(cpu::of_speed(cpu::known(machine_cores().usual(1))?))
    } else {
        profile(&options.device)?
    };
    match profile {
        Profile::Cpu(profile) if options.json => json(&profile),
        Profile::Simulated(profile) if options.json => json(&profile),
        Profile::Cpu(profile) => {
            show_cpu(&profile);
            Ok(())
        }
        Profile::Simulated(profile) => {
            show_simulated(&profile);
            Ok(())
        }
    }
}

fn show_cpu(profile: &CpuProfile) {
    let row = |name: &str, value: String| line(format!("  {name:<14}{value}"));
    let memory = profile
        .memory
        .map_or(device_memory(), |memory| memory.as_u64() as usize);
    let cores = profile.cores.unwrap_or(machine_cores().usual(1));
    line("cpu, of this machine");
    row("memory", bytes(memory));
    row("cores", format!("{cores} of {}", machine_cores().most));
    let Some(speed) = &profile.speed else {
        row("speed", "not measured yet; `vastrelay device measure` does".into());
        return;
    };
    row(
        "measured with",
        format!("{}, {} kernels", count_of(speed.cores, "core"), speed.instructions),
    );
    let giga = |rate: f64| format!("{:.1}", rate / 1e9);
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    let rows = speed.products.first().map_or(&[][..], |products| &products.rows);
    let counts = rows.iter().map(|rows| count_of(*rows, "row"));
    table.set_header(["weights", "of all"].map(str::to_owned).into_iter().chain(counts));
    for products in &speed.products {
        let name = [products.weights.clone(), bytes(products.bytes as usize)];
        table.add_row(name.into_iter().chain(products.rates.iter().copied().map(giga)));
    }
    for column in table.column_iter_mut().skip(1) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    line("  products a second, in 10⁹, of a model whose weights take so much:");
    line(format!("{table}"));
}

fn show_simulated(profile: &DeviceProfile) {
    let DeviceProfile { peak, link, power, .. } = profile;
    let row = |name: &str, value: String| line(format!("  {name:<14}{value}"));
    let tera = |value: f64| format!("{:.1} × 10¹²", value / 1e12);
    let giga = |value: f64| format!("{:.0} GB/s", value / 1e9);
    let micro = |value: f64| format!("{:.1} µs", value * 1e6);
    line(format!(
        "{}, {} of them",
        device_name(&profile.name, true),
        profile.count
    ));
    let memory = bytes(profile.memory_bytes());
    let reserve = bytes(profile.reserve.as_u64() as usize);
    row("memory", format!("{memory}, {reserve} of it for driver and program"));
    row("bandwidth", giga(profile.bandwidth));
    row(
        "peak",
        format!("{} f32, {} bf16 operations a second", tera(peak.f32), tera(peak.bf16)),
    );
    row("", format!("{} int8, {} int4", tera(peak.int8), tera(peak.int4)));
    row("kernel start", micro(profile.launch));
    row("link", format!("{}, {} delay", giga(link.bandwidth), micro(link.delay)));
    row("power", format!("{:.0} W idle, {:.0} W busy", power.idle, power.busy));
    let taken = if profile.interruptible {
        ", may be taken away at any time"
    } else {
        ""
    };
    row(
        "price",
        format!(
            "{} an hour{taken}",
            price(profile.price.hour, profile.price.currency.as_deref())
        ),
    );
}
