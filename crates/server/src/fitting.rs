//! Rows fitted to a registered schema: its fields linked with their columns.

use std::collections::HashMap;
use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use gonvel_core::connector::Definition;
use gonvel_core::fitting::{Linked, link, target_fields};
use gonvel_core::naming::SchemaName;
use gonvel_core::ports::{PortError, SchemaStore};
use gonvel_core::preflight::Check;
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::table::{Column, TableSchema};
use gonvel_http_api::{FitField, FitRequest, Fitted, Problem};
use gonvel_shape::ty::parse_type;

use crate::problems::{Body, Path, Refusal};
use crate::state::ServerState;

/// Links a schema's fields with columns: by what was chosen, then by name and alias, and shows what is left by type. Nothing is saved.
#[utoipa::path(operation_id = "fitToSchema", post, path = "/api/v1/schemas/{name}/fit", tag = "schemas", request_body = FitRequest,
    responses((status = 200, body = Fitted), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn fit(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(request): Body<FitRequest>,
) -> Result<Json<Fitted>, Refusal> {
    let name = SchemaName::parse(name)?;
    let (_, version, language, text) = state.database.latest(&name).await?;
    let schema = ValueSchema::new(language, &text).map_err(|e| Refusal::invalid("schema", e.to_string()))?;
    let mut columns = Vec::with_capacity(request.columns.len());
    for column in &request.columns {
        // a type that expressions do not know travels as text
        let ty = parse_type(&column.ty);
        let source_type = ty.as_ref().map_or_else(|| column.ty.as_str().into(), gonvel_shape::ty::Ty::data_type);
        let ty = ty.map_or(gonvel_core::column::ColumnType::Verbatim, |ty| ty.column_type());
        columns.push(Column { name: column.name.clone(), ty, source_type, key: false });
    }
    let linked = link(target_fields(schema.parsed()), &columns, &request.links);
    let used: Vec<&String> =
        linked.iter().filter(|l| l.how.is_some_and(|h| h.is_taken())).filter_map(|l| l.column.as_ref()).collect();
    let unused = columns.iter().filter(|c| !used.contains(&&c.name)).map(|c| c.name.clone()).collect();
    let field = |linked: Linked| FitField {
        finding: linked.finding(),
        path: linked.field.path,
        holds: linked.field.kind.word(),
        needed: linked.field.needed,
        column: linked.column,
        how: linked.how,
        converts: linked.converts,
    };
    Ok(Json(Fitted { schema: name.to_string(), version, language, fields: linked.into_iter().map(field).collect(), unused }))
}

/// Checks the schemas that a connector between topics writes under, against the columns of its rows.
pub(crate) async fn checks(
    state: &ServerState,
    definition: &Definition,
    shaped: &HashMap<String, TableSchema>,
) -> Result<Vec<Check>, Refusal> {
    let Definition::Topics(topics) = definition else { return Ok(Vec::new()) };
    let mut checks = Vec::new();
    for carried in &topics.carries {
        let Some(fit) = &carried.fit else { continue };
        let (name, schema) = (format!("fit {}", carried.to), SchemaName::parse(fit.schema.as_str())?);
        let failed = |finding: String, remedy: &str| {
            Check::failed(&name, "carries", finding).means("its rows could not be written").remedy(remedy.to_owned())
        };
        let (_, version, language, text) = match state.database.latest(&schema).await {
            Err(PortError::NotFound { .. }) => {
                checks.push(failed(format!("there is no schema {schema}"), "register it, or choose another"));
                continue;
            }
            found => found?,
        };
        let Ok(parsed) = ValueSchema::new(language, &text) else { continue };
        let said = format!("{schema}:{version}");
        let Some(table) = shaped.get(&carried.name()) else { continue };
        match gonvel_core::fitting::FitForm::new(Arc::new(parsed), &said, table, fit) {
            Ok(_) => checks.push(Check::passed(&name, format!("every field of {said} has what it needs"))),
            Err(finding) => checks.push(failed(finding, "link these fields with columns, or change the shape")),
        }
    }
    Ok(checks)
}
