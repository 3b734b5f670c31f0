//! Connectors and how they are doing.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A table to capture and the topic for its changes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CapturedTable {
    /// Schema in the source.
    pub schema: String,
    /// Table in the source.
    pub table: String,
    /// The topic.
    pub topic: String,
}

/// A topic to deliver and the table it goes to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DeliveredTopic {
    /// The topic.
    pub topic: String,
    /// Schema in the target.
    pub schema: String,
    /// Table in the target.
    pub table: String,
}

/// How the rows that exist when a source connector starts are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct InitialLoad {
    /// Whether they are; otherwise only what changes from then on is captured.
    pub rows: bool,
    /// Rows read a second at most; none for as fast as the source gives them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows_per_second: Option<u32>,
}

impl Default for InitialLoad {
    fn default() -> Self {
        Self { rows: true, rows_per_second: None }
    }
}

/// Tables to be loaded again.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReloadRequest {
    /// The tables, as `schema.table`.
    pub tables: Vec<String>,
}

/// What a connector does.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Definition {
    /// Carries changes of tables into topics.
    Source {
        /// The connection it reads through.
        connection: Uuid,
        /// What it captures.
        tables: Vec<CapturedTable>,
        /// Partitions for the topics it makes, 1 to 1000.
        partitions: i32,
        /// How the rows that exist are copied.
        #[serde(default)]
        load: InitialLoad,
    },
    /// Carries topics into tables.
    Sink {
        /// The connection it writes through.
        connection: Uuid,
        /// What it delivers.
        topics: Vec<DeliveredTopic>,
    },
}

/// A new connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectorRequest {
    /// Its name: letters, digits, `.`, `-`, `_`.
    pub name: String,
    /// What it does.
    pub definition: Definition,
    /// Whether to start it at once; otherwise it is saved as a draft, which need not pass its preflight.
    pub start: bool,
}

/// A remedy to be carried out.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MendRequest {
    /// The connector, saved or not.
    pub connector: ConnectorRequest,
    /// The name of the check whose statement is to be run.
    pub check: String,
}

/// A state of a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Not asked to run yet.
    Draft,
    /// Getting ready.
    Starting,
    /// Reading the rows that exist.
    Loading,
    /// Carrying changes as they commit.
    Following,
    /// Held by a person.
    Paused,
    /// Not running; while it is being deleted.
    Stopped,
    /// Failed and will try again by itself.
    Retrying,
    /// Needs a person.
    Halted,
}

/// Counts of changes by kind.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize, ToSchema)]
pub struct Counts {
    /// Rows read by initial loads.
    pub load: u64,
    /// Inserts.
    pub insert: u64,
    /// Updates.
    pub update: u64,
    /// Deletes.
    pub delete: u64,
    /// Truncates.
    pub truncate: u64,
}

/// How far a connector is with one table or topic.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TableProgress {
    /// A source's table or a sink's topic.
    pub from: String,
    /// A source's topic or a sink's table.
    pub to: String,
    /// Counts by kind.
    pub counts: Counts,
    /// Rows the load expects, while it is not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_total: Option<u64>,
    /// Rows the load has read, while it is not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub load_done: Option<u64>,
}

/// A connector and how it is doing.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Connector {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// `source` or `sink`.
    pub kind: String,
    /// What it does.
    pub definition: Definition,
    /// The system at its outer end: the connection's name.
    pub system: String,
    /// Its state.
    pub state: State,
    /// Since when.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Why, if something is wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it tries again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_at: Option<String>,
    /// Whether it is being deleted.
    pub deleting: bool,
    /// Changes per second over the last seconds.
    pub rate_per_s: f64,
    /// Commit in the source to done here, of the latest change, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency_ms: Option<f64>,
    /// Records not yet handled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_records: Option<i64>,
    /// Age of the oldest change not yet handled, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lag_ms: Option<f64>,
    /// Where it stands in its source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// The delivery guarantee it gives, and why, in a sentence.
    pub guarantee: String,
    /// Its configuration's version.
    pub version: i32,
    /// When it was made.
    pub created_at: String,
    /// Progress by table or topic.
    pub tables: Vec<TableProgress>,
}

/// What to do with a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// Start, or go on after a pause or halt.
    Start,
    /// Hold it where it is.
    Pause,
}

/// An action on a connector.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActionRequest {
    /// What to do.
    pub action: Action,
}
