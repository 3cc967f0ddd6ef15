//! Calls that were accepted and have not ended. Those that a program leaves that was killed are recorded as interrupted by the next.

use crate::calls::{self, CallRecord};
use rusqlite::{Connection, named_params};

/// How calls ended whose service did not.
pub const INTERRUPTED: &str = "interrupted";
/// The status of such a call.
const STATUS: u16 = 500;

pub(crate) fn insert(connection: &Connection, call: &CallRecord) -> rusqlite::Result<()> {
    let sql = "INSERT OR REPLACE INTO begun VALUES (:id, :at_ms, :operation, :caller, :endpoint, :release, :replica, :incarnation, \
               :device, :simulated, :parameters, :streamed, :prompt_tokens, :given_id)";
    connection.prepare_cached(sql)?.execute(named_params! {
        ":id": call.id,
        ":given_id": call.given_id,
        ":at_ms": call.at_ms,
        ":operation": call.operation,
        ":caller": call.caller,
        ":endpoint": call.endpoint,
        ":release": call.release,
        ":replica": call.replica,
        ":incarnation": call.incarnation as i64,
        ":device": call.device,
        ":simulated": call.simulated,
        ":parameters": call.parameters,
        ":streamed": call.streamed,
        ":prompt_tokens": call.prompt_tokens as i64,
    })?;
    Ok(())
}

pub(crate) fn end(connection: &Connection, id: &str) -> rusqlite::Result<()> {
    connection
        .prepare_cached("DELETE FROM begun WHERE id = ?1")?
        .execute([id])?;
    Ok(())
}

/// Records those that are left as interrupted; returns how many they were.
pub(crate) fn interrupt(connection: &mut Connection) -> rusqlite::Result<usize> {
    let transaction = connection.transaction()?;
    let left: Vec<CallRecord> = {
        let mut statement = transaction.prepare("SELECT * FROM begun ORDER BY at_ms")?;
        let rows = statement.query_map([], |row| {
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
                streamed: row.get("streamed")?,
                prompt_tokens: row.get::<_, i64>("prompt_tokens")? as usize,
                status: STATUS,
                outcome: INTERRUPTED.into(),
                ..CallRecord::default()
            })
        })?;
        rows.collect::<Result<_, _>>()?
    };
    for call in &left {
        calls::insert(&transaction, call)?;
    }
    transaction.execute("DELETE FROM begun", [])?;
    transaction.commit()?;
    Ok(left.len())
}
