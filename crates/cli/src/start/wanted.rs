//! What a service is to serve from its start: models by name, the demo, and what specs describe.

use crate::args::start::StartOptions;
use crate::demo;
use crate::failure::Failure;
use crate::spec_file::SpecFile;
use std::collections::BTreeSet;
use std::path::Path;
use std::time::Duration;
use vastrelay_fleet::State;
use vastrelay_fleet::reconcile::{Step, next_step};
use vastrelay_fleet::roster::Found;
use vastrelay_service::deploy_error::DeployError;
use vastrelay_service::endpoint_name::is_reserved;
use vastrelay_service::endpoints::{self, Resting};
use vastrelay_service::event_log::START;
use vastrelay_service::order::Order;
use vastrelay_service::reconcile;
use vastrelay_store::{KeptEndpoint, Store};

/// An endpoint that is to be served.
pub struct Wanted {
    pub order: Order,
    /// Where its spec is from, where somebody has written one.
    spec: Option<String>,
    /// Whether an earlier service has served it, and nobody names it now.
    pub is_kept: bool,
}

/// What earlier services have left.
pub struct Kept {
    /// What is to be served.
    pub wanted: Vec<Wanted>,
    /// What is stopped or parked, or cannot be served, by name.
    pub resting: Vec<(String, Resting)>,
}

/// Returns everything that is to be served; nothing is loaded yet.
pub fn orders(options: &StartOptions, data: &Path) -> Result<Vec<Wanted>, Failure> {
    let plain = |name: &str, model: &Path| Wanted {
        order: Order::plain(name, model, START),
        spec: None,
        is_kept: false,
    };
    let mut all: Vec<Wanted> = options.models.iter().map(|(name, model)| plain(name, model)).collect();
    if options.demo {
        all.push(plain("pierdesk", &demo::unpack(data).map_err(Failure::failed)?));
    }
    for file in &options.specs {
        all.push(described(file)?);
    }
    let mut names = BTreeSet::new();
    match all.iter().find(|one| !names.insert(&one.order.name)) {
        Some(twice) => Err(Failure::usage(format!(
            "two endpoints are named `{}`; rename one",
            twice.order.name
        ))),
        None => Ok(all),
    }
}

/// Reads a spec; the endpoint has the file's name.
fn described(file: &Path) -> Result<Wanted, Failure> {
    let SpecFile { name, text, beside } = SpecFile::read(file).map_err(Failure::failed)?;
    let order = Order::of_spec(&name, &text, &beside, START);
    let order = order.map_err(|error| Failure::failed(format!("{}: {error}", file.display())))?;
    Ok(Wanted {
        order,
        spec: Some(file.display().to_string()),
        is_kept: false,
    })
}

/// Returns what earlier services have served and nobody has removed since, but for those of other names: what is to be served, and what is stopped or
/// parked. What this version does not understand is said and left as it is.
///
/// # Errors
/// When the database cannot be read.
pub fn kept(store: &Store, others: &[Wanted]) -> Result<Kept, Failure> {
    let (mut wanted, mut resting) = (Vec::new(), Vec::new());
    for kept in store.kept_endpoints().map_err(Failure::failed)? {
        let kept = addressable(store, kept)?;
        if others.iter().any(|other| other.order.name == kept.name) {
            continue;
        }
        let unknown: Found<'_, (), ()> = Found::Unknown;
        if let Step::Rest(state) = next_step(reconcile::wanted(kept.standing), &unknown, Duration::ZERO) {
            let as_before = match state {
                State::Parked => {
                    let order = Order::of_kept(&kept, START).ok();
                    let longest = order.and_then(|order| order.spec.answering.longest_wait);
                    endpoints::parked("it was parked when the service was started".into(), longest)
                }
                _ => endpoints::stopped(""),
            };
            resting.push((kept.name, as_before));
            continue;
        }
        match Order::of_kept(&kept, START) {
            Ok(order) => wanted.push(Wanted {
                order,
                spec: Some(format!("the spec of `{}`", kept.name)),
                is_kept: true,
            }),
            Err(error) => {
                let why = format!("the spec of `{}`: {error}", kept.name);
                resting.push((kept.name, endpoints::failed(why.clone())));
                let _ = Failure::failed(why).report();
            }
        }
    }
    Ok(Kept { wanted, resting })
}

/// Returns a kept endpoint under a name that can be addressed: earlier versions took some that cannot.
fn addressable(store: &Store, kept: KeptEndpoint) -> Result<KeptEndpoint, Failure> {
    if !is_reserved(&kept.name) {
        return Ok(kept);
    }
    let old = kept.name.clone();
    let mut number = 1;
    while store
        .kept_endpoint(&format!("{old}-{number}"))
        .map_err(Failure::failed)?
        .is_some()
    {
        number += 1;
    }
    let kept = KeptEndpoint {
        name: format!("{old}-{number}"),
        ..kept
    };
    store.rename_endpoint(&old, &kept.name).map_err(Failure::failed)?;
    tracing::warn!(
        from = old,
        to = kept.name,
        "an endpoint is renamed, as its name could not be addressed"
    );
    Ok(kept)
}

impl Wanted {
    /// Returns why it is not served; what a spec says is refused at its place there.
    pub fn failure(&self, error: DeployError) -> Failure {
        match (&self.spec, error.refused_in(&self.order.spec)) {
            (Some(from), Some(refused)) => Failure::failed(format!("{from}: {refused}")),
            _ => Failure::failed(error),
        }
    }
}
