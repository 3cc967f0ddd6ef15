//! One row per call.

use rusqlite::{Connection, Row, params};

/// What is kept of a call: figures, no prompt and no answer. Durations in seconds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CallRecord {
    /// The request id that the answer's header carried.
    pub id: String,
    /// When it arrived, in milliseconds since 1970.
    pub at_ms: i64,
    /// `chat` or `completions`.
    pub endpoint: String,
    /// The model as asked for.
    pub model: String,
    /// The HTTP status.
    pub status: u16,
    /// How it ended: `end-token`, `length`, `cancelled`, …; or why it was refused.
    pub outcome: String,
    /// Whether the answer came in pieces.
    pub streamed: bool,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the cache.
    pub reused_tokens: usize,
    /// Tokens produced.
    pub output_tokens: usize,
    /// From arrival to the batch.
    pub queued: f64,
    /// From the batch to the first token.
    pub prefill: f64,
    /// From arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens.
    pub itl_mean: f64,
    /// The largest gap.
    pub itl_max: f64,
    /// From arrival to the end.
    pub total: f64,
}

const COLUMNS: &str = "id, at_ms, endpoint, model, status, outcome, streamed, prompt_tokens, reused_tokens, \
                       output_tokens, queued, prefill, ttft, itl_mean, itl_max, total";

pub(crate) fn insert(connection: &Connection, call: &CallRecord) -> rusqlite::Result<()> {
    let sql = format!(
        "INSERT INTO calls ({COLUMNS}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16)"
    );
    connection.prepare_cached(&sql)?.execute(params![
        call.id,
        call.at_ms,
        call.endpoint,
        call.model,
        call.status,
        call.outcome,
        call.streamed,
        call.prompt_tokens as i64,
        call.reused_tokens as i64,
        call.output_tokens as i64,
        call.queued,
        call.prefill,
        call.ttft,
        call.itl_mean,
        call.itl_max,
        call.total,
    ])?;
    Ok(())
}

pub(crate) fn count(connection: &Connection) -> rusqlite::Result<u64> {
    connection
        .query_row("SELECT count(*) FROM calls", [], |row| row.get::<_, i64>(0))
        .map(|count| count as u64)
}

pub(crate) fn latest(connection: &Connection, most: usize) -> rusqlite::Result<Vec<CallRecord>> {
    let mut statement =
        connection.prepare_cached(&format!("SELECT {COLUMNS} FROM calls ORDER BY number DESC LIMIT ?1"))?;
    let rows = statement.query_map([most as i64], read)?;
    rows.collect()
}

fn read(row: &Row<'_>) -> rusqlite::Result<CallRecord> {
    let tokens = |index: usize| row.get::<_, i64>(index).map(|count| count as usize);
    Ok(CallRecord {
        id: row.get(0)?,
        at_ms: row.get(1)?,
        endpoint: row.get(2)?,
        model: row.get(3)?,
        status: row.get(4)?,
        outcome: row.get(5)?,
        streamed: row.get(6)?,
        prompt_tokens: tokens(7)?,
        reused_tokens: tokens(8)?,
        output_tokens: tokens(9)?,
        queued: row.get(10)?,
        prefill: row.get(11)?,
        ttft: row.get(12)?,
        itl_mean: row.get(13)?,
        itl_max: row.get(14)?,
        total: row.get(15)?,
    })
}
