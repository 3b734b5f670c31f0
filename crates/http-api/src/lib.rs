//! Request and response types of the HTTP interface under `/api/v1`.
//!
//! Times are RFC 3339 in UTC; offsets and positions are as in the glossary.

mod connections;
mod connectors;
mod demo;
mod drafts;
mod event_rows;
mod events;
mod fitting;
mod fleet;
mod health;
mod installation;
mod listing;
mod object_kind;
mod operations;
mod own_functions;
mod plan;
mod problem;
mod problem_type;
mod quarantine;
mod readers;
mod records;
mod schemas;
mod shapes;
mod topics;

pub use connections::*;
pub use connectors::*;
pub use demo::*;
pub use drafts::*;
pub use event_rows::*;
pub use events::*;
pub use fitting::*;
pub use fleet::*;
pub use health::*;
pub use installation::*;
pub use listing::*;
pub use object_kind::*;
pub use operations::*;
pub use own_functions::*;
pub use plan::*;
pub use problem::*;
pub use problem_type::*;
pub use quarantine::*;
pub use readers::*;
pub use records::*;
pub use schemas::*;
pub use shapes::*;
pub use topics::*;

pub use gonvel_core::connector::{
    BadRecords, CapturedTable, CarriedTopic, Definition, Deletes, DeliveredTopic, Encoding, ExistingRows, Failing,
    Guarantee, InitialLoad, Placing, SinkDefinition, SourceDefinition, Start, StartOffset, State, TargetColumns, TargetRows,
    TopicsDefinition, ValueForm, Values, Writes,
};
pub use gonvel_core::kinds::{About as SystemKind, Setting, SettingType};
pub use gonvel_core::ports::TlsMode;
pub use gonvel_core::schemas::{Half, Language, Rule, SchemaReference};
pub use gonvel_core::table_patterns::TablePatterns;
pub use gonvel_core::topic_settings::{Keep, TopicSettings};
pub use gonvel_manifests::{Deed as StepDeed, Fault, FieldChange, SecretFrom, ThingKind};
