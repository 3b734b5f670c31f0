//! A sink connector on PostgreSQL: rows and position commit together in the target, where it is to hold the position.

use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::connector::{Deletes, TargetRows};
use gonvel_core::fold::{Place, Segment, fold};
use gonvel_core::naming::{Epoch, TopicId, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Delivered, Round, RowBefore, SinkSettings, Stand, TopicChanges};
use gonvel_core::table::TableSchema;
use gonvel_core::trail::Trail;
use tokio_postgres::{Client, Statement};

use super::apply::{Application, PartsOfRows, Statements};
use super::client::{connect, explain, explain_write};
use super::newest;
use super::sink_positions::{ADVANCE, counts_text, refuse_later, take_over, unbegun_of};
use super::target::{self, TargetTable};
use crate::postgres::address::DatabaseAddress;

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

/// Rows are found by the target's key, one by one: a plan that reads the whole table for a round of changes costs more with
/// every row the table grows by.
const SESSION: &str = "SET enable_hashjoin = off; SET enable_mergejoin = off; SET jit = off";
/// A commit does not wait for the target's disk: should the target's machine fail, its last commits are gone together with their
/// position, and are delivered again from the topic. Not where the position is kept elsewhere.
pub(super) const NOT_WAITING: &str = "SET synchronous_commit = off";

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
    /// The server.
    pub(super) address: DatabaseAddress,
    /// Its session, as the server counts them.
    pub(super) session: i32,
    /// The columns of the keys that its topics know, by the table's place, while they are gathered in the target's own types.
    pub(super) known_keys: HashMap<usize, Vec<String>>,
}

impl PgSink {
    /// Takes over the sink's positions for a lease and tells where they stand. From then on no holder of an earlier lease
    /// can commit. A partition that has no position yet begins at the place given with it. Where the positions are kept elsewhere
    /// none is told, and only the sessions of earlier holders end.
    ///
    /// # Errors
    /// [`ConnectorError`]; [`ConnectorError::Later`] if a later lease was here before.
    pub async fn start(
        address: DatabaseAddress,
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
    ) -> Result<(Self, HashMap<TopicPartition, Stand>), ConnectorError> {
        let Started { sink, stands, .. } = Self::begin(address, settings, epoch, partitions, &HashSet::new()).await?;
        Ok((sink, stands))
    }

    /// The same for a sink that is to do something with rows in the tables of topics that it has not delivered yet, as far as it
    /// holds their positions; asked is about these topics.
    ///
    /// # Errors
    /// As [`Self::start`].
    pub async fn begin(
        address: DatabaseAddress,
        settings: SinkSettings,
        epoch: Epoch,
        partitions: &[(TopicPartition, Delivered)],
        asked: &HashSet<TopicId>,
    ) -> Result<Started, ConnectorError> {
        let client = connect(&address).await?;
        let during = |e: tokio_postgres::Error| explain(&e, "taking over the sink's positions");
        let in_target = settings.writes.guarantee.in_target();
        if in_target {
            target::ensure_own_tables(&client).await?;
            // whoever comes too late does not end the session of a later holder
            refuse_later(&client, settings.connector, epoch, partitions).await?;
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
        let known_keys = HashMap::new();
        let sink = Self {
            client,
            settings,
            epoch,
            targets,
            notes,
            advance,
            trails,
            statements,
            open,
            address,
            session,
            known_keys,
        };
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
