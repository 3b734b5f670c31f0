//! A target that keeps a lane waiting: for whom is said, and one that does not answer at all is given up.

use std::pin::pin;
use std::time::Duration;

use gonvel_core::connector::State;
use gonvel_core::ports::Level;
use gonvel_core::ports::systems::Blocked;
use tokio::sync::watch;

use crate::failing::Failure;
use crate::status::Board;
use crate::work::{Ending, asked_to_end};

/// How often it is looked for whom the lane waits.
const LOOK: Duration = Duration::from_secs(5);
/// Looks without an answer, one after the other, after which the target is given up.
const UNANSWERED: u32 = 4;

/// What became of work on a target.
pub(crate) enum Watched<T> {
    /// It was done.
    Done(T),
    /// The lane was asked to end while it waited: nothing of it is to last.
    Ended(Ending),
}

/// Waits for work of a session of the target, given as the server knows it.
///
/// # Errors
/// Those of the work; that the target does not answer any more.
pub(crate) async fn watched<T>(
    board: &Board,
    stopped: &mut watch::Receiver<Ending>,
    session: &dyn Blocked,
    work: impl Future<Output = Result<T, Failure>>,
) -> Result<Watched<T>, Failure> {
    let mut work = pin!(work);
    if let Ok(done) = tokio::time::timeout(LOOK, &mut work).await {
        return done.map(Watched::Done);
    }
    let (mut told, mut unanswered) = (None, 0);
    let ended = loop {
        let found = tokio::select! {
            biased;
            done = &mut work => break done.map(Watched::Done),
            ending = asked_to_end(stopped) => break Ok(Watched::Ended(ending)),
            found = session.by() => found,
        };
        match found {
            Ok(blocker) => {
                unanswered = 0;
                if blocker.is_some() && told.is_none() {
                    board.say(Level::Warning, "the target keeps the lane waiting", [("for", blocker.clone().into())]);
                }
                if blocker.is_some() || told.is_some() {
                    board.enter(State::Following, blocker.clone(), None);
                }
                told = blocker;
            }
            Err(error) => {
                unanswered += 1;
                if unanswered == UNANSWERED {
                    return Err(error.into());
                }
            }
        }
        tokio::select! {
            biased;
            done = &mut work => break done.map(Watched::Done),
            ending = asked_to_end(stopped) => break Ok(Watched::Ended(ending)),
            () = tokio::time::sleep(LOOK) => {}
        }
    };
    if told.is_some() {
        board.enter(State::Following, None, None);
    }
    ended
}
