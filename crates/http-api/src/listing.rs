//! Lists, a page at a time.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::{ConnectorKind, State};

/// One page of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// What is in it, in the order asked for.
    pub items: Vec<T>,
    /// Where the next page begins, to be sent back as `cursor` with the same filter and order; none with the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

impl<T> Page<T> {
    /// The same page of what is made of each item.
    pub fn map<U>(self, into: impl FnMut(T) -> U) -> Page<U> {
        Page { items: self.items.into_iter().map(into).collect(), next: self.next }
    }
}

/// Items of a page where it is not said how many.
pub const USUAL_PAGE: usize = 100;
/// Items of a page at most.
pub const LARGEST_PAGE: usize = 10_000;
/// Items of a page at most, of lists without an end.
pub const LARGEST_LONG_PAGE: usize = 1_000;
/// Items of a page at most, of records.
pub const LARGEST_RECORD_PAGE: usize = 500;

/// Which page of a list.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PagingQuery {
    /// Items at most; 100 without it.
    #[param(minimum = 1, maximum = 10_000)]
    pub limit: Option<usize>,
    /// Where the page begins: `next` of the one before.
    pub cursor: Option<String>,
}

/// Which page of a list without an end.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LongPagingQuery {
    /// Items at most; 100 without it.
    #[param(minimum = 1, maximum = 1_000)]
    pub limit: Option<usize>,
    /// Where the page begins: `next` of the one before.
    pub cursor: Option<String>,
}

/// Which page of a list of records.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RecordPagingQuery {
    /// Items at most; 100 without it.
    #[param(minimum = 1, maximum = 500)]
    pub limit: Option<usize>,
    /// Where the page begins: `next` of the one before.
    pub cursor: Option<String>,
}

/// Which of a list of things with names.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct NamedQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// From the last name to the first.
    pub descending: bool,
}

/// Which connectors.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ConnectorsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those of this kind: `source`, `sink` or `topics`.
    pub kind: Option<ConnectorKind>,
    /// Only those in this state.
    pub state: Option<State>,
    /// Only those of this connection: its name.
    pub system: Option<String>,
    /// Only those that write or read this topic.
    pub topic: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: ConnectorOrder,
    /// The other way round.
    pub descending: bool,
}

/// What connectors are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ConnectorOrder {
    /// Their names.
    #[default]
    Name,
    /// When they were made.
    CreatedAt,
    /// Their latency; those without one first.
    LatencyMs,
    /// Their lag; those without one first.
    LagMs,
    /// How many of their records wait in quarantine.
    Quarantined,
}

/// Which topics.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct TopicsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: TopicOrder,
    /// The other way round.
    pub descending: bool,
}

/// What topics are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum TopicOrder {
    /// Their names.
    #[default]
    Name,
    /// When they were made.
    CreatedAt,
    /// How many records they keep.
    Records,
    /// How many bytes they keep.
    Bytes,
}

/// Which connections.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ConnectionsQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those to systems of this kind.
    pub kind: Option<String>,
    /// From the last name to the first.
    pub descending: bool,
}

/// Which readers.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct ReadersQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// Only those of this topic.
    pub topic: Option<String>,
    /// What they are in order of.
    #[param(inline)]
    pub order: ReaderOrder,
    /// The other way round.
    pub descending: bool,
}

/// What readers are in order of.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReaderOrder {
    /// Their names.
    #[default]
    Name,
    /// How many records they have not read yet.
    LagRecords,
    /// The age of the oldest record that they have not read yet.
    LagMs,
}
