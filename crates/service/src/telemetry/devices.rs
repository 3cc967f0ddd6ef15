//! The memory and load of each device, by owner.

use std::collections::BTreeMap;
use std::sync::Arc;
use vastrelay_control::endpoints::endpoint::Endpoint;
use vastrelay_control::endpoints::registry::Endpoints;
use vastrelay_control::placement::loader::Loader;
use vastrelay_control::replicas::measured::MeasuredReplica;
use vastrelay_fleet::decider::Ledgers;
use vastrelay_planner::PoolPlan;
use vastrelay_serving::Device;
use vastrelay_wire::manage::{DeviceOwner, DevicePlace, DevicePower, DeviceStatus};

/// Returns what is on all devices.
pub(crate) fn device_statuses(endpoints: &Endpoints, loader: &Loader) -> Vec<DeviceStatus> {
    let (all, devices, ledgers) = (endpoints.all(), loader.devices.all(), endpoints.ledgers());
    let status = |device| device_status(&all, device, &ledgers);
    devices.iter().map(status).collect()
}

fn device_status(endpoints: &[Arc<Endpoint>], device: &Device, ledgers: &Ledgers) -> DeviceStatus {
    let ledger = ledgers.all().get(device.name());
    let here: Vec<&Arc<Endpoint>> = endpoints
        .iter()
        .filter(|endpoint| endpoint.device().name() == device.name())
        .collect();
    let place = |number: usize| {
        let here = here
            .iter()
            .filter(|endpoint| endpoint.plan.taken.places.contains(&number));
        let resident: usize = here.clone().map(|endpoint| endpoint.plan.resident()).sum();
        let mut readers = BTreeMap::new();
        let owners: Vec<DeviceOwner> = here
            .flat_map(|endpoint| owners(endpoint).into_iter().map(move |owner| (endpoint, owner)))
            .map(|(endpoint, owner)| holds_once(endpoint, owner, &mut readers))
            .collect();
        let reserved: usize = owners.iter().map(DeviceOwner::reserved).sum();
        // The ledger also has what replicas hold that come or go, which no endpoint lists.
        let held = ledger.map_or(0, |ledger| ledger.memory.taken_of(number));
        let changing = held.saturating_sub(reserved);
        let rest = device.total().saturating_sub(reserved + changing);
        // The rest, neither available nor ours, belongs to other programs; a simulated device is all available.
        let taken = device.total() - device.available();
        let others = taken.saturating_sub(resident + changing).min(rest);
        DevicePlace {
            number: number + 1,
            owners,
            changing,
            others,
            free: rest - others,
        }
    };
    DeviceStatus {
        name: device.name().into(),
        simulated: device.is_simulated(),
        memory: device.total(),
        cores: device.cores().map(|cores| cores.most),
        power: device.profile().map(|profile| DevicePower {
            idle: profile.power.idle,
            busy: profile.power.busy,
        }),
        places: (0..device.count()).map(place).collect(),
    }
}

/// Returns what an endpoint's replicas hold, also while they are being started.
fn owners(endpoint: &Endpoint) -> Vec<DeviceOwner> {
    let measured = endpoint.replicas.all();
    if measured.is_empty() {
        let to_be = endpoint.replicas.without_worker().into_keys();
        return to_be.map(|number| owner_to_be(endpoint, number)).collect();
    }
    measured.iter().map(|measured| owner(endpoint, measured)).collect()
}

/// Returns an owner without the weights that it reads and another one holds.
fn holds_once<'e>(endpoint: &'e Endpoint, owner: DeviceOwner, readers: &mut BTreeMap<&'e str, &'e str>) -> DeviceOwner {
    let Some(reads) = endpoint.plan.taken.reads.as_deref() else {
        return owner;
    };
    match readers.insert(reads, readers.get(reads).copied().unwrap_or(&endpoint.name)) {
        None => owner,
        Some(holder) => DeviceOwner {
            weights: 0,
            weights_of: Some(holder.to_owned()),
            ..owner
        },
    }
}

fn owner(endpoint: &Endpoint, measured: &MeasuredReplica) -> DeviceOwner {
    let (replica, status) = (&measured.replica, measured.replica.generate.status());
    let occupancy = &status.occupancy;
    // Layers that see less far hold no more pages than the others.
    let used = |pool: &PoolPlan| occupancy.pages_used.min(pool.pages) * pool.sizes.page;
    DeviceOwner {
        incarnation: replica.incarnation,
        uptime: status.uptime,
        kv_used: replica.memory.pools.iter().map(used).sum(),
        busy_share: if status.uptime > 0.0 {
            (status.busy / status.uptime).min(1.0)
        } else {
            0.0
        },
        ..owner_to_be(endpoint, replica.number)
    }
}

fn owner_to_be(endpoint: &Endpoint, number: u32) -> DeviceOwner {
    let memory = &endpoint.plan.memory;
    DeviceOwner {
        endpoint: endpoint.name.clone(),
        release: endpoint.release,
        replica: number,
        incarnation: 0,
        uptime: 0.0,
        weights: memory.weights,
        weights_of: None,
        workspace: memory.workspace,
        process: memory.process,
        kv_reserved: memory.kv_pool(),
        kv_used: 0,
        cores: endpoint.plan.cores.as_ref().map_or(0.0, |cores| cores.share().cores()),
        busy_share: 0.0,
    }
}
