//! The endpoints there are.

use crate::endpoint::Endpoint;
use crate::problem::Problem;
use std::collections::BTreeMap;
use std::sync::{Arc, PoisonError, RwLock};

/// The endpoints, by name.
#[derive(Default)]
pub struct Endpoints(RwLock<BTreeMap<String, Arc<Endpoint>>>);

impl Endpoints {
    /// Returns all of them, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Endpoint>> {
        let endpoints = self.0.read().unwrap_or_else(PoisonError::into_inner);
        endpoints.values().cloned().collect()
    }

    /// Returns the one that a call names as its model.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn called(&self, model: &str) -> Result<Arc<Endpoint>, Problem> {
        let endpoints = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let found = endpoints.get(model).cloned();
        found.ok_or_else(|| Problem::unknown_model(model, endpoints.keys()))
    }

    /// Returns the one of a name.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn get(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let endpoints = self.0.read().unwrap_or_else(PoisonError::into_inner);
        let found = endpoints.get(name).cloned();
        found.ok_or_else(|| Problem::unknown_endpoint(name, endpoints.keys()))
    }

    /// Adds one; returns `None` when its name is taken.
    pub(crate) fn add(&self, endpoint: Endpoint) -> Option<Arc<Endpoint>> {
        let mut endpoints = self.0.write().unwrap_or_else(PoisonError::into_inner);
        if endpoints.contains_key(&endpoint.name) {
            return None;
        }
        let endpoint = Arc::new(endpoint);
        endpoints.insert(endpoint.name.clone(), endpoint.clone());
        Some(endpoint)
    }

    /// Takes one away and returns it. Calls that are being answered go on until they end.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub(crate) fn remove(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let mut endpoints = self.0.write().unwrap_or_else(PoisonError::into_inner);
        let removed = endpoints.remove(name);
        removed.ok_or_else(|| Problem::unknown_endpoint(name, endpoints.keys()))
    }
}
