//! Repositories: the records that the store keeps, a file for each concept. SQL belongs in the modules of the records, threads and connections
//! in `database`.

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
