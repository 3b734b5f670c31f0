//! Records as they come.

use gonvel_core::block::RecordRef;

/// A record as it came, with its place.
#[derive(Debug, Clone, Copy)]
pub struct Came<'a> {
    /// The record.
    pub record: RecordRef<'a>,
    /// The partition it stands in.
    pub partition: i32,
    /// Its offset there.
    pub offset: i64,
}
