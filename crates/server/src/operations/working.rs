//! Operations that this server does.

use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures::FutureExt;
use gonvel_core::ports::PortError;
use gonvel_http_api::{OperationResult, Problem, ProblemType};
use gonvel_storage::operations::Ended;
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::problems::{Place, Refusal, pointer};
use crate::state::ServerState;

/// Shortest time between two notes of how far an operation is.
const EVERY: Duration = Duration::from_millis(200);
/// How often it is said that an operation is being done still.
const ALIVE: Duration = Duration::from_secs(2);
/// How often it is tried to note how an operation ended, once a second: a database that was away longer has ended it.
const TRIES: usize = 600;

/// Why an operation goes no further.
pub(crate) enum Halt {
    /// It was cancelled.
    Cancelled,
    /// It was taken for deserted and is ended.
    Ended,
    /// It cannot go on.
    Refused(Refusal),
}

impl From<Refusal> for Halt {
    fn from(refusal: Refusal) -> Self {
        Self::Refused(refusal)
    }
}

/// An operation that this server does, and how far it is.
pub(crate) struct Working {
    state: Arc<ServerState>,
    id: Uuid,
    noted: Option<Instant>,
    done: i64,
    total: Option<i64>,
    result: Value,
}

impl Working {
    /// Says how far it is, and what came of it so far.
    ///
    /// # Errors
    /// [`Halt`] if it is to end early.
    pub(crate) async fn moved(&mut self, done: i64, total: Option<i64>, result: &OperationResult) -> Result<(), Halt> {
        (self.done, self.total) = (done, total);
        self.result = serde_json::to_value(result).unwrap_or_default();
        if self.noted.is_some_and(|noted| noted.elapsed() < EVERY) {
            return Ok(());
        }
        self.noted = Some(Instant::now());
        match self.note().await {
            Ok(true) => Err(Halt::Cancelled),
            Ok(false) => Ok(()),
            Err(PortError::NotFound { .. }) => Err(Halt::Ended),
            // how far it is is told with the next note
            Err(_) => Ok(()),
        }
    }

    async fn note(&self) -> Result<bool, PortError> {
        self.state.database.move_operation(self.id, self.done, self.total, &self.result).await
    }

    async fn end(self, how: Ended) {
        for _ in 0..TRIES {
            let noted = match self.note().await {
                Ok(_) => self.state.database.end_operation(self.id, &how).await,
                noted => noted.map(|_| ()),
            };
            match noted {
                Ok(()) | Err(PortError::NotFound { .. }) => return,
                Err(_) => tokio::time::sleep(Duration::from_secs(1)).await,
            }
        }
    }
}

/// Does an operation that was begun, whoever goes away. What does it gives back how far it is.
pub(crate) fn work<F>(state: &Arc<ServerState>, id: Uuid, does: impl FnOnce(Working) -> F)
where
    F: Future<Output = (Working, Result<(), Halt>)> + Send + 'static,
{
    let working =
        |state: Arc<ServerState>| Working { state, id, noted: None, done: 0, total: None, result: Value::Object(Map::new()) };
    let does = does(working(state.clone()));
    let state = state.clone();
    tokio::spawn(async move {
        let alive = async {
            loop {
                tokio::time::sleep(ALIVE).await;
                let _ = state.database.keep_operation(id).await;
            }
        };
        let done = tokio::select! {
            done = AssertUnwindSafe(does).catch_unwind() => done,
            () = alive => return,
        };
        let Ok((working, how)) = done else {
            let problem = Problem::new(ProblemType::Failed, "it failed in Gonvel itself: please report it");
            let how = Ended::Failed(serde_json::to_value(problem).unwrap_or_default());
            return drop(state.database.end_operation(id, &how).await);
        };
        match how {
            Ok(()) => working.end(Ended::Done).await,
            Err(Halt::Ended) => {}
            Err(Halt::Cancelled) => working.end(Ended::Cancelled).await,
            Err(Halt::Refused(refusal)) => {
                let problem = refusal.document(|name| Some(Place::Body(pointer([name]))));
                working.end(Ended::Failed(serde_json::to_value(problem).unwrap_or_default())).await;
            }
        }
    });
}
