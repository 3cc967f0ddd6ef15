//! What the store keeps, a file for each concept. Their SQL belongs in the modules that they use, the threads and connections in `database`.

mod builds;
mod calls;
mod changes;
mod endpoints;
mod events;
mod history;
mod jobs;
mod keys;
mod runs;
mod workers;
