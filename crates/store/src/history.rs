//! Figures of every replica, one row for each stretch of time.

use rusqlite::{Connection, named_params};
use vastrelay_wire::manage::HistoryPoint;

/// How long rows are kept, by the seconds that they span: fine ones for a few hours, coarse ones for more than a week.
const KEPT: [(u32, i64); 2] = [(5, 3 * 3_600_000), (60, 8 * 24 * 3_600_000)];

/// A replica over a stretch of time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct HistoryRecord {
    /// The endpoint.
    pub endpoint: String,
    /// Seconds that it spans.
    pub span: u32,
    /// The measurements, as callers get them.
    pub point: HistoryPoint,
}

pub(crate) fn insert(connection: &Connection, record: &HistoryRecord) -> rusqlite::Result<()> {
    let HistoryRecord { endpoint, span, point } = record;
    let sql = "INSERT OR REPLACE INTO history VALUES (:endpoint, :release, :replica, :incarnation, :device, :simulated, :span, :at_ms, :queue_depth, :lanes_used, :pages_used,
        :prefill_rate, :output_rate, :answered, :refused,
        :ttft_p50, :ttft_p95, :ttft_p99, :itl_p50, :itl_p95, :itl_p99, :busy_share)";
    let part = |spread: Option<[f64; 3]>, index: usize| spread.map(|spread| spread[index]);
    connection.prepare_cached(sql)?.execute(named_params! {
        ":endpoint": endpoint,
        ":release": point.release,
        ":replica": point.replica,
        ":incarnation": point.incarnation as i64,
        ":device": point.device,
        ":simulated": point.simulated,
        ":span": span,
        ":at_ms": point.at_ms,
        ":queue_depth": point.queue_depth as i64,
        ":lanes_used": point.lanes_used,
        ":pages_used": point.pages_used as i64,
        ":prefill_rate": point.prefill_rate,
        ":output_rate": point.output_rate,
        ":answered": point.answered as i64,
        ":refused": point.refused as i64,
        ":ttft_p50": part(point.ttft, 0),
        ":ttft_p95": part(point.ttft, 1),
        ":ttft_p99": part(point.ttft, 2),
        ":itl_p50": part(point.itl, 0),
        ":itl_p95": part(point.itl, 1),
        ":itl_p99": part(point.itl, 2),
        ":busy_share": point.busy_share,
    })?;
    Ok(())
}

/// Deletes points that are too old for their span, also those of removed endpoints, at most so many of a span; returns how many.
pub(crate) fn prune_old(connection: &Connection, now_ms: i64, rows: usize) -> rusqlite::Result<usize> {
    let sql = "DELETE FROM history WHERE (endpoint, span, at_ms, release, replica, incarnation) IN \
               (SELECT endpoint, span, at_ms, release, replica, incarnation FROM history \
                WHERE span = ?1 AND at_ms < ?2 LIMIT ?3)";
    let mut statement = connection.prepare_cached(sql)?;
    let deleted = KEPT.map(|(span, kept)| statement.execute((span, now_ms - kept, rows as i64)));
    deleted.into_iter().sum()
}

/// Returns the points of an endpoint's replicas that begin at a moment or later, oldest first.
pub(crate) fn since(
    connection: &Connection,
    endpoint: &str,
    span: u32,
    at_ms: i64,
) -> rusqlite::Result<Vec<HistoryPoint>> {
    let sql = "SELECT * FROM history WHERE endpoint = ?1 AND span = ?2 AND at_ms >= ?3 ORDER BY at_ms, incarnation";
    let mut statement = connection.prepare_cached(sql)?;
    let rows = statement.query_map((endpoint, span, at_ms), |row| {
        let spread = |name: &str| -> rusqlite::Result<Option<[f64; 3]>> {
            let at = |percent: u32| row.get::<_, Option<f64>>(format!("{name}_p{percent}").as_str());
            Ok(at(50)?
                .zip(at(95)?)
                .zip(at(99)?)
                .map(|((p50, p95), p99)| [p50, p95, p99]))
        };
        Ok(HistoryPoint {
            release: row.get("release")?,
            replica: row.get("replica")?,
            incarnation: row.get::<_, i64>("incarnation")? as u64,
            device: row.get("device")?,
            simulated: row.get("simulated")?,
            at_ms: row.get("at_ms")?,
            queue_depth: row.get::<_, i64>("queue_depth")? as usize,
            lanes_used: row.get("lanes_used")?,
            pages_used: row.get::<_, i64>("pages_used")? as usize,
            prefill_rate: row.get("prefill_rate")?,
            output_rate: row.get("output_rate")?,
            answered: row.get::<_, i64>("answered")? as u64,
            refused: row.get::<_, i64>("refused")? as u64,
            ttft: spread("ttft")?,
            itl: spread("itl")?,
            busy_share: row.get("busy_share")?,
        })
    })?;
    rows.collect()
}
