//! Runners, lanes, and what connectors did and said.

use std::collections::BTreeMap;

use gonvel_core::connector::ExistingRows;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::{Order, State};

/// A lane that a runner carries.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CarriedLane {
    /// Its connector.
    pub connector: Uuid,
    /// The connector's name.
    pub name: String,
    /// Its number.
    pub lane: i32,
    /// What it takes of the runner's room.
    pub weight: u32,
    /// Its state.
    pub state: State,
}

/// A runner.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Runner {
    /// Its name.
    pub name: String,
    /// What it has.
    pub labels: BTreeMap<String, String>,
    /// The weight of lanes it can carry.
    pub room: u32,
    /// The weight of the lanes it has.
    pub load: u32,
    /// The machine it runs on.
    pub host: String,
    /// The release of Gonvel it is.
    pub release: String,
    /// When it started.
    #[schema(format = DateTime)]
    pub started_at: String,
    /// Its last heartbeat.
    #[schema(format = DateTime)]
    pub beat_at: String,
    /// Whether it is taken to be alive.
    pub alive: bool,
    /// Whether it is being emptied.
    pub draining: bool,
    /// Its lanes.
    pub lanes: Vec<CarriedLane>,
}

/// A lane that no runner carries.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WaitingLane {
    /// Its connector.
    pub connector: Uuid,
    /// The connector's name.
    pub name: String,
    /// Its number.
    pub lane: i32,
    /// Why, and what to do.
    pub reason: String,
}

/// Whether a runner is to be emptied.
#[derive(Debug, Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DrainRequest {
    /// Whether its lanes are to move away, and none to come.
    pub draining: bool,
}

/// Something that was done with a connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Deed {
    /// Its number; later ones are greater.
    pub number: i64,
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// Who; empty if it is not known, or if the connector did it by itself.
    pub who: String,
    /// What.
    pub what: String,
    /// The version of the connector's configuration then.
    pub version: i32,
    /// What else is to be said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub detail: Option<String>,
}

/// A line of a connector's log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Line {
    /// Its number; later ones are greater.
    pub number: i64,
    /// The lane that said it.
    pub lane: i32,
    /// The runner that carried it.
    pub runner: String,
    /// When.
    #[schema(format = DateTime)]
    pub at: String,
    /// `info`, `warning` or `error`.
    pub level: String,
    /// What happened.
    pub says: String,
    /// What it is about, by name.
    #[schema(value_type = Object)]
    pub facts: serde_json::Value,
}

/// Which lines of a connector's log are asked for.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct LinesQuery {
    /// Of this lane.
    pub lane: Option<i32>,
    /// At least as grave: `info`, `warning` or `error`.
    pub level: Option<String>,
    /// With this text in them.
    pub text: Option<String>,
    /// Not after this time (RFC 3339).
    #[param(format = DateTime)]
    pub until: Option<String>,
    /// With a greater number: what came since.
    pub after: Option<i64>,
    /// `newest` or `oldest` first.
    pub order: Order,
}

/// What to do with several connectors.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ManyActions {
    /// Which.
    pub connectors: Vec<Uuid>,
    /// What.
    pub action: crate::Action,
}

/// What an action does, or did, with one of several connectors.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActionOutcome {
    /// The connector.
    pub connector: Uuid,
    /// Its name.
    pub name: String,
    /// Its state before.
    pub state: State,
    /// What happens to it, in a sentence.
    pub says: String,
    /// Whether it changes anything.
    pub changes: bool,
    /// Why it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
}

/// Where a sink stands in a partition.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SinkPosition {
    /// The topic.
    pub topic: String,
    /// The partition.
    pub partition: i32,
    /// The offset to deliver next.
    pub next_offset: i64,
    /// The oldest record that is kept.
    pub first_offset: i64,
    /// The offset that the next record will get.
    pub end_offset: i64,
    /// Records that are to be delivered yet.
    pub waiting: i64,
    /// Records that were not delivered and are no longer kept.
    pub missed: i64,
    /// The offset up to which the target and the log have the same records, where the target is ahead of the log: that was rolled
    /// back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub agree_to: Option<i64>,
}

/// Whether a connector goes on from where it stands: asked of its system, as its lanes ask when they start.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Agreement {
    /// The connector.
    pub connector: Uuid,
    /// Its name.
    pub name: String,
    /// Its kind: `source`, `sink`, `topics`.
    pub kind: String,
    /// What came out.
    pub outcome: AgreementOutcome,
    /// What was found, what it means and what to do; none where they agree.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub says: Option<String>,
}

/// What comes out when a connector's position is compared with its system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum AgreementOutcome {
    /// It goes on without a gap, and nothing passes for delivered that is not.
    Agrees,
    /// It halts until a person decides.
    Differs,
    /// Its system could not be asked.
    Unknown,
}

/// Where a source stands in its system's log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourcePosition {
    /// Up to where its changes are in the topics; none before it first ran.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// What its system keeps for it; none where it keeps nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<HeldPlace>,
}

/// The place that a system keeps in its log for a source.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeldPlace {
    /// What keeps it there.
    pub held_by: String,
    /// Up to where the system knows that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confirmed: Option<String>,
    /// Whether the system still keeps its log for it.
    pub kept: bool,
    /// Whether a session reads it.
    pub active: bool,
    /// Bytes of log that the system keeps for it on its disk.
    pub kept_bytes: i64,
    /// The end of the system's log.
    pub end: String,
    /// The span of the log whose changes are gone, if it is not kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing: Option<LogSpan>,
}

/// A span of a system's log.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LogSpan {
    /// The position after which it begins.
    pub from: String,
    /// The position where it ends.
    pub to: String,
}

/// Where a connector stands.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ConnectorPositions {
    /// A sink, by partition.
    pub partitions: Vec<SinkPosition>,
    /// A source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourcePosition>,
}

/// A source that is to begin anew.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BeginAnew {
    /// What becomes of the rows that are in its topics: those that were deleted meanwhile go if they are emptied or compared.
    #[serde(default)]
    pub existing_rows: ExistingRows,
}
