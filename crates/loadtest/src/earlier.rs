//! Runs of earlier forms, in today's.

use serde_json::{Map, Value, json};

/// Brings a run's document to today's form.
pub(crate) fn upgrade(run: &mut Value) {
    if run["form"] == 1 {
        for moment in ["before", "after"] {
            let status = run["setup"][moment].take();
            run["setup"][moment] = match status {
                Value::Object(status) => endpoint_of(status),
                other => other,
            };
        }
        run["form"] = 2.into();
    }
}

/// Returns the status of an endpoint with one replica, from that of the time when one thing was model, endpoint and replica at once.
fn endpoint_of(mut status: Map<String, Value>) -> Value {
    let mut take = |name: &str| status.remove(name).unwrap_or_default();
    // A precision and its group size were one text, such as `int4, groups of 64`.
    let weights = take("weights");
    let (weights, group) = match weights.as_str().unwrap_or_default().split_once(", groups of ") {
        Some((word, group)) => (Value::from(word), group.parse::<usize>().ok()),
        None => (weights, None),
    };
    let mut precision = json!({"weights": weights, "kv": take("kv")});
    if let Some(group) = group {
        precision["group"] = group.into();
    }
    let mut memory = take("memory");
    let part = |name: &str| memory[name].as_u64().unwrap_or(0);
    let reserved = part("weights") + part("kv_pool") + part("workspace");
    if memory.is_object() {
        memory["process"] = 0.into();
        memory["reserved"] = reserved.into();
        memory["resident"] = reserved.into();
    }
    let occupancy = json!({
        "queue_depth": take("queue_depth"),
        "queue_limit": take("queue_limit"),
        "lanes_used": take("lanes_used"),
        "lanes": take("width"),
        "pages_used": take("pages_used"),
        "pages_cached": take("pages_cached"),
        "pages": take("pages_total"),
    });
    let totals = json!({
        "steps": take("steps"),
        "busy": take("busy"),
        "prefill_tokens": take("prefill_tokens"),
        "output_tokens": take("output_tokens"),
        "ended": take("ended"),
        "preemptions": take("preemptions"),
    });
    let failure = take("failure");
    json!({
        "name": take("name"),
        "state": if failure.is_null() { "ready" } else { "failed" },
        "release": 0,
        "device": take("device"),
        "simulated": false,
        "precision": precision,
        "parameters": take("parameters"),
        "vocabulary": take("vocabulary"),
        "context": take("context"),
        "occupancy": occupancy,
        "totals": totals,
        "window": take("window"),
        "replicas": [{
            "replica": 0,
            "incarnation": 0,
            "uptime": match take("uptime") {
                Value::Null => 0.0.into(),
                uptime => uptime,
            },
            "instructions": take("instructions"),
            "cores": take("cores"),
            "split": take("split"),
            "width": occupancy["lanes"],
            "step_budget": take("step_budget"),
            "memory": memory,
            "full_context_sequences": take("full_context_sequences"),
            "occupancy": occupancy,
            "totals": totals,
            "failure": failure,
        }],
    })
}
