//! What a service is to serve from its start: models by name, the demo, and what specs describe.

use crate::args::start::StartOptions;
use crate::demo;
use crate::failure::Failure;
use crate::spec_file::SpecFile;
use std::collections::BTreeSet;
use std::path::Path;
use vastrelay_control::endpoint_name::is_reserved;
use vastrelay_control::event_log::START;
use vastrelay_control::order::Order;
use vastrelay_service::ServiceState;
use vastrelay_store::{KeptEndpoint, Standing, Store};

/// An endpoint to serve.
pub struct Wanted {
    pub order: Order,
    /// The file of its spec, if there is one.
    spec: Option<String>,
    /// Whether it comes from the database, not from the command line.
    pub is_kept: bool,
    /// Whether it comes back by itself: an earlier service has served the same.
    pub comes_back: bool,
}

/// Returns all endpoints to serve, without loading any.
pub fn orders(options: &StartOptions, data: &Path) -> Result<Vec<Wanted>, Failure> {
    let plain = |name: &str, model: &Path| Wanted {
        order: Order::plain(name, model, START),
        spec: None,
        is_kept: false,
        comes_back: false,
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
        comes_back: false,
    })
}

/// Adds the stored endpoints that were not stopped or removed since, and notes which of them start by themselves.
///
/// # Errors
/// When the database cannot be read.
pub fn add_kept(store: &Store, wanted: &mut Vec<Wanted>) -> Result<(), Failure> {
    for kept in store.kept_endpoints().map_err(Failure::failed)? {
        let kept = addressable(store, kept)?;
        if kept.standing != Standing::Served {
            continue;
        }
        if let Some(named) = wanted.iter_mut().find(|other| other.order.name == kept.name) {
            named.comes_back = named.order.is_kept_as(&kept);
            continue;
        }
        // The control plane says why what this version does not understand has failed.
        let plain = || Order::plain(&kept.name, Path::new(&kept.name), START);
        let order = Order::of_kept(&kept, START);
        wanted.push(Wanted {
            order: order.unwrap_or_else(|_| plain()),
            spec: Some(format!("the spec of `{}`", kept.name)),
            is_kept: true,
            comes_back: true,
        });
    }
    Ok(())
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
    /// Returns why an endpoint of an earlier service has failed.
    pub fn why_failed(&self, state: &ServiceState) -> String {
        let name = &self.order.name;
        let resting = state.endpoints.resting().remove(name).map(|resting| resting.why);
        let served = state.endpoints.get(name).ok();
        let why = resting.or_else(|| served.and_then(|endpoint| endpoint.crew.failure()));
        format!("`{name}` cannot be served: {}", why.unwrap_or_default())
    }

    /// Returns why it is not served; what a spec says is refused at its place there.
    pub fn failure(&self, why: &str) -> Failure {
        match &self.spec {
            Some(from) => Failure::failed(format!("{from}: {why}")),
            None => Failure::failed(why),
        }
    }
}
