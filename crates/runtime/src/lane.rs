//! The life of a lane: taking the lease, holding it, working, and what happens after an error.

use std::time::Duration;

use gonvel_connectors::error::ConnectorError;
use gonvel_core::connector::{Definition, State, Wish};
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::{Assignment, LaneStatus, Lease, PortError};
use rand::Rng;
use tokio::sync::watch;
use tokio::time::{Instant, MissedTickBehavior};

use crate::fleet::Services;
use crate::status::{Board, now_us};
use crate::{sink_lane, source_lane};

/// How long a lease lasts without renewal.
pub(crate) const LEASE: Duration = Duration::from_secs(8);
const RENEW: Duration = Duration::from_secs(2);
const SAVE: Duration = Duration::from_millis(400);
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(60);
/// Work that went well for this long makes the next failure a first one.
const SETTLED: Duration = Duration::from_secs(30);
/// The one lane that a connector has for now.
pub(crate) const ONLY: i32 = 0;

/// Why a lane is to end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ending {
    /// It is not.
    None,
    /// A person holds the connector.
    Pause,
    /// It starts again under another configuration, or is removed.
    Restart,
    /// The runner ends.
    Shutdown,
}

/// Why work ended.
#[derive(Debug)]
pub(crate) enum Failure {
    /// The connector's own system.
    Connector(ConnectorError),
    /// The topic log or the catalog.
    Port(PortError),
}

impl From<ConnectorError> for Failure {
    fn from(error: ConnectorError) -> Self {
        Self::Connector(error)
    }
}

impl From<PortError> for Failure {
    fn from(error: PortError) -> Self {
        Self::Port(error)
    }
}

impl Failure {
    fn fenced(&self) -> bool {
        matches!(self, Self::Connector(ConnectorError::Fenced) | Self::Port(PortError::Fenced { .. }))
    }

    fn may_pass(&self) -> bool {
        match self {
            Self::Connector(error) => error.may_pass(),
            Self::Port(error) => matches!(error, PortError::TryAgain { .. } | PortError::Fenced { .. }),
        }
    }

    fn message(&self) -> String {
        match self {
            Self::Connector(error) => match error {
                ConnectorError::Settings { statement: Some(statement), .. } => format!("{error} — {statement}"),
                error => error.to_string(),
            },
            Self::Port(error) => {
                let cause = std::error::Error::source(error).map(|c| format!(" ({c})")).unwrap_or_default();
                format!("{error}{cause}")
            }
        }
    }
}

/// What the work of a lane gets.
pub(crate) struct Work<'a> {
    pub(crate) services: &'a Services,
    pub(crate) assignment: &'a Assignment,
    pub(crate) lease: Lease,
    pub(crate) board: &'a Board,
    pub(crate) stopped: watch::Receiver<Ending>,
}

impl Work<'_> {
    pub(crate) fn connector(&self) -> ConnectorId {
        self.assignment.connector.id()
    }
}

/// Resolves when the lane is asked to end.
pub(crate) async fn asked_to_end(stopped: &mut watch::Receiver<Ending>) -> Ending {
    match stopped.wait_for(|e| *e != Ending::None).await {
        Ok(ending) => *ending,
        Err(_) => Ending::Shutdown,
    }
}

/// Carries a connector's lane until it is asked to end.
pub(crate) async fn run(services: Services, assignment: Assignment, mut stopped: watch::Receiver<Ending>) {
    let board = Board::new();
    let mut failures = 0_u32;
    loop {
        let lease = tokio::select! {
            lease = take_lease(&services, &assignment) => lease,
            _ = asked_to_end(&mut stopped) => return,
        };
        let Some(lease) = lease else { return };
        let epoch = lease.epoch;
        let began = Instant::now();
        let outcome = hold(&services, &assignment, lease, &board, &mut stopped).await;
        if began.elapsed() > SETTLED {
            failures = 0;
        }
        let id = assignment.connector.id();
        match outcome {
            Ok(ending) => return finish(&services, id, epoch, &board, ending).await,
            Err(failure) if failure.fenced() => {
                tracing::warn!(connector = %assignment.connector.name(), "the lease went to another runner");
                tokio::time::sleep(FIRST_WAIT).await;
            }
            Err(failure) => {
                failures += 1;
                let wait = failure.may_pass().then(|| backoff(failures));
                tracing::warn!(connector = %assignment.connector.name(), reason = %failure.message(), ?wait, "the lane failed");
                let ending = wait_after(&services, id, epoch, &board, &failure, wait, &mut stopped).await;
                if let Some(ending) = ending {
                    return finish(&services, id, epoch, &board, ending).await;
                }
            }
        }
    }
}

/// Doubling from half a second to a minute, with jitter, so that many lanes do not come back at one moment.
fn backoff(failures: u32) -> Duration {
    let longest = FIRST_WAIT.saturating_mul(1 << failures.min(8).saturating_sub(1)).min(LONGEST_WAIT);
    longest.mul_f64(rand::rng().random_range(0.6..1.0))
}

async fn take_lease(services: &Services, assignment: &Assignment) -> Option<Lease> {
    loop {
        match services.fleet.acquire(assignment.connector.id(), ONLY, &services.runner, LEASE).await {
            Ok(Some(lease)) => return Some(lease),
            Ok(None) => {}
            Err(PortError::NotFound { .. }) => return None,
            Err(error) => tracing::warn!(%error, "no lease could be taken"),
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

/// Shows the failure and waits: until it is time to try again (none), or until the lane is asked to end. The lease is kept
/// meanwhile, so that what is shown stays true.
async fn wait_after(
    services: &Services,
    id: ConnectorId,
    epoch: Epoch,
    board: &Board,
    failure: &Failure,
    wait: Option<Duration>,
    stopped: &mut watch::Receiver<Ending>,
) -> Option<Ending> {
    match wait {
        Some(wait) => {
            let at = now_us() + i64::try_from(wait.as_micros()).unwrap_or(0);
            board.enter(State::Retrying, Some(failure.message()), Some(at));
        }
        None => board.enter(State::Halted, Some(failure.message()), None),
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
        _ = keep(services, id, epoch, board) => None,
    }
}

async fn finish(services: &Services, id: ConnectorId, epoch: Epoch, board: &Board, ending: Ending) {
    if ending == Ending::Pause {
        board.enter(State::Paused, None, None);
    }
    if let Some(status) = board.unsaved() {
        let _ = services.fleet.save_status(id, ONLY, epoch, &status).await;
    }
    let _ = services.fleet.release(id, ONLY, epoch).await;
}

/// Works while holding the lease; whichever ends first ends both.
async fn hold(
    services: &Services,
    assignment: &Assignment,
    lease: Lease,
    board: &Board,
    stopped: &mut watch::Receiver<Ending>,
) -> Result<Ending, Failure> {
    let id = assignment.connector.id();
    let epoch = lease.epoch;
    if assignment.wish == Wish::Pause {
        board.enter(State::Paused, None, None);
        restore_counts(services, assignment, &lease, board);
        return tokio::select! {
            ending = asked_to_end(stopped) => Ok(ending),
            failure = keep(services, id, epoch, board) => Err(failure),
        };
    }
    board.enter(State::Starting, None, None);
    let work = Work { services, assignment, lease, board, stopped: stopped.clone() };
    let working = async {
        match assignment.connector.definition() {
            Definition::Source(_) => source_lane::run(work).await,
            Definition::Sink(_) => sink_lane::run(work).await,
        }
    };
    tokio::select! {
        ended = working => ended,
        failure = keep(services, id, epoch, board) => Err(failure),
    }
}

fn restore_counts(_: &Services, assignment: &Assignment, lease: &Lease, board: &Board) {
    if matches!(assignment.connector.definition(), Definition::Source(_)) {
        source_lane::show_position(assignment, &lease.position, board);
    }
}

/// Renews the lease and saves what the board says; ends only when the lease is lost.
async fn keep(services: &Services, id: ConnectorId, epoch: Epoch, board: &Board) -> Failure {
    let mut ticks = tokio::time::interval(SAVE);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut renewed = Instant::now();
    loop {
        ticks.tick().await;
        if let Some(status) = board.unsaved()
            && services.fleet.save_status(id, ONLY, epoch, &status).await.is_ok()
        {
            board.note_saved(status);
        }
        if renewed.elapsed() < RENEW {
            continue;
        }
        match services.fleet.renew(id, ONLY, epoch, LEASE).await {
            Ok(true) => renewed = Instant::now(),
            Ok(false) => return PortError::Fenced { connector: id, lane: ONLY }.into(),
            // the work itself is fenced by the epoch; a lease that cannot be renewed is only given up when it has run out
            Err(error) if renewed.elapsed() > LEASE => return error.into(),
            Err(_) => {}
        }
    }
}

/// Shows on a connector that is being deleted why that is not done yet.
pub(crate) async fn note_failed_removal(services: &Services, id: ConnectorId, reason: &str) {
    if let Ok(Some(lease)) = services.fleet.acquire(id, ONLY, &services.runner, LEASE).await {
        let mut status = LaneStatus::entering(State::Retrying, now_us());
        status.reason = Some(format!("deleting: {reason}"));
        let _ = services.fleet.save_status(id, ONLY, lease.epoch, &status).await;
    }
}
