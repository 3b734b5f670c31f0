//! What a sink's lane writes into, and where and when its position moves.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use gonvel_connectors::kinds;
use gonvel_core::connector::{Guarantee, Start};
use gonvel_core::naming::{ConnectorId, Epoch, TopicPartition};
use gonvel_core::ports::systems::{ConnectorError, Delivered, Held, Refused, Round, Sink, SinkSettings, Stand, Started};
use gonvel_core::ports::{Address, AppendBatch, LaneProgress, Level, Settled, Topic, TopicLog};

use crate::failing::Failure;
use crate::first_time::FirstTime;
use crate::history::{parted, told, written_later};
use crate::stands::Stands;
use crate::starting::first_offsets;
use crate::status::Board;
use crate::work::{ONLY, Work};

/// A target with the position that belongs to it.
pub(crate) struct Target {
    sink: Box<dyn Sink>,
    kept: Option<Kept>,
}

/// A position that Gonvel keeps: moved after the rows are in the target, or before.
struct Kept {
    log: Arc<dyn TopicLog>,
    board: Board,
    lane: (ConnectorId, i32),
    lease: (Epoch, u64),
    first: bool,
    stands: Stands,
}

impl Kept {
    async fn note(&self) -> Result<(), Failure> {
        let position = self.stands.stored()?;
        note(&*self.log, self.lane, self.lease, position).await
    }
}

async fn note(
    log: &dyn TopicLog,
    (connector, lane): (ConnectorId, i32),
    (epoch, ground): (Epoch, u64),
    position: serde_json::Value,
) -> Result<(), Failure> {
    let progress = Some(LaneProgress { connector, lane, epoch, position, ground });
    log.append(AppendBatch { progress, ..AppendBatch::default() }).await?;
    Ok(())
}

impl Target {
    /// Takes a target over for a lane, and tells where its partitions stand. A position that is kept in the other place, because
    /// the connector gave another guarantee before, comes along.
    pub(crate) async fn start(
        work: &Work<'_>,
        address: &Address,
        settings: SinkSettings,
        partitions: &[TopicPartition],
        topics: &[Topic],
        start: Option<&Start>,
        first_time: &FirstTime,
    ) -> Result<(Self, BTreeMap<TopicPartition, Delivered>), Failure> {
        let (lane, epoch, log) = ((work.connector(), work.lane()), work.lease.epoch, &work.services.log);
        let lease = (epoch, work.lease.ground);
        let (kind, guarantee) = (kinds::sink(address)?, settings.writes.guarantee);
        // what Gonvel keeps is the only lane's, and others come after it
        let stored = match work.lane() {
            ONLY => work.lease.position.clone(),
            _ => work.services.fleet.position(work.connector(), ONLY).await?.unwrap_or_default(),
        };
        let mut stands = Stands::read(&stored)?;
        // what went on before a crash is not tried again
        work.services.quarantine.settle(work.held(), &stands.retried, &Settled::Delivered).await?;
        stands.retried.clear();
        // most sinks have one place and always had: it is taken over as it is found
        let asks = !guarantee.in_target() || !stored.is_null() || start.is_some();
        let in_target = match kind.holds().filter(|_| asks) {
            Some(holds) => holds.stands(address, work.connector()).await?,
            None => HashMap::new(),
        };
        // it is said of the first start: a topic that comes later is delivered from its oldest record on
        let begins = in_target.is_empty() && stands.delivered.is_empty();
        let first = if begins { first_offsets(work.services, start, topics).await? } else { HashMap::new() };
        let in_target: HashMap<TopicPartition, Delivered> =
            in_target.into_iter().map(|(at, stand)| (at, stand.delivered)).collect();
        let first = |at: &TopicPartition| Delivered { next: first.get(at).copied().unwrap_or(0), ..Delivered::default() };
        if guarantee.in_target() {
            let known = |at: &TopicPartition| stands.delivered.get(at).copied().unwrap_or_else(|| first(at));
            let all: Vec<_> = partitions.iter().map(|at| (*at, known(at))).collect();
            let asked = first_time.asked(topics, stands.delivered.keys());
            let Started { mut sink, stands: stands_there, unbegun } =
                match kind.open(address, settings, epoch, &all, &asked).await {
                    Err(ConnectorError::Later { epoch: later }) => {
                        // terms only grow, unless the log was rolled back
                        let latest = work.services.fleet.latest_term().await?;
                        return Err(
                            if later > latest.0 { written_later(later, latest.0) } else { ConnectorError::Fenced }.into()
                        );
                    }
                    started => started?,
                };
            let parted = parted(&**log, stands_there.clone()).await?;
            if !parted.is_empty() {
                return Err(told(&parted, topics).into());
            }
            if !unbegun.is_empty() {
                first_time.remove(work, &mut *sink, topics, &unbegun).await?;
            }
            let delivered: HashMap<TopicPartition, Delivered> =
                stands_there.into_iter().map(|(at, Stand { delivered, .. })| (at, delivered)).collect();
            // once every lane has taken over what was its own
            let taken = |at: &TopicPartition| in_target.contains_key(at) || delivered.contains_key(at);
            if work.lane() == ONLY && !stored.is_null() && stands.delivered.keys().all(taken) {
                note(&**log, lane, lease, serde_json::Value::Null).await?;
            }
            return Ok((Self { sink, kept: None }, delivered.into_iter().collect()));
        }
        // nothing was delivered since it was there: what is there goes first. What is not was never taken over by its lane, and stands
        // where it stood
        stands.delivered.extend(in_target.iter().map(|(at, delivered)| (*at, *delivered)));
        // a topic that was let go of begins anew should it come back
        stands.delivered.retain(|at, _| topics.iter().any(|topic| topic.id == at.topic));
        let unbegun = first_time.asked(topics, stands.delivered.keys());
        for at in partitions {
            stands.delivered.entry(*at).or_insert_with(|| first(at));
        }
        let Started { mut sink, .. } = kind.open(address, settings, epoch, &[], &HashSet::new()).await?;
        if !unbegun.is_empty() {
            // noted after that: a crash in between does it again, and nothing was delivered meanwhile
            sink.about_to_begin().await?;
            first_time.remove(work, &mut *sink, topics, &unbegun).await?;
        }
        let (log, board) = (log.clone(), work.board.clone());
        let kept = Kept { log, board, lane, lease, first: guarantee == Guarantee::AtMostOnce, stands };
        kept.note().await?;
        if !in_target.is_empty() {
            kind.clean_up(address, work.connector()).await?;
        }
        let delivered = kept.stands.delivered.clone();
        Ok((Self { sink, kept: Some(kept) }, delivered))
    }

    /// The sink itself.
    pub(crate) fn sink(&self) -> &dyn Sink {
        &*self.sink
    }

    /// The same, for what only a target does that holds its position.
    pub(crate) fn sink_mut(&mut self) -> &mut dyn Sink {
        &mut *self.sink
    }

    /// Writes a round, and makes it last with the position that it brings unless more belongs to it.
    pub(crate) async fn apply(&mut self, round: &Round) -> Result<(), Failure> {
        self.write(round).await?;
        if round.more { Ok(()) } else { self.commit(round).await }
    }

    /// The same, but for the commit: what belongs to it can be noted elsewhere before.
    pub(crate) async fn write(&mut self, round: &Round) -> Result<(), ConnectorError> {
        self.sink.write(round).await
    }

    /// See [`Sink::roll_back`].
    pub(crate) async fn roll_back(&mut self) -> Result<(), ConnectorError> {
        self.sink.roll_back().await
    }

    /// Makes what was written last, and moves the position: with it, after it or before it.
    pub(crate) async fn commit(&mut self, round: &Round) -> Result<(), Failure> {
        let Some(kept) = &mut self.kept else { return Ok(self.sink.commit().await?) };
        kept.stands.delivered.extend(round.delivered.iter().copied());
        if kept.first {
            kept.note().await?;
            if let Err(error) = self.sink.commit().await {
                if matches!(error, ConnectorError::BadRecord { .. }) {
                    return Err(error.into());
                }
                let changes: usize = round.topics.iter().map(|topic| topic.changes.len()).sum();
                let says = "the target did not say that it took these records: at most once does not bring them again";
                kept.board.say(Level::Warning, says, [("records", changes.into())]);
                return Err(error.into());
            }
        } else {
            self.sink.commit().await?;
            kept.note().await?;
        }
        kept.stands.retried.clear();
        Ok(())
    }

    /// See [`Sink::sift`].
    pub(crate) async fn sift(&mut self, round: &Round, held: Held) -> Result<Vec<Refused>, ConnectorError> {
        self.sink.sift(round, held).await
    }

    /// Moves the position after a round was sifted, and makes it last.
    pub(crate) async fn finish(&mut self, round: &Round) -> Result<(), Failure> {
        if self.kept.is_some() { self.commit(round).await } else { Ok(self.sink.finish(round).await?) }
    }

    /// Which of these numbers of quarantine went on already, as the target knows.
    pub(crate) async fn retried(&self, ids: &[i64]) -> Result<Vec<i64>, ConnectorError> {
        if self.kept.is_some() { Ok(Vec::new()) } else { self.sink.retried(ids).await }
    }

    /// Notes, with what is written, that these numbers of quarantine go on.
    pub(crate) async fn note_retried(&mut self, ids: &[i64]) -> Result<(), ConnectorError> {
        match &mut self.kept {
            Some(kept) => {
                kept.stands.retried = ids.to_vec();
                Ok(())
            }
            None => self.sink.note_retried(ids).await,
        }
    }

    /// Forgets numbers of quarantine that are settled there.
    pub(crate) async fn forget_retried(&self, ids: &[i64]) -> Result<(), ConnectorError> {
        if self.kept.is_some() { Ok(()) } else { self.sink.forget_retried(ids).await }
    }
}
