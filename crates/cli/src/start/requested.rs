//! What a service is to serve from its start: models by name, the demo, and what specs describe.

use crate::args::start::StartOptions;
use crate::demo;
use crate::failure::Failure;
use crate::spec_file::SpecFile;
use std::collections::BTreeSet;
use std::path::Path;
use vastrelay_control::deployments::request::DeployRequest;
use vastrelay_control::endpoints::name::is_reserved;
use vastrelay_control::events::START;
use vastrelay_service::ServiceState;
use vastrelay_store::{Store, StoredEndpoint, StoredState};

/// An endpoint to serve.
pub struct RequestedEndpoint {
    pub request: DeployRequest,
    /// The file of its spec, if there is one.
    spec: Option<String>,
    /// Whether it comes from the database, not from the command line.
    pub is_stored: bool,
    /// Whether it comes back by itself: an earlier service has served the same.
    pub comes_back: bool,
}

/// Returns all endpoints to serve, without loading any.
pub fn orders(options: &StartOptions, data: &Path) -> Result<Vec<RequestedEndpoint>, Failure> {
    let plain = |name: &str, model: &Path| RequestedEndpoint {
        request: DeployRequest::plain(name, model, START),
        spec: None,
        is_stored: false,
        comes_back: false,
    };
    let mut all: Vec<RequestedEndpoint> = options.models.iter().map(|(name, model)| plain(name, model)).collect();
    if options.demo {
        all.push(plain("pierdesk", &demo::unpack(data).map_err(Failure::failed)?));
    }
    for file in &options.specs {
        all.push(described(file)?);
    }
    let mut names = BTreeSet::new();
    match all.iter().find(|one| !names.insert(&one.request.name)) {
        Some(twice) => Err(Failure::usage(format!(
            "two endpoints are named `{}`; rename one",
            twice.request.name
        ))),
        None => Ok(all),
    }
}

/// Reads a spec; the endpoint has the file's name.
fn described(file: &Path) -> Result<RequestedEndpoint, Failure> {
    let SpecFile { name, text, beside } = SpecFile::read(file).map_err(Failure::failed)?;
    let request = DeployRequest::of_spec(&name, &text, &beside, START);
    let request = request.map_err(|error| Failure::failed(format!("{}: {error}", file.display())))?;
    Ok(RequestedEndpoint {
        request,
        spec: Some(file.display().to_string()),
        is_stored: false,
        comes_back: false,
    })
}

/// Adds the stored endpoints that were not stopped or removed since, and notes which of them start by themselves.
///
/// # Errors
/// When the database cannot be read.
pub fn add_kept(store: &Store, requested: &mut Vec<RequestedEndpoint>) -> Result<(), Failure> {
    for kept in store.stored_endpoints().map_err(Failure::failed)? {
        let kept = addressable(store, kept)?;
        if kept.state != StoredState::Served {
            continue;
        }
        if let Some(named) = requested.iter_mut().find(|other| other.request.name == kept.name) {
            named.comes_back = named.request.is_kept_as(&kept);
            continue;
        }
        // The control plane says why what this version does not understand has failed.
        let plain = || DeployRequest::plain(&kept.name, Path::new(&kept.name), START);
        let request = DeployRequest::of_kept(&kept, START);
        requested.push(RequestedEndpoint {
            request: request.unwrap_or_else(|_| plain()),
            spec: Some(format!("the spec of `{}`", kept.name)),
            is_stored: true,
            comes_back: true,
        });
    }
    Ok(())
}

/// Returns a kept endpoint under a name that can be addressed: earlier versions took some that cannot.
fn addressable(store: &Store, kept: StoredEndpoint) -> Result<StoredEndpoint, Failure> {
    if !is_reserved(&kept.name) {
        return Ok(kept);
    }
    let old = kept.name.clone();
    let mut number = 1;
    while store
        .stored_endpoint(&format!("{old}-{number}"))
        .map_err(Failure::failed)?
        .is_some()
    {
        number += 1;
    }
    let kept = StoredEndpoint {
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

impl RequestedEndpoint {
    /// Returns why an endpoint of an earlier service has failed.
    pub fn why_failed(&self, state: &ServiceState) -> String {
        let name = &self.request.name;
        let resting = state.endpoints.resting().remove(name).map(|resting| resting.why);
        let served = state.endpoints.get(name).ok();
        let why = resting.or_else(|| served.and_then(|endpoint| endpoint.replicas.failure()));
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
