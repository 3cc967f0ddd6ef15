//! The same model in JAX. A separate process runs it, in alternation with our engine.

use crate::work::Work;
use anyhow::{Context, Result, bail};
use serde_json::json;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use vastrelay_weights::ModelDescription;

/// A process that has the model.
pub struct Jax {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    /// What its matrix products alone reach, in operations per second.
    pub products: f64,
}

impl Jax {
    /// Starts it with random weights.
    ///
    /// # Errors
    /// When Python or JAX is missing.
    pub fn start(python: &Path, model: &ModelDescription) -> Result<Jax> {
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("jax/model.py");
        let mut child = Command::new(python)
            .arg(script)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .with_context(|| format!("cannot run {}", python.display()))?;
        let input = child.stdin.take().context("an input")?;
        let output = BufReader::new(child.stdout.take().context("an output")?);
        let mut jax = Jax {
            child,
            input,
            output,
            products: 0.0,
        };
        let sizes = json!({
            "width": model.width, "mlp_width": model.mlp_width, "layers": model.layers, "heads": model.heads,
            "kv_heads": model.kv_heads, "head_dim": model.head_dim, "vocabulary": model.vocabulary,
        });
        writeln!(jax.input, "{sizes}")?;
        for _ in 0..3 {
            jax.products = jax.products.max(jax.ask("matmul")?);
        }
        Ok(jax)
    }

    /// Does the work once; returns the seconds.
    ///
    /// # Errors
    /// When the process has ended.
    pub fn run(&mut self, work: Work) -> Result<f64> {
        match work {
            Work::Prefill(tokens) => self.ask(&format!("prefill {tokens}")),
            Work::Decode(sequences, _) => self.ask(&format!("decode {sequences}")),
            Work::Mixed(..) => bail!("JAX reads prompts apart"),
        }
    }

    fn ask(&mut self, question: &str) -> Result<f64> {
        writeln!(self.input, "{question}")?;
        let mut answer = String::new();
        if self.output.read_line(&mut answer)? == 0 {
            bail!("JAX has ended");
        }
        Ok(answer.trim().parse()?)
    }
}

impl Drop for Jax {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
