//! What goes to standard output.

use std::io::{ErrorKind, Write};

/// Prints text at once. When the reader has gone, as `head` does, the program ends quietly.
pub fn print(text: &str) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        std::process::exit(if error.kind() == ErrorKind::BrokenPipe { 0 } else { 1 });
    }
}

/// Prints a line at once.
pub fn line(text: impl AsRef<str>) {
    print(&format!("{}\n", text.as_ref()));
}
