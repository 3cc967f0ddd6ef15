//! `vastrelay endpoint check`.

use super::named::named;
use crate::args::endpoint::EndpointCheckOptions;
use crate::client::Client;
use crate::failure::Failure;
use crate::memory::capacity;
use crate::output::{cores_name, device_name, duration, json, line, precision_name};
use vastrelay_planner::amounts::bytes;
use vastrelay_wire::manage::{EndpointCheck, EndpointStatus, SpecDifference};

/// Says how something would be served.
pub async fn check(options: &EndpointCheckOptions) -> Result<(), Failure> {
    let wanted = named(&options.what)?;
    let checked: EndpointCheck = Client::new(&options.connection)?
        .post_for("/manage/check", &wanted)
        .await?;
    if options.json {
        return json(&checked);
    }
    print(&wanted.name, &checked, line);
    Ok(())
}

/// Says how something would be served.
pub fn print(name: &str, checked: &EndpointCheck, say: fn(String)) {
    say(match (checked.served, checked.is_change, checked.needs_pause) {
        (None, ..) => format!("{name} could be served"),
        (Some(release), false, _) => format!("{name} is served so already, as release {release}"),
        (Some(release), true, false) if checked.at_once => {
            format!("{name} changes at once: the worker of release {release} goes on, and no call notices")
        }
        (Some(release), true, false) => {
            format!("{name} could take over from release {release}: there is room for both, and no call would be lost")
        }
        (Some(release), true, true) => {
            format!("{name} needs a pause: release {release} has to be stopped first (--with-pause)")
        }
    });
    if let Some(why) = &checked.why {
        say(format!("  {why}"));
    }
    checked.differences.iter().for_each(|one| say(difference(one)));
    checked.planned.iter().for_each(|endpoint| plan(endpoint, say));
    if let Some(seconds) = checked.usual_start {
        say(format!(
            "  earlier starts took {}, conversions not counted",
            duration(seconds)
        ));
    }
}

/// Says what is different from the spec before.
fn difference(difference: &SpecDifference) -> String {
    let SpecDifference { key, was, is } = difference;
    match (was, is) {
        (Some(was), Some(is)) => format!("  {key} was {was} and would be {is}"),
        (None, Some(is)) => format!("  {key} would be {is}"),
        (Some(was), None) => format!("  {key} was {was} and would have its default"),
        (None, None) => format!("  {key}"),
    }
}

/// Says what memory an endpoint would take, by owner.
fn plan(endpoint: &EndpointStatus, say: fn(String)) {
    let precision = &endpoint.precision;
    for replica in &endpoint.replicas {
        let memory = &replica.memory;
        let on = match endpoint.simulated {
            true if replica.split == 1 => format!("on {}", device_name(&endpoint.device, true)),
            true => format!("on each of {} × {}", replica.split, device_name(&endpoint.device, true)),
            false => format!("on {}, {}", endpoint.device, cores_name(replica.cores)),
        };
        say(format!(
            "  {on}: {} of {}, of at most {}",
            bytes(memory.reserved),
            bytes(memory.device),
            bytes(memory.budget)
        ));
        let weights = precision_name(&precision.weights, precision.group);
        for (name, count, what) in [
            ("weights", memory.weights, weights),
            (
                "KV pool",
                memory.kv_pool,
                format!("keys and values in {}", precision.kv),
            ),
            ("workspace", memory.workspace, "activations of the largest step".into()),
            ("process", memory.process, "program and tokenizer".into()),
        ] {
            say(format!("    {name:<10}{:>10}  {what}", bytes(count)));
        }
        let lines = capacity(&replica.capacity, replica.width);
        lines.iter().for_each(|line| say(format!("  {line}")));
    }
}
