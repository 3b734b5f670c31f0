//! Work that takes longer than a request.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::{ObjectKind, Problem, StepOutcome};

/// Kinds of operations.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OperationKind {
    /// An installation is made what manifests say; counted in steps.
    Apply,
    /// A connector leaves its system and is deleted; one step.
    Delete,
    /// A file's records are appended; counted in bytes of the file.
    Import,
    /// Tables of a source are loaded again; counted in rows, of about so many.
    LoadAgain,
    /// Records in quarantine are tried again; counted in records.
    Retry,
}

/// How an operation stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OperationState {
    /// It is being done, or waits for what `waits` says.
    Running,
    /// All is done.
    Done,
    /// It ended early, for what `problem` says.
    Failed,
    /// It was ended early by someone.
    Cancelled,
}

/// What an operation counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum OperationUnit {
    /// Bytes of a file.
    Bytes,
    /// Records.
    Records,
    /// Rows.
    Rows,
    /// Steps.
    Steps,
}

/// What an operation is done with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Subject {
    /// What kind of object it is.
    pub kind: ObjectKind,
    /// Its id, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<Uuid>,
    /// Its name, as it was when the operation began.
    pub name: String,
}

/// What came of an operation, so far; each kind tells its own part.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct OperationResult {
    /// Of an import: records appended. After a server stopped in the middle there may be up to 5,000 more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub records: Option<i64>,
    /// Of an import: transactions they were appended in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub batches: Option<i64>,
    /// Of a retry: records delivered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub delivered: Option<i64>,
    /// Of a retry: records whose keys were delivered anew since, and that were left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub superseded: Option<i64>,
    /// Of a retry: records that were given up meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub discarded: Option<i64>,
    /// Of a retry: records that failed again, and wait.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waiting: Option<i64>,
    /// Of manifests: how each step went. Lists, and events, leave them out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<StepOutcome>,
    /// Of a delete without clean-up: what stays in the system.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub remains: Vec<String>,
}

/// Work that takes longer than a request. It goes on whoever goes away, and is kept for a week after its end.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Operation {
    /// Its id.
    pub id: Uuid,
    /// Its kind.
    pub kind: OperationKind,
    /// What it does, in a sentence.
    pub says: String,
    /// How it stands.
    pub state: OperationState,
    /// What it is done with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<Subject>,
    /// Who asked for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked_by: Option<String>,
    /// Whether it was cancelled and ends as soon as it can.
    pub cancelling: bool,
    /// How much is done.
    pub done: i64,
    /// Of how much, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub total: Option<i64>,
    /// Of what.
    pub unit: OperationUnit,
    /// How long it takes still if it goes on as so far, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub left_ms: Option<i64>,
    /// What it waits for, in a sentence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits: Option<String>,
    /// What came of it so far.
    pub result: OperationResult,
    /// Why it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub problem: Option<Problem>,
    /// When it began.
    #[schema(format = DateTime)]
    pub began_at: String,
    /// When it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = DateTime)]
    pub ended_at: Option<String>,
}

/// Which operations.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct OperationsQuery {
    /// Only of this kind.
    pub kind: Option<OperationKind>,
    /// Only in this state.
    pub state: Option<OperationState>,
    /// Only with what has this name.
    pub subject: Option<String>,
}

/// Whether what a connector left in its system is removed with it.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct RemainsQuery {
    /// Delete it although its system is gone for good: what it left there stays, and is listed in the plan and in the result.
    pub leave_remains: bool,
}
