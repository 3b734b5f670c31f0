//! The supervisor of one runner: it says that it is alive, and starts, stops and removes what the plan has with it.

use std::collections::HashMap;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt;
use gonvel_connectors::kinds;
use gonvel_core::connector::{Definition, Wish};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, Assigned, Beaten, Heartbeat, PortError};
use gonvel_tending::tend;
use tokio::sync::{Notify, watch};
use tokio::task::JoinHandle;
use tokio::time::Instant;
use uuid::Uuid;

use crate::errands;
use crate::lane;
use crate::leases::Leases;
use crate::services::Services;
use crate::work::{Assignment, Ending};

/// How often the supervisor looks, when nobody nudges it.
const LOOK: Duration = Duration::from_millis(500);
/// How long it waits after a panic.
const AFTER_PANIC: Duration = Duration::from_secs(5);
/// How often a runner says that it is alive, and how long that is believed.
const BEAT: Duration = Duration::from_secs(1);
const BELIEVED: Duration = Duration::from_secs(5);
/// How long lanes may take to end.
const PATIENCE: Duration = Duration::from_secs(10);

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
    asked: i64,
    /// What was asked then, and on which ground of the log.
    wish: Wish,
    ground: u64,
    /// It was told to end; until it has, the lane does not begin again.
    ending: bool,
    stop: watch::Sender<Ending>,
    mending: watch::Sender<i64>,
    task: JoinHandle<()>,
}

impl Fleet {
    /// Starts a supervisor.
    #[must_use]
    pub fn start(services: Services) -> Self {
        let nudge = Arc::new(Notify::new());
        let (stop, stopped) = watch::channel(false);
        let supervisor = Supervisor {
            heartbeat: Heartbeat {
                name: services.runner.name.clone(),
                instance: Uuid::new_v4(),
                labels: services.runner.labels.clone(),
                room: services.runner.room,
                host: host(),
                release: env!("CARGO_PKG_VERSION").into(),
            },
            services,
            nudge: nudge.clone(),
            leases: Leases::default(),
            running: HashMap::new(),
            removing: HashMap::new(),
            shared: None,
        };
        let task = Some(tokio::spawn(supervisor.run(stopped)));
        Self { nudge, stop, task }
    }

    /// Something that makes the supervisor look at once.
    #[must_use]
    pub fn nudge(&self) -> Arc<Notify> {
        self.nudge.clone()
    }

    /// Resolves when the supervisor ends by itself, because another process has its name.
    pub async fn ended(&mut self) {
        match &mut self.task {
            Some(task) => {
                let _ = task.await;
                self.task = None;
            }
            None => std::future::pending().await,
        }
    }

    /// Stops all lanes after what they have under way, gives their leases back and ends: others take them up at once.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        if let Some(task) = self.task.take() {
            let _ = task.await;
        }
    }
}

/// The machine's name.
fn host() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let name = name.trim();
    if name.is_empty() { "an unnamed machine".into() } else { name.into() }
}

type Key = (ConnectorId, i32);

struct Supervisor {
    heartbeat: Heartbeat,
    services: Services,
    nudge: Arc<Notify>,
    leases: Leases,
    running: HashMap<Key, Running>,
    removing: HashMap<ConnectorId, JoinHandle<()>>,
    /// When lanes were last shared out.
    shared: Option<Instant>,
}

impl Supervisor {
    async fn run(mut self, mut stopped: watch::Receiver<bool>) {
        let (leases, runners) = (self.leases.clone(), self.services.runners.clone());
        let renewing = tokio::spawn(tend("leases", move || leases.clone().renew(runners.clone())));
        let (store, name, labels) =
            (self.services.errands.clone(), self.heartbeat.name.clone(), self.heartbeat.labels.clone());
        // a system that is reached from nowhere else is not asked for by labels
        let errands = (!labels.is_empty())
            .then(|| tokio::spawn(tend("errands", move || errands::run(store.clone(), name.clone(), labels.clone()))));
        let mut beaten: Option<Instant> = None;
        while !*stopped.borrow() {
            let due = beaten.is_none_or(|at| at.elapsed() >= BEAT);
            match if due { self.beat(beaten.is_none()).await } else { Ok(Beaten::Alive) } {
                Ok(Beaten::Alive) => {
                    if due {
                        beaten = Some(Instant::now());
                    }
                    match AssertUnwindSafe(self.look()).catch_unwind().await {
                        Ok(Ok(())) => {}
                        Ok(Err(error)) => tracing::warn!(%error, "the lanes of this runner could not be read"),
                        Err(_) => {
                            tracing::error!("planning or starting lanes panicked; it is tried again");
                            gonvel_tending::note("planner");
                            tokio::time::sleep(AFTER_PANIC).await;
                        }
                    }
                }
                Ok(Beaten::Replaced) => {
                    tracing::error!(
                        runner = %self.heartbeat.name,
                        "another process has this runner's name since: this one ends; give each runner a name of its own"
                    );
                    break;
                }
                Err(error) => tracing::warn!(%error, "the runner could not say that it is alive"),
            }
            tokio::select! {
                // something changed: what is new needs a place
                () = self.nudge.notified() => self.shared = None,
                () = tokio::time::sleep(LOOK) => {}
                _ = stopped.changed() => {}
            }
        }
        for lane in self.running.values() {
            let _ = lane.stop.send(Ending::Shutdown);
        }
        let end = Instant::now() + PATIENCE;
        for (_, lane) in self.running.drain() {
            let _ = tokio::time::timeout_at(end, lane.task).await;
        }
        let _ = self.services.runners.leave(&self.heartbeat.name, self.heartbeat.instance).await;
        renewing.abort();
        if let Some(errands) = errands {
            errands.abort();
        }
    }

    async fn beat(&self, first: bool) -> Result<Beaten, PortError> {
        let runners = &self.services.runners;
        if first {
            runners.join(&self.heartbeat, BELIEVED).await?;
            return Ok(Beaten::Alive);
        }
        runners.beat(&self.heartbeat, BELIEVED).await
    }

    async fn look(&mut self) -> Result<(), PortError> {
        if self.shared.is_none_or(|at| at.elapsed() >= BEAT) {
            self.services.runners.share_out().await?;
            self.shared = Some(Instant::now());
        }
        let assigned = self.services.runners.assigned(&self.heartbeat.name).await?;
        let ground = self.services.log.ground();
        let wanted: HashMap<Key, Assigned> = assigned.iter().map(|a| ((a.connector, a.lane), *a)).collect();
        self.running.retain(|_, lane| !lane.task.is_finished());
        self.removing.retain(|_, task| !task.is_finished());
        for (key, lane) in self.running.iter_mut().filter(|(_, lane)| !lane.ending) {
            // after the log was rolled back the same number may stand for something else
            let as_asked = |a: &&Assigned| (a.asked, a.wish) == (lane.asked, lane.wish) && lane.ground == ground;
            if let Some(assigned) = wanted.get(key).filter(as_asked) {
                lane.mending.send_if_modified(|now| std::mem::replace(now, assigned.mending) != assigned.mending);
                continue;
            }
            let ending = match wanted.get(key).map(|a| a.wish) {
                Some(Wish::Pause) => Ending::Pause,
                Some(_) => Ending::Restart,
                None => Ending::Away,
            };
            // not waited for: one that hangs in its system must not keep the others from being started and stopped
            let _ = lane.stop.send(ending);
            lane.ending = true;
        }
        for assigned in &assigned {
            let key = (assigned.connector, assigned.lane);
            if self.running.contains_key(&key) || self.removing.contains_key(&assigned.connector) {
                continue;
            }
            match assigned.wish {
                Wish::Delete => {
                    // one lane removes what all left, once the others have ended
                    if assigned.lane == 0 && !assigned.others_held {
                        let task = tokio::spawn(remove(self.services.clone(), assigned.connector));
                        self.removing.insert(assigned.connector, task);
                    }
                }
                Wish::Run | Wish::Pause => self.start(assigned).await?,
                Wish::Draft | Wish::Stop => {}
            }
        }
        Ok(())
    }

    async fn start(&mut self, assigned: &Assigned) -> Result<(), PortError> {
        let connector = match self.services.fleet.connector(assigned.connector).await {
            Ok(Some(connector)) => connector,
            Ok(None) => return Ok(()),
            Err(PortError::Refused(reason)) => {
                tracing::error!(connector = %assigned.connector, reason, "a stored connector is not valid and is not run");
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        let assignment = Assignment { connector, lane: assigned.lane, wish: assigned.wish, version: assigned.version };
        let (stop, stopped) = watch::channel(Ending::None);
        let (mending, mended) = watch::channel(assigned.mending);
        let lane = lane::run(self.services.clone(), self.leases.clone(), assignment, stopped, mended);
        let nudge = self.nudge.clone();
        let task = tokio::spawn(async move {
            lane.await;
            nudge.notify_one();
        });
        let (asked, wish, ground) = (assigned.asked, assigned.wish, self.services.log.ground());
        let running = Running { asked, wish, ground, ending: false, stop, mending, task };
        self.running.insert((assigned.connector, assigned.lane), running);
        Ok(())
    }
}

/// Removes what a connector left outside, then the connector. What fails is tried again at the next look.
async fn remove(services: Services, id: ConnectorId) {
    if let Err(error) = try_remove(&services, id).await {
        tracing::warn!(connector = %id, %error, "what the connector left outside could not be removed yet");
        lane::note_failed_removal(&services, id, &error).await;
        tokio::time::sleep(Duration::from_secs(5)).await;
    }
}

async fn try_remove(services: &Services, id: ConnectorId) -> Result<(), String> {
    let Some(connector) = services.fleet.connector(id).await.map_err(|e| e.to_string())? else { return Ok(()) };
    let definition = connector.definition();
    let leaves = services.fleet.leaves_remains(id).await.map_err(|e| e.to_string())?;
    if let Some(connection) = definition.connection().filter(|_| !leaves) {
        let address = services.fleet.address(connection).await.map_err(|e| e.to_string())?;
        clean_up(definition, &address, id).await.map_err(|e| e.to_string())?;
    }
    services.fleet.remove_connector(id).await.map_err(|e: PortError| e.to_string())
}

async fn clean_up(definition: &Definition, address: &Address, id: ConnectorId) -> Result<(), ConnectorError> {
    match definition {
        Definition::Source(_) => kinds::source(address)?.clean_up(address, id).await,
        Definition::Sink(_) => kinds::sink(address)?.clean_up(address, id).await,
        // all that it left is in topics
        Definition::Topics(_) => Ok(()),
    }
}
