//! The initial load: tables read in ranges of pages while their changes are being followed.
//!
//! Each chunk is read in a transaction of its own, whose snapshot is kept with it; then a mark is written to the server's
//! log. When the mark comes back in the stream, every transaction the snapshot sees has come before it, and the chunk's rows
//! are appended, except (1) rows whose version was written by a transaction that the slot's first position does not see:
//! their change is in the stream; (2) rows whose key was changed by a transaction the chunk's snapshot does not see but the
//! stream has brought already: the stream's is newer. So no row is lost, doubled or overtaken by an older read. Reading needs
//! no long transaction and goes on where it stopped. The reasons are in docs/decisions/initial-load.md.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::BytesMut;
use futures::StreamExt;
use gonvel_core::change::{ChangeBatch, ChangeBatchBuilder, ChangeKind, Origin};
use gonvel_core::table::TableSchema;
use tokio::sync::mpsc;
use tokio_postgres::Client;

use super::client::explain;
use super::copy_text;
use super::names::{ident, qualified};
use super::position::{Snapshot, TableLoad};
use super::tables;
use super::values;
use crate::error::ConnectorError;

/// Prefix of the marks in the server's log.
pub const MARK: &str = "gonvel";
/// Pages (of 8 kB) read at a time.
const PAGES: u32 = 256;
/// Longest wait for transactions that were under way when a load is taken up again.
const SETTLING: Duration = Duration::from_secs(30);

/// Rows of a range of pages.
#[derive(Debug)]
pub struct Chunk {
    /// The content of the mark that ends it.
    pub mark: String,
    /// `schema.table`.
    pub name: String,
    /// The rows, as loads.
    pub batch: ChangeBatch,
    /// The transaction that wrote each row's version, lower 32 bits.
    pub writers: Vec<u32>,
    /// Each row's key as text.
    pub keys: Vec<Vec<u8>>,
    /// What the reading saw.
    pub snapshot: Snapshot,
    /// Progress of the table once the chunk is appended.
    pub load: TableLoad,
}

impl Chunk {
    /// Whether this is the table's last chunk.
    #[must_use]
    pub fn is_last(&self) -> bool {
        self.load.done_pages >= self.load.pages
    }

    /// The rows that are appended, by the rules above.
    #[must_use]
    pub fn kept(&self, slot: &Snapshot, changed: Option<&ChangedKeys>) -> Vec<usize> {
        let told_apart = self.snapshot.first_era();
        let keep = |row: &usize| {
            let in_stream = told_apart && !slot.sees(u64::from(self.writers[*row]));
            !in_stream && !changed.is_some_and(|c| c.overtakes(&self.keys[*row], &self.snapshot))
        };
        (0..self.keys.len()).filter(keep).collect()
    }
}

/// Keys of one table that the stream has changed, with the last transaction that did.
#[derive(Debug, Default)]
pub struct ChangedKeys {
    by_key: HashMap<Vec<u8>, u32>,
    emptied: Option<u32>,
}

impl ChangedKeys {
    /// Notes a change.
    pub fn note(&mut self, key: Vec<u8>, transaction: u32) {
        self.by_key.insert(key, transaction);
    }

    /// Notes that the table was emptied.
    pub fn note_emptied(&mut self, transaction: u32) {
        self.emptied = Some(transaction);
    }

    fn overtakes(&self, key: &[u8], read: &Snapshot) -> bool {
        let unseen = |t: &u32| !read.sees(read.widen(*t));
        self.emptied.as_ref().is_some_and(unseen) || self.by_key.get(key).is_some_and(unseen)
    }

    /// Forgets what every later reading sees.
    pub fn forget_seen(&mut self, read: &Snapshot) {
        let unseen = |t: &u32| !read.sees(read.widen(*t));
        self.by_key.retain(|_, t| unseen(t));
        self.emptied = self.emptied.filter(unseen);
    }
}

/// A table to load: its names and how far it is.
#[derive(Debug, Clone)]
pub struct Task {
    /// Schema.
    pub schema: String,
    /// Table.
    pub table: String,
    /// Progress, if it was begun.
    pub load: Option<TableLoad>,
}

/// Reads tables one after the other and hands their chunks over, each before its mark is written.
///
/// # Errors
/// [`ConnectorError`]; what was appended stays, and the next start goes on from there.
pub async fn run(
    client: Client,
    system: String,
    tasks: Vec<Task>,
    chunks: mpsc::Sender<Chunk>,
    session: String,
    rows_per_second: Option<u32>,
) -> Result<(), ConnectorError> {
    settle(&client).await?;
    let mut number = 0_u64;
    let mut pace = Pace::new(rows_per_second);
    for task in tasks {
        let mut load = task.load;
        loop {
            number += 1;
            let mark = format!("{session}:{number}");
            let begun = Instant::now();
            let chunk = read(&client, &system, &task.schema, &task.table, load, pace.pages, mark.clone()).await?;
            let rest = pace.note(chunk.batch.len(), begun.elapsed());
            load = Some(chunk.load.clone());
            let last = chunk.is_last();
            if chunks.send(chunk).await.is_err() {
                return Ok(());
            }
            // in a transaction, so that its commit brings the mark to the stream at once also in an idle database
            client
                .execute("SELECT pg_logical_emit_message(true, $1, $2::text)", &[&MARK, &mark])
                .await
                .map_err(|e| explain(&e, "marking the log"))?;
            if last {
                break;
            }
            tokio::time::sleep(rest).await;
        }
    }
    Ok(())
}

/// How much is read at a time, and how long nothing is read in between, so that a source is not asked for more rows a second
/// than it was said to give.
#[derive(Debug)]
struct Pace {
    rows_per_second: Option<u32>,
    pages: u32,
}

impl Pace {
    fn new(rows_per_second: Option<u32>) -> Self {
        // how many rows a page holds is seen with the first ones
        Self { rows_per_second, pages: if rows_per_second.is_some() { 1 } else { PAGES } }
    }

    /// Notes how many rows the last pages held and how long they took; gives how long to wait before the next.
    fn note(&mut self, rows: usize, took: Duration) -> Duration {
        let Some(most) = self.rows_per_second else { return Duration::ZERO };
        let (rows, most) = (u64::try_from(rows).unwrap_or(u64::MAX), u64::from(most.max(1)));
        let due = Duration::from_micros(rows.saturating_mul(1_000_000) / most);
        // about a quarter of a second's rows at a time: neither in bursts nor with a transaction for every row
        let pages = u64::from(self.pages).saturating_mul(most) / rows.saturating_mul(4).max(1);
        self.pages = u32::try_from(pages).unwrap_or(PAGES).clamp(1, PAGES);
        due.saturating_sub(took)
    }
}

/// Waits for the transactions under way to end. A change that an earlier session brought could otherwise be invisible to
/// the first reading, while nothing of it is remembered here.
async fn settle(client: &Client) -> Result<(), ConnectorError> {
    let start = Instant::now();
    let first = current_snapshot(client).await?;
    while start.elapsed() < SETTLING {
        if current_snapshot(client).await?.xmin >= first.xmax {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    Ok(())
}

/// Waits until a committed transaction is visible to new readings. The stream brings a transaction as soon as its commit
/// is in the server's log, which is a moment before other sessions see it, and longer where the commit waits for a standby.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn until_visible(client: &Client, transaction: u32) -> Result<(), ConnectorError> {
    loop {
        let now = current_snapshot(client).await?;
        if now.sees(now.widen(transaction)) {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(1)).await;
    }
}

pub(super) async fn current_snapshot(client: &Client) -> Result<Snapshot, ConnectorError> {
    let row =
        client.query_one("SELECT pg_current_snapshot()::text", &[]).await.map_err(|e| explain(&e, "taking a snapshot"))?;
    let text: String = row.get(0);
    Snapshot::parse(&text).ok_or_else(|| ConnectorError::Defect(format!("the snapshot {text:?} cannot be read")))
}

async fn read(
    client: &Client,
    system: &str,
    schema: &str,
    table: &str,
    load: Option<TableLoad>,
    at_once: u32,
    mark: String,
) -> Result<Chunk, ConnectorError> {
    client
        .batch_execute("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        .await
        .map_err(|e| explain(&e, "beginning to read rows"))?;
    let chunk = read_in_transaction(client, system, schema, table, load, at_once, mark).await;
    client.batch_execute("COMMIT").await.map_err(|e| explain(&e, "ending to read rows"))?;
    chunk
}

async fn read_in_transaction(
    client: &Client,
    system: &str,
    schema: &str,
    table: &str,
    load: Option<TableLoad>,
    at_once: u32,
    mark: String,
) -> Result<Chunk, ConnectorError> {
    let name = qualified(schema, table);
    let during = |e: tokio_postgres::Error| explain(&e, "reading rows for the initial load");
    // locked before the snapshot is taken: no one rewrites the table between the two
    client.batch_execute(&format!("LOCK TABLE {name} IN ACCESS SHARE MODE")).await.map_err(during)?;
    let snapshot = current_snapshot(client).await?;
    let shape = Arc::new(tables::describe(client, system, schema, table).await?);
    let row = client
        .query_one(
            "SELECT pg_relation_filenode(c.oid), (pg_relation_size(c.oid) / current_setting('block_size')::bigint)::bigint,
                    greatest(c.reltuples, 0)::bigint FROM pg_class c WHERE c.oid = $1::text::regclass",
            &[&name],
        )
        .await
        .map_err(during)?;
    let (file, pages, expected): (u32, i64, i64) = (row.get(0), row.get(1), row.get(2));
    // a table that was rewritten has its rows elsewhere: it is read again from its start
    let mut load = load.filter(|l| l.file == file).unwrap_or(TableLoad {
        file,
        pages: u32::try_from(pages).unwrap_or(u32::MAX),
        done_pages: 0,
        rows: 0,
        expected: u64::try_from(expected).unwrap_or(0),
    });
    let from = load.done_pages;
    let to = from.saturating_add(at_once).min(load.pages);
    let (batch, writers, keys) = rows(client, &name, &shape, &format!("ctid >= '({from},0)' AND ctid < '({to},0)'")).await?;
    load.done_pages = to;
    load.rows += u64::try_from(batch.len()).unwrap_or(0);
    Ok(Chunk { mark, name: format!("{schema}.{table}"), batch, writers, keys, snapshot, load })
}

type Rows = (ChangeBatch, Vec<u32>, Vec<Vec<u8>>);

async fn rows(client: &Client, name: &str, shape: &Arc<TableSchema>, condition: &str) -> Result<Rows, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "reading rows for the initial load");
    let columns: Vec<String> = shape.columns.iter().map(|c| ident(&c.name)).collect();
    let statement = format!("COPY (SELECT xmin, {} FROM ONLY {name} WHERE {condition}) TO STDOUT", columns.join(", "));
    let stream = client.copy_out(&statement).await.map_err(during)?;
    futures::pin_mut!(stream);
    let mut reader = RowReader::new(shape.clone());
    let mut rest = BytesMut::new();
    while let Some(part) = stream.next().await {
        rest.extend_from_slice(&part.map_err(during)?);
        while let Some(end) = rest.iter().position(|&b| b == b'\n') {
            let line = rest.split_to(end + 1);
            reader.line(&line[..end])?;
        }
    }
    Ok((reader.builder.finish(), reader.writers, reader.keys))
}

struct RowReader {
    builder: ChangeBatchBuilder,
    writers: Vec<u32>,
    keys: Vec<Vec<u8>>,
    key_columns: Vec<usize>,
    read_at: i64,
    unescaped: Vec<u8>,
    places: Vec<Option<(usize, usize)>>,
    scratch: Vec<u8>,
}

impl RowReader {
    fn new(shape: Arc<TableSchema>) -> Self {
        Self {
            key_columns: shape.key_columns(),
            builder: ChangeBatchBuilder::new(shape),
            writers: Vec::new(),
            keys: Vec::new(),
            read_at: chrono::Utc::now().timestamp_micros(),
            unescaped: Vec::new(),
            places: Vec::new(),
            scratch: Vec::new(),
        }
    }

    fn line(&mut self, line: &[u8]) -> Result<(), ConnectorError> {
        let text = copy_text::fields(line, &mut self.unescaped, &mut self.places);
        let shape = self.builder.table().clone();
        let bad = |finding: String| ConnectorError::BadRecord { finding };
        if self.places.len() != shape.columns.len() + 1 {
            return Err(bad(format!("a row of {} has {} fields", shape.qualified(), self.places.len())));
        }
        let cell = |index: usize| self.places[index].map(|(start, end)| &text[start..end]);
        let writer = cell(0).and_then(|t| std::str::from_utf8(t).ok()).and_then(|t| t.parse().ok());
        self.writers.push(writer.ok_or_else(|| bad("a row without its transaction".into()))?);
        let mut key = Vec::new();
        for &column in &self.key_columns {
            push_key(cell(column + 1), &mut key);
        }
        self.keys.push(key);
        self.builder.begin(ChangeKind::Load, Origin { commit_time_us: self.read_at, ..Origin::default() });
        for (index, column) in shape.columns.iter().enumerate() {
            let pushed = match cell(index + 1) {
                None => self.builder.new_value(index, gonvel_core::column::Value::Null),
                Some(text) => {
                    let value = values::read(column.ty, text, &mut self.scratch)
                        .map_err(|e| bad(format!("{}.{}: {e}", shape.qualified(), column.name)))?;
                    self.builder.new_value(index, value)
                }
            };
            pushed.map_err(|e| ConnectorError::Defect(e.to_string()))?;
        }
        self.builder.no_old();
        Ok(())
    }
}

/// Appends a key column's text so that no two keys look alike.
pub fn push_key(cell: Option<&[u8]>, key: &mut Vec<u8>) {
    match cell {
        None => key.push(0),
        Some(text) => {
            key.push(1);
            key.extend_from_slice(&text.len().to_le_bytes());
            key.extend_from_slice(text);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pace_is_held_over_pages_of_any_size() {
        for (most, per_page) in [(10, 100), (1_000, 60), (50_000, 100), (200_000, 7), (5, 1)] {
            let mut pace = Pace::new(Some(most));
            let (mut rows, mut time) = (0_usize, Duration::ZERO);
            while time < Duration::from_secs(60) {
                let chunk = usize::try_from(pace.pages).unwrap() * per_page;
                let took = Duration::from_millis(3);
                time += took + pace.note(chunk, took);
                rows += chunk;
                assert!(
                    pace.pages == 1 || chunk <= usize::try_from(most).unwrap() || rows == chunk,
                    "{most}: {chunk} at once"
                );
            }
            let rate = rows as f64 / time.as_secs_f64();
            assert!(rate <= f64::from(most) * 1.01, "{most}: {rate}");
            // held back by the pages' number, a fast source may give less; else it is used
            assert!(rate >= f64::from(most) * 0.9 || pace.pages == PAGES, "{most}: {rate}");
        }
        assert_eq!(Pace::new(None).note(1_000_000, Duration::ZERO), Duration::ZERO);
    }

    #[test]
    fn a_change_the_reading_did_not_see_overtakes_the_row() {
        let read = Snapshot { xmin: 10, xmax: 20, under_way: vec![12] };
        let mut changed = ChangedKeys::default();
        for (key, transaction) in [(b"a", 9), (b"b", 12), (b"c", 15), (b"d", 21)] {
            changed.note(key.to_vec(), transaction);
        }
        let overtaken = |c: &ChangedKeys| [b"a", b"b", b"c", b"d", b"e"].map(|k| c.overtakes(k, &read));
        assert_eq!(overtaken(&changed), [false, true, false, true, false]);
        changed.forget_seen(&read);
        assert_eq!(changed.by_key.len(), 2);
        changed.note_emptied(25);
        assert_eq!(overtaken(&changed), [true; 5]);
        changed.forget_seen(&Snapshot { xmin: 30, xmax: 30, under_way: vec![] });
        assert_eq!(overtaken(&changed), [false; 5]);
    }
}
