//! Keeping the latest of each key.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Binary, Int4, Int8, Nullable};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use gonvel_core::block::{BlockBuilder, EncodedBlock, RecordRef};
use gonvel_core::latest_per_key::{LatestKeys, Says};
use gonvel_core::naming::{Offset, SchemaId, TopicPartition};
use gonvel_core::places::Places;
use gonvel_core::ports::{PortError, SchemaStore, StoredBlock, TopicLog};
use gonvel_core::record_form::ReadForm;

use super::super::cold::{ColdBlock, index};
use super::cold::Draft;
use super::{Failures, Keeper, Partition};
use crate::Database;
use crate::failing::failed;

/// Memory for the keys of one pass.
const MOST_KEY_BYTES: usize = 64 << 20;
/// Bytes read at once, before compression.
const READ_BYTES: i64 = 4 << 20;

/// A pass is due when a quarter as many records are new as there are old ones, or any are after ten minutes, or deletes are
/// over their time. `$1` is now in microseconds.
const DUE: &str = "SELECT p.topic_id, p.partition, t.deletes_kept_ms, p.first_offset, p.next_offset, p.latest_to \
    FROM topics t JOIN topic_partitions p ON p.topic_id = t.id WHERE t.keep = 'latest' AND ( \
      (p.next_offset > p.latest_to AND (4 * (p.next_offset - p.latest_to) >= p.latest_to - p.first_offset - p.passed_over \
        OR p.latest_at < to_timestamp($1 / 1000000.0) - interval '10 minutes')) \
      OR p.deletes_until_us < $1)";

#[derive(QueryableByName)]
struct Due {
    #[diesel(embed)]
    partition: Partition,
    #[diesel(sql_type = Int8)]
    deletes_kept_ms: i64,
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int8)]
    next_offset: i64,
    #[diesel(sql_type = Int8)]
    latest_to: i64,
}

#[derive(QueryableByName)]
struct Appended {
    #[diesel(sql_type = Int8)]
    first_offset: i64,
    #[diesel(sql_type = Int8)]
    appended_us: i64,
}

/// Tells what records say of their keys.
struct Teller {
    database: Database,
    forms: HashMap<SchemaId, Option<ReadForm>>,
}

impl Teller {
    async fn says(&mut self, record: &RecordRef<'_>) -> Result<Says, PortError> {
        let Some(value) = record.value else { return Ok(Says::Gone) };
        let Some(schema) = record.schema else { return Ok(Says::Whole) };
        if !self.forms.contains_key(&schema) {
            let form = match self.database.schema_text(schema).await {
                Ok(text) => ReadForm::from_value_text(&text).ok(),
                Err(PortError::NotFound { .. }) => None,
                Err(error) => return Err(error),
            };
            self.forms.insert(schema, form);
        }
        // what is no change is a value as a whole; a change that cannot be read must make no older one go
        Ok(self.forms[&schema].as_ref().map_or(Says::Whole, |form| form.says(value).unwrap_or(Says::Part)))
    }
}

impl Keeper {
    pub(super) async fn keep_latest(&mut self, now_us: i64) -> Result<(), PortError> {
        let due: Vec<Due> = {
            let mut connection = self.database.connection().await?;
            diesel::sql_query(DUE)
                .bind::<Int8, _>(now_us)
                .load(&mut connection)
                .await
                .map_err(failed("looking for keys to keep the latest of"))?
        };
        self.said.latest_waiting = i64::try_from(due.len()).unwrap_or(0);
        let mut failures = Failures::default();
        for partition in due {
            if let Some(gone) = failures.take(self.pass(&partition, now_us).await) {
                self.said.superseded_records += gone;
                self.said.latest_waiting -= 1;
            }
        }
        failures.into_result()
    }

    /// One pass over a partition; how many records went.
    async fn pass(&self, due: &Due, now_us: i64) -> Result<i64, PortError> {
        let at = due.partition.at();
        let mut teller = Teller { database: self.database.clone(), forms: HashMap::new() };
        let from = due.latest_to.max(due.first_offset);
        let mut keys = LatestKeys::new(from, MOST_KEY_BYTES);
        let mut to = from;
        while to < due.next_offset && !keys.is_full() {
            let blocks = self.database.read(at, Offset(to), READ_BYTES).await?;
            if blocks.is_empty() {
                to = due.next_offset;
            }
            for block in blocks {
                for record in block.open(at)?.records() {
                    let (offset, record) = record?;
                    keys.see(offset.0, record.key, teller.says(&record).await?);
                }
                to = block.end().0;
                if keys.is_full() {
                    break;
                }
            }
        }
        let deletes_kept_us = due.deletes_kept_ms.saturating_mul(1000);
        let mut sifting =
            Sifting { at, keys, to, until_us: now_us.saturating_sub(deletes_kept_us), teller, first_delete_us: None };
        let Some(gone) = self.sift(&mut sifting, due.first_offset).await? else {
            // another keeper was there: a delete whose older records may still stand is not to go, and the pass is made again
            return Ok(0);
        };
        let deletes_until = sifting.first_delete_us.map(|us| us.saturating_add(deletes_kept_us));
        self.note(at, to, deletes_until).await?;
        Ok(gone)
    }

    /// Goes over all blocks from the oldest on, in files and out of them; how many records went. None as soon as a block is not any
    /// more what it was when it was read.
    async fn sift(&self, sifting: &mut Sifting, from: i64) -> Result<Option<i64>, PortError> {
        let (at, mut gone, mut next) = (sifting.at, 0, from);
        for file in self.files(at, sifting.to).await? {
            let index = index(file.blocks.clone())?;
            next = index.last().map_or(next, ColdBlock::end);
            let Some(blocks) = self.database.cold.read(&file.path, index.clone()).await? else { return Ok(None) };
            let (mut left, mut gone_here) = (Draft::default(), 0);
            for (cold, block) in index.into_iter().zip(&blocks) {
                let mut kept = sifting.kept(block, cold.appended_us.unwrap_or(i64::MIN)).await?;
                gone_here += kept.gone;
                if kept.gone == 0 {
                    left.push(cold, &block.body, file.earliest_us);
                } else if let Some(encoded) = kept.builder.finish() {
                    let places = Places::some(cold.span, &kept.places).stored().map(|b| b.to_vec());
                    let unpacked = i64::try_from(encoded.unpacked).unwrap_or(i64::MAX);
                    let (records, latest_us) = (encoded.records, encoded.latest_us);
                    left.push(
                        ColdBlock { records, latest_us, unpacked, places, ..cold },
                        &encoded.body,
                        encoded.earliest_us,
                    );
                }
            }
            if gone_here > 0 && !self.replace_file(at, &file, left, gone_here).await? {
                return Ok(None);
            }
            gone += gone_here;
        }
        while next < sifting.to {
            let blocks = self.database.read(at, Offset(next), READ_BYTES).await?;
            if blocks.is_empty() {
                break;
            }
            let appended = self.appended(at, &blocks).await?;
            let to = sifting.to;
            for block in blocks.iter().take_while(|b| b.first.0 < to) {
                let kept = sifting.kept(block, appended.get(&block.first.0).copied().unwrap_or(i64::MIN)).await?;
                if kept.gone > 0 {
                    match self.database.rewrite(at, block, kept).await? {
                        0 => return Ok(None),
                        went => gone += went,
                    }
                }
            }
            next = blocks.as_slice().last().map_or(sifting.to, |b| b.end().0);
        }
        Ok(Some(gone))
    }

    /// When blocks were appended, by their first offsets; of those that are in files by now it is not known.
    async fn appended(&self, at: TopicPartition, blocks: &[StoredBlock]) -> Result<HashMap<i64, i64>, PortError> {
        let (Some(first), Some(last)) = (blocks.first(), blocks.last()) else { return Ok(HashMap::new()) };
        let mut connection = self.database.connection().await?;
        let rows: Vec<Appended> = diesel::sql_query(
            "SELECT first_offset, appended_us FROM blocks WHERE topic_id = $1 AND partition = $2 AND first_offset BETWEEN $3 AND $4",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(first.first.0)
        .bind::<Int8, _>(last.first.0)
        .load(&mut connection)
        .await
        .map_err(failed("looking when blocks were appended"))?;
        Ok(rows.into_iter().map(|row| (row.first_offset, row.appended_us)).collect())
    }

    async fn note(&self, at: TopicPartition, to: i64, deletes_until_us: Option<i64>) -> Result<(), PortError> {
        let mut connection = self.database.connection().await?;
        diesel::sql_query(
            "UPDATE topic_partitions SET latest_to = $3, latest_at = now(), deletes_until_us = $4 WHERE topic_id = $1 AND partition = $2",
        )
        .bind::<Int8, _>(at.topic.0)
        .bind::<Int4, _>(at.partition.0)
        .bind::<Int8, _>(to)
        .bind::<Nullable<Int8>, _>(deletes_until_us)
        .execute(&mut connection)
        .await
        .map_err(failed("noting how far the latest of each key is kept"))?;
        Ok(())
    }
}

/// A pass over a partition: what it saw, and what it does with it.
struct Sifting {
    at: TopicPartition,
    keys: LatestKeys,
    /// Where it ends.
    to: i64,
    /// Deletes from before may go.
    until_us: i64,
    teller: Teller,
    /// The time of the first delete that stays.
    first_delete_us: Option<i64>,
}

impl Sifting {
    async fn kept(&mut self, block: &StoredBlock, appended_us: i64) -> Result<Kept, PortError> {
        let mut kept = Kept::default();
        for record in block.open(self.at)?.records() {
            let (offset, record) = record?;
            let says = self.teller.says(&record).await?;
            // who reads may be behind as far as the record came late
            let time = record.timestamp_us.max(appended_us);
            if offset.0 >= self.to || self.keys.stays(offset.0, record.key, says, time, self.until_us) {
                kept.push(offset.0 - block.first.0, &record);
                if says == Says::Gone && record.key.is_some() {
                    self.first_delete_us = Some(self.first_delete_us.map_or(time, |first| first.min(time)));
                }
            } else {
                kept.gone += 1;
            }
        }
        Ok(kept)
    }
}

/// What stays of a block.
#[derive(Default)]
struct Kept {
    builder: BlockBuilder,
    places: Vec<i64>,
    gone: i64,
}

impl Kept {
    fn push(&mut self, place: i64, record: &RecordRef<'_>) {
        self.places.push(place);
        self.builder.push_record(&record.to_record());
    }
}

impl Database {
    /// Replaces a block by what stays of it, if it is still as it was read; how many records went.
    async fn rewrite(&self, at: TopicPartition, block: &StoredBlock, mut kept: Kept) -> Result<i64, PortError> {
        let places = Places::some(block.places.span(), &kept.places);
        let left = kept.builder.finish();
        let mut connection = self.connection().await?;
        let done: Result<i64, Error> =
            connection.transaction(async |c| replace(c, at, block, left.as_ref(), &places, kept.gone).await).await;
        done.map_err(failed("keeping the latest of each key"))
    }
}

async fn replace(
    c: &mut AsyncPgConnection,
    at: TopicPartition,
    block: &StoredBlock,
    left: Option<&EncodedBlock>,
    places: &Places,
    gone: i64,
) -> Result<i64, Error> {
    let before = i64::try_from(block.body.len()).unwrap_or(0);
    let same = "topic_id = $1 AND partition = $2 AND first_offset = $3 AND body = $4";
    let done = match left {
        None => {
            diesel::sql_query(format!("DELETE FROM blocks WHERE {same}"))
                .bind::<Int8, _>(at.topic.0)
                .bind::<Int4, _>(at.partition.0)
                .bind::<Int8, _>(block.first.0)
                .bind::<Binary, _>(block.body.as_ref())
                .execute(c)
                .await?
        }
        Some(left) => {
            diesel::sql_query(format!(
                "UPDATE blocks SET records = $5, earliest_us = $6, latest_us = $7, unpacked = $8, places = $9, body = $10 WHERE {same}"
            ))
            .bind::<Int8, _>(at.topic.0)
            .bind::<Int4, _>(at.partition.0)
            .bind::<Int8, _>(block.first.0)
            .bind::<Binary, _>(block.body.as_ref())
            .bind::<Int4, _>(i32::try_from(left.records).unwrap_or(i32::MAX))
            .bind::<Int8, _>(left.earliest_us)
            .bind::<Int8, _>(left.latest_us)
            .bind::<Int4, _>(i32::try_from(left.unpacked).unwrap_or(i32::MAX))
            .bind::<Nullable<Binary>, _>(places.stored().map(|b| b.to_vec()))
            .bind::<Binary, _>(left.body.as_ref())
            .execute(c)
            .await?
        }
    };
    if done == 0 {
        return Ok(0);
    }
    let after = left.map_or(0, |b| i64::try_from(b.body.len()).unwrap_or(0));
    diesel::sql_query(
        "UPDATE topic_partitions SET bytes = bytes + $3, passed_over = passed_over + $4, small_blocks = small_blocks + 1 \
         WHERE topic_id = $1 AND partition = $2",
    )
    .bind::<Int8, _>(at.topic.0)
    .bind::<Int4, _>(at.partition.0)
    .bind::<Int8, _>(after - before)
    .bind::<Int8, _>(gone)
    .execute(c)
    .await?;
    Ok(gone)
}
