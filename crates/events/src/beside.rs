//! What becomes of what no column takes.

use crate::tree::Node;

/// What becomes of fields that no column takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Beside {
    /// They are passed over.
    LeftOut,
    /// They are given back as JSON.
    Kept,
    /// The record is refused.
    Refused,
}

impl Beside {
    /// The same in an element that is a row: the rest of its record is kept, not its own.
    pub(crate) fn within_element(self) -> Self {
        if self == Self::Refused { self } else { Self::LeftOut }
    }

    /// The same below a field: what a column takes whole has nothing in it that no column takes.
    pub(crate) fn below(self, node: &Node) -> Self {
        if node.columns.is_empty() { self } else { Self::LeftOut }
    }
}
