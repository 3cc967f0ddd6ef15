//! All endpoints, one line each: those that need attention first.

use super::colors::RED;
use crate::output::{ago, duration};
use ratatui::layout::Constraint;
use ratatui::style::{Modifier, Style};
use ratatui::text::Line;
use ratatui::widgets::{Cell, Row, Table};
use vastrelay_wire::manage::{EndpointStatus, RestingEndpoint, ServiceStatus};

/// States in the order in which they want attention.
const URGENT: [&str; 5] = ["failed", "degraded", "starting", "draining", "ready"];

/// One endpoint, served or not.
pub enum Entry<'a> {
    Served(&'a EndpointStatus),
    Resting(&'a RestingEndpoint),
}

impl Entry<'_> {
    pub fn name(&self) -> &str {
        match self {
            Entry::Served(endpoint) => &endpoint.name,
            Entry::Resting(endpoint) => &endpoint.name,
        }
    }

    fn state(&self) -> &str {
        match self {
            Entry::Served(endpoint) => &endpoint.state,
            Entry::Resting(endpoint) => &endpoint.state,
        }
    }

    /// Returns its row, with as many figures as there is room for.
    fn row(&self, figures_shown: usize) -> Row<'static> {
        let mut figures = Vec::new();
        match self {
            Entry::Served(endpoint) => {
                let (occupancy, window) = (&endpoint.occupancy, &endpoint.window);
                let kv = 100 * occupancy.pages_used / occupancy.pages.max(1);
                figures.extend([
                    format!("{}/{}", occupancy.lanes_used, occupancy.lanes),
                    occupancy.queue_depth.to_string(),
                    format!("{:.0}", window.output_rate),
                    duration(window.itl.p95),
                    duration(window.ttft.p95),
                    format!("{kv} %"),
                ]);
                figures.truncate(figures_shown);
            }
            Entry::Resting(endpoint) => figures.push(ago(endpoint.seconds)),
        }
        let color = match self.state() {
            "failed" | "degraded" => Style::new().fg(RED),
            "stopped" | "parked" => Style::new().add_modifier(Modifier::DIM),
            _ => Style::new(),
        };
        let words = [
            self.name().to_owned(),
            format!("{} {}", mark(self.state()), self.state()),
        ];
        let figures = figures
            .into_iter()
            .map(|figure| Cell::from(Line::from(figure).right_aligned()));
        Row::new(words.into_iter().map(Cell::from).chain(figures)).style(color)
    }
}

/// A mark for a state, for those who see no colours.
fn mark(state: &str) -> char {
    match state {
        "ready" => '●',
        "failed" | "degraded" => '✕',
        "stopped" | "parked" => '○',
        _ => '◐',
    }
}

/// Returns all endpoints: what needs attention first, then by name, then those that nobody calls.
pub fn entries(status: &ServiceStatus) -> Vec<Entry<'_>> {
    let served = status.endpoints.iter().map(Entry::Served);
    let mut all: Vec<Entry<'_>> = served.chain(status.resting.iter().map(Entry::Resting)).collect();
    let urgency = |entry: &Entry<'_>| {
        URGENT
            .iter()
            .position(|state| *state == entry.state())
            .unwrap_or(URGENT.len())
    };
    all.sort_by_key(|entry| (urgency(entry), entry.name().to_owned()));
    all
}

/// Columns that the table takes with all figures, names aside.
const WHOLE: u16 = 76;
/// Figures that a narrow table has.
const FIGURES_OF_NARROW: usize = 4;

/// Returns the table of endpoints for so many columns; a narrow one leaves the last figures out.
pub fn table(entries: &[Entry<'_>], width: u16) -> Table<'static> {
    let longest = entries.iter().map(|entry| entry.name().chars().count()).max();
    let name = longest.unwrap_or(0).max("endpoint".len()) as u16 + 1;
    let shown = if width < WHOLE + name {
        FIGURES_OF_NARROW
    } else {
        usize::MAX
    };
    let widths = [
        Constraint::Length(name),
        Constraint::Length(11),
        Constraint::Length(9),
        Constraint::Length(7),
        Constraint::Length(9),
        Constraint::Length(9),
        Constraint::Length(9),
        Constraint::Length(6),
    ];
    let words = ["endpoint", "state"].map(Cell::from);
    let figures = ["lanes", "queue", "tokens/s", "ITL p95", "TTFT p95", "KV"];
    let figures = figures
        .into_iter()
        .take(shown)
        .map(|head| Cell::from(Line::from(head).right_aligned()));
    let widths = widths.into_iter().take(shown.saturating_add(2));
    Table::new(entries.iter().map(|entry| entry.row(shown)), widths)
        .header(Row::new(words.into_iter().chain(figures)).style(Style::new().add_modifier(Modifier::BOLD)))
        .row_highlight_style(Style::new().add_modifier(Modifier::REVERSED))
}
