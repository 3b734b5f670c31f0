//! How schemas are compiled.

use jsonschema::{Draft, PatternOptions, ValidationOptions};

/// Largest compiled form of a pattern, in bytes: a pattern is written by whoever writes the schema.
const PATTERN_BYTES: usize = 1 << 20;

/// Of a draft.
pub(super) fn options(draft: Draft) -> ValidationOptions<'static> {
    let patterns = PatternOptions::regex().size_limit(PATTERN_BYTES).dfa_size_limit(PATTERN_BYTES);
    jsonschema::options().with_draft(draft).with_pattern_options(patterns)
}
