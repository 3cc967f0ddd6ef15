//! The charts of a report, as SVG.

use crate::record::{RequestRecord, Sample};
use crate::run::Run;
use crate::summary::cumulative;
use plotters::prelude::*;
use plotters::style::RGBColor;

const PAPER: RGBColor = RGBColor(251, 247, 236);
const INK: RGBColor = RGBColor(27, 53, 86);
const LINE: RGBColor = RGBColor(205, 212, 214);
const SEA: RGBColor = RGBColor(46, 120, 150);
const RED: RGBColor = RGBColor(179, 57, 43);
const LAMP: RGBColor = RGBColor(196, 138, 16);
const SIZE: (u32, u32) = (560, 300);

/// Points of a cumulative curve.
const POINTS: usize = 200;

/// Dots of a cloud.
const MOST_DOTS: usize = 2_500;

/// A curve and its name.
struct Curve {
    name: &'static str,
    color: RGBColor,
    points: Vec<(f64, f64)>,
    dots: bool,
}

/// Returns each chart with its caption.
pub(super) fn all(run: &Run) -> Result<Vec<(String, String)>, String> {
    let done = || run.requests.iter().filter(|request| request.error.is_none());
    let ttft: Vec<(f64, f64)> = done().filter_map(|r| Some((r.due, r.ttft()? * 1000.0))).collect();
    let failed: Vec<(f64, f64)> = run
        .requests
        .iter()
        .filter(|r| r.error.is_some())
        .map(|r| (r.due, 0.0))
        .collect();
    let ttft_values: Vec<f64> = ttft.iter().map(|(_, ms)| *ms).collect();
    let total: Vec<f64> = done().map(|request| request.total() * 1000.0).collect();
    let gaps: Vec<f64> = done().flat_map(RequestRecord::gaps).map(|gap| gap * 1000.0).collect();
    let curve = |name, color, points| Curve {
        name,
        color,
        points,
        dots: false,
    };
    let dots = |name, color, points| Curve {
        name,
        color,
        points,
        dots: true,
    };
    let mut charts = vec![(
        "Time to first token by the moment when the request was due".to_owned(),
        chart(
            "seconds",
            "ms",
            vec![
                dots("TTFT", SEA, thinned(ttft)),
                dots("not answered", RED, thinned(failed)),
            ],
        )?,
    )];
    let over_time = |of: fn(&Sample) -> Option<usize>| -> Vec<(f64, f64)> {
        run.samples
            .iter()
            .filter_map(|sample| Some((sample.at, of(sample)? as f64)))
            .collect()
    };
    charts.push((
        "Requests under way, lanes in use and queue depth".to_owned(),
        chart(
            "seconds",
            "count",
            vec![
                curve("under way", INK, over_time(|sample| Some(sample.running))),
                curve(
                    "lanes in use",
                    SEA,
                    over_time(|sample| Some(sample.service?.lanes_used)),
                ),
                curve(
                    "queue depth",
                    RED,
                    over_time(|sample| Some(sample.service?.queue_depth)),
                ),
            ],
        )?,
    ));
    charts.push((
        "Share of requests within a time".to_owned(),
        chart(
            "ms",
            "share",
            vec![
                curve("TTFT", SEA, cumulative(&ttft_values, POINTS)),
                curve("end-to-end", INK, cumulative(&total, POINTS)),
            ],
        )?,
    ));
    // The longest gaps are told in the table; here they would press all others against the edge.
    let mut common = cumulative(&gaps, POINTS);
    common.truncate(POINTS * 99 / 100);
    charts.push((
        "Share of gaps between tokens within a time, up to the 99th percentile".to_owned(),
        chart("ms", "share", vec![curve("ITL", LAMP, common)])?,
    ));
    Ok(charts)
}

/// Returns a number as short as it can be.
fn axis_number(value: &f64) -> String {
    ((value * 1e6).round() / 1e6).to_string()
}

/// Returns every so many points, so that not many more than [`MOST_DOTS`] are left.
fn thinned(points: Vec<(f64, f64)>) -> Vec<(f64, f64)> {
    let every = points.len().div_ceil(MOST_DOTS).max(1);
    points.into_iter().step_by(every).collect()
}

/// Draws curves over one pair of axes.
fn chart(x_name: &str, y_name: &str, curves: Vec<Curve>) -> Result<String, String> {
    let curves: Vec<Curve> = curves.into_iter().filter(|curve| !curve.points.is_empty()).collect();
    let points = || curves.iter().flat_map(|curve| curve.points.iter());
    let end_x = points().map(|(x, _)| *x).fold(1e-3, f64::max) * 1.02;
    let end_y = points().map(|(_, y)| *y).fold(1e-3, f64::max) * 1.08;
    let broken = |error: &dyn std::fmt::Display| format!("a chart cannot be drawn: {error}");
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
        area.fill(&PAPER).map_err(|e| broken(&e))?;
        let mut chart = ChartBuilder::on(&area)
            .margin(10)
            .x_label_area_size(34)
            .y_label_area_size(52)
            .build_cartesian_2d(0.0..end_x, 0.0..end_y)
            .map_err(|e| broken(&e))?;
        chart
            .configure_mesh()
            .x_desc(x_name)
            .y_desc(y_name)
            .axis_style(INK)
            .x_label_formatter(&axis_number)
            .y_label_formatter(&axis_number)
            .bold_line_style(LINE)
            .light_line_style(PAPER)
            .label_style(("sans-serif", 12).into_font().color(&INK))
            .draw()
            .map_err(|e| broken(&e))?;
        for curve in &curves {
            let color = curve.color;
            let drawn = if curve.dots {
                let dots = curve
                    .points
                    .iter()
                    .map(|point| Circle::new(*point, 2, color.mix(0.7).filled()));
                chart.draw_series(dots).map_err(|e| broken(&e))?
            } else {
                let line = LineSeries::new(curve.points.iter().copied(), color.stroke_width(2));
                chart.draw_series(line).map_err(|e| broken(&e))?
            };
            drawn
                .label(curve.name)
                .legend(move |(x, y)| Rectangle::new([(x, y - 4), (x + 12, y + 4)], color.filled()));
        }
        if curves.len() > 1 {
            // Shares rise to the right; over time, load mostly does.
            let free_corner = match y_name {
                "share" => SeriesLabelPosition::LowerRight,
                _ => SeriesLabelPosition::UpperLeft,
            };
            chart
                .configure_series_labels()
                .position(free_corner)
                .background_style(PAPER.mix(0.9))
                .border_style(LINE)
                .label_font(("sans-serif", 12).into_font().color(&INK))
                .draw()
                .map_err(|e| broken(&e))?;
        }
        area.present().map_err(|e| broken(&e))?;
    }
    Ok(svg)
}
