//! Where the service is.

use clap::Args;
use std::ffi::OsString;
use std::path::PathBuf;

/// The address of a service that was started without options.
const USUAL_URL: &str = "http://127.0.0.1:7411";

/// The place of the service. The environment's values are read here: the parser would list their options in usage lines.
#[derive(Args)]
pub struct Connection {
    /// The service's address [env: VASTRELAY_URL] [default: http://127.0.0.1:7411]
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// API key [env: VASTRELAY_KEY]
    #[arg(long, value_name = "KEY")]
    key: Option<String>,
    /// Additional certificate to trust, a PEM file [env: VASTRELAY_CA]
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
}

impl Connection {
    /// Returns the service's address.
    pub fn url(&self) -> String {
        let said = self
            .url
            .clone()
            .or_else(|| environment("VASTRELAY_URL")?.into_string().ok());
        said.unwrap_or_else(|| USUAL_URL.into())
    }

    /// Returns the key.
    pub fn key(&self) -> Option<String> {
        self.key
            .clone()
            .or_else(|| environment("VASTRELAY_KEY")?.into_string().ok())
    }

    /// Returns the file of the additional certificate to trust.
    pub fn ca(&self) -> Option<PathBuf> {
        self.ca
            .clone()
            .or_else(|| environment("VASTRELAY_CA").map(PathBuf::from))
    }
}

/// Returns a variable of the environment that is not empty.
fn environment(name: &str) -> Option<OsString> {
    std::env::var_os(name).filter(|value| !value.is_empty())
}
