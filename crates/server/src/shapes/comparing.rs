//! Two shapes compared over many rows: what appears, disappears, changes or fails if one takes the place of the other.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::shape::Shapes;
use gonvel_http_api::{CompareShapes, ComparedShapes, Problem, RowsFrom, ShapeCell, ShapeDifference};
use gonvel_runtime::trying;
use gonvel_shape::own::Own;
use gonvel_shape::plan::{Plan, Shape};
use gonvel_shape::run::Context;
use gonvel_shape::ty::Ty;

use super::found;
use super::rows::{Rows, context_of, own, rows};
use super::trying::cell;
use crate::problems::{Body, Refusal};
use crate::state::ServerState;

/// Rows looked at, at most.
const MOST: usize = 100_000;
/// Examples given of each kind.
const EXAMPLES: usize = 5;

type Cells = Vec<ShapeCell>;

/// What comes of a row: the columns, by where it goes, or why it fails.
type Outcome = Result<Vec<(Option<String>, &'static str, Cells)>, String>;

/// Compares a shape with the one in force, over the newest records of a topic or a table's rows.
#[utoipa::path(operation_id = "compareShapes", post, path = "/api/v1/shapes/compare", tag = "shapes", request_body = CompareShapes,
    responses((status = 200, body = ComparedShapes), (status = 404, body = Problem), (status = 422, body = Problem), (status = 502, body = Problem)))]
pub(crate) async fn compare_shapes(
    State(state): State<Arc<ServerState>>,
    Body(request): Body<CompareShapes>,
) -> Result<Json<ComparedShapes>, Refusal> {
    if !(1..=MOST).contains(&request.most) {
        return Err(Refusal::invalid("most", format!("{} rows: give a number from 1 to {MOST}", request.most)));
    }
    let own = own(&state).await?;
    let (before, after) = ((&request.before, &own), (&request.after, &own));
    Ok(Json(compared_with(&state, &request.rows, request.most, before, after).await?))
}

/// Compares what two shapes make of the newest rows, each with functions of one's own.
pub(crate) async fn compared_with(
    state: &ServerState,
    from: &RowsFrom,
    most: usize,
    (was, was_own): (&Shapes, &Own),
    (is, is_own): (&Shapes, &Own),
) -> Result<ComparedShapes, Refusal> {
    let Rows { name, table, batch, .. } = rows(state, from, most).await?;
    let (before, _) = context_of(state, was, was_own.clone()).await?;
    let (after, _) = context_of(state, is, is_own.clone()).await?;
    let (was, is) = (was.clone(), is.clone());
    let compared = tokio::task::spawn_blocking(move || {
        let empty = || ComparedShapes {
            findings: Vec::new(),
            rows: 0,
            same: 0,
            appear: 0,
            disappear: 0,
            change: 0,
            fail: 0,
            columns_gone: Vec::new(),
            columns_new: Vec::new(),
            examples: Vec::new(),
        };
        let compile = |shapes: &Shapes, context: &Context| {
            let shape = Shape { rules: &shapes.rules, steps: shapes.of(&name) };
            Plan::compile(&table, shape, &trying::tables(&context.references), &context.tools)
        };
        let is = compile(&is, &after);
        let Some(is) = is.plan else { return ComparedShapes { findings: found(is.findings), ..empty() } };
        // what does not fit any more lets nothing through
        let was = compile(&was, &before).plan;
        let Some(batch) = batch else { return empty() };
        compared(&batch, was.map(|plan| (plan, before)), (is, after), empty())
    });
    compared.await.map_err(|e| Refusal::invalid("shape", e.to_string()))
}

fn outcomes(batch: &ChangeBatch, plan: &Plan, context: &mut Context) -> BTreeMap<usize, Outcome> {
    let types: Vec<Ty> = plan.output.columns.iter().map(Ty::of).collect();
    let shaped = plan.apply(batch, context);
    let mut out: BTreeMap<usize, Outcome> = BTreeMap::new();
    for part in &shaped.parts {
        for (place, row) in part.rows.iter().enumerate() {
            let image = part.batch.identifying(place);
            let cells = plan.output.columns.iter().zip(image).zip(&types);
            let cells = cells
                .map(|((column, array), ty)| ShapeCell { column: column.name.clone(), value: cell(ty, array.value(place)) })
                .collect();
            if let Ok(list) = out.entry(*row).or_insert_with(|| Ok(Vec::new())) {
                list.push((part.to.clone(), part.batch.kinds[place].word(), cells));
            }
        }
    }
    out.extend(shaped.failed.into_iter().map(|failed| (failed.row, Err(failed.finding))));
    out
}

fn compared(
    batch: &ChangeBatch,
    was: Option<(Plan, Context)>,
    (is, mut after): (Plan, Context),
    mut out: ComparedShapes,
) -> ComparedShapes {
    let names = |plan: &Plan| plan.output.columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>();
    if let Some((was, _)) = &was {
        let (was, is) = (names(was), names(&is));
        out.columns_gone = was.iter().filter(|c| !is.contains(c)).cloned().collect();
        out.columns_new = is.iter().filter(|c| !was.contains(c)).cloned().collect();
    }
    let before = was.map(|(plan, mut context)| outcomes(batch, &plan, &mut context)).unwrap_or_default();
    let now = outcomes(batch, &is, &mut after);
    let key_columns = batch.table.key_columns();
    for row in (0..batch.len()).filter(|row| batch.kinds[*row] != ChangeKind::Truncate) {
        out.rows += 1;
        let first = |outcome: Option<&Outcome>| match outcome {
            Some(Ok(list)) => list.first().map(|(_, _, cells)| cells.clone()).unwrap_or_default(),
            _ => Vec::new(),
        };
        let (what, finding) = match (before.get(&row), now.get(&row)) {
            (_, Some(Err(finding))) => {
                out.fail += 1;
                ("fails", Some(finding.clone()))
            }
            (None | Some(Err(_)), Some(Ok(_))) => {
                out.appear += 1;
                ("appears", None)
            }
            (Some(Ok(_)), None) => {
                out.disappear += 1;
                ("disappears", None)
            }
            (Some(Ok(was)), Some(Ok(is))) if was != is => {
                out.change += 1;
                ("changes", None)
            }
            _ => {
                out.same += 1;
                continue;
            }
        };
        if out.examples.iter().filter(|e| e.what == what).count() < EXAMPLES {
            let image = batch.identifying(row);
            let key: Vec<String> = key_columns
                .iter()
                .map(|&c| cell(&Ty::of(&batch.table.columns[c]), image[c].value(row)).unwrap_or_default())
                .collect();
            out.examples.push(ShapeDifference {
                what: what.to_owned(),
                key: key.join(", "),
                before: first(before.get(&row)),
                after: first(now.get(&row)),
                finding,
            });
        }
    }
    out
}
