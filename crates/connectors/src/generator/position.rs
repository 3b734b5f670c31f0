//! How far recipes were made.

use std::collections::BTreeMap;

use gonvel_core::ports::systems::SourcePosition;
use serde::{Deserialize, Serialize};

/// Rows that are in the topics.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Made {
    /// How many rows were made in all, repetitions too: each is a transaction of its own.
    pub(super) rows: u64,
    /// The number of the row to make next, by `schema.table`.
    pub(super) next: BTreeMap<String, u64>,
}

impl SourcePosition for Made {
    fn stored(&self) -> Result<serde_json::Value, serde_json::Error> {
        serde_json::to_value(self)
    }

    fn shown(&self) -> String {
        format!("{} rows", self.rows)
    }

    fn complete_to(&self) -> u64 {
        self.rows
    }

    fn loading(&self) -> Vec<&str> {
        Vec::new()
    }

    fn load_of(&self, _: &str) -> Option<(u64, u64)> {
        None
    }

    fn loaded(&mut self, _: &str) {}

    fn copied(&self) -> Box<dyn SourcePosition> {
        Box::new(self.clone())
    }
}
