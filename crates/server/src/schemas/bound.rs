//! What keys and values of topics are bound to.

use std::collections::HashSet;

use bytes::Bytes;
use gonvel_core::naming::SchemaId;
use gonvel_core::schemas::Language;
use gonvel_core::schemas::values::ValueSchema;

/// The schema that keys or values are bound to: its latest version by which they are written, and the earlier ones.
pub(crate) struct Bound {
    pub(super) id: SchemaId,
    pub(super) schema: ValueSchema,
    pub(super) language: Language,
    pub(super) said: String,
    pub(super) required: bool,
    /// All versions: a record may say that it follows an earlier one.
    pub(super) versions: HashSet<SchemaId>,
}

/// What a topic's keys and values are bound to.
#[derive(Default)]
pub(crate) struct Fitting {
    pub(crate) key: Option<Bound>,
    pub(crate) value: Option<Bound>,
}

impl Bound {
    /// Whether records that do not fit are refused.
    pub(crate) fn is_required(&self) -> bool {
        self.required
    }

    /// The bytes of what was given as JSON.
    pub(crate) fn write(&self, json: &str) -> Result<(Bytes, Option<SchemaId>), String> {
        Ok((self.schema.write_text(json)?, Some(self.id)))
    }
}

impl Fitting {
    /// Whether values have to fit.
    pub(crate) fn requires_value(&self) -> bool {
        self.value.as_ref().is_some_and(|bound| bound.required)
    }
}
