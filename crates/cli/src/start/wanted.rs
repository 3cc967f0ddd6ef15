//! What a service is to serve from its start: models by name, the demo, and what specs describe.

use crate::args::start::StartOptions;
use crate::demo;
use crate::failure::Failure;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use vastrelay_fleet::{Spec, SpecError};
use vastrelay_service::deploy::{DeployError, Order, check_name};
use vastrelay_service::event_log::START;
use vastrelay_serving::LoadError;

/// Most bytes of a spec.
const MOST_SPEC: u64 = 1 << 20;

/// An endpoint that is to be served.
pub struct Wanted {
    pub order: Order,
    /// The file that describes it, where one does.
    spec: Option<(PathBuf, Spec)>,
}

/// Returns everything that is to be served; nothing is loaded yet.
pub fn orders(options: &StartOptions, data: &Path) -> Result<Vec<Wanted>, Failure> {
    let plain = |name: &str, model: &Path| Wanted {
        order: Order::plain(name, model, START),
        spec: None,
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
    let failed = |error: &dyn std::fmt::Display| Failure::failed(format!("{}: {error}", file.display()));
    let text = vastrelay_files::read(file, MOST_SPEC).map_err(|error| failed(&error))?;
    let text = String::from_utf8(text).map_err(|_| failed(&"it is no text"))?;
    let spec = Spec::parse(&text).map_err(|error| failed(&error))?;
    let cores_for = |devices: &Vec<String>| devices.iter().any(|device| device == "cpu");
    if spec.settings.cores.is_some() && !spec.settings.devices.as_ref().is_none_or(cores_for) {
        let text = "`device.cores`: only a replica on `cpu` has cores; leave it out".into();
        return Err(failed(&spec.refuse("device.cores", text)));
    }
    let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    check_name(&name).map_err(|error| failed(&format!("its name is the endpoint's: {error}")))?;
    let folder = file.parent().unwrap_or(Path::new("")).to_owned();
    let order = Order {
        name,
        model: folder.join(&spec.model),
        settings: spec.settings.clone(),
        beside: folder,
        by: START.into(),
    };
    Ok(Wanted {
        order,
        spec: Some((file.to_owned(), spec)),
    })
}

impl Wanted {
    /// Returns why the service does not start; what a spec says is refused at its place there.
    pub fn failure(&self, error: DeployError) -> Failure {
        let Some((file, spec)) = &self.spec else {
            return Failure::failed(error);
        };
        let refused: SpecError = match &error {
            DeployError::Load { source, .. } => match &**source {
                LoadError::Setting { key, text } => spec.refuse(key, format!("`{key}`: {text}")),
                error if error.is_for_want_of_room() => spec.refuse("device.profile", error.to_string()),
                error => spec.refuse("model", error.to_string()),
            },
            _ => return Failure::failed(error),
        };
        Failure::failed(format!("{}: {refused}", file.display()))
    }
}
