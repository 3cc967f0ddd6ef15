//! Charts of a run: the time of a step by the number of sequences, by what they have cached, and by its parts.

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

/// Of the parts of a step.
const PARTS: [RGBColor; 9] = [
    RGBColor(120, 120, 120),
    RGBColor(29, 53, 87),
    RGBColor(70, 160, 175),
    RGBColor(178, 48, 44),
    RGBColor(65, 105, 160),
    RGBColor(32, 128, 80),
    RGBColor(120, 165, 60),
    RGBColor(190, 130, 10),
    RGBColor(110, 80, 150),
];

/// Of each precision, places on the horizontal axis and milliseconds.
type Lines = BTreeMap<String, Vec<(f64, f64)>>;

/// Draws the charts of the first model of a run into a folder; a chart for which nothing was measured is left out.
///
/// # Errors
/// When a file cannot be written.
pub fn draw(report: &Report, folder: &Path) -> Result<()> {
    std::fs::create_dir_all(folder)?;
    let is_step = |cell: &&Cell| cell.against == "the machine's limit";
    let model = report.cells().iter().find(is_step).map_or("", |cell| &cell.model);
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
    )?;
    parts(&folder.join("step-by-part.svg"), &bars(report, model))
}

/// Where the time of one kind of step goes: what it is, and the share of each part.
type Bar = (String, Vec<(String, f64)>);

/// Returns a bar for each kind of step that has aims, in two precisions.
fn bars(report: &Report, model: &str) -> Vec<Bar> {
    let works = ["decode 1 at 512", "decode 8 at 512", "decode 32 at 512", "prefill 512"];
    let wanted = |(work, subject): (&str, &str)| {
        let is_it = |cell: &&Cell| cell.model == model && cell.work == work && cell.subject == subject;
        let cell = report
            .cells()
            .iter()
            .filter(is_it)
            .find(|cell| !cell.phases.is_empty())?;
        let total: f64 = cell.phases.iter().map(|(_, seconds)| seconds).sum();
        let share = |(name, seconds): &(String, f64)| (name.clone(), 100.0 * seconds / total);
        Some((format!("{work}, {subject}"), cell.phases.iter().map(share).collect()))
    };
    let all = works
        .iter()
        .flat_map(|work| ["bf16", "int8"].map(|subject| (*work, subject)));
    all.filter_map(wanted).collect()
}

/// Draws bars of parts, the first on top.
fn parts(path: &Path, bars: &[Bar]) -> Result<()> {
    let Some((_, first)) = bars.first() else { return Ok(()) };
    let wrong = |error: &dyn std::fmt::Display| anyhow!("cannot draw {}: {error}", path.display());
    let (left, top, width, height) = (190, 16, 540, 28);
    let below = top + bars.len() as i32 * height;
    let area = SVGBackend::new(path, (760, (below + 110) as u32)).into_drawing_area();
    area.fill(&WHITE).map_err(|error| wrong(&error))?;
    let text = |text: String, x: i32, y: i32| Text::new(text, (x, y), ("sans-serif", 14));
    for (row, (name, shares)) in bars.iter().enumerate() {
        let y = top + row as i32 * height;
        area.draw(&text(name.clone(), 16, y + 4))
            .map_err(|error| wrong(&error))?;
        let mut sum = 0.0;
        for ((_, share), colour) in shares.iter().zip(PARTS) {
            let place = |share: f64| left + (share / 100.0 * f64::from(width)).round() as i32;
            let corners = [(place(sum), y), (place(sum + share), y + height - 8)];
            area.draw(&Rectangle::new(corners, colour.filled()))
                .map_err(|error| wrong(&error))?;
            if *share >= 6.0 {
                let label = Text::new(
                    format!("{share:.0}"),
                    (place(sum) + 4, y + 4),
                    ("sans-serif", 12).into_font().color(&WHITE),
                );
                area.draw(&label).map_err(|error| wrong(&error))?;
            }
            sum += share;
        }
    }
    for (at, ((name, _), colour)) in first.iter().zip(PARTS).enumerate() {
        let (x, y) = (16 + (at % 3) as i32 * 245, below + 16 + (at / 3) as i32 * 26);
        area.draw(&Rectangle::new([(x, y), (x + 14, y + 14)], colour.filled()))
            .map_err(|error| wrong(&error))?;
        area.draw(&text(name.clone(), x + 20, y))
            .map_err(|error| wrong(&error))?;
    }
    area.draw(&text("per cent of the step".into(), left, below))
        .map_err(|error| wrong(&error))?;
    area.present().map_err(|error| wrong(&error))
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
        .position(SeriesLabelPosition::LowerRight)
        .background_style(WHITE)
        .border_style(BLACK.mix(0.3))
        .label_font(("sans-serif", 14))
        .draw()
        .map_err(|error| wrong(&error))?;
    area.present().map_err(|error| wrong(&error))
}
