//! What a draft of a schema does to the shapes that use its fields: steps on its topic's rows, and lookups in its topic.

use std::sync::Arc;

use gonvel_core::connector::Definition;
use gonvel_core::table::TableSchema;
use gonvel_runtime::trying;
use gonvel_shape::plan::{Plan, Shape};

use crate::preflights::inputs;
use crate::problems::Refusal;
use crate::shapes::context;
use crate::state::ServerState;

/// A draft's columns beside those that are in force.
pub(super) struct Drafted<'d> {
    /// The topic.
    pub(super) topic: &'d str,
    /// The columns in force, if records have any.
    pub(super) old: Option<&'d TableSchema>,
    /// Those of the draft.
    pub(super) new: &'d TableSchema,
    /// The fields that change.
    pub(super) fields: &'d [String],
}

/// What a connector's shape makes of a draft.
pub(super) struct Touched {
    /// The fields that change and that its steps use.
    pub(super) fields: Vec<String>,
    /// What that comes to.
    pub(super) meaning: String,
}

/// Whether a connector's shape uses fields that change, and what comes of that; none if it uses none of them and fits.
pub(super) async fn touched(
    state: &ServerState,
    definition: &Definition,
    draft: &Drafted<'_>,
) -> Result<Option<Touched>, Refusal> {
    let shapes = definition.shape();
    let looked_into = shapes.references().into_iter().find(|reference| reference.name == draft.topic);
    let reads = definition.reads(draft.topic);
    if shapes.is_nothing() || !reads && looked_into.is_none() {
        return Ok(None);
    }
    let (context, _) = context(state, shapes).await?;
    let compile = |name: &str, table: &TableSchema, looked: Option<&TableSchema>| {
        let mut references = trying::tables(&context.references);
        if let (Some(looked), true) = (looked, references.contains_key(draft.topic)) {
            references.insert(draft.topic.to_owned(), Arc::new(looked.clone()));
        }
        let shape = Shape { rules: &shapes.rules, steps: shapes.of(name) };
        let compiled = Plan::compile(&Arc::new(table.clone()), shape, &references, &context.tools);
        if compiled.plan.is_some() { None } else { compiled.findings.into_iter().next() }
    };
    let mut used: Vec<String> = Vec::new();
    let mut finding = None;
    if reads {
        finding = compile(draft.topic, draft.new, None).map(|found| format!("{}, {found}", draft.topic));
        if let Some(old) = draft.old.filter(|old| compile(draft.topic, old, None).is_none()) {
            // what its steps use is what they do not fit without
            let without = |field: &str| {
                let columns = old.columns.iter().filter(|column| column.name != field).cloned().collect();
                TableSchema { columns, ..old.clone() }
            };
            let there = |field: &&String| old.columns.iter().any(|column| column.name == **field);
            let needed = |field: &&String| compile(draft.topic, &without(field), None).is_some();
            used.extend(draft.fields.iter().filter(there).filter(needed).cloned());
        }
    }
    if let Some(looked) = looked_into {
        let taken = |field: &&String| looked.keys.contains(field) || looked.columns.contains(field);
        used.extend(draft.fields.iter().filter(taken).cloned());
        for (name, table) in inputs(state, definition).await? {
            let table = if name == draft.topic { draft.new } else { &table };
            finding = finding.or_else(|| compile(&name, table, Some(draft.new)).map(|found| format!("{name}, {found}")));
        }
    }
    used.sort_unstable();
    used.dedup();
    let meaning = match finding {
        Some(finding) => format!("could not shape its records: {finding}"),
        None if used.is_empty() => return Ok(None),
        None => "uses these in its steps, and they fit".to_owned(),
    };
    Ok(Some(Touched { fields: used, meaning }))
}
