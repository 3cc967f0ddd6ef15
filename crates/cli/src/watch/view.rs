//! The picture: all endpoints, and of one of them how full its batch and its memory are and how the last two minutes went.

use super::colors::{LAMP, RED, SEA};
use super::fleet::{Entry, entries, table};
use crate::output::{ago, duration, place_name, state};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::symbols::bar::NINE_LEVELS;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Block, Borders, Paragraph, Sparkline, TableState, Wrap};
use std::collections::{HashMap, VecDeque};
use vastrelay_planner::amounts::{bytes, grouped};
use vastrelay_wire::manage::{EndpointStatus, MemoryStatus, ServiceStatus};

/// Points of the past that are kept: two minutes at four a second.
const PAST: usize = 480;
const POINTS_A_SECOND: usize = 4;
/// Most of the height that the list of endpoints takes, as a part of it.
const LIST_PART: u16 = 3;
/// Columns from which charts stand beside the figures, not below.
const LEAST_SIDE_BY_SIDE: u16 = 90;
/// Lines of the figures.
const METRICS_LINES: u16 = 15;
/// Seconds over which a device's use is averaged.
const BUSY_SPAN: f64 = 10.0;

/// What is shown.
pub struct View {
    url: String,
    status: Option<ServiceStatus>,
    lost: Option<String>,
    past: HashMap<String, Past>,
    /// The endpoint that is looked at: the busiest one at first; the first one of the list when absent.
    chosen: Option<String>,
}

/// What an endpoint's past is drawn from.
#[derive(Default)]
struct Past {
    queue: VecDeque<u64>,
    lanes: VecDeque<u64>,
    rate: VecDeque<u64>,
    itl: VecDeque<u64>,
    last: Option<(f64, u64)>,
    /// When somebody looked, and the seconds that replicas had been in steps by then: over the last seconds.
    busy: VecDeque<(f64, f64)>,
}

impl View {
    pub fn new(url: &str) -> View {
        View {
            url: url.to_owned(),
            status: None,
            lost: None,
            past: HashMap::new(),
            chosen: None,
        }
    }

    /// Looks at the next endpoint of the list, or at the one before.
    pub fn choose(&mut self, forward: bool) {
        let Some(status) = &self.status else { return };
        let all = entries(status);
        let at = self.place_in(&all);
        let to = if forward { at + 1 } else { at.saturating_sub(1) };
        self.chosen = all
            .get(to.min(all.len().saturating_sub(1)))
            .map(|entry| entry.name().to_owned());
    }

    /// Returns the place of the endpoint that is looked at.
    fn place_in(&self, all: &[Entry<'_>]) -> usize {
        let is_chosen = |entry: &Entry<'_>| Some(entry.name()) == self.chosen.as_deref();
        all.iter().position(is_chosen).unwrap_or(0)
    }

    /// Takes what the service says now.
    pub fn take(&mut self, status: ServiceStatus) {
        for endpoint in &status.endpoints {
            self.past
                .entry(endpoint.name.clone())
                .or_default()
                .push(status.uptime, endpoint);
        }
        if self.chosen.is_none() {
            self.chosen = busiest(&status);
        }
        self.lost = None;
        self.status = Some(status);
    }

    /// Notes that the service is not heard any more.
    pub fn lose(&mut self, reason: String) {
        self.lost = Some(reason);
    }

    pub fn draw(&self, frame: &mut Frame<'_>) {
        let [head, body] = Layout::vertical([Constraint::Length(2), Constraint::Fill(1)]).areas(frame.area());
        self.draw_head(frame, head);
        let Some(status) = &self.status else { return };
        let all = entries(status);
        let at = self.place_in(&all);
        // One alone needs no list.
        let lines = if all.len() > 1 { all.len() as u16 + 2 } else { 0 };
        let [list, detail] = Layout::vertical([
            Constraint::Length(lines.min(body.height / LIST_PART)),
            Constraint::Fill(1),
        ])
        .areas(body);
        if lines > 0 {
            let mut state = TableState::new().with_selected(at);
            frame.render_stateful_widget(table(&all, list.width), list, &mut state);
        }
        match all.get(at) {
            Some(Entry::Served(endpoint)) => {
                if let Some(past) = self.past.get(&endpoint.name) {
                    draw_endpoint(frame, detail, endpoint, past);
                }
            }
            Some(Entry::Resting(endpoint)) => {
                let title = format!(" {}  {} ", endpoint.name, endpoint.state);
                let text = format!("for {}: {}", ago(endpoint.seconds), endpoint.why);
                let block = Block::new().borders(Borders::TOP).title(title);
                frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: true }).block(block), detail);
            }
            None => {
                let text = "no endpoint yet; deploy one with `vastrelay endpoint deploy` or in the console";
                frame.render_widget(Paragraph::new(text).wrap(Wrap { trim: true }), detail);
            }
        }
    }

    fn draw_head(&self, frame: &mut Frame<'_>, place: Rect) {
        let state = self.status.as_ref().map_or("", |status| status.state.as_str());
        let up = self.status.as_ref().map_or(0.0, |status| status.uptime);
        let strong = Style::new().add_modifier(Modifier::BOLD);
        let mut words = vec![Span::styled("Vast Relay", strong), format!("  {}  ", self.url).into()];
        match &self.lost {
            Some(reason) => words.push(Span::styled(format!("✕ not heard: {reason}"), strong.fg(RED))),
            None => words.push(format!("● {state}, up {}", ago(up)).into()),
        }
        let line = Line::from(words);
        let keys = Line::from("↑ ↓ choose  q ends").right_aligned();
        frame.render_widget(Paragraph::new(line), place);
        frame.render_widget(Paragraph::new(keys), place);
    }
}

/// Returns the endpoint that produces most now, where one produces anything or has calls.
fn busiest(status: &ServiceStatus) -> Option<String> {
    let use_of = |endpoint: &&EndpointStatus| {
        let waiting = endpoint.occupancy.lanes_used + endpoint.occupancy.queue_depth;
        (waiting, endpoint.window.output_rate as u64)
    };
    let used = status.endpoints.iter().filter(|endpoint| use_of(endpoint) > (0, 0));
    used.max_by_key(use_of).map(|endpoint| endpoint.name.clone())
}

impl Past {
    fn push(&mut self, uptime: f64, endpoint: &EndpointStatus) {
        let produced = endpoint.totals.output_tokens;
        // The rate since the last point, not over the window: a chart of windows would smear what happened.
        let rate = match self.last {
            Some((at, tokens)) if uptime > at => (produced.saturating_sub(tokens) as f64 / (uptime - at)) as u64,
            _ => 0,
        };
        self.last = Some((uptime, produced));
        self.busy.push_back((uptime, endpoint.totals.busy));
        while self.busy.len() > 2 && uptime - self.busy[1].0 >= BUSY_SPAN {
            self.busy.pop_front();
        }
        let itl = (endpoint.window.itl.p50 * 1e6) as u64;
        let points = [
            (&mut self.queue, endpoint.occupancy.queue_depth as u64),
            (&mut self.lanes, endpoint.occupancy.lanes_used as u64),
            (&mut self.rate, rate),
            (&mut self.itl, itl),
        ];
        for (past, value) in points {
            past.push_back(value);
            if past.len() > PAST {
                past.pop_front();
            }
        }
    }
}

impl Past {
    /// Returns the share of the last seconds that each of so many replicas was in a step.
    fn busy_share(&self, replicas: usize) -> f64 {
        let (Some((from, before)), Some((to, now))) = (self.busy.front(), self.busy.back()) else {
            return 0.0;
        };
        let seconds = (to - from) * replicas.max(1) as f64;
        if seconds > 0.0 {
            ((now - before) / seconds).clamp(0.0, 1.0)
        } else {
            0.0
        }
    }
}

fn draw_endpoint(frame: &mut Frame<'_>, place: Rect, endpoint: &EndpointStatus, past: &Past) {
    let where_is = |replica| place_name(&endpoint.device, endpoint.simulated, replica);
    let replicas = endpoint.replicas.iter().map(where_is);
    let replicas: Vec<String> = replicas.collect();
    let title = format!(
        " {}  release {}  {} ",
        endpoint.name,
        endpoint.release,
        replicas.join("; ")
    );
    let block = Block::new().borders(Borders::TOP).title(title);
    let inside = block.inner(place);
    frame.render_widget(block, place);
    let [left, right] = match inside.width < LEAST_SIDE_BY_SIDE {
        true => Layout::vertical([Constraint::Length(METRICS_LINES), Constraint::Fill(1)]).areas(inside),
        false => Layout::horizontal([Constraint::Length(50), Constraint::Fill(1)])
            .spacing(2)
            .areas(inside),
    };
    frame.render_widget(Paragraph::new(metrics(endpoint, past)), left);
    let [axis, charts] = Layout::vertical([Constraint::Length(1), Constraint::Fill(1)]).areas(right);
    let points_each = PAST.div_ceil(axis.width.max(1) as usize);
    let span = points_each * axis.width as usize / POINTS_A_SECOND;
    frame.render_widget(Paragraph::new(format!("◂ {span} s ago")), axis);
    frame.render_widget(Paragraph::new("now ▸").right_aligned(), axis);
    let charts = Layout::vertical([Constraint::Fill(1); 4]).split(charts);
    let occupancy = &endpoint.occupancy;
    let window = &endpoint.window;
    let most = |past: &VecDeque<u64>| past.iter().max().copied().unwrap_or(0);
    let rate = most(&past.rate);
    chart(
        frame,
        charts[0],
        &format!("queue depth, to {}", most(&past.queue)),
        &largest(&past.queue, points_each),
        None,
        RED,
    );
    chart(
        frame,
        charts[1],
        &format!("lanes in use, of {}", occupancy.lanes),
        &largest(&past.lanes, points_each),
        Some(occupancy.lanes as u64),
        SEA,
    );
    chart(
        frame,
        charts[2],
        &format!("tokens/s out, to {}", grouped(rate as usize)),
        &means(&past.rate, points_each),
        Some(rate),
        SEA,
    );
    chart(
        frame,
        charts[3],
        &format!("ITL p50, now {}", duration(window.itl.p50)),
        &means(&past.itl, points_each),
        None,
        LAMP,
    );
}

/// Returns groups of so many points, the last ones whole.
fn grouped_points(past: &VecDeque<u64>, each: usize) -> Vec<Vec<u64>> {
    let newest_first: Vec<u64> = past.iter().rev().copied().collect();
    newest_first.chunks(each).rev().map(<[u64]>::to_vec).collect()
}

fn largest(past: &VecDeque<u64>, each: usize) -> Vec<u64> {
    let groups = grouped_points(past, each).into_iter();
    groups.map(|group| group.into_iter().max().unwrap_or(0)).collect()
}

fn means(past: &VecDeque<u64>, each: usize) -> Vec<u64> {
    let groups = grouped_points(past, each).into_iter();
    groups
        .map(|group| group.iter().sum::<u64>() / group.len() as u64)
        .collect()
}

fn metrics(endpoint: &EndpointStatus, past: &Past) -> Vec<Line<'static>> {
    let occupancy = &endpoint.occupancy;
    let window = &endpoint.window;
    let gauge = |used: usize, all: usize| {
        let cells = (used * 20).div_ceil(all.max(1)).min(20);
        format!("{}{}", "■".repeat(cells), "·".repeat(20 - cells))
    };
    let row = |name: &str, value: String| Line::from(format!("{name:<11}{value}"));
    let memory = |part: fn(&MemoryStatus) -> usize| endpoint.replicas.iter().map(|replica| part(&replica.memory)).sum();
    let mut rows = vec![
        row(
            "lanes",
            format!(
                "{} {} of {}",
                gauge(occupancy.lanes_used, occupancy.lanes),
                occupancy.lanes_used,
                occupancy.lanes
            ),
        ),
        row(
            "queue",
            format!(
                "{} {} of {}",
                gauge(occupancy.queue_depth, occupancy.queue_limit),
                occupancy.queue_depth,
                occupancy.queue_limit
            ),
        ),
        row(
            "KV pages",
            format!(
                "{} {} of {}",
                gauge(occupancy.pages_used, occupancy.pages),
                grouped(occupancy.pages_used),
                grouped(occupancy.pages)
            ),
        ),
        row("device", {
            let share = past.busy_share(endpoint.replicas.len());
            format!(
                "{} {:.0} % busy",
                gauge((share * 100.0).round() as usize, 100),
                share * 100.0
            )
        }),
        Line::default(),
        row(
            "tokens/s",
            format!("{:>9.0} out  {:>9.0} in", window.output_rate, window.prefill_rate),
        ),
        row("", format!("{:>9} {:>9} {:>9}", "p50", "p95", "p99")),
        row(
            "TTFT",
            [window.ttft.p50, window.ttft.p95, window.ttft.p99]
                .map(|s| format!("{:>9}", duration(s)))
                .join(" "),
        ),
        row(
            "ITL",
            [window.itl.p50, window.itl.p95, window.itl.p99]
                .map(|s| format!("{:>9}", duration(s)))
                .join(" "),
        ),
        row(
            "ended",
            format!("{:>9} answered  {} refused or failed", window.answered, window.refused),
        ),
        row("", format!("{:>9} of the last {:.0} s", "", window.seconds)),
        Line::default(),
        row(
            "preempted",
            format!("{:>9} since the start", grouped(endpoint.totals.preemptions as usize)),
        ),
        row(
            "memory",
            format!(
                "{} weights, {} KV pool",
                bytes(memory(|memory| memory.weights)),
                bytes(memory(|memory| memory.kv_pool))
            ),
        ),
    ];
    for state in endpoint.replicas.iter().filter_map(state) {
        rows.push(Line::styled(format!("✕ {state}"), Style::new().fg(RED)));
    }
    rows
}

fn chart(frame: &mut Frame<'_>, place: Rect, title: &str, columns: &[u64], most: Option<u64>, color: Color) {
    let [label, bars] = Layout::vertical([Constraint::Length(1), Constraint::Fill(1)]).areas(place);
    frame.render_widget(Paragraph::new(title.to_owned()), label);
    // The newest points stand at the right edge.
    let shown: Vec<u64> = columns.iter().rev().take(bars.width as usize).rev().copied().collect();
    let start = bars.width.saturating_sub(shown.len() as u16);
    let bars = Rect {
        x: bars.x + start,
        width: bars.width - start,
        ..bars
    };
    let mut line = Sparkline::default()
        .data(shown)
        .bar_set(NINE_LEVELS)
        .style(Style::new().fg(color));
    if let Some(most) = most {
        line = line.max(most);
    }
    frame.render_widget(line, bars);
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use vastrelay_wire::manage::RestingEndpoint;

    fn drawn(view: &View, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| view.draw(frame)).unwrap();
        terminal.backend().to_string()
    }

    fn status(queue_depth: usize) -> ServiceStatus {
        let text = include_str!("status.json");
        let mut status: ServiceStatus = serde_json::from_str(text).unwrap();
        status.endpoints[0].occupancy.queue_depth = queue_depth;
        status
    }

    #[test]
    fn all_endpoints_are_listed_what_needs_attention_first_and_one_is_chosen() {
        let mut status = status(3);
        let mut other = status.endpoints[0].clone();
        (other.name, other.state) = ("atlas".into(), "failed".into());
        status.endpoints.push(other);
        status.resting.push(RestingEndpoint {
            name: "dock".into(),
            state: "parked".into(),
            why: "no calls for 600 s".into(),
            seconds: 90.0,
        });
        let mut view = View::new("http://127.0.0.1:7411");
        view.take(status);
        let first = drawn(&view, 120, 40);
        let place = |picture: &str, word: &str| picture.find(word).unwrap_or_else(|| panic!("{word} in\n{picture}"));
        assert!(
            place(&first, "✕ failed") < place(&first, "● ready  ")
                && place(&first, "● ready  ") < place(&first, "○ parked")
        );
        assert!(first.contains(" atlas  release"), "{first}");
        view.choose(true);
        assert!(drawn(&view, 120, 40).contains(" pierdesk  release"));
        (0..5).for_each(|_| view.choose(true));
        let last = drawn(&view, 120, 40);
        assert!(last.contains("no calls for 600 s"), "{last}");
        (0..5).for_each(|_| view.choose(false));
        assert!(drawn(&view, 120, 40).contains(" atlas  release"));
        for (width, height) in [(1, 1), (20, 5), (60, 12)] {
            drawn(&view, width, height);
        }
        let mut empty = View::new("http://127.0.0.1:7411");
        empty.take(ServiceStatus {
            endpoints: Vec::new(),
            ..self::status(0)
        });
        assert!(drawn(&empty, 100, 20).contains("no endpoint yet"));
    }

    #[test]
    fn the_picture_shows_the_figures_and_survives_any_size() {
        let mut view = View::new("http://127.0.0.1:7411");
        assert!(drawn(&view, 100, 20).contains("Vast Relay"));
        (0..900).for_each(|n| view.take(status(n % 40)));
        let picture = drawn(&view, 120, 24);
        for word in [
            "pierdesk",
            "% busy",
            "19 of 400",
            "queue depth, to 39",
            "ready",
            "16 of 16",
        ] {
            assert!(picture.contains(word), "{word} in\n{picture}");
        }
        view.lose("the connection broke".into());
        assert!(drawn(&view, 120, 24).contains("not heard"));
        for (width, height) in [(1, 1), (20, 5), (300, 80)] {
            drawn(&view, width, height);
        }
    }
}
