//! What a kind of system does for connectors: each kind is a folder of its own that implements these.

mod address;
mod captured;
mod error;
mod held;
mod kind;
mod round;
mod sink;
mod source;
mod source_position;
mod stand;
mod tables;
mod truncating;

pub use address::Address;
pub use captured::{Captured, TableChanges};
pub use error::{ConnectorError, ToldError};
pub use held::{BEHIND, Held, Refused};
pub use kind::Kind;
pub use round::{Round, RowBefore, TopicChanges};
pub use sink::{Blocked, Expected, Holds, Sink, SinkKind, SinkSettings, Started};
pub use source::{
    Beginning, Captures, Choice, ColumnsEver, Differences, SourceKind, SourcePlace, SourceSession, SourceSettings, TakenIn,
};
pub use source_position::SourcePosition;
pub use stand::{Delivered, Stand};
pub use tables::{ReadRows, Sample, SampledColumn, SampledRow, TableSummary, Tables};
pub use truncating::{Comes, ahead};
