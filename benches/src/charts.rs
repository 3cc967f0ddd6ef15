//! Charts of a run: the time of a step by the number of sequences, and by what they have cached.

use crate::report::{Cell, Report};
use anyhow::{Result, anyhow};
use plotters::prelude::*;
use std::collections::BTreeMap;
use std::path::Path;

const COLOURS: [RGBColor; 5] = [
    RGBColor(29, 53, 87),
    RGBColor(178, 48, 44),
    RGBColor(32, 128, 80),
    RGBColor(190, 130, 10),
    RGBColor(110, 80, 150),
];

/// Of each precision, places on the horizontal axis and milliseconds.
type Lines = BTreeMap<String, Vec<(f64, f64)>>;

/// Draws the charts of a model into a folder; a chart for which nothing was measured is left out.
///
/// # Errors
/// When a file cannot be written.
pub fn draw(report: &Report, model: &str, folder: &Path) -> Result<()> {
    std::fs::create_dir_all(folder)?;
    let batch = lines(report, model, |sequences, cached| (cached == 512).then_some(sequences));
    chart(
        &folder.join("step-by-batch.svg"),
        "sequences, each with 512 tokens cached",
        &batch,
    )?;
    let context = lines(report, model, |sequences, cached| (sequences == 32).then_some(cached));
    chart(
        &folder.join("step-by-context.svg"),
        "tokens cached, of each of 32 sequences",
        &context,
    )
}

fn lines(report: &Report, model: &str, place: impl Fn(u32, u32) -> Option<u32>) -> Lines {
    let mut lines = Lines::new();
    let decoding = |cell: &&Cell| cell.model == model && cell.against == "the machine's limit";
    for cell in report.cells().iter().filter(decoding) {
        let words: Vec<&str> = cell.work.split(' ').collect();
        let ["decode", sequences, "at", cached] = words[..] else {
            continue;
        };
        let (Ok(sequences), Ok(cached)) = (sequences.parse(), cached.parse()) else {
            continue;
        };
        if let Some(place) = place(sequences, cached) {
            let line = lines.entry(cell.subject.clone()).or_default();
            line.push((f64::from(place), cell.subject_seconds * 1e3));
        }
    }
    lines
        .values_mut()
        .for_each(|line| line.sort_by(|a, b| a.0.total_cmp(&b.0)));
    lines.retain(|_, line| line.len() > 1);
    lines
}

fn chart(path: &Path, across: &str, lines: &Lines) -> Result<()> {
    let points = || lines.values().flatten();
    let most = |of: fn(&(f64, f64)) -> f64| points().map(of).fold(0.0, f64::max);
    if lines.is_empty() {
        return Ok(());
    }
    let wrong = |error: &dyn std::fmt::Display| anyhow!("cannot draw {}: {error}", path.display());
    let area = SVGBackend::new(path, (760, 420)).into_drawing_area();
    area.fill(&WHITE).map_err(|error| wrong(&error))?;
    let mut chart = ChartBuilder::on(&area)
        .margin(16)
        .x_label_area_size(44)
        .y_label_area_size(60)
        .build_cartesian_2d(0.0..most(|point| point.0) * 1.02, 0.0..most(|point| point.1) * 1.05)
        .map_err(|error| wrong(&error))?;
    chart
        .configure_mesh()
        .light_line_style(TRANSPARENT)
        .x_desc(across)
        .y_desc("one step, ms")
        .label_style(("sans-serif", 14))
        .draw()
        .map_err(|error| wrong(&error))?;
    for ((name, line), colour) in lines.iter().zip(COLOURS) {
        let series = LineSeries::new(line.iter().copied(), colour.stroke_width(2)).point_size(3);
        chart
            .draw_series(series)
            .map_err(|error| wrong(&error))?
            .label(name)
            .legend(move |(x, y)| PathElement::new([(x, y), (x + 18, y)], colour.stroke_width(2)));
    }
    chart
        .configure_series_labels()
        .position(SeriesLabelPosition::UpperLeft)
        .background_style(WHITE)
        .border_style(BLACK.mix(0.3))
        .label_font(("sans-serif", 14))
        .draw()
        .map_err(|error| wrong(&error))?;
    area.present().map_err(|error| wrong(&error))
}
