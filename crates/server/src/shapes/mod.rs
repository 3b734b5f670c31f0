//! Shapes: the functions there are, a shape tried on rows, two shapes compared over many.

mod comparing;
mod rows;
mod trying;

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::ports::FleetStore;
use gonvel_http_api::{Page, PagingQuery, ShapeColumn, ShapeFinding, ShapeFunction};
use gonvel_shape::columns::Columns;
use gonvel_shape::finding::{Finding, Weight};
use gonvel_shape::functions;

use crate::listing::{Listed, Unfiltered};
use crate::problems::Refusal;
use crate::state::ServerState;

pub(crate) use comparing::*;
pub(crate) use rows::{context, fits};
pub(crate) use trying::*;

/// The functions that expressions may use.
#[utoipa::path(operation_id = "listShapeFunctions", get, path = "/api/v1/shapes/functions", tag = "shapes",
    params(PagingQuery), responses((status = 200, body = Page<ShapeFunction>)))]
pub(crate) async fn functions(
    State(state): State<Arc<ServerState>>,
    Listed { paging, .. }: Listed<Unfiltered>,
) -> Result<Json<Page<ShapeFunction>>, Refusal> {
    let one = |f: &functions::Function| ShapeFunction {
        name: f.name.to_owned(),
        group: f.group.word().to_owned(),
        signatures: f.signatures.iter().map(functions::Signature::text).collect(),
        line: f.line.to_owned(),
        example: f.example.to_owned(),
        result: f.result.to_owned(),
    };
    let mut out: Vec<ShapeFunction> = functions::all().iter().map(one).collect();
    let conditional = |name: &str, signature: &str, line: &str, example: &str, result: &str| ShapeFunction {
        name: name.to_owned(),
        group: functions::Group::Conditions.word().to_owned(),
        signatures: vec![signature.to_owned()],
        line: line.to_owned(),
        example: example.to_owned(),
        result: result.to_owned(),
    };
    out.extend([
        conditional(
            "case",
            "WHEN condition THEN any … ELSE any END → any",
            "The first whose condition holds.",
            "CASE WHEN 7 > 5 THEN 'heavy' ELSE 'light' END",
            "heavy",
        ),
        conditional("coalesce", "(any, …) → any", "The first that is not null.", "coalesce(NULL, 'none')", "none"),
        conditional("nullif", "(any, any) → any", "Null if both are the same, else the first.", "nullif('', '')", "null"),
        conditional("greatest", "(any, …) → any", "The greatest that is not null.", "greatest(3, 7, 5)", "7"),
        conditional("least", "(any, …) → any", "The least that is not null.", "least(3, 7, 5)", "3"),
        conditional(
            "cast",
            "any AS type → type",
            "Another type; a value that does not fit makes its row fail.",
            "CAST('7' AS integer)",
            "7",
        ),
    ]);
    let own = state.database.own_functions().await?;
    out.extend(own.into_iter().map(|function| {
        let first = function.examples.first();
        let given = first.map(|e| e.given.join(", ")).unwrap_or_default();
        ShapeFunction {
            group: "your own".to_owned(),
            signatures: vec![function.signature()],
            line: function.description.lines().next().unwrap_or_default().to_owned(),
            example: format!("{}({given})", function.name),
            result: first.and_then(|e| e.gives.clone()).unwrap_or_else(|| "null".to_owned()),
            name: function.name,
        }
    }));
    Ok(Json(paging.page_in_order(out)?))
}

fn shown(columns: &Columns) -> Vec<ShapeColumn> {
    let one = |f: &gonvel_shape::columns::Field| ShapeColumn {
        name: f.name.clone(),
        ty: f.source_type.to_string(),
        key: f.key,
        nullable: f.nullable,
    };
    columns.fields.iter().map(one).collect()
}

pub(crate) fn found(findings: Vec<Finding>) -> Vec<ShapeFinding> {
    let one = |f: Finding| ShapeFinding {
        wrong: f.weight == Weight::Error,
        step: f.step,
        field: f.field.to_owned(),
        from: f.span.map(|s| s.from),
        to: f.span.map(|s| s.to),
        message: f.message,
        suggestion: f.suggestion,
    };
    findings.into_iter().map(one).collect()
}
