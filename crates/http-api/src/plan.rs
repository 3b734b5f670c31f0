//! What a request would do, before it is done.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::{ActionOutcome, Consequence, InstallationPlan, Move, PartitionLoss};

/// Whether a request is only to be planned, and which plan it confirms.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PlanQuery {
    /// Only tell what the request would do, and change nothing.
    #[serde(default)]
    pub dry_run: bool,
    /// The `tag` of the plan that a dry run of the same request gave: it is carried out if it would still do that. A request that loses
    /// something is refused without it.
    #[serde(default)]
    pub confirm: Option<String>,
}

/// What a request would do.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    /// Sent as `confirm` with the same request, it has this carried out, and nothing else.
    pub tag: String,
    /// Whether the request is refused without that, since something is lost by it.
    pub needs_confirming: bool,
    /// What happens, in sentences.
    pub says: Vec<String>,
    /// Records that are lost, or that are passed over and never read.
    pub records: i64,
    /// Size of what is lost, as stored.
    pub bytes: i64,
    /// Records that are read or delivered once more.
    pub repeated: i64,
    /// Who else is touched.
    pub touched: Vec<Touched>,
    /// What stands against it, in sentences; it is refused while there is anything.
    pub against: Vec<String>,
    /// What partitions lose.
    pub partitions: Vec<PartitionLoss>,
    /// What is moved, by partition.
    pub moves: Vec<Move>,
    /// What another definition of a connector brings with it.
    pub consequences: Vec<Consequence>,
    /// What each of several connectors does.
    pub outcomes: Vec<ActionOutcome>,
    /// The manifest of what is changed, as it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// The manifest of what is changed, as it would be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<String>,
    /// What manifests that are applied change, step by step.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub installation: Option<InstallationPlan>,
}

/// Someone whom a request touches.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Touched {
    /// What it is.
    pub kind: TouchedKind,
    /// Its name.
    pub name: String,
    /// What it has to do with it, or what becomes of it: `writes it`, `loses its position`.
    pub says: String,
}

/// What is touched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TouchedKind {
    /// A connector.
    Connector,
    /// A reader.
    Reader,
}
