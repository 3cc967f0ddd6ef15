//! Where the service is.

use clap::Args;
use std::path::PathBuf;

/// Where the service is.
#[derive(Args)]
pub struct Connection {
    /// The service's address
    #[arg(
        long,
        env = "VASTRELAY_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:7411",
        hide_env_values = true
    )]
    pub url: String,
    /// API key
    #[arg(long, env = "VASTRELAY_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// Additional certificate to trust, a PEM file
    #[arg(long, env = "VASTRELAY_CA", value_name = "FILE")]
    pub ca: Option<PathBuf>,
}
