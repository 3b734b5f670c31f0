//! Rows of a source that cannot be shaped. Only their keys wait: what the shape hides must not be kept anywhere, and the row itself
//! is still in its table. Tried again, it is read there as it is by then.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::digest::sha256;
use gonvel_core::failure;
use gonvel_core::naming::{Offset, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::{BadRecord, Level, Settled, Step, Topic};
use gonvel_core::record::Record;
use gonvel_core::sql_text;
use gonvel_shape::run::Failed;

use super::Held;
use super::book::{self, Book};
use crate::failing::Failure;

/// A row's key columns, as the source writes their values.
pub(crate) type RowKey = BTreeMap<String, String>;

/// What a source's lane knows of its rows in quarantine.
pub(crate) struct RowsAside {
    book: Book,
    /// The topics of the tables, in their order.
    topics: Vec<Topic>,
    /// What waits, by the topic of its table and its key.
    waiting: HashMap<(TopicId, Bytes), i64>,
}

/// Rows of one table that are asked to be tried again: their keys with their numbers.
#[derive(Default)]
pub(crate) struct Asked(HashMap<Bytes, i64>);

impl Asked {
    /// Their keys.
    pub(crate) fn keys(&self) -> Vec<RowKey> {
        self.0.keys().filter_map(|key| serde_json::from_slice(key).ok()).collect()
    }

    /// Takes the number of a row as it was read out.
    pub(crate) fn take(&mut self, batch: &ChangeBatch, row: usize) -> Option<i64> {
        self.0.remove(&key_of(batch, row))
    }

    /// The numbers of those that are left.
    pub(crate) fn left(self) -> impl Iterator<Item = i64> {
        self.0.into_values()
    }
}

/// Changes of one table as they came.
pub(crate) struct RowsCame<'c> {
    /// The table's topic.
    pub(crate) topic: &'c Topic,
    /// The changes.
    pub(crate) batch: &'c ChangeBatch,
    /// Those that go on; none for all.
    pub(crate) rows: Option<&'c [usize]>,
    /// Those that cannot be shaped.
    pub(crate) failed: &'c [Failed],
}

fn place(topic: TopicId) -> TopicPartition {
    TopicPartition { topic, partition: PartitionId(0) }
}

fn key_of(batch: &ChangeBatch, row: usize) -> Bytes {
    let mut key = RowKey::new();
    for column in batch.table.key_columns() {
        let (field, mut text) = (&batch.table.columns[column], Vec::new());
        sql_text::write(field.ty, batch.identifying(row)[column].value(row), &mut text);
        key.insert(field.name.clone(), String::from_utf8_lossy(&text).into_owned());
    }
    serde_json::to_vec(&key).unwrap_or_default().into()
}

/// Where a row stands that has no offset: below all that have one, each key by itself.
fn offset_of(key: &[u8]) -> Offset {
    let eight: [u8; 8] = sha256(&[key])[..8].try_into().unwrap_or_default();
    Offset(-1 - (i64::from_le_bytes(eight) & i64::MAX))
}

impl RowsAside {
    /// Of a lane that writes these topics.
    pub(crate) async fn new(book: Book, topics: Vec<Topic>) -> Result<Self, Failure> {
        let mut aside = Self { book, topics, waiting: HashMap::new() };
        aside.learn().await?;
        Ok(aside)
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, topic: Topic) {
        self.topics.push(topic);
    }

    fn places(&self) -> Vec<TopicPartition> {
        self.topics.iter().map(|topic| place(topic.id)).collect()
    }

    async fn learn(&mut self) -> Result<(), Failure> {
        let places = self.places();
        let Self { book, waiting, .. } = self;
        let mut held = Held::default();
        waiting.clear();
        book.waiting_keys(&places, |waits| {
            if let Some(key) = waits.key.filter(|_| waits.offset.0 < 0) {
                held.note(book, key.len())?;
                waiting.insert((waits.at.topic, key), waits.id);
            }
            Ok(())
        })
        .await
    }

    /// Whether a row of a table with this topic waits.
    pub(crate) fn waits(&self, topic: TopicId, batch: &ChangeBatch, row: usize) -> bool {
        !self.waiting.is_empty() && self.waiting.contains_key(&(topic, key_of(batch, row)))
    }

    /// Before changes are appended: rows that cannot be shaped go into quarantine, and what waits of the others is void.
    pub(crate) async fn take(&mut self, came: RowsCame<'_>) -> Result<(), Failure> {
        let all: Vec<usize> = came.rows.map_or_else(|| (0..came.batch.len()).collect(), <[usize]>::to_vec);
        let failed: HashMap<usize, &Failed> = came.failed.iter().map(|f| (f.row, f)).collect();
        if failed.is_empty() && self.waiting.is_empty() {
            return self.book.count(std::iter::repeat_n(false, all.len()), None);
        }
        // from the last to the first: what comes later of a row makes void what came before
        let (mut later, mut emptied) = (HashSet::new(), false);
        let (mut bad, mut void) = (Vec::new(), Vec::new());
        for row in all.iter().rev().copied() {
            if came.batch.kinds[row] == ChangeKind::Truncate {
                emptied = true;
                let of_topic = self.waiting.iter().filter(|((topic, _), _)| *topic == came.topic.id);
                void.extend(of_topic.map(|(_, id)| *id));
                continue;
            }
            let key = key_of(came.batch, row);
            if !later.insert(key.clone()) || emptied {
                continue;
            }
            match failed.get(&row) {
                Some(failed) => bad.push(described(&came, row, key, failed)),
                None => void.extend(self.waiting.get(&(came.topic.id, key))),
            }
        }
        bad.reverse();
        self.book.count(all.iter().map(|row| failed.contains_key(row)), bad.first())?;
        if !bad.is_empty() {
            self.book.put(&bad).await?;
            self.book.tell(&bad);
        }
        if !void.is_empty() {
            self.book.services.quarantine.settle(self.book.held, &void, &Settled::Superseded).await?;
        }
        if !bad.is_empty() || !void.is_empty() {
            self.learn().await?;
        }
        Ok(())
    }

    /// The rows that are asked to be tried again, by their tables' places, with their numbers, and how long to wait before the next
    /// ones, if there may be more.
    pub(crate) async fn again(&self) -> Result<(BTreeMap<usize, Asked>, Option<Duration>), Failure> {
        let (asked, wait) = self.book.asked(&self.places()).await?;
        let mut tables: BTreeMap<usize, Asked> = BTreeMap::new();
        for asked in asked {
            let table = self.topics.iter().position(|topic| topic.id == asked.at.topic);
            if let (Some(table), Some(key)) = (table, asked.record.key) {
                tables.entry(table).or_default().0.insert(key, asked.id);
            }
        }
        Ok((tables, wait))
    }

    /// Notes what became of rows that were tried again; those that are gone from their table are void.
    pub(crate) async fn settle(&mut self, delivered: &[i64], gone: &[i64], failed: &[book::Failed]) -> Result<(), Failure> {
        if !gone.is_empty() {
            self.book.services.quarantine.settle(self.book.held, gone, &Settled::Superseded).await?;
            self.book.say(Level::Info, "rows that waited are no longer in their tables", [("rows", gone.len().into())]);
        }
        if !delivered.is_empty() || !failed.is_empty() {
            self.book.settle(delivered, failed).await?;
        }
        self.learn().await
    }
}

fn described(came: &RowsCame<'_>, row: usize, key: Bytes, failed: &Failed) -> BadRecord {
    let (step, finding) = (Step::Shape, failed.finding.clone());
    let cause = failure::cause(step.word(), &finding);
    let offset = offset_of(&key);
    let timestamp_us = came.batch.origins[row].commit_time_us;
    let record = Record { key: Some(key), value: None, headers: Vec::new(), timestamp_us, schema: None, key_schema: None };
    BadRecord { at: place(came.topic.id), topic: came.topic.name.as_str().to_owned(), offset, record, step, finding, cause }
}
