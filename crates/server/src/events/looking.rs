//! Looks at what changed, once for all who watch, and only at kinds that someone watches.

use std::collections::{HashMap, HashSet};
use std::sync::Weak;
use std::time::Duration;

use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::{PortError, RunnerStore};
use gonvel_http_api::{ObjectKind, ProblemType};
use gonvel_storage::telling::{Telling, Told};
use serde::Serialize;
use tokio::time::Instant;
use uuid::Uuid;

use crate::problems::Refusal;
use crate::state::ServerState;
use crate::{connections, connectors, drafts, fleet, functions, operations, readers, schemas, topics};

/// How long changes are gathered before they are looked at.
const GATHER: Duration = Duration::from_millis(30);
/// How often it is looked at what changes without being told: what appends and commits move, and what only time changes.
const TICK: Duration = Duration::from_secs(1);
/// Looks by the clock take one part of so many of a processor at most; so do those at what was told, of fewer.
const SHARE_BY_CLOCK: u32 = 50;
const SHARE_TOLD: u32 = 2;
/// How long a database that cannot be asked is left alone.
const AGAIN: Duration = Duration::from_secs(1);
/// Connectors that are looked at apart from all others, at most.
const FEW: usize = 100;
/// Kinds of which the clock changes what is told.
const BY_CLOCK: [ObjectKind; 3] = [ObjectKind::Reader, ObjectKind::Runner, ObjectKind::Topic];

/// What of a kind is to be looked at.
enum Due {
    All,
    Some(HashSet<Uuid>),
}

/// What is to be looked at, and when each kind may be again.
struct Looker {
    due: HashMap<ObjectKind, Due>,
    /// When a kind may be looked at because something was told, and by the clock.
    may: HashMap<ObjectKind, (Instant, Instant)>,
    /// Records in quarantine by connector.
    quarantined: HashMap<Uuid, i64>,
    /// What was there of a kind when the clock looked last, without what would have to be put together.
    seen: HashMap<ObjectKind, String>,
    /// Kinds of which something moved that is no change of theirs, since the clock looked at them last.
    moved: HashSet<ObjectKind>,
}

/// Looks at objects as long as anyone watches, for as long as the server is there.
pub(crate) async fn look(state: Weak<ServerState>) {
    loop {
        let Some(mut watched) = state.upgrade().map(|state| state.events.watched()) else { return };
        if watched.wait_for(|watched| !watched.is_empty()).await.is_err() {
            return;
        }
        let telling = match state.upgrade() {
            Some(state) => state.database.telling().await,
            None => return,
        };
        let looked = match telling {
            Ok(telling) => follow(&state, telling).await,
            Err(error) => Err(error.into()),
        };
        if let Some(state) = state.upgrade() {
            state.events.looks_at(&HashSet::new());
        }
        if looked.is_err() {
            tokio::time::sleep(AGAIN).await;
        }
    }
}

/// Looks at what is told, until nobody watches any more.
///
/// # Errors
/// If nothing can be read, or nothing is told any more.
async fn follow(state: &Weak<ServerState>, mut telling: Telling) -> Result<(), Refusal> {
    let Some(mut watched) = state.upgrade().map(|state| state.events.watched()) else { return Ok(()) };
    let mut looker = Looker {
        due: HashMap::new(),
        may: HashMap::new(),
        quarantined: HashMap::new(),
        seen: HashMap::new(),
        moved: HashSet::new(),
    };
    let mut tick = tokio::time::interval(TICK);
    let mut looked: HashSet<ObjectKind> = HashSet::new();
    loop {
        let Some(here) = state.upgrade() else { return Ok(()) };
        let kinds = watched.borrow_and_update().clone();
        if kinds.is_empty() {
            return Ok(());
        }
        looked.retain(|kind| kinds.contains(kind));
        for kind in kinds.iter().filter(|kind| !looked.contains(kind)) {
            looker.due.insert(*kind, Due::All);
        }
        looker.due.retain(|kind, _| kinds.contains(kind));
        looker.look_at_due(&here, &mut looked).await?;
        here.events.looks_at(&looked);
        drop(here);
        let next = looker.next();
        tokio::select! {
            told = telling.next() => {
                let ended = || Refusal::new(ProblemType::TryAgain, "Gonvel's own database does not tell any more what changes");
                let told = told.ok_or_else(ended)?;
                looker.note(told);
                tokio::time::sleep(GATHER).await;
                while let Some(told) = telling.already() {
                    looker.note(told);
                }
            }
            _ = tick.tick() => {
                let Some(here) = state.upgrade() else { return Ok(()) };
                looker.by_clock(&here, &kinds).await?;
            }
            changed = watched.changed() => if changed.is_err() { return Ok(()) },
            () = tokio::time::sleep_until(next.unwrap_or_else(|| Instant::now() + TICK)) => {}
        }
    }
}

impl Looker {
    fn note(&mut self, told: Told) {
        let whole: &[ObjectKind] = match &told {
            Told::Connector(id) => {
                // a runner stands with its lanes
                self.moved.insert(ObjectKind::Runner);
                match self.due.entry(ObjectKind::Connector).or_insert_with(|| Due::Some(HashSet::new())) {
                    Due::Some(ids) => _ = ids.insert(id.0),
                    Due::All => {}
                }
                &[]
            }
            Told::Table(name) => match name.as_str() {
                // what uses an object stands with it
                "connector_versions" => {
                    &[ObjectKind::Connection, ObjectKind::Function, ObjectKind::Topic, ObjectKind::Runner]
                }
                "connections" => &[ObjectKind::Connection, ObjectKind::Connector],
                "topics" => &[ObjectKind::Topic, ObjectKind::Reader, ObjectKind::Schema],
                "topic_schemas" | "schemas" | "schema_versions" => &[ObjectKind::Schema],
                "functions" => &[ObjectKind::Function],
                "operations" => &[ObjectKind::Operation],
                "drafts" => &[ObjectKind::Draft],
                "readers" | "reader_members" => &[ObjectKind::Reader],
                "runners" => &[ObjectKind::Runner],
                _ => &[],
            },
        };
        for kind in whole {
            self.due.insert(*kind, Due::All);
        }
    }

    /// What is to be looked at because time went by.
    async fn by_clock(&mut self, state: &ServerState, kinds: &HashSet<ObjectKind>) -> Result<(), PortError> {
        let begun = Instant::now();
        for kind in BY_CLOCK.iter().filter(|kind| kinds.contains(kind)) {
            if self.may.get(kind).is_some_and(|(_, by_clock)| *by_clock > begun) {
                continue;
            }
            let began = Instant::now();
            let now = at_a_glance(state, *kind).await?;
            // how old what waits is grows by itself
            let moves = self.moved.remove(kind) || *kind == ObjectKind::Reader;
            if moves || self.seen.get(kind) != Some(&now) {
                self.due.insert(*kind, Due::All);
                self.seen.insert(*kind, now);
            }
            let (told, _) = self.may.get(kind).copied().unwrap_or((began, began));
            self.may.insert(*kind, (told, Instant::now() + began.elapsed() * SHARE_BY_CLOCK));
        }
        if kinds.contains(&ObjectKind::Connector) {
            let quarantined = state.database.quarantine_counts().await?;
            let differs = |id: &&Uuid| quarantined.get(id) != self.quarantined.get(id);
            let ids: Vec<Uuid> = quarantined.keys().chain(self.quarantined.keys()).filter(differs).copied().collect();
            for id in ids {
                self.note(Told::Connector(ConnectorId(id)));
            }
            self.quarantined = quarantined;
        }
        Ok(())
    }

    /// When the first of what waits may be looked at.
    fn next(&self) -> Option<Instant> {
        self.due.keys().map(|kind| self.may.get(kind).map_or_else(Instant::now, |(told, _)| *told)).min()
    }

    async fn look_at_due(&mut self, state: &ServerState, looked: &mut HashSet<ObjectKind>) -> Result<(), Refusal> {
        let begun = Instant::now();
        let may = |kind: &ObjectKind| self.may.get(kind).is_none_or(|(told, _)| *told <= begun);
        let now: Vec<ObjectKind> = self.due.keys().copied().filter(may).collect();
        for kind in now {
            let Some(due) = self.due.remove(&kind) else { continue };
            let begun = Instant::now();
            match due {
                Due::Some(ids) if ids.len() <= FEW => {
                    let asked: Vec<ConnectorId> = ids.into_iter().map(ConnectorId).collect();
                    let found = named(connectors::among(state, Some(&asked)).await?, |c| c.id.to_string());
                    state.events.tell(|known| known.some_are(kind, asked.iter().map(ToString::to_string), found));
                }
                _ => {
                    let found = all(state, kind).await?;
                    state.events.tell(|known| known.all_are(kind, found));
                    looked.insert(kind);
                }
            }
            let took = begun.elapsed();
            let now = Instant::now();
            self.may.insert(kind, (now + took * SHARE_TOLD, now + took * SHARE_BY_CLOCK));
        }
        Ok(())
    }
}

/// What tells whether objects of a kind look otherwise than before, without putting them together. That a runner is alive still is no change.
async fn at_a_glance(state: &ServerState, kind: ObjectKind) -> Result<String, PortError> {
    Ok(match kind {
        ObjectKind::Runner => {
            let runners = state.database.runners().await?;
            let looks = runners
                .iter()
                .map(|r| (&r.said.name, &r.said.labels, r.said.room, r.alive, r.draining, r.started_us, &r.lanes));
            format!("{:?}", looks.collect::<Vec<_>>())
        }
        ObjectKind::Topic => {
            let mut sizes = state.database.topic_sizes().await?;
            sizes.sort_by_key(|size| size.topic_id);
            let producers = state.database.producers(None).await?;
            let sizes = sizes.iter().map(|s| (s.topic_id, s.records, s.bytes));
            let producers = producers.iter().filter(|p| p.records > 0).map(|p| (p.topic_id, &p.name));
            format!("{:?} {:?}", sizes.collect::<Vec<_>>(), producers.collect::<Vec<_>>())
        }
        _ => String::new(),
    })
}

/// All objects of a kind, each with its id, or its name if it has none, as its list shows it.
async fn all(state: &ServerState, kind: ObjectKind) -> Result<Vec<(String, String)>, Refusal> {
    Ok(match kind {
        ObjectKind::Connection => named(connections::all(state).await?, |c| c.id.to_string()),
        ObjectKind::Connector => named(connectors::among(state, None).await?, |c| c.id.to_string()),
        ObjectKind::Draft => named(drafts::all(state).await?, |d| d.id.to_string()),
        ObjectKind::Function => named(functions::all(state).await?, |f| f.current.function.name.clone()),
        ObjectKind::Operation => named(operations::all(state).await?, |o| o.id.to_string()),
        ObjectKind::Reader => named(readers::all(state).await?, |r| r.name.clone()),
        ObjectKind::Runner => named(fleet::all(state).await?, |r| r.name.clone()),
        ObjectKind::Schema => named(schemas::all(state).await?, |s| s.about.name.clone()),
        ObjectKind::Topic => named(topics::all(state).await?, |t| t.name.clone()),
    })
}

fn named<T: Serialize>(found: Vec<T>, id: impl Fn(&T) -> String) -> Vec<(String, String)> {
    found.iter().map(|object| (id(object), serde_json::to_string(object).unwrap_or_default())).collect()
}
