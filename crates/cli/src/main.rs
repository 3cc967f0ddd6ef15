//! The command line: `vastrelay start` runs the service, the other commands talk to one.

mod args;
mod ask;
mod client;
mod console;
mod convert;
mod cpu;
mod demo;
mod device;
mod endpoint;
mod event;
mod failure;
mod fit;
mod job;
mod key;
mod load;
mod machine;
mod memory;
mod model;
mod output;
mod plain;
mod request;
mod spec_file;
mod start;
mod status;
mod text;
mod watch;
mod worker;

use args::request::RequestCommand;
use args::{Arguments, Command};
use clap::Parser;
use failure::Failure;
use std::process::ExitCode;

fn main() -> ExitCode {
    // clap itself answers wrong words with exit code 2.
    if let Err(failure) = args::near_miss::check(&std::env::args_os().collect::<Vec<_>>()) {
        return failure.report();
    }
    let arguments = Arguments::parse();
    if let Command::RenderTemplates = arguments.command {
        // A slow template yields to the threads that produce tokens.
        let _ = rustix::process::nice(5);
        let served = vastrelay_text::template_process::serve(std::io::stdin().lock(), std::io::stdout().lock());
        return served.map_or_else(|error| Failure::failed(error).report(), |()| ExitCode::SUCCESS);
    }
    if let Command::Convert = arguments.command {
        return convert::run().map_or_else(|failure| failure.report(), |()| ExitCode::SUCCESS);
    }
    if let Command::Worker = arguments.command {
        return worker::run().map_or_else(|failure| failure.report(), |()| ExitCode::SUCCESS);
    }
    let runtime = match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime,
        Err(error) => {
            return Failure::failed(format!("cannot start the runtime: {}", vastrelay_files::reason(&error))).report();
        }
    };
    let outcome = match arguments.command {
        Command::Start(options) => start::run(&runtime, &options),
        Command::Ask(options) => runtime.block_on(ask::run(&options)),
        Command::Status(options) => runtime.block_on(status::run(&options)),
        Command::Device(command) => runtime.block_on(device::run(&command)),
        Command::Fit(options) => fit::run(&options),
        Command::Model(command) => model::run(&runtime, &command),
        Command::Endpoint(command) => runtime.block_on(endpoint::run(&command)),
        Command::Event(command) => runtime.block_on(event::run(&command)),
        Command::Job(command) => runtime.block_on(job::run(&command)),
        Command::Request(RequestCommand::List(options)) => runtime.block_on(request::list(&options)),
        Command::Request(RequestCommand::Show(options)) => runtime.block_on(request::show(&options)),
        Command::Load(command) => runtime.block_on(load::run(&command)),
        Command::Console(options) => runtime.block_on(console::run(&options)),
        Command::Watch(options) => runtime.block_on(watch::run(&options)),
        Command::Key(command) => runtime.block_on(key::run(&command)),
        Command::Text(command) => runtime.block_on(text::run(&command)),
        Command::RenderTemplates | Command::Convert | Command::Worker => Ok(()),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(),
    }
}
