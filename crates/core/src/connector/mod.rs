//! Connectors: what one is asked to do, when that is valid, and the states of its life.

mod carries;
mod carrying;
mod checked;
mod definition;
pub mod edit;
mod error;
mod existing;
mod existing_checked;
mod found;
mod growing;
mod guarantee;
mod referring;
mod ways;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use carries::{Carries, Written};
pub use carrying::*;
pub use checked::ValidConnector;
pub use definition::*;
pub use error::DefinitionError;
pub use existing::{ExistingRows, check_rows_there};
pub use existing_checked::may_load_so;
pub use referring::Refer;

/// A state of a connector or lane, in the order of a normal life and then those when something is wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Saved, not valid or not yet asked to run.
    Draft,
    /// Getting ready.
    Starting,
    /// Reading the rows that exist.
    Loading,
    /// Carrying changes as they commit.
    Following,
    /// Held by a person; keeps its place in the source.
    Paused,
    /// Not running.
    Stopped,
    /// Failed and will try again by itself.
    Retrying,
    /// Needs a person.
    Halted,
}

/// What a person asked of a connector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wish {
    /// Run.
    Run,
    /// Hold where it is.
    Pause,
    /// Do not run any more; its place in its system is kept.
    Stop,
    /// Do not run yet.
    Draft,
    /// Remove what it left outside, then the connector.
    Delete,
}

impl Wish {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Run => "run",
            Self::Pause => "pause",
            Self::Stop => "stop",
            Self::Draft => "draft",
            Self::Delete => "delete",
        }
    }
}

impl Wish {
    /// What was done when it was asked, for a history.
    #[must_use]
    pub fn done(self) -> &'static str {
        match self {
            Self::Run => "started",
            Self::Pause => "paused",
            Self::Stop => "stopped",
            Self::Draft => "made a draft",
            Self::Delete => "deleted",
        }
    }
}
