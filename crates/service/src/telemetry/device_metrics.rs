//! Memory, cores and power of devices, for scrapers.

use crate::telemetry::devices::device_statuses;
use prometheus_client::encoding::DescriptorEncoder;
use prometheus_client::metrics::MetricType;
use prometheus_client::metrics::gauge::ConstGauge;
use prometheus_client::registry::Unit;
use std::collections::BTreeMap;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_control::replicas::counters::Series;
use vastrelay_wire::manage::{DeviceOwner, DevicePlace};

/// Writes what holds each device's memory, and what it draws where its profile tells.
pub(super) fn encode_devices(
    encoder: &mut DescriptorEncoder<'_>,
    endpoints: &Endpoints,
    loader: &Loader,
) -> std::fmt::Result {
    let devices = device_statuses(endpoints, loader);
    Series::new(encoder, "vastrelay_device_memory", "Memory of each device by its owner")
        .in_unit(&Unit::Bytes)
        .write(MetricType::Gauge, |write| {
            for device in &devices {
                let simulated = device.simulated.to_string();
                for place in &device.places {
                    let number = place.number.to_string();
                    for (owner, bytes) in owners(place) {
                        let labels = [
                            ("device", device.name.as_str()),
                            ("simulated", &simulated),
                            ("number", &number),
                            ("owner", &owner),
                        ];
                        write(&(labels, &ConstGauge::new(bytes as i64)))?;
                    }
                }
            }
            Ok(())
        })?;
    let help = "Power that one device draws with nothing to do and in the middle of a step, as its profile says";
    Series::new(encoder, "vastrelay_device_power_watts", help).write(MetricType::Gauge, |write| {
        for device in &devices {
            let simulated = device.simulated.to_string();
            let Some(power) = device.power else { continue };
            for (state, watts) in [("idle", power.idle), ("busy", power.busy)] {
                let labels = [
                    ("device", device.name.as_str()),
                    ("simulated", &simulated),
                    ("state", state),
                ];
                write(&(labels, &ConstGauge::new(watts)))?;
            }
        }
        Ok(())
    })?;
    let help = "How many devices of a kind there are";
    Series::new(encoder, "vastrelay_devices", help).write(MetricType::Gauge, |write| {
        devices.iter().try_for_each(|device| {
            let simulated = device.simulated.to_string();
            let labels = [("device", device.name.as_str()), ("simulated", &simulated)];
            write(&(labels, &ConstGauge::new(device.places.len() as i64)))
        })
    })
}

/// Returns the bytes of a device by owner: endpoints by their names, replicas that come or go, other programs, and what is free.
fn owners(place: &DevicePlace) -> BTreeMap<String, usize> {
    let mut owners = BTreeMap::new();
    for owner in &place.owners {
        *owners.entry(format!("endpoint {}", owner.endpoint)).or_insert(0) += DeviceOwner::reserved(owner);
    }
    owners.insert("changing".into(), place.changing);
    owners.insert("other programs".into(), place.others);
    owners.insert("free".into(), place.free);
    owners
}
