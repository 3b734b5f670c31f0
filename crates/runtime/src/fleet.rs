//! The supervisor of one runner: it starts, stops and removes connectors as they are asked to.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use gonvel_connectors::postgres;
use gonvel_core::connector::{Definition, Wish};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{Assignment, FleetStore, PortError, SchemaStore, TopicLog};
use tokio::sync::{Notify, watch};
use tokio::task::JoinHandle;

use crate::lane::{self, Ending};

/// How often the supervisor looks, when nobody nudges it.
const LOOK: Duration = Duration::from_millis(500);

/// What lanes work with.
#[derive(Clone)]
pub struct Services {
    /// The topic log.
    pub log: Arc<dyn TopicLog>,
    /// Leases and assignments.
    pub fleet: Arc<dyn FleetStore>,
    /// Registered schemas.
    pub schemas: Arc<dyn SchemaStore>,
    /// This runner's name. A runner started again under the same name takes its leases over at once.
    pub runner: String,
}

/// A running supervisor.
pub struct Fleet {
    nudge: Arc<Notify>,
    stop: watch::Sender<bool>,
    task: Option<JoinHandle<()>>,
}

/// Dropped without [`Fleet::stop`], lanes end by themselves as soon as they notice; their leases run out.
impl Drop for Fleet {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}

struct Running {
    asked: i32,
    /// It was told to end; until it has, no other lane of the connector begins.
    ending: bool,
    stop: watch::Sender<Ending>,
    task: JoinHandle<()>,
}

impl Fleet {
    /// Starts a supervisor.
    #[must_use]
    pub fn start(services: Services) -> Self {
        let nudge = Arc::new(Notify::new());
        let (stop, stopped) = watch::channel(false);
        let task = Some(tokio::spawn(supervise(services, nudge.clone(), stopped)));
        Self { nudge, stop, task }
    }

    /// Something that makes the supervisor look at once.
    #[must_use]
    pub fn nudge(&self) -> Arc<Notify> {
        self.nudge.clone()
    }

    /// Stops all lanes after what they have under way, gives their leases back and ends.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        if let Some(task) = self.task.take() {
            let _ = task.await;
        }
    }
}

async fn supervise(services: Services, nudge: Arc<Notify>, mut stopped: watch::Receiver<bool>) {
    let mut running: HashMap<ConnectorId, Running> = HashMap::new();
    let mut removing: HashMap<ConnectorId, JoinHandle<()>> = HashMap::new();
    while !*stopped.borrow() {
        match services.fleet.assignments().await {
            Ok(assignments) => look(&services, &nudge, &assignments, &mut running, &mut removing),
            Err(error) => tracing::warn!(%error, "the assignments could not be read"),
        }
        tokio::select! {
            () = nudge.notified() => {}
            () = tokio::time::sleep(LOOK) => {}
            _ = stopped.changed() => {}
        }
    }
    for lane in running.values() {
        let _ = lane.stop.send(Ending::Shutdown);
    }
    for (_, lane) in running {
        let _ = tokio::time::timeout(Duration::from_secs(10), lane.task).await;
    }
}

fn look(
    services: &Services,
    nudge: &Arc<Notify>,
    assignments: &[Assignment],
    running: &mut HashMap<ConnectorId, Running>,
    removing: &mut HashMap<ConnectorId, JoinHandle<()>>,
) {
    let wanted: HashMap<ConnectorId, &Assignment> = assignments.iter().map(|a| (a.connector.id(), a)).collect();
    running.retain(|_, lane| !lane.task.is_finished());
    for (id, lane) in running.iter_mut().filter(|(_, lane)| !lane.ending) {
        if wanted.get(id).is_some_and(|a| a.asked == lane.asked) {
            continue;
        }
        let ending = match wanted.get(id).map(|a| a.wish) {
            Some(Wish::Pause) => Ending::Pause,
            _ => Ending::Restart,
        };
        // not waited for: one that hangs in its system must not keep the others from being started and stopped
        let _ = lane.stop.send(ending);
        lane.ending = true;
    }
    removing.retain(|_, task| !task.is_finished());
    for assignment in assignments {
        let id = assignment.connector.id();
        if running.contains_key(&id) || removing.contains_key(&id) {
            continue;
        }
        match assignment.wish {
            Wish::Delete => {
                removing.insert(id, tokio::spawn(remove(services.clone(), assignment.clone())));
            }
            Wish::Run | Wish::Pause => {
                let (stop, stopped) = watch::channel(Ending::None);
                let lane = lane::run(services.clone(), assignment.clone(), stopped);
                let nudge = nudge.clone();
                let task = tokio::spawn(async move {
                    lane.await;
                    nudge.notify_one();
                });
                running.insert(id, Running { asked: assignment.asked, ending: false, stop, task });
            }
            Wish::Draft => {}
        }
    }
}

/// Removes what a connector left outside, then the connector. What fails is tried again at the next look.
async fn remove(services: Services, assignment: Assignment) {
    let id = assignment.connector.id();
    if let Err(error) = try_remove(&services, &assignment).await {
        tracing::warn!(connector = %assignment.connector.name(), %error, "what the connector left outside could not be removed yet");
        lane::note_failed_removal(&services, id, &error).await;
        tokio::time::sleep(Duration::from_secs(5)).await;
    }
}

async fn try_remove(services: &Services, assignment: &Assignment) -> Result<(), String> {
    let definition = assignment.connector.definition();
    let address = services.fleet.address(definition.connection()).await.map_err(|e| e.to_string())?;
    let id = assignment.connector.id();
    let cleaned = match definition {
        Definition::Source(_) => postgres::slot::clean_up(&address, id).await,
        Definition::Sink(_) => postgres::sink::clean_up(&address, id).await,
    };
    cleaned.map_err(|e| e.to_string())?;
    services.fleet.remove_connector(id).await.map_err(|e: PortError| e.to_string())
}
