//! Records of any form as rows: Avro, JSON, Protocol Buffers, text and bytes are decoded here, and nowhere else, into column
//! batches as changes of tables are.
//!
//! What fills which column is the core's [`gonvel_core::event_rows::EventRows`]. A record that does not fit is named with the path,
//! with what was expected there and what to choose, and without its values, which may have to stay hidden; nothing of it is left in
//! the batch.
#![deny(missing_docs)]

mod adding;
mod avro;
mod beside;
mod came;
mod cell;
mod decoding;
mod form;
mod json;
mod only;
pub mod proposing;
mod schema;
mod tree;

pub use came::Came;
pub use form::EventForm;
pub use only::Teller;
pub use schema::EventSchema;
