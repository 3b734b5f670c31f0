//! The life of a lane: taking the lease, holding it, working, and what happens after an error.

use std::panic::AssertUnwindSafe;
use std::time::Duration;

use futures::FutureExt;
use gonvel_core::connector::{Definition, State, ValidConnector, Wish};
use gonvel_core::failure::{Kind, Streak};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Deed, HeldLane, LaneStatus, Lease, Level, PortError};
use rand::Rng;
use tokio::sync::watch;
use tokio::time::{Instant, MissedTickBehavior};

use crate::failing::{Failure, NewFields};
use crate::leases::{LEASE, Leases, Renewed};
use crate::services::Services;
use crate::status::{Board, now_us};
use crate::work::{Assignment, Ending, ONLY, Work, asked_to_end};
use crate::{sink_lane, source_lane, source_position, topics_lane};

const SAVE: Duration = Duration::from_millis(400);
/// How often a lease is asked for that another still holds.
const ASK: Duration = Duration::from_millis(300);
/// How long a lane whose lease was lost waits before it asks for another.
const AFTER_LOSS: Duration = Duration::from_millis(500);
/// Carries a connector's lane until it is asked to end.
pub(crate) async fn run(
    services: Services,
    leases: Leases,
    assignment: Assignment,
    mut stopped: watch::Receiver<Ending>,
    mending: watch::Receiver<i64>,
) {
    let board = Board::new(assignment.lane);
    let (mut streak, start) = (Streak::default(), Instant::now());
    let failing = assignment.connector.definition().failing().clone();
    loop {
        let lease = tokio::select! {
            lease = take_lease(&services, &assignment) => lease,
            _ = asked_to_end(&mut stopped) => return,
        };
        let Some(lease) = lease else { return };
        let lane = Lane {
            services: &services,
            assignment: &assignment,
            held: HeldLane { connector: assignment.connector.id(), lane: assignment.lane, epoch: lease.epoch },
            board: &board,
        };
        let renewed = leases.hold(lane.held);
        let mut outcome = lane.hold(lease, &renewed, &mut stopped, &mending).await;
        if let Err(Failure::NewFields(new)) = &outcome {
            match lane.grow(new, &renewed, &mut stopped).await {
                Ok(None) => continue,
                Ok(Some(ending)) => outcome = Ok(ending),
                Err(failure) => outcome = Err(failure),
            }
        }
        match outcome {
            Ok(ending) => return lane.finish(ending).await,
            Err(failure) if failure.kind() == Kind::Fenced => {
                tracing::warn!(connector = %assignment.connector.name(), lane = assignment.lane, "the lease went to another");
                drop(renewed);
                tokio::select! {
                    () = tokio::time::sleep(AFTER_LOSS) => {}
                    _ = asked_to_end(&mut stopped) => return,
                }
            }
            Err(failure) => {
                let (kind, now) = (failure.kind(), start.elapsed());
                streak.note(kind, now, board.take_moved());
                let gives_up = failing.gives_up(kind, streak.tries, streak.minutes(now));
                let jitter = rand::rng().random_range(0.0..1.0);
                let wait = kind.wait(streak.tries, jitter).filter(|_| !gives_up);
                let ending = lane.wait_after(&failure, streak.tries, wait, &renewed, &mut stopped).await;
                if let Some(ending) = ending {
                    return lane.finish(ending).await;
                }
            }
        }
    }
}

async fn take_lease(services: &Services, assignment: &Assignment) -> Option<Lease> {
    let runner = services.runner.name.as_str();
    loop {
        match services.fleet.acquire(assignment.connector.id(), assignment.lane, runner, LEASE).await {
            Ok(Some(lease)) => return Some(lease),
            Ok(None) => {}
            Err(PortError::NotFound { .. }) => return None,
            Err(error) => tracing::warn!(%error, "no lease could be taken"),
        }
        tokio::time::sleep(ASK).await;
    }
}

/// A lane that is held.
struct Lane<'a> {
    services: &'a Services,
    assignment: &'a Assignment,
    held: HeldLane,
    board: &'a Board,
}

impl Lane<'_> {
    /// Shows the failure and waits: until it is time to try again (none), or until the lane is asked to end. The lease is kept
    /// meanwhile, so that what is shown stays true.
    async fn wait_after(
        &self,
        failure: &Failure,
        tries: u32,
        wait: Option<Duration>,
        renewed: &Renewed,
        stopped: &mut watch::Receiver<Ending>,
    ) -> Option<Ending> {
        let (name, message, kind) = (self.assignment.connector.name(), failure.message(), failure.kind());
        // what is said of a record may repeat a value of it, which is for those who may see the connector
        let reason = if kind == Kind::Record { "a bad record: the connector's page says which" } else { &message };
        tracing::warn!(connector = %name, lane = self.held.lane, reason, ?wait, "the lane failed");
        let facts = [("kind", kind.says().into()), ("tries", tries.into())];
        match wait {
            Some(wait) => {
                self.board.say(Level::Warning, &message, facts);
                let at = now_us() + i64::try_from(wait.as_micros()).unwrap_or(0);
                self.board.enter(State::Retrying, Some(message), Some(at));
            }
            None => {
                self.board.say(Level::Error, &message, facts);
                let deed = Deed { connector: self.held.connector, who: "", what: "halted", detail: Some(&message) };
                let _ = self.services.fleet.note(deed).await;
                self.board.enter(State::Halted, Some(message.clone()), None);
            }
        }
        let waiting = async {
            match wait {
                Some(wait) => tokio::time::sleep(wait).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = waiting => None,
            ending = asked_to_end(stopped) => Some(ending),
            _ = self.keep(renewed) => None,
        }
    }

    /// Gives the connector columns for fields that were never seen before, and waits until it starts anew with them. Where the
    /// definition changed meanwhile (by another lane, for the same fields) it does so anyway.
    async fn grow(
        &self,
        new: &NewFields,
        renewed: &Renewed,
        stopped: &mut watch::Receiver<Ending>,
    ) -> Result<Option<Ending>, Failure> {
        let Assignment { connector, version, .. } = self.assignment;
        let refused =
            |finding: String| ConnectorError::settings(Some("topics"), finding, "change how its events become rows");
        let grown = connector.definition().grown(new.place, &new.columns).map_err(refused)?;
        let grown = ValidConnector::check(connector.id(), connector.name().clone(), grown);
        let grown = grown.map_err(|e| refused(e.to_string()))?;
        let columns: Vec<String> = new.columns.iter().map(|c| format!("{} {}", c.name, c.ty)).collect();
        let read = connector.definition().read_topics();
        let of = read.get(new.place).map_or_else(String::new, |read| read.name.clone());
        let detail = format!("fields of {of} that were never seen before became columns: {}", columns.join(", "));
        match self.services.fleet.change(&grown, *version, &detail).await {
            Ok(()) => self.board.say(Level::Info, &detail, []),
            Err(PortError::Changed { .. }) => {}
            Err(error) => return Err(error.into()),
        }
        Ok(tokio::select! {
            ending = asked_to_end(stopped) => Some(ending),
            () = tokio::time::sleep(LEASE) => None,
            _ = self.keep(renewed) => None,
        })
    }

    async fn finish(&self, ending: Ending) {
        match ending {
            Ending::Pause => self.board.enter(State::Paused, None, None),
            Ending::Away => self.board.enter(State::Stopped, None, None),
            Ending::None | Ending::Restart | Ending::Shutdown => {}
        }
        self.save().await;
        let HeldLane { connector, lane, epoch } = self.held;
        let _ = self.services.fleet.release(connector, lane, epoch).await;
    }

    /// Works while holding the lease; whichever ends first ends both.
    async fn hold(
        &self,
        lease: Lease,
        renewed: &Renewed,
        stopped: &mut watch::Receiver<Ending>,
        mending: &watch::Receiver<i64>,
    ) -> Result<Ending, Failure> {
        let (assignment, board) = (self.assignment, self.board);
        if assignment.wish == Wish::Pause {
            board.enter(State::Paused, None, None);
            if matches!(assignment.connector.definition(), Definition::Source(_)) {
                source_position::show_position(self.services, assignment, &lease.position, board).await;
            }
            return tokio::select! {
                ending = asked_to_end(stopped) => Ok(ending),
                failure = self.keep(renewed) => Err(failure),
            };
        }
        board.enter(State::Starting, None, None);
        let facts = [("version", assignment.version.into()), ("runner", self.services.runner.name.as_str().into())];
        board.say(Level::Info, "the lane starts", facts);
        let (stopped, mending) = (stopped.clone(), mending.clone());
        let work = Work { services: self.services, assignment, lease, board, stopped, mending };
        let working = async {
            match assignment.connector.definition() {
                Definition::Source(_) => source_lane::run(work).await,
                Definition::Sink(_) => sink_lane::run(work).await,
                Definition::Topics(_) => topics_lane::run(work).await,
            }
        };
        tokio::select! {
            ended = AssertUnwindSafe(working).catch_unwind() => ended.unwrap_or_else(|_| Err(broke_down())),
            failure = self.keep(renewed) => Err(failure),
        }
    }

    /// Saves what the board says; ends only when the lease is lost.
    async fn keep(&self, renewed: &Renewed) -> Failure {
        let mut ticks = tokio::time::interval(SAVE);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let saving = async {
            loop {
                ticks.tick().await;
                self.save().await;
            }
        };
        tokio::select! {
            () = saving => {}
            () = renewed.lost() => {}
        }
        PortError::Fenced { connector: self.held.connector, lane: self.held.lane }.into()
    }

    /// What cannot be saved now is saved with what comes later.
    async fn save(&self) {
        let HeldLane { connector, lane, epoch } = self.held;
        if let Some(status) = self.board.unsaved()
            && self.services.fleet.save_status(connector, lane, epoch, &status).await.is_ok()
        {
            self.board.note_saved(status);
        }
        let lines = self.board.take_lines();
        if !lines.is_empty() && self.services.fleet.save_lines(self.held, &lines).await.is_err() {
            self.board.give_back_lines(lines);
        }
    }
}

/// What a lane says that panicked: it tries again as after any failure.
fn broke_down() -> Failure {
    ConnectorError::try_again(
        "the lane met a defect in Gonvel and broke down",
        "it starts again by itself; please report what the log of its server or runner says",
    )
    .into()
}

/// Shows on a connector that is being deleted why that is not done yet.
pub(crate) async fn note_failed_removal(services: &Services, id: ConnectorId, reason: &str) {
    if let Ok(Some(lease)) = services.fleet.acquire(id, ONLY, services.runner.name.as_str(), LEASE).await {
        let mut status = LaneStatus::entering(State::Retrying, now_us());
        status.reason = Some(format!("deleting: {reason}"));
        let _ = services.fleet.save_status(id, ONLY, lease.epoch, &status).await;
    }
}
