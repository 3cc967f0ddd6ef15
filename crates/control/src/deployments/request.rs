//! The desired state of an endpoint, and its author.

use std::path::{Path, PathBuf};
use vastrelay_fleet::decider::{About, Failure};
use vastrelay_fleet::{Spec, SpecError};
use vastrelay_store::{Granted, StoredEndpoint};

/// A desired endpoint.
#[derive(Clone, Debug)]
pub struct DeployRequest {
    /// Its name.
    pub name: String,
    /// Its desired spec.
    pub spec: Spec,
    /// The spec, as it is written.
    pub text: String,
    /// The folder that paths in the spec begin at.
    pub beside: PathBuf,
    /// Its author: the name of a key, or [`START`](crate::events::START).
    pub by: String,
    /// Which files it may name, beyond those beneath a root.
    pub granted: Granted,
    /// Whether the service made the spec, with nothing but the model.
    pub is_plain: bool,
}

impl DeployRequest {
    /// Returns a request for an endpoint with nothing but its model.
    ///
    /// # Panics
    /// When the path is empty.
    pub fn plain(name: &str, model: &Path, by: &str) -> DeployRequest {
        let model = std::path::absolute(model).unwrap_or(model.to_owned());
        let text = Spec::text_of(&model.display().to_string());
        let spec = Spec::parse(&text).expect("a spec of nothing but a model can be read");
        DeployRequest {
            name: name.to_owned(),
            spec,
            text,
            beside: PathBuf::new(),
            by: by.to_owned(),
            granted: Granted::All,
            is_plain: true,
        }
    }

    /// Returns a request for the endpoint of a spec, whose paths begin at a folder.
    ///
    /// # Errors
    /// When the spec says what cannot be.
    pub fn of_spec(name: &str, text: &str, beside: &Path, by: &str) -> Result<DeployRequest, SpecError> {
        let spec = Spec::parse(text)?;
        let cores_for = |devices: &Vec<String>| devices.iter().any(|device| device == "cpu");
        if spec.settings.cores.is_some() && !spec.settings.devices.as_ref().is_none_or(cores_for) {
            let text = "`device.cores`: only a replica on `cpu` has cores; leave it out".into();
            return Err(spec.refuse("device.cores", text));
        }
        Ok(DeployRequest {
            name: name.to_owned(),
            spec,
            text: text.to_owned(),
            beside: std::path::absolute(beside).unwrap_or(beside.to_owned()),
            by: by.to_owned(),
            granted: Granted::All,
            is_plain: false,
        })
    }

    /// Returns a request for a stored endpoint.
    ///
    /// # Errors
    /// When this version does not understand the spec.
    pub fn of_kept(kept: &StoredEndpoint, by: &str) -> Result<DeployRequest, SpecError> {
        let request = DeployRequest::of_spec(&kept.name, &kept.spec, Path::new(&kept.beside), by)?;
        let is_plain = request.text == Spec::text_of(&request.spec.model);
        Ok(DeployRequest {
            is_plain,
            ..request.with(kept.granted.clone())
        })
    }

    /// Returns whether the same is kept of its endpoint.
    pub fn is_kept_as(&self, kept: &StoredEndpoint) -> bool {
        let beside = self.beside.display().to_string();
        (&self.name, &self.text, &beside, &self.granted) == (&kept.name, &kept.spec, &kept.beside, &kept.granted)
    }

    /// Returns the same request with other files granted to it.
    pub fn with(self, granted: Granted) -> DeployRequest {
        DeployRequest { granted, ..self }
    }

    /// Returns whether the service's own user has named a file for this endpoint.
    pub fn is_granted(&self, path: &Path) -> bool {
        match &self.granted {
            Granted::All => true,
            Granted::Only(paths) => paths.iter().any(|granted| Path::new(granted) == path),
        }
    }

    /// Returns the files that it names and that are granted to it: what a change by another caller may keep.
    pub fn granted_files(&self) -> Vec<String> {
        let Spec {
            answering, settings, ..
        } = &self.spec;
        let template = answering.template.iter().map(|template| self.beside.join(template));
        let devices = settings.devices.iter().flatten().map(|device| self.beside.join(device));
        let named = std::iter::once(self.model()).chain(template).chain(devices);
        let granted = named.filter(|path| self.is_granted(path));
        granted.map(|path| path.to_string_lossy().into_owned()).collect()
    }

    /// Returns the path of its model.
    pub fn model(&self) -> PathBuf {
        self.beside.join(&self.spec.model)
    }

    /// Returns the place in the spec that caused a failure, and the reason; `None` without such a place, and for specs that the service made.
    pub fn refused(&self, failure: &Failure) -> Option<SpecError> {
        if self.is_plain {
            return None;
        }
        let (About::Spec(key) | About::Room(key)) = &failure.about else {
            // The spec may be right, so that no place in it is to blame.
            return None;
        };
        let text = match (&failure.about, key.as_str()) {
            (About::Spec(_), "model") | (About::Room(_), _) => failure.why.clone(),
            (_, key) => format!("`{key}`: {}", failure.why),
        };
        Some(self.spec.refuse(key, text))
    }
}
