//! Where a source stands in its system.

use std::any::Any;
use std::collections::BTreeMap;
use std::fmt::Debug;

use serde::de::DeserializeOwned;
use serde::ser::Error as _;
use serde::{Serialize, Serializer};

use super::ConnectorError;

/// Where a source stands in its system, as its kind keeps it: what is before it is in the topics, nothing else is.
pub trait SourcePosition: Any + Debug + Send + Sync {
    /// As it is stored; its kind reads it again.
    ///
    /// # Errors
    /// Those of the encoding.
    fn stored(&self) -> Result<serde_json::Value, serde_json::Error>;

    /// As people read it.
    fn shown(&self) -> String;

    /// Up to which position of its log every transaction is in the topics, as the origins of changes count positions.
    fn complete_to(&self) -> u64;

    /// Tables that are not loaded yet.
    fn loading(&self) -> Vec<&str>;

    /// How far a table's load has come: rows that were read, and rows that it is thought to have. None for one that is loaded.
    fn load_of(&self, table: &str) -> Option<(u64, u64)>;

    /// A table need not be loaded any more.
    fn loaded(&mut self, table: &str);

    /// Notes which tables its system sends by now, by [`super::Differences::numbers`].
    fn note_numbers(&mut self, _numbers: BTreeMap<String, u32>) {}

    /// The same once more.
    fn copied(&self) -> Box<dyn SourcePosition>;
}

fn of_another_kind() -> ConnectorError {
    ConnectorError::Defect("a position of another kind of system".into())
}

impl dyn SourcePosition {
    /// The same as its own kind has it.
    ///
    /// # Errors
    /// [`ConnectorError::Defect`] if it is another kind's.
    pub fn as_own<P: SourcePosition>(&self) -> Result<&P, ConnectorError> {
        (self as &dyn Any).downcast_ref().ok_or_else(of_another_kind)
    }

    /// The same, to be changed.
    ///
    /// # Errors
    /// As [`Self::as_own`].
    pub fn as_own_mut<P: SourcePosition>(&mut self) -> Result<&mut P, ConnectorError> {
        (self as &mut dyn Any).downcast_mut().ok_or_else(of_another_kind)
    }

    /// A stored position of a kind.
    ///
    /// # Errors
    /// [`ConnectorError::Defect`] if it is none.
    pub fn read<P: SourcePosition + DeserializeOwned>(stored: &serde_json::Value) -> Result<Box<Self>, ConnectorError> {
        let unreadable = |e| ConnectorError::Defect(format!("the stored position cannot be read: {e}"));
        let position: P = serde_json::from_value(stored.clone()).map_err(unreadable)?;
        Ok(Box::new(position))
    }
}

impl Serialize for dyn SourcePosition {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.stored().map_err(S::Error::custom)?.serialize(serializer)
    }
}

impl Clone for Box<dyn SourcePosition> {
    fn clone(&self) -> Self {
        (**self).copied()
    }
}
