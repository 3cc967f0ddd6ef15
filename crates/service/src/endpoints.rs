//! The endpoints there are.

use crate::endpoint::Endpoint;
use crate::problem::Problem;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, PoisonError, RwLock};

/// The endpoints, by name.
#[derive(Default)]
pub struct Endpoints {
    by_name: RwLock<BTreeMap<String, Arc<Endpoint>>>,
    /// Those that will be there soon: the service has begun, and does not know yet what they need.
    announced: RwLock<BTreeSet<String>>,
}

impl Endpoints {
    /// Returns all of them, in the order of their names.
    pub fn all(&self) -> Vec<Arc<Endpoint>> {
        let endpoints = self.by_name.read().unwrap_or_else(PoisonError::into_inner);
        endpoints.values().cloned().collect()
    }

    /// Returns the one that a call names as its model.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn called(&self, model: &str) -> Result<Arc<Endpoint>, Problem> {
        let endpoints = self.by_name.read().unwrap_or_else(PoisonError::into_inner);
        let found = endpoints.get(model).cloned();
        found.ok_or_else(|| match self.is_announced(model) {
            true => Problem::starting(model),
            false => Problem::unknown_model(model, endpoints.keys()),
        })
    }

    /// Returns the one of a name.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub fn get(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let endpoints = self.by_name.read().unwrap_or_else(PoisonError::into_inner);
        let found = endpoints.get(name).cloned();
        found.ok_or_else(|| Problem::unknown_endpoint(name, endpoints.keys()))
    }

    /// Says that endpoints will be there soon.
    pub fn announce<'a>(&self, names: impl IntoIterator<Item = &'a str>) {
        let mut announced = self.announced.write().unwrap_or_else(PoisonError::into_inner);
        announced.extend(names.into_iter().map(str::to_owned));
    }

    /// Says that nobody needs to wait for an endpoint that was announced.
    pub fn withdraw(&self, name: &str) {
        let mut announced = self.announced.write().unwrap_or_else(PoisonError::into_inner);
        announced.remove(name);
    }

    /// Returns whether endpoints will be there soon.
    pub(crate) fn expects_more(&self) -> bool {
        !self.announced.read().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    fn is_announced(&self, name: &str) -> bool {
        let announced = self.announced.read().unwrap_or_else(PoisonError::into_inner);
        announced.contains(name)
    }

    /// Adds one; returns `None` when its name is taken.
    pub(crate) fn add(&self, endpoint: Arc<Endpoint>) -> Option<Arc<Endpoint>> {
        let mut endpoints = self.by_name.write().unwrap_or_else(PoisonError::into_inner);
        if endpoints.contains_key(&endpoint.name) {
            return None;
        }
        endpoints.insert(endpoint.name.clone(), endpoint.clone());
        self.withdraw(&endpoint.name);
        Some(endpoint)
    }

    /// Takes one away and returns it. Calls that are being answered go on until they end.
    ///
    /// # Errors
    /// 404 with the names there are.
    pub(crate) fn remove(&self, name: &str) -> Result<Arc<Endpoint>, Problem> {
        let mut endpoints = self.by_name.write().unwrap_or_else(PoisonError::into_inner);
        let removed = endpoints.remove(name);
        removed.ok_or_else(|| Problem::unknown_endpoint(name, endpoints.keys()))
    }
}
