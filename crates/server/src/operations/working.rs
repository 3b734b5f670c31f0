//! Operations that this server does.

use std::panic::AssertUnwindSafe;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use futures::FutureExt;
use gonvel_core::ports::PortError;
use gonvel_http_api::{OperationResult, ProblemType};
use gonvel_storage::operations::Ended;
use serde_json::{Value, json};
use tokio::time::Instant;
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

/// How far an operation is, and whether that is noted.
#[derive(Default)]
struct Progress {
    done: i64,
    total: Option<i64>,
    result: Value,
    noted: bool,
}

/// An operation that this server does.
struct Shared {
    state: Arc<ServerState>,
    id: Uuid,
    progress: Mutex<Progress>,
}

impl Shared {
    fn progress(&self) -> MutexGuard<'_, Progress> {
        self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes how far it is; whether it is to end early.
    async fn note(&self) -> Result<bool, PortError> {
        let (done, total, result) = {
            let mut progress = self.progress();
            progress.noted = true;
            (progress.done, progress.total, progress.result.clone())
        };
        self.state.database.move_operation(self.id, done, total, &result).await
    }

    /// Says all the while that it is being done, and how far it is where that was not noted yet: what does it may be in a long step.
    async fn tell(&self) {
        let mut told = Instant::now();
        loop {
            tokio::time::sleep(EVERY).await;
            let noted = self.progress().noted;
            if !noted {
                let _ = self.note().await;
            } else if told.elapsed() >= ALIVE {
                let _ = self.state.database.keep_operation(self.id).await;
            } else {
                continue;
            }
            told = Instant::now();
        }
    }

    async fn end(&self, how: Ended) {
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

/// Where what does an operation says how far it is.
pub(crate) struct Working(Arc<Shared>);

impl Working {
    /// Says how far it is, and what came of it so far. That is noted a moment later.
    ///
    /// # Errors
    /// [`Halt`] if it is to end early.
    pub(crate) async fn moved(&self, done: i64, total: Option<i64>, result: &OperationResult) -> Result<(), Halt> {
        let result = serde_json::to_value(result).unwrap_or_default();
        *self.0.progress() = Progress { done, total, result, noted: false };
        match self.0.state.database.operation_is_cancelled(self.0.id).await {
            Ok(true) => Err(Halt::Cancelled),
            Err(PortError::NotFound { .. }) => Err(Halt::Ended),
            // a database that is away ends it where it is needed
            Ok(false) | Err(_) => Ok(()),
        }
    }
}

/// Does an operation that was begun, whoever goes away.
pub(crate) fn work<F>(state: &Arc<ServerState>, id: Uuid, does: impl FnOnce(Working) -> F)
where
    F: Future<Output = Result<(), Halt>> + Send + 'static,
{
    let progress = Mutex::new(Progress { result: json!({}), noted: true, ..Progress::default() });
    let shared = Arc::new(Shared { state: state.clone(), id, progress });
    let does = does(Working(shared.clone()));
    tokio::spawn(async move {
        let done = tokio::select! {
            done = AssertUnwindSafe(does).catch_unwind() => done,
            () = shared.tell() => return,
        };
        let how = match done {
            Ok(Ok(())) => Ended::Done,
            Ok(Err(Halt::Ended)) => return,
            Ok(Err(Halt::Cancelled)) => Ended::Cancelled,
            Ok(Err(Halt::Refused(refusal))) => failed(refusal),
            Err(_) => failed(Refusal::new(ProblemType::Failed, "it failed in Gonvel itself: please report it")),
        };
        shared.end(how).await;
    });
}

fn failed(refusal: Refusal) -> Ended {
    let problem = refusal.document(|name| Some(Place::Body(pointer([name]))));
    Ended::Failed(serde_json::to_value(problem).unwrap_or_default())
}
