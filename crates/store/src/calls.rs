//! One row per call.

use crate::runs;
use rusqlite::types::Value;
use rusqlite::{Connection, Row, named_params, params_from_iter};

/// What is kept of a call: figures, and no prompt or answer unless [`CallRecord::text`] is set. Durations in seconds.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CallRecord {
    /// The request id that the answer's header carried.
    pub id: String,
    /// The id that its caller gave; empty without one.
    pub given_id: String,
    /// When it arrived, in milliseconds since 1970.
    pub at_ms: i64,
    /// `chat` or `completions`.
    pub operation: String,
    /// The name of the key it came with; empty without one.
    pub caller: String,
    /// The endpoint as asked for.
    pub endpoint: String,
    /// The number of its release; zero for a call that reached none, and for one of the time before releases.
    pub release: u32,
    /// The replica that answered; zero when none did.
    pub replica: u32,
    /// Which of its lives that was.
    pub incarnation: u64,
    /// The device; empty when none was used.
    pub device: String,
    /// Whether it stands in for hardware that is not here.
    pub simulated: bool,
    /// The fields of the request as JSON, without prompt or messages.
    pub parameters: String,
    /// The HTTP status.
    pub status: u16,
    /// How it ended: `end-token`, `length`, `cancelled`, …; or why it was refused.
    pub outcome: String,
    /// Whether the caller went away before the end.
    pub client_gone: bool,
    /// Whether the answer came in pieces.
    pub streamed: bool,
    /// Tokens of the prompt.
    pub prompt_tokens: usize,
    /// Of those, found in the cache.
    pub reused_tokens: usize,
    /// Tokens produced.
    pub output_tokens: usize,
    /// How often it lost its place in the batch.
    pub preemptions: usize,
    /// The message of the error that it ended with; empty where it ended well.
    pub error: String,
    /// From arrival until its endpoint was started, where it was parked or still starting.
    pub waiting_for_start: f64,
    /// From then, or else from arrival, to the batch.
    pub queued: f64,
    /// From the batch to the first token.
    pub prefill: f64,
    /// From arrival to the first token.
    pub ttft: f64,
    /// Mean of the gaps between tokens.
    pub itl_mean: f64,
    /// Their median.
    pub itl_p50: f64,
    /// Their 90th percentile.
    pub itl_p90: f64,
    /// Their 99th percentile.
    pub itl_p99: f64,
    /// The largest gap.
    pub itl_max: f64,
    /// From arrival to the end.
    pub total: f64,
    /// How it went from worker to worker, as JSON; empty where it did not.
    pub moves: String,
    /// Each gap between the tokens of the first completion, in microseconds. Lists of calls leave it empty.
    pub gaps: Vec<u32>,
    /// Prompt and answer, when they are to be kept. Lists of calls leave it empty.
    pub text: Option<CallText>,
}

impl CallRecord {
    /// Returns about how many bytes it takes in the database.
    pub(crate) fn bytes(&self) -> usize {
        let text = self
            .text
            .as_ref()
            .map_or(0, |text| text.prompt.len() + text.answer.len());
        400 + self.error.len() + self.parameters.len() + self.moves.len() + 4 * self.gaps.len() + text
    }
}

/// What was said in a call.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CallText {
    /// The messages or the prompt, as JSON.
    pub prompt: String,
    /// The answer; several completions stand one after the other.
    pub answer: String,
}

/// Which calls are wanted; absent conditions let all pass.
#[derive(Clone, Debug, Default)]
pub struct CallFilter {
    /// By endpoint.
    pub endpoint: Option<String>,
    /// By outcome.
    pub outcome: Option<String>,
    /// By the name of the key.
    pub caller: Option<String>,
    /// Only those with a status of 400 or more, or only those without.
    pub failed: Option<bool>,
    /// Arrived at this moment or later, in milliseconds since 1970.
    pub from_ms: Option<i64>,
    /// Arrived before this moment.
    pub before_ms: Option<i64>,
    /// With at least so long to the first token, in seconds.
    pub least_ttft: Option<f64>,
    /// With at least so long to the end, in seconds.
    pub least_total: Option<f64>,
}

impl CallFilter {
    fn conditions(&self) -> (String, Vec<Value>) {
        let text = |value: &Option<String>| value.clone().map(Value::Text);
        let failed = self.failed.map(|failed| Value::Integer(i64::from(failed)));
        let all = [
            ("endpoint = ?", text(&self.endpoint)),
            ("outcome = ?", text(&self.outcome)),
            ("caller = ?", text(&self.caller)),
            ("(status >= 400) = ?", failed),
            ("at_ms >= ?", self.from_ms.map(Value::Integer)),
            ("at_ms < ?", self.before_ms.map(Value::Integer)),
            ("ttft >= ?", self.least_ttft.map(Value::Real)),
            ("total >= ?", self.least_total.map(Value::Real)),
        ];
        let given = all.into_iter().filter_map(|(sql, value)| Some((sql, value?)));
        let (sql, values): (Vec<_>, Vec<_>) = given.unzip();
        match sql.as_slice() {
            [] => (String::new(), values),
            sql => (format!("WHERE {}", sql.join(" AND ")), values),
        }
    }
}

const COLUMNS: &str = "id, at_ms, operation, endpoint, release, replica, incarnation, device, simulated, status, outcome, streamed, prompt_tokens, reused_tokens, \
                       output_tokens, queued, prefill, ttft, itl_mean, itl_max, total, caller, parameters, itl_p50, \
                       itl_p90, itl_p99, preemptions, client_gone, moves, given_id, \
                       waiting_for_start, error";

pub(crate) fn insert(connection: &Connection, call: &CallRecord) -> rusqlite::Result<()> {
    let sql = format!(
        "INSERT INTO calls ({COLUMNS}, gaps) VALUES (:id, :at_ms, :operation, :endpoint, :release, :replica, \
         :incarnation, :device, :simulated, :status, :outcome, :streamed, \
         :prompt_tokens, :reused_tokens, :output_tokens, :queued, :prefill, :ttft, :itl_mean, :itl_max, :total, :caller, \
         :parameters, :itl_p50, :itl_p90, :itl_p99, :preemptions, :client_gone, :moves, :given_id, :waiting_for_start, :error, :gaps)"
    );
    let gaps: Vec<u8> = call.gaps.iter().flat_map(|gap| gap.to_le_bytes()).collect();
    connection.prepare_cached(&sql)?.execute(named_params! {
        ":id": call.id,
        ":given_id": call.given_id,
        ":at_ms": call.at_ms,
        ":operation": call.operation,
        ":endpoint": call.endpoint,
        ":release": call.release,
        ":replica": call.replica,
        ":incarnation": call.incarnation as i64,
        ":device": call.device,
        ":simulated": call.simulated,
        ":status": call.status,
        ":outcome": call.outcome,
        ":streamed": call.streamed,
        ":prompt_tokens": call.prompt_tokens as i64,
        ":reused_tokens": call.reused_tokens as i64,
        ":output_tokens": call.output_tokens as i64,
        ":waiting_for_start": call.waiting_for_start,
        ":error": call.error,
        ":queued": call.queued,
        ":prefill": call.prefill,
        ":ttft": call.ttft,
        ":itl_mean": call.itl_mean,
        ":itl_max": call.itl_max,
        ":total": call.total,
        ":caller": call.caller,
        ":parameters": call.parameters,
        ":moves": if call.moves.is_empty() { "[]" } else { &call.moves },
        ":itl_p50": call.itl_p50,
        ":itl_p90": call.itl_p90,
        ":itl_p99": call.itl_p99,
        ":preemptions": call.preemptions as i64,
        ":client_gone": call.client_gone,
        ":gaps": gaps,
    })?;
    if let Some(text) = &call.text {
        let number = connection.last_insert_rowid();
        connection
            .prepare_cached("INSERT INTO texts (number, prompt, answer) VALUES (?1, ?2, ?3)")?
            .execute((number, &text.prompt, &text.answer))?;
    }
    Ok(())
}

pub(crate) fn count(connection: &Connection) -> rusqlite::Result<u64> {
    connection
        .query_row("SELECT count(*) FROM calls", [], |row| row.get::<_, i64>(0))
        .map(|count| count as u64)
}

#[cfg(test)]
pub(crate) fn latest(connection: &Connection, most: usize) -> rusqlite::Result<Vec<CallRecord>> {
    find(connection, &CallFilter::default(), most)
}

pub(crate) fn find(connection: &Connection, filter: &CallFilter, most: usize) -> rusqlite::Result<Vec<CallRecord>> {
    let (conditions, mut values) = filter.conditions();
    values.push(Value::Integer(most as i64));
    let sql = format!("SELECT {COLUMNS} FROM calls {conditions} ORDER BY number DESC LIMIT ?");
    let mut statement = connection.prepare_cached(&sql)?;
    let rows = statement.query_map(params_from_iter(values), read)?;
    rows.collect()
}

/// Returns the newest call whose id begins so, whole; else the only one whose caller gave this id. Ids of callers shadow none of
/// ours, nor each other.
pub(crate) fn one(connection: &Connection, id_start: &str) -> rusqlite::Result<Option<CallRecord>> {
    let by_our_id = "id >= ?1 AND id < ?1 || char(0x10ffff)";
    let by_given = "given_id = ?1 AND (SELECT count(*) FROM calls WHERE given_id = ?1) = 1";
    match whole(connection, by_our_id, id_start)? {
        Some(call) => Ok(Some(call)),
        None => whole(connection, by_given, id_start),
    }
}

fn whole(connection: &Connection, condition: &str, id: &str) -> rusqlite::Result<Option<CallRecord>> {
    let sql = format!(
        "SELECT {COLUMNS}, gaps, prompt, answer FROM calls LEFT JOIN texts USING (number)
         WHERE {condition} ORDER BY calls.number DESC LIMIT 1"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    let mut rows = statement.query([id])?;
    let Some(row) = rows.next()? else { return Ok(None) };
    let mut call = read(row)?;
    let gaps: Vec<u8> = row.get("gaps")?;
    call.gaps = gaps
        .chunks_exact(4)
        .map(|bytes| u32::from_le_bytes(bytes.try_into().expect("chunks of four")))
        .collect();
    call.text = match (row.get("prompt")?, row.get("answer")?) {
        (Some(prompt), Some(answer)) => Some(CallText { prompt, answer }),
        _ => None,
    };
    Ok(Some(call))
}

/// Calls that are kept however large the database is: other things may fill it.
const LEAST_KEPT: i64 = 1_000;

/// Deletes calls of before a moment with their texts, at most so many; returns how many.
pub(crate) fn prune_old(connection: &Connection, oldest_ms: i64, rows: usize) -> rusqlite::Result<usize> {
    let sql = "SELECT number FROM calls WHERE at_ms < ?1 ORDER BY at_ms LIMIT ?2";
    let mut statement = connection.prepare_cached(sql)?;
    let numbers = statement.query_map((oldest_ms, rows as i64), |row| row.get(0))?;
    delete(connection, &numbers.collect::<rusqlite::Result<Vec<_>>>()?)
}

/// Deletes the oldest texts, at most so many, while the database is too large; returns how many.
pub(crate) fn prune_texts(connection: &Connection, most_bytes: u64, rows: usize) -> rusqlite::Result<usize> {
    if bytes_of_calls(connection)? <= most_bytes {
        return Ok(0);
    }
    let sql = "DELETE FROM texts WHERE number IN (SELECT number FROM texts ORDER BY number LIMIT ?1)";
    connection.prepare_cached(sql)?.execute([rows as i64])
}

/// Deletes the oldest calls, at most so many, while the database is too large without any texts; returns how many. The newest ones stay.
pub(crate) fn prune_large(connection: &Connection, most_bytes: u64, rows: usize) -> rusqlite::Result<usize> {
    // Texts may have come since the last ones were deleted.
    let has_texts = connection
        .prepare_cached("SELECT EXISTS (SELECT 1 FROM texts)")?
        .query_row([], |row| row.get(0))?;
    if has_texts || bytes_of_calls(connection)? <= most_bytes {
        return Ok(0);
    }
    let sql = "SELECT number FROM calls WHERE number < (SELECT number FROM calls ORDER BY number DESC LIMIT 1 OFFSET ?1) \
               ORDER BY number LIMIT ?2";
    let mut statement = connection.prepare_cached(sql)?;
    let numbers = statement.query_map((LEAST_KEPT - 1, rows as i64), |row| row.get(0))?;
    delete(connection, &numbers.collect::<rusqlite::Result<Vec<_>>>()?)
}

/// Deletes calls with their texts; returns how many.
fn delete(connection: &Connection, numbers: &[i64]) -> rusqlite::Result<usize> {
    let mut texts = connection.prepare_cached("DELETE FROM texts WHERE number = ?1")?;
    let mut calls = connection.prepare_cached("DELETE FROM calls WHERE number = ?1")?;
    for number in numbers {
        texts.execute([number])?;
        calls.execute([number])?;
    }
    Ok(numbers.len())
}

/// Returns the bytes of the database that hold something, without the load tests, which have a limit of their own.
fn bytes_of_calls(connection: &Connection) -> rusqlite::Result<u64> {
    let pragma = |name: &str| connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get::<_, i64>(0));
    let used = (pragma("page_count")? - pragma("freelist_count")?) * pragma("page_size")?;
    Ok((used.max(0) as u64).saturating_sub(runs::bytes(connection)?))
}

fn read(row: &Row<'_>) -> rusqlite::Result<CallRecord> {
    let count = |name: &str| row.get::<_, i64>(name).map(|count| count as usize);
    Ok(CallRecord {
        id: row.get("id")?,
        given_id: row.get("given_id")?,
        at_ms: row.get("at_ms")?,
        operation: row.get("operation")?,
        caller: row.get("caller")?,
        endpoint: row.get("endpoint")?,
        release: row.get("release")?,
        replica: row.get("replica")?,
        incarnation: row.get::<_, i64>("incarnation")? as u64,
        device: row.get("device")?,
        simulated: row.get("simulated")?,
        parameters: row.get("parameters")?,
        status: row.get("status")?,
        outcome: row.get("outcome")?,
        client_gone: row.get("client_gone")?,
        streamed: row.get("streamed")?,
        prompt_tokens: count("prompt_tokens")?,
        reused_tokens: count("reused_tokens")?,
        output_tokens: count("output_tokens")?,
        preemptions: count("preemptions")?,
        error: row.get("error")?,
        waiting_for_start: row.get("waiting_for_start")?,
        queued: row.get("queued")?,
        prefill: row.get("prefill")?,
        ttft: row.get("ttft")?,
        itl_mean: row.get("itl_mean")?,
        itl_p50: row.get("itl_p50")?,
        itl_p90: row.get("itl_p90")?,
        itl_p99: row.get("itl_p99")?,
        itl_max: row.get("itl_max")?,
        total: row.get("total")?,
        moves: row
            .get::<_, String>("moves")
            .map(|moves| if moves == "[]" { String::new() } else { moves })?,
        gaps: Vec::new(),
        text: None,
    })
}
