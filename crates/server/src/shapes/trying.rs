//! A shape tried on a few rows: what each step does to them, what is wrong, what goes on.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::column::{ColumnArray, Value};
use gonvel_core::naming::TopicName;
use gonvel_core::record_form::RecordForm;
use gonvel_core::table::TableSchema;
use gonvel_http_api::{Problem, ShapeFinding, ShapeOutcome, ShapeRow, ShapeSchema, ShapeStage, TriedShape, TryShape};
use gonvel_runtime::trying;
use gonvel_shape::cast::text_of;
use gonvel_shape::columns::Columns;
use gonvel_shape::finding::Finding;
use gonvel_shape::lookups::cannot_be_read;
use gonvel_shape::plan::{Plan, Shape};
use gonvel_shape::run::{Context, Traced};
use gonvel_shape::sql_view::statement;
use gonvel_shape::ty::Ty;

use super::rows::{Rows, context_with, made, own, rows};
use super::{found, shown};
use crate::problems::{Body, Refusal};
use crate::schemas::checking::next_version;
use crate::state::ServerState;

/// What is said where a trial made keyed hashes or tokens.
const THROWN_AWAY: &str =
    "keyed hashes and tokens are made with a secret of this trial's own: a running connector writes others";
/// Rows of a sample.
const ROWS: usize = 8;
/// Rows that a person may make.
const MADE: usize = 20;

/// A cell's text.
pub(super) fn cell(ty: &Ty, value: Value<'_>) -> Option<String> {
    /// Characters of a cell that are shown.
    const MOST: usize = 400;
    if value == Value::Null {
        return None;
    }
    let text = text_of(ty, value);
    Some(if text.len() > MOST { text.chars().take(MOST).chain(['…']).collect() } else { text.into_owned() })
}

fn cells(types: &[Ty], columns: &[ColumnArray], row: usize) -> Vec<Option<String>> {
    if columns.is_empty() {
        // an image that no row has
        return vec![None; types.len()];
    }
    columns.iter().zip(types).map(|(column, ty)| cell(ty, column.value(row))).collect()
}

fn types(columns: &Columns) -> Vec<Ty> {
    columns.fields.iter().map(|f| f.ty.clone()).collect()
}

/// The rows of a batch as they are after a step, of each the image that says most of it.
fn stage_rows(batch: &ChangeBatch, stage: &Traced) -> Vec<ShapeRow> {
    let types = types(&stage.columns);
    let one = |row: usize| {
        let image = stage.image(batch, row);
        ShapeRow { cells: cells(&types, &image.columns, row), there: image.present[row] }
    };
    (0..batch.len()).map(one).collect()
}

fn coming(batch: &ChangeBatch) -> Vec<ShapeRow> {
    let types: Vec<Ty> = batch.table.columns.iter().map(Ty::of).collect();
    let one = |row: usize| {
        let image = batch.identifying(row);
        ShapeRow { cells: cells(&types, image, row), there: batch.kinds[row] != ChangeKind::Truncate }
    };
    (0..batch.len()).map(one).collect()
}

/// Tries a shape on the newest records of a topic, or on a table's rows. Nothing is written.
#[utoipa::path(operation_id = "tryShape", post, path = "/api/v1/shapes/try", tag = "shapes", request_body = TryShape,
    responses((status = 200, body = TriedShape), (status = 404, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn try_shape(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<TryShape>,
) -> Result<Json<TriedShape>, Refusal> {
    if request.made.len() > MADE {
        return Err(Refusal::invalid("made", format!("{} rows: make at most {MADE}", request.made.len())));
    }
    let Rows { name, table, batch, none } = rows(&state, &request.rows, ROWS).await?;
    let mut batches: Vec<ChangeBatch> = batch.into_iter().filter(|b| !b.is_empty()).collect();
    batches.extend(made(&table, &request.made)?);
    let store = Arc::new(state.database.clone());
    let mut looked_into = state.references.take(store, &request.shape).await?;
    let unread = looked_into.unread.clone();
    let mut context = context_with(&state, own(&state).await?, std::mem::take(&mut looked_into.rows));
    let topic = request.topic.clone();
    let values = request.values;
    // working it out is work for the processor: the threads that answer requests must not wait for it
    let worked = tokio::task::spawn_blocking(move || {
        let (mut tried, output) = tried(&request, &name, &table, &batches, &mut context, none);
        explain(&mut tried.findings, &unread);
        if context.tools.key_was_asked() {
            tried.findings.extend(found(vec![Finding::warning(THROWN_AWAY)]));
        }
        (tried, output, context.references)
    });
    let (mut tried, output, rows) = worked.await.map_err(|e| Refusal::invalid("shape", e.to_string()))?;
    looked_into.rows = rows;
    state.references.give_back(looked_into);
    if let (Some(topic), Some(output)) = (topic, output) {
        let text = RecordForm::of(output, values).value_text().to_owned();
        let verdict = next_version(&state, &TopicName::parse(topic)?, "value", &text).await?;
        let (passes, differences) = verdict.unwrap_or((true, Vec::new()));
        tried.schema = Some(ShapeSchema { text, passes, differences });
    }
    Ok(Json(tried))
}

/// Says why tables cannot be read, where that was found.
fn explain(findings: &mut [ShapeFinding], unread: &[(String, String)]) {
    for finding in findings.iter_mut().filter(|f| f.suggestion.is_none()) {
        let about = unread.iter().find(|(name, _)| finding.message == cannot_be_read(name));
        finding.suggestion = about.map(|(_, why)| why.clone());
    }
}

fn tried(
    request: &TryShape,
    name: &str,
    table: &Arc<TableSchema>,
    batches: &[ChangeBatch],
    context: &mut Context,
    no_rows: Option<String>,
) -> (TriedShape, Option<Arc<TableSchema>>) {
    let shape = Shape { rules: &request.shape.rules, steps: request.shape.of(name) };
    let compiled = Plan::compile(table, shape, &trying::tables(&context.references), &context.tools);
    let mut tried = TriedShape {
        findings: found(compiled.findings),
        before: compiled.before.iter().map(shown).collect(),
        statement: compiled.plan.as_ref().and_then(statement),
        columns: shown(&Columns::of(table)),
        rows: batches.iter().flat_map(coming).collect(),
        stages: Vec::new(),
        outcomes: Vec::new(),
        schema: None,
        no_rows: no_rows.filter(|_| batches.is_empty()),
    };
    let whole = compiled.plan.is_some();
    let plan = compiled.plan.or_else(|| {
        // where a step is wrong, rows are tried as far as they come before it
        let wrong = tried.findings.iter().filter(|f| f.wrong).map(|f| f.step).min().flatten()?;
        let shape = Shape { steps: shape.steps.get(..wrong)?, ..shape };
        Plan::compile(table, shape, &trying::tables(&context.references), &context.tools).plan
    });
    let Some(plan) = plan else { return (tried, None) };
    for batch in batches {
        let (stages, shaped) = plan.trace(batch, context);
        for (number, stage) in stages.iter().enumerate() {
            let rows = stage_rows(batch, stage);
            match tried.stages.get_mut(number) {
                Some(known) => known.rows.extend(rows),
                None => tried.stages.push(ShapeStage { step: stage.step, columns: shown(&stage.columns), rows }),
            }
        }
        if !whole {
            continue;
        }
        let mut outcomes: Vec<ShapeOutcome> = batch
            .kinds
            .iter()
            .map(|kind| ShapeOutcome { kind: kind.word().to_owned(), becomes: Vec::new(), to: None, finding: None })
            .collect();
        for part in &shaped.parts {
            for (kind, row) in part.batch.kinds.iter().zip(&part.rows) {
                outcomes[*row].becomes.push(kind.word().to_owned());
                outcomes[*row].to = outcomes[*row].to.take().or_else(|| part.to.clone());
            }
        }
        for failed in shaped.failed {
            outcomes[failed.row].finding = Some(failed.finding);
        }
        tried.outcomes.extend(outcomes);
    }
    let output = whole.then(|| plan.output.clone());
    (tried, output)
}
