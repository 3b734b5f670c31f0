//! Rows that were carried before and look up what changed since: found in the topics that are read, to be carried again. Where they would take
//! more memory than a lane has for them, the topics are read several times, each time for a share of the keys.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Arc;

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage, Origin};
use gonvel_core::column::ColumnBuilder;
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::systems::{RowBefore, TopicChanges};
use gonvel_shape::picking::pick;
use gonvel_shape::reference::Changed;

use crate::events::Events;
use crate::failing::Failure;
use crate::reading::Reader;
use crate::services::Services;
use crate::shaping::Shared;

/// Rows that are held although newer ones of their keys came, from which on they are let go of.
const SUPERFLUOUS: usize = 10_000;

/// What is held of each row beside its values: its key, twice, and where it stands.
const BESIDE: usize = 200;

/// Rows found in one batch.
struct Found {
    topic: usize,
    batch: ChangeBatch,
    keys: Vec<Bytes>,
    from: Vec<(TopicPartition, i64)>,
}

impl Found {
    fn only(&self, rows: &[usize]) -> Self {
        Self {
            topic: self.topic,
            batch: pick(&self.batch, rows),
            keys: rows.iter().map(|row| self.keys[*row].clone()).collect(),
            from: rows.iter().map(|row| self.from[*row]).collect(),
        }
    }
}

/// The latest of each key, as far as it is asked for.
#[derive(Default)]
pub(crate) struct Latest {
    found: Vec<Found>,
    /// Where each stands: the batch and the row.
    places: HashMap<(TopicPartition, Bytes), (usize, usize)>,
    held: usize,
    /// What they take, and what is held beside them.
    bytes: usize,
    /// Whether only their keys are held.
    keys_only: bool,
}

impl Latest {
    /// The same for rows of which nothing but the key is wanted.
    pub(crate) fn keys_only() -> Self {
        Self { keys_only: true, ..Self::default() }
    }

    /// Takes a batch in, of which some rows are asked for, each with the origin that it gets.
    pub(crate) fn take(&mut self, changes: &TopicChanges, touched: &BTreeMap<usize, Origin>) {
        let batch = &changes.batches[0];
        if batch.kinds.contains(&ChangeKind::Truncate) {
            // it stands in each partition of its topic
            self.places.retain(|(at, _), _| !changes.from.iter().any(|(emptied, _)| emptied == at));
            return;
        }
        let rows: Vec<usize> = touched.keys().copied().collect();
        for (row, (at, _)) in changes.from.iter().enumerate() {
            let key = (*at, changes.changes[row].1.clone());
            match rows.binary_search(&row) {
                Ok(place) => drop(self.places.insert(key, (self.found.len(), place))),
                Err(_) => drop(self.places.remove(&key)),
            }
        }
        if rows.is_empty() {
            return;
        }
        let mut picked = pick(batch, &rows);
        for (place, row) in rows.iter().enumerate() {
            // it is said again because of what changed, whatever it said before
            (picked.kinds[place], picked.old_images[place]) = (ChangeKind::Update, OldImage::None);
            picked.origins[place] = touched[row];
        }
        let columns = picked.table.columns.iter().zip(&mut picked.new);
        for (column, values) in columns.filter(|(column, _)| self.keys_only && !column.key) {
            let mut nulls = ColumnBuilder::new(column.ty);
            rows.iter().for_each(|_| nulls.push_null());
            *values = nulls.finish();
        }
        picked.old = Vec::new();
        let keys = rows.iter().map(|row| changes.changes[*row].1.clone()).collect();
        let from = rows.iter().map(|row| changes.from[*row]).collect();
        self.held += rows.len();
        self.bytes += picked.size() + rows.len() * BESIDE;
        self.found.push(Found { topic: changes.topic, batch: picked, keys, from });
        if self.held > SUPERFLUOUS && self.held > 2 * self.places.len() {
            self.let_go();
        }
    }

    /// The rows, each as an update.
    pub(crate) fn rows(&self) -> impl Iterator<Item = &ChangeBatch> {
        self.found.iter().map(|found| &found.batch)
    }

    /// Without those of which newer ones came.
    pub(crate) fn let_go(&mut self) {
        let mut left: Vec<Vec<usize>> = self.found.iter().map(|_| Vec::new()).collect();
        self.places.values().for_each(|(batch, row)| left[*batch].push(*row));
        let mut found = Vec::new();
        self.places.clear();
        for (batch, mut rows) in std::mem::take(&mut self.found).into_iter().zip(left) {
            if rows.is_empty() {
                continue;
            }
            rows.sort_unstable();
            let batch = batch.only(&rows);
            for (row, (at, _)) in batch.from.iter().enumerate() {
                self.places.insert((*at, batch.keys[row].clone()), (found.len(), row));
            }
            found.push(batch);
        }
        self.found = found;
        self.held = self.places.len();
        self.bytes = self.found.iter().map(|found| found.batch.size() + found.keys.len() * BESIDE).sum();
    }

    /// Lets go of rows whose keys are not wanted.
    fn keep(&mut self, wanted: impl Fn(&(TopicPartition, Bytes)) -> bool) {
        self.places.retain(|place, _| wanted(place));
        self.let_go();
    }
}

/// A share of all keys: those whose hash leaves `rest` when it is divided by `of`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Share {
    rest: u64,
    of: u64,
}

impl Share {
    fn has(self, (at, key): &(TopicPartition, Bytes)) -> bool {
        let mut hasher = DefaultHasher::new();
        (at.topic.0, at.partition.0, key).hash(&mut hasher);
        hasher.finish() % self.of == self.rest
    }

    /// The two halves of it.
    fn halves(self) -> (Self, Self) {
        (Self { of: self.of * 2, ..self }, Self { rest: self.rest + self.of, of: self.of * 2 })
    }
}

/// Where rows are looked for that are to be carried again.
pub(crate) struct Sought<'s> {
    pub(crate) services: &'s Services,
    pub(crate) shaping: &'s Shared,
    pub(crate) names: &'s [String],
    pub(crate) events: &'s Events,
    /// The partitions, each with its topic's place and the offset up to which it was read.
    pub(crate) read: &'s [(TopicPartition, usize, i64)],
    /// What changed of the references.
    pub(crate) changed: Arc<HashMap<String, Changed>>,
}

/// The rows as they were read up to some offsets that look up what changed, each as an update by what changed it: some of them at a time.
pub(crate) struct Again<'s> {
    sought: Sought<'s>,
    /// Shares that were not read yet.
    shares: Vec<Share>,
}

impl<'s> Again<'s> {
    /// All of them.
    pub(crate) fn of(sought: Sought<'s>) -> Self {
        Self { sought, shares: vec![Share { rest: 0, of: 1 }] }
    }

    /// The next of them; none when all were given.
    ///
    /// # Errors
    /// As of reading and shaping.
    pub(crate) async fn next(&mut self) -> Result<Option<Vec<TopicChanges>>, Failure> {
        let Some(mut share) = self.shares.pop() else { return Ok(None) };
        let Sought { services, shaping, names, events, read, changed } = &self.sought;
        let most_bytes = services.runner.lane_bytes;
        let mut first: HashMap<TopicPartition, i64> = HashMap::new();
        for topic in read.iter().map(|(at, ..)| at.topic).collect::<BTreeSet<_>>() {
            let bounds = services.log.bounds(topic).await?.into_iter();
            first.extend(bounds.map(|b| (TopicPartition { topic, partition: b.partition }, b.first.0)));
        }
        let mut latest = Latest::default();
        for (at, topic, to) in *read {
            let span = (first.get(at).copied().unwrap_or(0).min(*to), *to);
            let reader = Reader::of_one(services.log.clone(), services.schemas.clone(), (*at, *topic), span);
            let mut reader = reader.aside(names.to_vec()).events(events);
            while let Some(round) = reader.next().await? {
                let mut shaping = shaping.lock().await;
                for changes in &round.round.topics {
                    let mut touched = shaping.touched(changes.topic, &changes.batches[0], changed)?;
                    touched.retain(|row, _| {
                        share.of == 1 || share.has(&(changes.from[*row].0, changes.changes[*row].1.clone()))
                    });
                    latest.take(changes, &touched);
                }
                while latest.bytes > most_bytes && latest.places.len() > 1 {
                    // perhaps newer ones came of many
                    latest.let_go();
                    if latest.bytes <= most_bytes / 2 {
                        break;
                    }
                    let (kept, later) = share.halves();
                    share = kept;
                    self.shares.push(later);
                    latest.keep(|place| share.has(place));
                }
            }
        }
        latest.let_go();
        let changes = |found: Found| TopicChanges {
            topic: found.topic,
            changes: found.keys.into_iter().enumerate().map(|(row, key)| ((0, row), key)).collect(),
            batches: vec![found.batch],
            from: found.from,
            record_keys: None,
            row_before: RowBefore::Known,
        };
        Ok(Some(latest.found.into_iter().map(changes).collect()))
    }
}
