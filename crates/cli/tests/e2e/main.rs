//! The real interface: the service started on loopback, called through its client, over HTTP, and from a browser.

mod command;
mod console;
mod load;
mod python;
mod reference;
mod support;
mod wire;
