//! The life of one request as a bar: waiting, prefill, tokens, pauses.

use crate::output::duration;
use vastrelay_wire::manage::RecordedCall;

/// Cells of the bar.
const WIDTH: usize = 72;
/// A gap that is so many times the median, and at least so many seconds, is a pause.
const PAUSE: (f64, f64) = (8.0, 0.02);

/// What went on during one cell of the bar.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
enum Cell {
    Nothing,
    Starting,
    Waiting,
    Prefill,
    Tokens,
    Pause,
}

impl Cell {
    fn sign(self) -> char {
        match self {
            Cell::Nothing => ' ',
            Cell::Starting => '~',
            Cell::Waiting => '·',
            Cell::Prefill => '▒',
            Cell::Tokens => '█',
            Cell::Pause => '_',
        }
    }
}

/// Returns the bar, its scale and its legend.
pub fn lines(call: &RecordedCall, gaps: &[f64]) -> Vec<String> {
    if call.total <= 0.0 {
        return vec!["it ended at once".into()];
    }
    let bar: String = cells(call, gaps).into_iter().map(Cell::sign).collect();
    let end = duration(call.total);
    let pauses = gaps.iter().filter(|gap| is_pause(**gap, call.itl_p50)).count();
    let mut legend = vec!["· waiting", "▒ prefill", "█ tokens"];
    if call.waiting_for_start > 0.0 {
        legend.insert(0, "~ waiting for start");
    }
    if pauses > 0 {
        legend.push("_ pause");
    }
    vec![
        format!("│{bar}│"),
        format!("0{end:>width$}", width = WIDTH + 1),
        legend.join("   "),
    ]
}

fn cells(call: &RecordedCall, gaps: &[f64]) -> Vec<Cell> {
    let mut cells = vec![Cell::Nothing; WIDTH];
    let cell = |at: f64| ((at / call.total * WIDTH as f64) as usize).min(WIDTH - 1);
    let mut fill = |from: f64, to: f64, what: Cell| {
        for one in &mut cells[cell(from)..=cell(to)] {
            // A pause shows only where nothing else went on; a token shows always.
            *one = match (*one, what) {
                (Cell::Tokens, Cell::Pause) => Cell::Tokens,
                _ => what,
            };
        }
    };
    let first = if call.output_tokens > 0 { call.ttft } else { call.total };
    let started = call.waiting_for_start.min(first);
    let admitted = (started + call.queued).min(first);
    fill(started, admitted, Cell::Waiting);
    if started > 0.0 {
        fill(0.0, started, Cell::Starting);
    }
    if admitted < first && (call.prefill > 0.0 || call.output_tokens > 0) {
        fill(admitted, first, Cell::Prefill);
    }
    if call.output_tokens == 0 {
        return cells;
    }
    let mut at = first;
    fill(at, at, Cell::Tokens);
    for gap in gaps {
        if is_pause(*gap, call.itl_p50) {
            fill(at, at + gap, Cell::Pause);
            fill(at + gap, at + gap, Cell::Tokens);
        } else {
            fill(at, at + gap, Cell::Tokens);
        }
        at += gap;
    }
    cells
}

fn is_pause(gap: f64, median: f64) -> bool {
    gap >= PAUSE.1 && gap >= PAUSE.0 * median
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_part_has_its_share_of_the_bar() {
        let call = RecordedCall {
            queued: 0.25,
            prefill: 0.25,
            ttft: 0.5,
            output_tokens: 51,
            itl_p50: 0.005,
            total: 1.0,
            ..RecordedCall::default()
        };
        let mut gaps = vec![0.005; 25];
        gaps.push(0.25);
        gaps.extend([0.005; 24]);
        let cells = cells(&call, &gaps);
        let count = |wanted: Cell| cells.iter().filter(|cell| **cell == wanted).count() as f64 / WIDTH as f64;
        for cell in [Cell::Waiting, Cell::Prefill, Cell::Tokens, Cell::Pause] {
            assert!((count(cell) - 0.25).abs() < 0.04, "{cell:?}: {}", count(cell));
        }
    }

    #[test]
    fn the_start_of_an_endpoint_is_no_prefill() {
        let call = RecordedCall {
            waiting_for_start: 0.5,
            queued: 0.1,
            prefill: 0.1,
            ttft: 0.7,
            output_tokens: 1,
            total: 1.0,
            ..RecordedCall::default()
        };
        let count = |wanted: Cell| cells(&call, &[]).iter().filter(|cell| **cell == wanted).count();
        assert!((35..=37).contains(&count(Cell::Starting)), "{}", count(Cell::Starting));
        assert!((6..=9).contains(&count(Cell::Prefill)), "{}", count(Cell::Prefill));
        assert!(lines(&call, &[])[2].contains("waiting for start"));
    }

    #[test]
    fn a_call_that_was_refused_or_never_got_a_token_has_a_bar_too() {
        let refused = RecordedCall {
            total: 0.001,
            ..RecordedCall::default()
        };
        assert!(lines(&refused, &[])[0].contains('·'));
        assert_eq!(lines(&RecordedCall::default(), &[]).len(), 1);
        let gone = RecordedCall {
            queued: 0.5,
            total: 0.5,
            ..RecordedCall::default()
        };
        assert!(!lines(&gone, &[])[0].contains('█'));
    }
}
