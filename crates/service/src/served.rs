//! The models that are served.

use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError, RwLock};
use vastrelay_serving::Replica;

/// The models that are served, by name.
#[derive(Clone, Default)]
pub(crate) struct Models(pub Arc<RwLock<BTreeMap<String, Arc<Replica>>>>);

impl Models {
    /// Returns all of them, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Replica>> {
        let models = self.0.read().unwrap_or_else(PoisonError::into_inner);
        models.values().cloned().collect()
    }
}

/// Whether a model has stopped for good.
pub(crate) fn has_failed(model: &Replica) -> bool {
    model.generate.status().failure.is_some()
}
