//! The right to use the replicas of an endpoint.

use crate::endpoints::endpoint::Endpoint;
use crate::replicas::leases::LeaseNumber;
use std::ops::Deref;
use std::sync::Arc;

/// The right to use the replicas of an endpoint, given back when its last clone is dropped.
#[derive(Clone)]
pub struct Lease(Arc<Held>);

struct Held {
    endpoint: Arc<Endpoint>,
    number: LeaseNumber,
}

impl Lease {
    /// Gives a holder a lease of an endpoint.
    pub fn take(endpoint: &Arc<Endpoint>, holder: &str) -> Lease {
        Lease(Arc::new(Held {
            endpoint: endpoint.clone(),
            number: endpoint.replicas.leases().take(holder),
        }))
    }
}

impl Deref for Lease {
    type Target = Endpoint;

    fn deref(&self) -> &Endpoint {
        &self.0.endpoint
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.endpoint.replicas.leases().give_back(self.number);
    }
}
