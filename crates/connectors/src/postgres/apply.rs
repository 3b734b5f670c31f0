//! Applying folded changes to a table: whole sets in one statement, values as arrays or as COPY lines.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::{BufMut, Bytes, BytesMut};
use futures::SinkExt;
use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::column::{ColumnArray, ColumnType, Value};
use gonvel_core::fold::{Place, Segment};
use gonvel_core::sql_text;
use gonvel_core::table::TableSchema;
use tokio_postgres::types::{Format, IsNull, ToSql, Type};
use tokio_postgres::{Client, Error, Statement};

use super::binary;
use super::copy_text;
use super::names::ident;
use super::target::{DELETED_AT, TargetTable};

/// Fewer inserts than this go by the statement that also takes rows that are there.
const WORTH_A_COPY: usize = 64;
/// The time of a change, beside the columns of the rows that come.
pub(super) const AT: &str = "gonvel: time of change";

/// One array parameter in PostgreSQL's binary form, ready to send.
#[derive(Debug)]
pub(super) struct ArrayParameter(Vec<u8>);

impl ToSql for ArrayParameter {
    fn to_sql(&self, _: &Type, out: &mut BytesMut) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        out.extend_from_slice(&self.0);
        Ok(IsNull::No)
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    fn encode_format(&self, _: &Type) -> Format {
        Format::Binary
    }

    tokio_postgres::types::to_sql_checked!();
}

/// The type an array of a column's values is sent as, and its element's object id. What has no exact binary form here goes as
/// text and is cast by the statement.
fn wire_type(ty: ColumnType) -> (&'static str, u32) {
    match ty {
        ColumnType::Boolean => ("bool[]", 16),
        ColumnType::Int16 => ("int2[]", 21),
        ColumnType::Int32 => ("int4[]", 23),
        ColumnType::Int64 => ("int8[]", 20),
        ColumnType::Float32 => ("float4[]", 700),
        ColumnType::Float64 => ("float8[]", 701),
        ColumnType::Bytes => ("bytea[]", 17),
        ColumnType::Date => ("date[]", 1082),
        ColumnType::Timestamp => ("timestamp[]", 1114),
        ColumnType::TimestampTz => ("timestamptz[]", 1184),
        ColumnType::Decimal { .. } => ("numeric[]", 1700),
        ColumnType::Text | ColumnType::Verbatim => ("text[]", 25),
    }
}

pub(super) fn array_of<'v>(ty: ColumnType, count: usize, items: impl Iterator<Item = Value<'v>>) -> ArrayParameter {
    let mut out = Vec::with_capacity(20 + count * 12);
    out.put_i32(1);
    out.put_i32(1);
    out.put_u32(wire_type(ty).1);
    out.put_i32(i32::try_from(count).unwrap_or(i32::MAX));
    out.put_i32(1);
    for item in items {
        // what has no binary form of its own goes as its text
        binary::write(ty, item, &mut out);
    }
    ArrayParameter(out)
}

/// Statements that a session has prepared, by their text: the same ones come with every round.
#[derive(Debug, Default)]
pub struct Statements(Mutex<HashMap<String, Statement>>);

/// Statements kept at most; which columns a change brings decides its text, and there are many such sets.
const MOST_STATEMENTS: usize = 200;

impl Statements {
    async fn prepared(&self, client: &Client, text: &str) -> Result<Statement, Error> {
        if let Some(known) = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(text) {
            return Ok(known.clone());
        }
        let made = client.prepare(text).await?;
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST_STATEMENTS {
            known.clear();
        }
        known.insert(text.to_owned(), made.clone());
        Ok(made)
    }
}

/// Folded changes of one table, bound to where they go.
pub struct Application<'a> {
    /// The session, within a transaction.
    pub client: &'a Client,
    /// The target.
    pub target: &'a TargetTable,
    /// The batches the segments' places point into; all of one shape.
    pub batches: &'a [ChangeBatch],
    /// Their shape.
    pub shape: &'a Arc<TableSchema>,
    /// Statements that the session has prepared.
    pub statements: &'a Statements,
    /// Whether deleted rows stay and are marked: what is written is then not deleted, or not any more.
    pub marks: bool,
    /// What is to be thought of updates that bring a part of their row.
    pub parts_of_rows: PartsOfRows,
}

/// Updates that bring a part of their row, which is lost where the row is not there.
#[derive(Debug, Default)]
pub struct PartsOfRows {
    /// Whether the row may be out of date where it is marked as deleted or was kept though it is deleted; else it is as it was.
    pub may_be_old: bool,
    /// Whether it is counted how many did not find their row.
    pub counted: bool,
    /// How many did not find their row.
    pub missing: AtomicU64,
}

impl PartsOfRows {
    /// Notes that some did not find their row.
    pub fn miss(&self, rows: u64) {
        self.missing.fetch_add(rows, Ordering::Relaxed);
    }
}

impl Application<'_> {
    /// Applies segments in order.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn run(&self, segments: &[Segment]) -> Result<(), Error> {
        for segment in segments {
            if segment.truncate {
                self.client.batch_execute(&format!("TRUNCATE {}", self.target.name)).await?;
            }
            if !segment.deletes.is_empty() {
                self.delete(&segment.deletes).await?;
            }
            if !segment.upserts.is_empty() {
                self.upsert(&segment.upserts).await?;
            }
            if !segment.updates.is_empty() {
                self.update(&segment.updates).await?;
            }
            if !segment.partials.is_empty() {
                self.partial(&segment.partials).await?;
            }
            if segment.inserts.len() >= WORTH_A_COPY {
                self.insert(&segment.inserts).await?;
            } else if !segment.inserts.is_empty() {
                self.upsert(&segment.inserts).await?;
            }
        }
        Ok(())
    }

    /// Whether a change brings only a part of its row.
    pub(super) fn is_part(&self, &(batch, row): &Place) -> bool {
        self.batches[batch].kinds[row] == ChangeKind::Update && self.batches[batch].unchanged.contains_key(&row)
    }

    fn column_type(&self, name: &str) -> &str {
        self.target.types.get(name).map_or("text", String::as_str)
    }

    pub(super) fn parameter(
        &self,
        places: &[Place],
        column: usize,
        image: fn(&ChangeBatch) -> &[ColumnArray],
    ) -> ArrayParameter {
        let ty = self.shape.columns[column].ty;
        array_of(ty, places.len(), places.iter().map(|&(b, r)| image(&self.batches[b])[column].value(r)))
    }

    /// `unnest` of one parameter per column under the columns' names, and the cast of each to the target's type.
    pub(super) fn rows_of(&self, columns: &[usize]) -> (String, Vec<String>) {
        self.rows_with(columns, &[])
    }

    /// The same with further parameters, by the types of their arrays and their names.
    pub(super) fn rows_with(&self, columns: &[usize], further: &[(&str, &str)]) -> (String, Vec<String>) {
        let wire = columns.iter().map(|&c| wire_type(self.shape.columns[c].ty).0);
        let types = wire.chain(further.iter().map(|(ty, _)| *ty)).enumerate().map(|(n, ty)| format!("${}::{ty}", n + 1));
        let own = columns.iter().map(|&c| self.shape.columns[c].name.as_str());
        let names: Vec<String> = own.chain(further.iter().map(|(_, name)| *name)).map(ident).collect();
        let casts = columns.iter().map(|&c| {
            let name = &self.shape.columns[c].name;
            format!("u.{}::{}", ident(name), self.column_type(name))
        });
        (format!("unnest({}) AS u({})", types.collect::<Vec<_>>().join(", "), names.join(", ")), casts.collect())
    }

    /// That a row `t` of the target has the key of a row that comes.
    pub(super) fn same(&self, key: &[usize], casts: &[String]) -> String {
        let one = |(&c, cast): (&usize, &String)| format!("t.{} = {cast}", ident(&self.shape.columns[c].name));
        key.iter().zip(casts).map(one).collect::<Vec<_>>().join(" AND ")
    }

    /// The number that a statement gives.
    pub(super) async fn number(&self, statement: &str, parameters: &[ArrayParameter]) -> Result<i64, Error> {
        let prepared = self.statements.prepared(self.client, statement).await?;
        let parameters: Vec<&(dyn ToSql + Sync)> = parameters.iter().map(|p| p as _).collect();
        self.client.query_one(&prepared, &parameters).await?.try_get(0)
    }

    pub(super) async fn execute(&self, statement: &str, parameters: &[ArrayParameter]) -> Result<u64, Error> {
        let prepared = self.statements.prepared(self.client, statement).await?;
        let parameters: Vec<&(dyn ToSql + Sync)> = parameters.iter().map(|p| p as _).collect();
        self.client.execute(&prepared, &parameters).await
    }

    /// Marks rows as deleted at a time each, in microseconds since 1970-01-01 UTC.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn mark(&self, places: &[Place]) -> Result<(), Error> {
        let key = self.shape.key_columns();
        let (rows, casts) = self.rows_with(&key, &[("timestamptz[]", AT)]);
        let statement = format!(
            "UPDATE {} t SET {} = u.{} FROM {rows} WHERE {}",
            self.target.name,
            ident(DELETED_AT),
            ident(AT),
            self.same(&key, &casts)
        );
        let mut parameters: Vec<_> = key.iter().map(|&c| self.parameter(places, c, |b| &b.old)).collect();
        parameters.push(self.times(places));
        self.execute(&statement, &parameters).await.map(|_| ())
    }

    /// The commit times of changes.
    pub(super) fn times(&self, places: &[Place]) -> ArrayParameter {
        let time = |&(b, r): &Place| Value::Timestamp(self.batches[b].origins[r].commit_time_us);
        array_of(ColumnType::TimestampTz, places.len(), places.iter().map(time))
    }

    /// Marks all rows that are not marked yet.
    ///
    /// # Errors
    /// The database's own, as it came.
    pub async fn mark_all(&self, place: Place) -> Result<(), Error> {
        let statement = format!(
            "UPDATE {} SET {at} = (SELECT u FROM unnest($1::timestamptz[]) u) WHERE {at} IS NULL",
            self.target.name,
            at = ident(DELETED_AT)
        );
        self.execute(&statement, &[self.times(&[place])]).await.map(|_| ())
    }

    pub(super) async fn delete(&self, places: &[Place]) -> Result<(), Error> {
        let key = self.shape.key_columns();
        let (rows, casts) = self.rows_of(&key);
        let same = self.same(&key, &casts);
        let statement = format!("DELETE FROM {} t USING {rows} WHERE {same}", self.target.name);
        let parameters: Vec<_> = key.iter().map(|&c| self.parameter(places, c, |b| &b.old)).collect();
        self.execute(&statement, &parameters).await.map(|_| ())
    }

    async fn upsert(&self, places: &[Place]) -> Result<(), Error> {
        self.upsert_unless_newer(places, None).await
    }

    /// Writes rows, of which one that is there stays where a column of it says that it is newer.
    pub(super) async fn upsert_unless_newer(&self, places: &[Place], newest_by: Option<usize>) -> Result<(), Error> {
        let columns = self.target.present.clone();
        let (rows, casts) = self.rows_of(&columns);
        let name = |c: &usize| ident(&self.shape.columns[*c].name);
        let names: Vec<String> = columns.iter().map(name).collect();
        let key: Vec<String> = self.shape.key_columns().iter().map(name).collect();
        let mut sets: Vec<String> = columns
            .iter()
            // a key that is written otherwise by now is the same one
            .filter(|&&c| !self.shape.columns[c].key || self.shape.columns[c].has_several_forms())
            .map(|c| format!("{0} = EXCLUDED.{0}", name(c)))
            .collect();
        if self.marks {
            sets.push(format!("{} = NULL", ident(DELETED_AT)));
        }
        let action = if sets.is_empty() { "NOTHING".to_owned() } else { format!("UPDATE SET {}", sets.join(", ")) };
        let newer = newest_by.filter(|_| !sets.is_empty()).map_or_else(String::new, |c| {
            let by = name(&c);
            format!(" WHERE t.{by} IS NULL OR t.{by} <= EXCLUDED.{by}")
        });
        let statement = format!(
            "INSERT INTO {} AS t ({}) SELECT {} FROM {rows} ON CONFLICT ({}) DO {action}{newer}",
            self.target.name,
            names.join(", "),
            casts.join(", "),
            key.join(", ")
        );
        let parameters: Vec<_> = columns.iter().map(|&c| self.parameter(places, c, |b| &b.new)).collect();
        self.execute(&statement, &parameters).await.map(|_| ())
    }

    /// Updates rows that should be there. Where the target lacks some, all are written by the statement that takes both.
    async fn update(&self, places: &[Place]) -> Result<(), Error> {
        let columns = self.target.present.clone();
        let updated = self.update_columns(&columns, places, false).await?;
        if updated == Some(count(places)) { Ok(()) } else { self.upsert(places).await }
    }

    /// Updates some columns of rows by their key, on demand only of rows that are not marked as deleted; none if there is no
    /// column but the key's.
    async fn update_columns(&self, columns: &[usize], places: &[Place], live: bool) -> Result<Option<u64>, Error> {
        let (rows, casts) = self.rows_of(columns);
        let (mut same, mut sets) = (Vec::new(), Vec::new());
        for (&column, cast) in columns.iter().zip(&casts) {
            let column = &self.shape.columns[column];
            if column.key {
                same.push(format!("t.{} = {cast}", ident(&column.name)));
            } else {
                sets.push(format!("{} = {cast}", ident(&column.name)));
            }
        }
        if self.marks {
            sets.push(format!("{} = NULL", ident(DELETED_AT)));
            if live {
                same.push(format!("t.{} IS NULL", ident(DELETED_AT)));
            }
        }
        if sets.is_empty() {
            return Ok(None);
        }
        let statement =
            format!("UPDATE {} t SET {} FROM {rows} WHERE {}", self.target.name, sets.join(", "), same.join(" AND "));
        let parameters: Vec<_> = columns.iter().map(|&c| self.parameter(places, c, |b| &b.new)).collect();
        self.execute(&statement, &parameters).await.map(Some)
    }

    /// Updates only the columns that were sent; rows are grouped by which those are.
    async fn partial(&self, places: &[Place]) -> Result<(), Error> {
        let mut groups: std::collections::BTreeMap<Vec<usize>, Vec<Place>> = std::collections::BTreeMap::new();
        for &(batch, row) in places {
            let sent = |c: &usize| !self.batches[batch].is_unchanged(row, *c);
            let sent = self.target.present.iter().copied().filter(sent).collect();
            groups.entry(sent).or_default().push((batch, row));
        }
        for (sent, places) in groups {
            if sent == self.target.present {
                // the target has no column that was not sent
                self.update(&places).await?;
                continue;
            }
            let updated = self.update_columns(&sent, &places, self.parts_of_rows.may_be_old).await?;
            if self.parts_of_rows.counted
                && let Some(updated) = updated
            {
                self.parts_of_rows.miss(count(&places).saturating_sub(updated));
            }
        }
        Ok(())
    }

    /// Copies rows in; if one is there already, all are written by the statement that takes that.
    async fn insert(&self, places: &[Place]) -> Result<(), Error> {
        self.client.batch_execute("SAVEPOINT rows").await?;
        match self.copy(places).await {
            Ok(()) => self.client.batch_execute("RELEASE SAVEPOINT rows").await,
            Err(error) if error.code() == Some(&tokio_postgres::error::SqlState::UNIQUE_VIOLATION) => {
                self.client.batch_execute("ROLLBACK TO SAVEPOINT rows; RELEASE SAVEPOINT rows").await?;
                self.upsert(places).await
            }
            Err(error) => Err(error),
        }
    }

    pub(super) async fn copy(&self, places: &[Place]) -> Result<(), Error> {
        let columns = &self.target.present;
        let names: Vec<String> = columns.iter().map(|&c| ident(&self.shape.columns[c].name)).collect();
        let value = |&(batch, row): &Place, column: usize| self.batches[batch].new[column].value(row);
        if self.target.binary {
            let count = i16::try_from(columns.len()).unwrap_or(i16::MAX);
            return copy_binary(self.client, &self.target.name, &names, places, |place, out| {
                out.put_i16(count);
                for &column in columns {
                    binary::write(self.shape.columns[column].ty, value(place, column), out);
                }
            })
            .await;
        }
        let mut scratch = Vec::new();
        copy_in(self.client, &self.target.name, &names, places, |place, out| {
            for (index, &column) in columns.iter().enumerate() {
                if index > 0 {
                    out.push(b'\t');
                }
                copy_value(self.shape.columns[column].ty, value(place, column), &mut scratch, out);
            }
        })
        .await
    }
}

pub(super) fn count(places: &[Place]) -> u64 {
    u64::try_from(places.len()).unwrap_or(u64::MAX)
}

/// Bytes sent at a time.
const PART: usize = 1 << 18;

/// Copies rows into a table; each is written in the binary form of COPY: the number of its fields, and each with its length.
async fn copy_binary(
    client: &Client,
    table: &str,
    columns: &[String],
    places: &[Place],
    mut tuple: impl FnMut(&Place, &mut Vec<u8>),
) -> Result<(), Error> {
    let statement = format!("COPY {table} ({}) FROM STDIN (FORMAT binary)", columns.join(", "));
    let sink = client.copy_in::<_, Bytes>(&statement).await?;
    futures::pin_mut!(sink);
    let mut out = Vec::with_capacity(PART + 4096);
    out.extend_from_slice(b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0");
    for place in places {
        tuple(place, &mut out);
        if out.len() >= PART {
            sink.send(Bytes::from(std::mem::replace(&mut out, Vec::with_capacity(PART + 4096)))).await?;
        }
    }
    out.put_i16(-1);
    sink.send(Bytes::from(out)).await?;
    sink.finish().await.map(|_| ())
}

/// Copies rows into a table; each is written as the fields of a line, between tabs.
pub(super) async fn copy_in(
    client: &Client,
    table: &str,
    columns: &[String],
    places: &[Place],
    mut line: impl FnMut(&Place, &mut Vec<u8>),
) -> Result<(), Error> {
    let sink = client.copy_in::<_, Bytes>(&format!("COPY {table} ({}) FROM STDIN", columns.join(", "))).await?;
    futures::pin_mut!(sink);
    let mut out = Vec::with_capacity(PART + 4096);
    for place in places {
        line(place, &mut out);
        out.push(b'\n');
        if out.len() >= PART {
            sink.send(Bytes::from(std::mem::replace(&mut out, Vec::with_capacity(PART + 4096)))).await?;
        }
    }
    sink.send(Bytes::from(out)).await?;
    sink.finish().await.map(|_| ())
}

/// Appends a value as a field of a COPY line.
pub(super) fn copy_value(ty: ColumnType, value: Value<'_>, scratch: &mut Vec<u8>, out: &mut Vec<u8>) {
    match (ty, value) {
        (_, Value::Null) => out.extend_from_slice(b"\\N"),
        (_, Value::Text(text)) => copy_text::escape(text.as_bytes(), out),
        (ColumnType::Bytes, value) => {
            scratch.clear();
            sql_text::write(ty, value, scratch);
            copy_text::escape(scratch, out);
        }
        (ty, value) => {
            sql_text::write(ty, value, out);
        }
    }
}
