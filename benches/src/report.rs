//! What was measured: a table, a file, and what has changed since another file.

use crate::Machine;
use crate::alternate::Limits;
use crate::statistics::{interval, median};
use anyhow::{Context, Result};
use serde::{Deserialize, Serialize};
use std::path::Path;

/// All cells of a run.
#[derive(Deserialize, Serialize)]
pub struct Report {
    instructions: String,
    cores: usize,
    rounds: usize,
    limits: Limits,
    cells: Vec<Cell>,
    /// What was left out, and why.
    skipped: Vec<String>,
}

/// A subject against something else, in one kind of work.
#[derive(Deserialize, Serialize)]
pub struct Cell {
    /// Which model.
    pub model: String,
    /// What is done.
    pub work: String,
    /// What does it.
    pub subject: String,
    /// What it is compared with.
    pub against: String,
    /// The ratio that is aimed at.
    pub aim: Option<f64>,
    /// What the lower end of the ratio's interval has to reach.
    pub must_hold: Option<f64>,
    /// Median.
    pub subject_seconds: f64,
    /// Median.
    pub against_seconds: f64,
    /// How many times as fast, in each alternation.
    pub ratios: Vec<f64>,
    /// Whether the machine's limits drifted meanwhile.
    pub drifted: bool,
    /// Mean seconds of each part of a step; of the subject's, and in one cell only where there are several of it.
    #[serde(default)]
    pub phases: Vec<(String, f64)>,
}

impl Cell {
    fn key(&self) -> (&str, &str, &str, &str) {
        (&self.model, &self.work, &self.subject, &self.against)
    }

    fn ratio(&self) -> f64 {
        median(&self.ratios)
    }

    fn verdict(&self) -> &'static str {
        let (low, _) = interval(&self.ratios);
        match (self.must_hold.is_some_and(|least| low < least), self.aim) {
            (true, _) => "MUST HOLD",
            (false, None) => "",
            (false, Some(aim)) if self.ratio() >= aim => "met",
            (false, Some(_)) => "missed",
        }
    }
}

impl Report {
    /// Returns one without cells.
    pub fn new(machine: Machine) -> Report {
        Report {
            instructions: machine.isa.name().to_owned(),
            cores: machine.cores,
            rounds: machine.rounds,
            limits: Limits::default(),
            cells: Vec::new(),
            skipped: Vec::new(),
        }
    }

    /// Reads what was written.
    pub fn read(path: &Path) -> Result<Report> {
        Ok(serde_json::from_slice(&std::fs::read(path)?)?)
    }

    /// Adds a cell.
    pub fn add(&mut self, cell: Cell) {
        self.cells.push(cell);
    }

    /// Returns all cells.
    pub fn cells(&self) -> &[Cell] {
        &self.cells
    }

    /// Notes the machine's limits.
    pub fn note_limits(&mut self, limits: Limits) {
        self.limits = limits;
    }

    /// Notes what was left out.
    pub fn skip(&mut self, reason: String) {
        eprintln!("  left out: {reason}");
        self.skipped.push(reason);
    }

    /// Returns whether something that must hold does not.
    pub fn has_failed(&self) -> bool {
        self.cells.iter().any(|cell| cell.verdict() == "MUST HOLD")
    }

    /// Prints all cells.
    pub fn print(&self) {
        let Limits {
            read,
            multiply_add,
            dot_product,
        } = self.limits;
        println!(
            "{} kernels, {} cores: {:.1} GB/s read, {:.0} GFLOP/s, {:.0} G operations/s of bytes; {} alternations",
            self.instructions,
            self.cores,
            read / 1e9,
            multiply_add / 1e9,
            dot_product / 1e9,
            self.rounds
        );
        println!(
            "\n{:16} {:20} {:8} {:20} {:>7} {:>15} {:>6} {:>11} {:>11}  result",
            "model", "work", "subject", "against", "ratio", "90 % interval", "aim", "subject", "other"
        );
        for cell in &self.cells {
            let (low, high) = interval(&cell.ratios);
            println!(
                "{:16} {:20} {:8} {:20} {:>7.3} {:>15} {:>6} {:>8.3} ms {:>8.3} ms  {}{}",
                cell.model,
                cell.work,
                cell.subject,
                cell.against,
                cell.ratio(),
                format!("{low:.3}–{high:.3}"),
                cell.aim.map_or(String::new(), |aim| format!("{aim:.2}")),
                cell.subject_seconds * 1e3,
                cell.against_seconds * 1e3,
                cell.verdict(),
                if cell.drifted { " (limits drifted)" } else { "" }
            );
        }
        for reason in &self.skipped {
            println!("left out: {reason}");
        }
    }

    /// Prints what has changed beyond what could be chance: whose intervals do not overlap.
    pub fn print_changes(&self, before: &Report) {
        println!("\nchanged since then:");
        let mut changes = 0;
        for cell in &self.cells {
            let Some(old) = before.cells.iter().find(|old| old.key() == cell.key()) else {
                continue;
            };
            let ((low, high), (old_low, old_high)) = (interval(&cell.ratios), interval(&old.ratios));
            if low > old_high || high < old_low {
                changes += 1;
                println!(
                    "  {} {} {} against {}: {:.3} → {:.3}",
                    cell.model,
                    cell.work,
                    cell.subject,
                    cell.against,
                    old.ratio(),
                    cell.ratio()
                );
            }
        }
        if changes == 0 {
            println!("  nothing beyond chance");
        }
    }

    /// Writes all figures.
    pub fn write(&self, path: &Path) -> Result<()> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        let text = serde_json::to_string_pretty(self)?;
        std::fs::write(path, text).with_context(|| format!("cannot write {}", path.display()))
    }
}
