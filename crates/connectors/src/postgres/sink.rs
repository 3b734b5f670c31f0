//! A sink connector on PostgreSQL: rows and position commit together in the target, where it is to hold the position.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeKind, KindCounts};
use gonvel_core::connector::{Deletes, DeliveredTopic, TargetRows, Writes};
use gonvel_core::fold::{Place, Segment, fold};
use gonvel_core::naming::{ConnectorId, Epoch, PartitionId, TopicId, TopicPartition};
use gonvel_core::ports::DatabaseAddress;
use gonvel_core::table::TableSchema;
use gonvel_core::trail::{Seen, Trail};
use tokio_postgres::{Client, Statement};

use super::apply::{Application, PartsOfRows, Statements};
use super::client::{connect, explain, explain_write};
use super::newest;
use super::target::{self, TargetTable};
use crate::error::ConnectorError;

/// What a sink connector delivers, and where.
#[derive(Debug, Clone)]
pub struct SinkSettings {
    /// The connector.
    pub connector: ConnectorId,
    /// The lane of it.
    pub lane: i32,
    /// The server.
    pub address: DatabaseAddress,
    /// The topics with their ids, in the definition's order.
    pub topics: Vec<(TopicId, DeliveredTopic)>,
    /// How it writes.
    pub writes: Writes,
}

/// How far a partition is delivered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Delivered {
    /// The next offset to deliver.
    pub next: i64,
    /// What was delivered, by kind.
    pub counts: KindCounts,
    /// The newest record before it that was looked at, as far as is known.
    pub last: Option<Seen>,
}

/// A sink that has started.
pub struct Started {
    /// The sink.
    pub sink: PgSink,
    /// Where its partitions stand.
    pub stands: HashMap<TopicPartition, Stand>,
    /// Topics that it has not delivered yet, of those asked about. Where there are any, the transaction in which the positions were
    /// taken over is open: what becomes of the rows in their tables belongs to it, and [`PgSink::begun`] ends it.
    pub unbegun: HashSet<TopicId>,
}

/// Where a partition stands in a target, and the records by which the log is known that it came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stand {
    /// How far it is delivered.
    pub delivered: Delivered,
    /// Records that were delivered.
    pub trail: Trail,
    /// The greatest term under which it was written.
    pub epoch: Epoch,
}

/// What is known of the row before an update that brings a part of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum RowBefore {
    /// It is in the target as it was.
    #[default]
    Known,
    /// It may not be there.
    MayBeMissing,
    /// It may not be there, or not as it was: it was not in the target for a while.
    MayBeOld,
}

/// Changes of one topic within a round, in order per key.
#[derive(Debug)]
pub struct TopicChanges {
    /// The topic's place in [`SinkSettings::topics`].
    pub topic: usize,
    /// Batches of one shape.
    pub batches: Vec<ChangeBatch>,
    /// Every change with its key, in order.
    pub changes: Vec<(Place, bytes::Bytes)>,
    /// Where each change's record stands.
    pub from: Vec<(TopicPartition, i64)>,
    /// The keys that the records themselves have, where a shape made others.
    pub record_keys: Option<Vec<bytes::Bytes>>,
    /// What is known of the rows of which updates among them bring a part.
    pub row_before: RowBefore,
}

impl TopicChanges {
    /// Whether it is a truncate, which stands alone.
    #[must_use]
    pub fn is_truncate(&self) -> bool {
        self.batches.first().is_some_and(|batch| batch.kinds.first() == Some(&ChangeKind::Truncate))
    }

    /// The key of a change's record, by its number.
    #[must_use]
    pub fn record_key(&self, change: usize) -> &bytes::Bytes {
        self.record_keys.as_ref().map_or(&self.changes[change].1, |keys| &keys[change])
    }

    /// Whether a change, by its number, brings only a part of its row.
    #[must_use]
    pub fn is_part(&self, change: usize) -> bool {
        let (batch, row) = self.changes[change].0;
        self.kind(change) == ChangeKind::Update && self.batches[batch].unchanged.contains_key(&row)
    }

    /// Takes out the changes that are not to be kept, by their numbers.
    pub fn keep(&mut self, which: &[bool]) {
        fn kept<T>(list: &mut Vec<T>, which: &[bool]) {
            let mut which = which.iter();
            list.retain(|_| *which.next().unwrap_or(&true));
        }
        kept(&mut self.changes, which);
        kept(&mut self.from, which);
        if let Some(keys) = &mut self.record_keys {
            kept(keys, which);
        }
    }

    /// The kind of a change, by its number.
    #[must_use]
    pub fn kind(&self, change: usize) -> ChangeKind {
        let (batch, row) = self.changes[change].0;
        self.batches[batch].kinds[row]
    }
}

/// What is applied in one transaction.
#[derive(Debug, Default)]
pub struct Round {
    /// Changes, in the order to apply; a topic may stand more than once when its shape changes in between.
    pub topics: Vec<TopicChanges>,
    /// Where each partition then stands.
    pub delivered: Vec<(TopicPartition, Delivered)>,
    /// Whether the rounds that follow belong to the same transaction.
    pub more: bool,
}

/// Rows are found by the target's key, one by one: a plan that reads the whole table for a round of changes costs more with
/// every row the table grows by.
const SESSION: &str = "SET enable_hashjoin = off; SET enable_mergejoin = off; SET jit = off";
/// A commit does not wait for the target's disk: should the target's machine fail, its last commits are gone together with their
/// position, and are delivered again from the topic. Not where the position is kept elsewhere.
pub(super) const NOT_WAITING: &str = "SET synchronous_commit = off";

/// The rows are taken in one order by whoever takes several: lanes that come to the same ones never wait in a circle.
const ADVANCE: &str = "UPDATE gonvel.sink_positions p SET next_offset = a.next_offset, counts = a.counts, trail = a.trail
    FROM (SELECT held.topic, held.partition, a.next_offset, a.counts, a.trail
        FROM unnest($3::bigint[], $4::int[], $5::bigint[], $6::text[], $7::text[]) AS a(topic, partition, next_offset, counts, trail)
        JOIN gonvel.sink_positions held ON held.connector = $1 AND held.topic = a.topic AND held.partition = a.partition
        WHERE held.epoch = $2 ORDER BY held.topic, held.partition FOR UPDATE OF held) a
    WHERE p.connector = $1 AND p.topic = a.topic AND p.partition = a.partition";

/// A running sink.
pub struct PgSink {
    pub(super) client: Client,
    pub(super) settings: SinkSettings,
    pub(super) epoch: Epoch,
    pub(super) targets: HashMap<(usize, Arc<TableSchema>), TargetTable>,
    /// What is to be said of each topic's target, of the latest shape that came.
    notes: BTreeMap<usize, Vec<String>>,
    /// Moves the positions; none where they are kept elsewhere.
    advance: Option<Statement>,
    /// The records by which the log is known, by partition.
    pub(super) trails: Mutex<HashMap<TopicPartition, Trail>>,
    pub(super) statements: Statements,
    /// Whether a transaction is open that further rounds belong to.
    pub(super) open: bool,
    /// Its session, as the server counts them.
    session: i32,
}

impl Round {
    /// Whether it is a truncate, which stands alone.
    #[must_use]
    pub fn is_truncate(&self) -> bool {
        self.topics.iter().any(TopicChanges::is_truncate)
    }
}

impl PgSink {
    /// Takes over the sink's positions for a lease and tells where they stand. From then on no holder of an earlier lease
    /// can commit. A partition that has no position yet begins at the place given with it. Where the positions are kept elsewhere
    /// none is told, and only the sessions of earlier holders end.
    ///
    /// # Errors
    /// [`ConnectorError`]; [`ConnectorError::Later`] if a later lease was here before.
    pub async fn start(
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
    ) -> Result<(Self, HashMap<TopicPartition, Stand>), ConnectorError> {
        let Started { sink, stands, .. } = Self::begin(settings, epoch, partitions, &HashSet::new()).await?;
        Ok((sink, stands))
    }

    /// The same for a sink that is to do something with rows in the tables of topics that it has not delivered yet, as far as it
    /// holds their positions; asked is about these topics.
    ///
    /// # Errors
    /// As [`Self::start`].
    pub async fn begin(
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
        asked: &HashSet<TopicId>,
    ) -> Result<Started, ConnectorError> {
        let client = connect(&settings.address).await?;
        let during = |e: tokio_postgres::Error| explain(&e, "taking over the sink's positions");
        let in_target = settings.writes.guarantee.in_target();
        if in_target {
            target::ensure_own_tables(&client).await?;
        }
        // a former holder that hangs with a transaction open would keep its rows locked
        let name = format!("gonvel {} {}", settings.connector.simple(), settings.lane);
        client
            .execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = $1 AND usename = current_user",
                &[&name],
            )
            .await
            .map_err(during)?;
        client.batch_execute(&format!("SET application_name = '{name}'")).await.map_err(during)?;
        let session: i32 = client.query_one("SELECT pg_backend_pid()", &[]).await.map_err(during)?.get(0);
        let (mut stands, mut advance, mut unbegun) = (HashMap::new(), None, HashSet::new());
        if in_target {
            if !asked.is_empty() {
                unbegun = unbegun_of(&client, settings.connector, asked).await?;
            }
            stands = take_over(&client, &settings, epoch, partitions).await?;
            if !asked.is_empty() && unbegun.is_empty() {
                client.batch_execute("COMMIT").await.map_err(during)?;
            }
            // only now: the take-over itself must outlive the target's machine
            if unbegun.is_empty() {
                client.batch_execute(NOT_WAITING).await.map_err(|e| explain(&e, "preparing the session"))?;
            }
            advance = Some(client.prepare(ADVANCE).await.map_err(during)?);
        }
        client.batch_execute(SESSION).await.map_err(|e| explain(&e, "preparing the session"))?;
        let (targets, notes, statements) = (HashMap::new(), BTreeMap::new(), Statements::default());
        let trails = Mutex::new(stands.iter().map(|(at, stand)| (*at, stand.trail.clone())).collect());
        let open = !unbegun.is_empty();
        let sink = Self { client, settings, epoch, targets, notes, advance, trails, statements, open, session };
        Ok(Started { sink, stands, unbegun })
    }

    /// Applies a round and moves the positions, in one transaction; rounds that belong together are one.
    ///
    /// # Errors
    /// [`ConnectorError`]; nothing of the round is then in the target. After [`ConnectorError::BadRecord`] the round can be sifted,
    /// after others the sink must be started again.
    ///
    /// Cancel safety: dropped before the commit, nothing of the round remains once the session ends; the sink must then be
    /// started again.
    pub async fn apply(&mut self, round: &Round) -> Result<(), ConnectorError> {
        self.write(round).await?;
        if round.more { Ok(()) } else { self.commit().await }
    }

    /// The same, but for the commit: what belongs to it can be noted elsewhere before.
    ///
    /// # Errors
    /// As [`Self::apply`].
    pub async fn write(&mut self, round: &Round) -> Result<(), ConnectorError> {
        for changes in &round.topics {
            self.prepare(changes).await?;
        }
        let begins = !self.open;
        self.open = true;
        // Sent together, and the server takes them in order. The position comes before the rows: they are written under its
        // fence, taking back rows that were there already does not take it back too, and what refuses it is told before what
        // then fails of the rows.
        let begin = async {
            if begins {
                self.client.batch_execute("BEGIN").await.map_err(|e| explain(&e, "beginning a transaction"))?;
            }
            Ok(())
        };
        let apply = async {
            for changes in &round.topics {
                self.apply_changes(changes, &changes.changes).await?;
            }
            Ok(())
        };
        let advance = async { if round.more { Ok(()) } else { self.advance(&round.delivered, round.is_truncate()).await } };
        futures::try_join!(begin, advance, apply)?;
        Ok(())
    }

    /// Makes what was written last.
    ///
    /// # Errors
    /// [`ConnectorError`]; nothing of it is then in the target. After [`ConnectorError::BadRecord`], of a constraint that is checked
    /// only now, the round can be sifted, after others the sink must be started again.
    pub async fn commit(&mut self) -> Result<(), ConnectorError> {
        self.open = false;
        self.client.batch_execute("COMMIT").await.map_err(|e| explain_write(&e, "the target, when it is to keep them"))
    }

    /// Takes back what was written and not committed.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn roll_back(&mut self) -> Result<(), ConnectorError> {
        self.open = false;
        self.client.batch_execute("ROLLBACK").await.map_err(|e| explain(&e, "taking a transaction back"))
    }

    pub(super) async fn prepare(&mut self, changes: &TopicChanges) -> Result<(), ConnectorError> {
        let Some(first) = changes.batches.first() else { return Ok(()) };
        let key = (changes.topic, first.table.clone());
        if !self.targets.contains_key(&key) {
            let (_, topic) = &self.settings.topics[changes.topic];
            let target = target::ensure(&self.client, topic, &first.table, self.settings.writes).await?;
            self.notes.insert(changes.topic, target.notes.clone());
            self.targets.insert(key, target);
        }
        Ok(())
    }

    /// Applies a part of a topic's changes.
    pub(super) async fn apply_changes(&self, changes: &TopicChanges, part: &[(Place, Bytes)]) -> Result<(), ConnectorError> {
        let Some(first) = changes.batches.first() else { return Ok(()) };
        let Some(target) = self.targets.get(&(changes.topic, first.table.clone())) else { return Ok(()) };
        let writes = self.settings.writes;
        let marks = writes.rows == TargetRows::Current && writes.deletes == Deletes::Marked;
        let (client, batches) = (&self.client, &changes.batches);
        let statements = &self.statements;
        let before = if writes.keeps_rows() { changes.row_before } else { RowBefore::Known };
        // where the position is kept elsewhere changes may come twice, also of rows that are gone by now
        let counted = before != RowBefore::Known || writes.keeps_rows() && writes.guarantee.in_target();
        let may_be_old = before == RowBefore::MayBeOld;
        let parts_of_rows = PartsOfRows { may_be_old, counted, ..PartsOfRows::default() };
        let application = Application { client, target, batches, shape: &first.table, statements, marks, parts_of_rows };
        let parts_of_rows = &application.parts_of_rows;
        let kind = |&(batch, row): &Place| batches[batch].kinds[row];
        let mut kept = Cow::Borrowed(part);
        if writes.deletes == Deletes::Ignored {
            kept.to_mut().retain(|(place, _)| !matches!(kind(place), ChangeKind::Delete | ChangeKind::Truncate));
            // a row that went away and came back stands here as it was before
            if parts_of_rows.may_be_old && kept.iter().any(|(place, _)| application.is_part(place)) {
                return Err(part_of_a_row(&target.name));
            }
        }
        let newest_by = match self.settings.topics[changes.topic].1.rows.as_ref().and_then(|rows| rows.newest_by.as_deref())
        {
            Some(name) => Some(newest::column(&first.table, &target.present, name)?),
            None => None,
        };
        let places = || kept.iter().map(|(place, _)| *place).collect::<Vec<_>>();
        let applied = match (writes.rows, newest_by) {
            (TargetRows::Current, Some(by)) => newest::apply(&application, &kept, by).await,
            (TargetRows::Current, None) if marks => apply_marking(&application, &kept).await,
            (TargetRows::Current, None) => application.run(&fold_all(batches, &kept)).await,
            (TargetRows::Appended, _) => application.append_rows(&places()).await,
            (TargetRows::Changes, _) => application.append_changes(&places()).await,
            (TargetRows::History, _) => application.write_history(&kept).await,
        };
        applied.map_err(|e| explain_write(&e, &target.name))?;
        if parts_of_rows.missing.load(Ordering::Relaxed) > 0 { Err(part_of_a_row(&target.name)) } else { Ok(()) }
    }

    /// What people should know of its targets.
    #[must_use]
    pub fn notes(&self) -> Vec<String> {
        self.notes.values().flatten().cloned().collect()
    }

    pub(super) async fn advance(
        &self,
        delivered: &[(TopicPartition, Delivered)],
        truncates: bool,
    ) -> Result<(), ConnectorError> {
        let Some(advance) = &self.advance else { return Ok(()) };
        let topics: Vec<i64> = delivered.iter().map(|(at, _)| at.topic.0).collect();
        let partitions: Vec<i32> = delivered.iter().map(|(at, _)| at.partition.0).collect();
        let next: Vec<i64> = delivered.iter().map(|(_, d)| d.next).collect();
        let counts = delivered.iter().map(|(_, d)| counts_text(d.counts)).collect::<Result<Vec<_>, _>>()?;
        let trails = self.trails(delivered, truncates);
        let moved = self
            .client
            .execute(advance, &[&self.settings.connector.0, &self.epoch.0, &topics, &partitions, &next, &counts, &trails])
            .await
            .map_err(|e| explain(&e, "moving the position"))?;
        if moved == u64::try_from(delivered.len()).unwrap_or(u64::MAX) { Ok(()) } else { Err(ConnectorError::Fenced) }
    }

    /// The trails of partitions with the records that they come to now. A truncate that was carried out stays in them: what came before it
    /// must not be delivered again in one of its partitions alone.
    fn trails(&self, delivered: &[(TopicPartition, Delivered)], truncates: bool) -> Vec<String> {
        let mut trails = self.trails.lock().unwrap_or_else(PoisonError::into_inner);
        let text = |(at, delivered): &(TopicPartition, Delivered)| {
            let trail = trails.entry(*at).or_default();
            if let Some(last) = delivered.last {
                if truncates { trail.pin(last) } else { trail.note(last) }
            }
            trail.to_string()
        };
        delivered.iter().map(text).collect()
    }

    /// The server, and the number that it knows this sink's session by.
    #[must_use]
    pub fn session(&self) -> (DatabaseAddress, i32) {
        (self.settings.address.clone(), self.session)
    }

    /// The topics this sink delivers.
    #[must_use]
    pub fn topics(&self) -> &[(TopicId, DeliveredTopic)] {
        &self.settings.topics
    }
}

/// Opens a transaction in which no other lane of a connector begins, and tells which of these topics none has delivered yet.
async fn unbegun_of(
    client: &Client,
    connector: ConnectorId,
    asked: &HashSet<TopicId>,
) -> Result<HashSet<TopicId>, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "looking which topics are new");
    client.batch_execute("BEGIN").await.map_err(during)?;
    let lock = format!("gonvel begins {}", connector.simple());
    client.execute("SELECT pg_advisory_xact_lock(8471, hashtext($1))", &[&lock]).await.map_err(during)?;
    let known = client
        .query("SELECT DISTINCT topic FROM gonvel.sink_positions WHERE connector = $1", &[&connector.0])
        .await
        .map_err(during)?;
    let known: HashSet<i64> = known.iter().map(|row| row.get(0)).collect();
    Ok(asked.iter().copied().filter(|topic| !known.contains(&topic.0)).collect())
}

/// Takes the positions over for a lease, and tells where they stand.
async fn take_over(
    client: &Client,
    settings: &SinkSettings,
    epoch: Epoch,
    partitions: &[(TopicPartition, Delivered)],
) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "taking over the sink's positions");
    let topics: Vec<i64> = partitions.iter().map(|(p, _)| p.topic.0).collect();
    let all: Vec<i64> = settings.topics.iter().map(|(topic, _)| topic.0).collect();
    let numbers: Vec<i32> = partitions.iter().map(|(p, _)| p.partition.0).collect();
    let first: Vec<i64> = partitions.iter().map(|(_, first)| first.next).collect();
    let counts = partitions.iter().map(|(_, first)| counts_text(first.counts)).collect::<Result<Vec<_>, _>>()?;
    let rows = client
        .query(
            "INSERT INTO gonvel.sink_positions AS p (connector, topic, partition, next_offset, epoch, counts)
             SELECT $1, a.topic, a.partition, a.first, $4, a.counts
             FROM unnest($2::bigint[], $3::int[], $5::bigint[], $6::text[]) AS a(topic, partition, first, counts)
             ORDER BY a.topic, a.partition
             ON CONFLICT (connector, topic, partition) DO UPDATE SET epoch = EXCLUDED.epoch WHERE p.epoch <= EXCLUDED.epoch
             RETURNING topic, partition, next_offset, counts, trail, epoch",
            &[&settings.connector.0, &topics, &numbers, &epoch.0, &first, &counts],
        )
        .await
        .map_err(during)?;
    if rows.len() != partitions.len() {
        let later = client
            .query_one(
                "SELECT coalesce(max(epoch), 0) FROM gonvel.sink_positions WHERE connector = $1",
                &[&settings.connector.0],
            )
            .await
            .map_err(during)?;
        return Err(ConnectorError::Later { epoch: later.get(0) });
    }
    // a topic that was let go of begins anew should it come back
    client
        .execute(
            "DELETE FROM gonvel.sink_positions WHERE connector = $1 AND epoch <= $2 AND topic <> ALL ($3)",
            &[&settings.connector.0, &epoch.0, &all],
        )
        .await
        .map_err(during)?;
    Ok(rows.iter().map(stand).collect())
}

pub(super) fn fold_all(batches: &[ChangeBatch], changes: &[(Place, Bytes)]) -> Vec<Segment> {
    fold(batches, changes.iter().map(|(place, key)| (*place, key.as_ref())))
}

fn part_of_a_row(table: &str) -> ConnectorError {
    ConnectorError::bad_record(format!(
        "an update brings a part of its row only, and {table} does not have the row as it was: what was not sent cannot be known; \
         give the source's table REPLICA IDENTITY FULL, or write the topic in row form"
    ))
}

/// Applies changes so that deleted rows stay and are marked. Every row that came is written before any is marked, so that the
/// end does not hang on which changes happen to be applied together.
async fn apply_marking(application: &Application<'_>, changes: &[(Place, Bytes)]) -> Result<(), tokio_postgres::Error> {
    let kind = |place: &Place| application.batches[place.0].kinds[place.1];
    for part in changes.split_inclusive(|(place, _)| kind(place) == ChangeKind::Truncate) {
        let mut last: HashMap<&Bytes, Place> = HashMap::new();
        let mut written = Vec::with_capacity(part.len());
        for (place, key) in part.iter().filter(|(place, _)| kind(place) != ChangeKind::Truncate) {
            let before = last.insert(key, *place);
            // the row is marked only in the end, and would be found here as it was before
            if application.parts_of_rows.may_be_old
                && application.is_part(place)
                && before.is_some_and(|before| kind(&before) == ChangeKind::Delete)
            {
                application.parts_of_rows.miss(1);
            }
            if kind(place) != ChangeKind::Delete {
                written.push((*place, key.clone()));
            }
        }
        application.run(&fold_all(application.batches, &written)).await?;
        let mut deleted: Vec<Place> = last.into_values().filter(|place| kind(place) == ChangeKind::Delete).collect();
        if !deleted.is_empty() {
            deleted.sort_unstable();
            application.mark(&deleted).await?;
        }
        if let Some((place, _)) = part.last().filter(|(place, _)| kind(place) == ChangeKind::Truncate) {
            application.mark_all(*place).await?;
        }
    }
    Ok(())
}

/// Where a sink connector stands in its target; empty if it never stood anywhere.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn stands(
    address: &DatabaseAddress,
    connector: ConnectorId,
) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "reading a sink's positions");
    let there = client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_positions') IS NOT NULL", &[]).await;
    if there.map_err(during)?.is_none() {
        return Ok(HashMap::new());
    }
    let rows = client
        .query(
            // a table of an earlier version has no trails
            "SELECT topic, partition, next_offset, counts, coalesce(to_jsonb(p) ->> 'trail', ''), epoch
             FROM gonvel.sink_positions p WHERE connector = $1",
            &[&connector.0],
        )
        .await
        .map_err(during)?;
    Ok(rows.iter().map(stand).collect())
}

/// A partition's place from a row of topic, partition, next offset, counts, trail and epoch.
fn stand(row: &tokio_postgres::Row) -> (TopicPartition, Stand) {
    let at = TopicPartition { topic: TopicId(row.get(0)), partition: PartitionId(row.get(1)) };
    let counts = serde_json::from_str(row.get(3)).unwrap_or_default();
    let trail = Trail::read(row.get(4));
    let delivered = Delivered { next: row.get(2), counts, last: trail.newest_first().next() };
    (at, Stand { delivered, trail, epoch: Epoch(row.get(5)) })
}

fn counts_text(counts: KindCounts) -> Result<String, ConnectorError> {
    serde_json::to_string(&counts).map_err(|e| ConnectorError::Defect(e.to_string()))
}

/// Moves a sink that does not run: each partition from where it stands to another offset, all or none. Where both agree up to there, what
/// is known of the records before it stays known.
///
/// # Errors
/// [`ConnectorError::Settings`] if one stands elsewhere by now; others if the server does not answer.
pub async fn reposition(
    address: &DatabaseAddress,
    connector: ConnectorId,
    moves: &[(TopicPartition, i64, i64)],
    agreed: bool,
) -> Result<(), ConnectorError> {
    let mut client = connect(address).await?;
    target::ensure_own_tables(&client).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "moving a sink's positions");
    let transaction = client.transaction().await.map_err(during)?;
    for (at, from, to) in moves {
        let place: &[&(dyn tokio_postgres::types::ToSql + Sync)] = &[&connector.0, &at.topic.0, &at.partition.0];
        let known = "SELECT trail FROM gonvel.sink_positions WHERE connector = $1 AND topic = $2 AND partition = $3";
        let known = transaction.query_opt(known, place).await.map_err(during)?;
        let mut trail = known.filter(|_| agreed).map(|row| Trail::read(row.get(0))).unwrap_or_default();
        trail.cut(*to);
        let moved = transaction
            .execute(
                // whoever wrote here before is fenced, also where its term is later than any of this log's
                "UPDATE gonvel.sink_positions SET next_offset = $5, at_truncate = NULL, at_mark = NULL, trail = $6, epoch = 0
                 WHERE connector = $1 AND topic = $2 AND partition = $3 AND next_offset = $4",
                &[&connector.0, &at.topic.0, &at.partition.0, from, to, &trail.to_string()],
            )
            .await
            .map_err(during)?;
        if moved != 1 {
            return Err(ConnectorError::settings(
                None,
                format!("partition {} does not stand at {from} any more", at.partition.0),
                "look again, and decide anew",
            ));
        }
    }
    transaction.commit().await.map_err(during)
}

/// Removes the sink's positions from the target, and Gonvel's own schema with the last of them. The tables with the
/// delivered rows stay: they are the target's.
///
/// # Errors
/// [`ConnectorError`]; it says what could not be removed.
pub async fn clean_up(address: &DatabaseAddress, connector: ConnectorId) -> Result<(), ConnectorError> {
    let client = connect(address).await?;
    let during = |e: tokio_postgres::Error| explain(&e, "removing the sink's positions");
    let there =
        client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_positions') IS NOT NULL", &[]).await.map_err(during)?;
    if there.is_none() {
        return Ok(());
    }
    client.execute("DELETE FROM gonvel.sink_positions WHERE connector = $1", &[&connector.0]).await.map_err(during)?;
    let retried = client.query_opt("SELECT 1 WHERE to_regclass('gonvel.sink_retried') IS NOT NULL", &[]).await;
    if retried.map_err(during)?.is_some() {
        client.execute("DELETE FROM gonvel.sink_retried WHERE connector = $1", &[&connector.0]).await.map_err(during)?;
    }
    let left = client.query_opt("SELECT 1 FROM gonvel.sink_positions LIMIT 1", &[]).await.map_err(during)?;
    if left.is_none() {
        client
            .batch_execute("DROP TABLE gonvel.sink_positions; DROP TABLE IF EXISTS gonvel.sink_retried; DROP SCHEMA gonvel")
            .await
            .map_err(during)?;
    }
    Ok(())
}
