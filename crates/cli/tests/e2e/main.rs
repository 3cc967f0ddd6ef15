//! The real interface: the service started on loopback, called through its client, over HTTP, and from a browser.

mod access;
mod clients;
mod command;
mod console;
mod description;
mod docs;
mod earlier;
mod endure;
mod fit;
mod fuzz;
mod guard;
mod hostile;
mod load;
mod manage;
mod measure;
mod metrics;
mod model;
mod raw;
mod records;
mod reference;
mod simulated;
mod spec;
mod support;
mod survival;
mod taken;
mod wire;
