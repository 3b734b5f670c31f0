//! The registry: schemas, their versions, and the topics bound to them.

pub(crate) mod bound;
pub(crate) mod checking;
pub(crate) mod fitting;
pub(crate) mod impact;
pub(crate) mod inferring;
pub(crate) mod shapes_touched;

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use gonvel_core::avro::fingerprint::sha256;
use gonvel_core::civil::rfc3339;
use gonvel_core::naming::{SchemaName, TopicName};
use gonvel_core::ports::TopicLog;
use gonvel_core::schemas as core;
use gonvel_http_api as api;
use gonvel_http_api::{
    BindingRequest, LARGEST_LONG_PAGE, LongPagingQuery, NewSchema, Page, Plan, PlanQuery, Problem, ProblemType, Registered,
    Schema, SchemaAbout, SchemaBinding, SchemaEdit, SchemaQuery, SchemaSummary, SchemaText, SchemaUses, SchemaVersion,
};
use gonvel_storage::Database;
use gonvel_storage::catalog::schemas::{About, Binding, ListedSchema, NewText, StoredSchema, StoredVersion};

use crate::creating::{Creating, KeyHeader};
use crate::listing::Listed;
use crate::plans::{self, OrPlan, counted};
use crate::problems::{Body, Path, Query, Refusal, name_at};
use crate::revisions::{IfMatch, IfMatchHeader, Tagged};
use crate::state::ServerState;
use crate::topic_users::users;

/// Longest text that is said of a schema.
const LONGEST_SAID: usize = 2_000;

fn binding(binding: Binding) -> SchemaBinding {
    SchemaBinding { topic: binding.topic, role: binding.role, required: binding.required }
}

fn version(language: core::Language, stored: StoredVersion) -> SchemaVersion {
    SchemaVersion {
        id: stored.id,
        version: stored.version,
        sha256: sha256(language == core::Language::Avro, &stored.standalone),
        text: stored.text,
        references: stored.refers,
        fingerprint: format!("{:016x}", stored.fingerprint),
        author: stored.author,
        why: stored.why,
        created_at: rfc3339(stored.created_at.timestamp_micros()),
    }
}

fn about(description: String, owner: String, labels: Vec<String>, rule: api::Rule, retired: bool) -> Result<About, Refusal> {
    let too_long = |field: &str, text: &str| {
        let detail = format!("{field} has {} characters; at most {LONGEST_SAID} are kept", text.chars().count());
        Refusal::invalid(field, detail)
    };
    if description.chars().count() > LONGEST_SAID {
        return Err(too_long("description", &description));
    }
    if owner.chars().count() > LONGEST_SAID {
        return Err(too_long("owner", &owner));
    }
    let mut labels: Vec<String> = labels.iter().map(|l| l.trim().to_owned()).filter(|l| !l.is_empty()).collect();
    labels.sort_unstable();
    labels.dedup();
    if labels.len() > 50 || labels.iter().any(|l| l.chars().count() > 100) {
        return Err(Refusal::invalid("labels", "give at most 50 labels of at most 100 characters"));
    }
    Ok(About { description, owner, labels, rule, retired })
}

fn checked_role(role: &str) -> Result<(), Refusal> {
    match role {
        "key" | "value" => Ok(()),
        other => Err(Refusal::invalid("role", format!("{other:?} is neither key nor value"))),
    }
}

async fn uses(state: &ServerState, name: &SchemaName) -> Result<SchemaUses, Refusal> {
    let (bound, schemas) = state.database.schema_uses(name).await?;
    let connectors = state.database.connectors().await?;
    let mut uses = SchemaUses { schemas, ..SchemaUses::default() };
    for bound in bound {
        let (written, read) = users(&connectors, &bound.topic);
        uses.written_by.extend(written);
        uses.read_by.extend(read);
        let topic = state.database.topic(&TopicName::parse(bound.topic.clone())?).await?;
        uses.readers.extend(state.database.readers_of(topic.id).await?);
        uses.topics.push(binding(bound));
    }
    for names in [&mut uses.written_by, &mut uses.read_by, &mut uses.readers] {
        names.sort_unstable();
        names.dedup();
    }
    Ok(uses)
}

async fn whole(state: &ServerState, name: &SchemaName) -> Result<Schema, Refusal> {
    let (stored, versions) = state.database.schema(name).await?;
    let (revision, written_in) = (stored.revision, stored.language);
    Ok(Schema {
        about: presented(stored),
        revision,
        versions: versions.into_iter().rev().map(|v| version(written_in, v)).collect(),
        uses: uses(state, name).await?,
    })
}

fn presented(stored: StoredSchema) -> SchemaAbout {
    SchemaAbout {
        name: stored.name,
        language: stored.language,
        description: stored.description,
        owner: stored.owner,
        labels: stored.labels,
        rule: stored.rule,
        retired_at: stored.retired_at.map(|at| rfc3339(at.timestamp_micros())),
    }
}

fn summary(listed: ListedSchema) -> SchemaSummary {
    SchemaSummary {
        about: presented(listed.schema),
        version: listed.latest.map(|(version, _)| version),
        latest_at: listed.latest.map(|(_, at)| rfc3339(at.timestamp_micros())),
        topics: listed.topics.into_iter().map(binding).collect(),
        fields: listed.fields,
    }
}

/// All schemas.
pub(crate) async fn all(state: &ServerState) -> Result<Vec<SchemaSummary>, Refusal> {
    Ok(state.database.search_schemas("", "", i64::MAX).await?.into_iter().map(summary).collect())
}

/// Schemas by name, a page at a time; with a search those that contain it in name, description, owner, labels or fields.
#[utoipa::path(operation_id = "listSchemas", get, path = "/api/v1/schemas", tag = "schemas", params(SchemaQuery, LongPagingQuery),
    responses((status = 200, body = Page<SchemaSummary>), (status = 422, body = Problem)))]
pub(crate) async fn list(
    State(state): State<Arc<ServerState>>,
    Listed { which, paging }: Listed<SchemaQuery, LARGEST_LONG_PAGE>,
) -> Result<Json<Page<SchemaSummary>>, Refusal> {
    let after: String = paging.after()?.unwrap_or_default();
    let found = state.database.search_schemas(which.search.trim(), &after, paging.to_read()).await?;
    Ok(Json(paging.page_of_read(found, |found| found.schema.name.clone()).map(summary)))
}

/// Makes a schema with its first version.
#[utoipa::path(operation_id = "createSchema", post, path = "/api/v1/schemas", tag = "schemas", request_body = NewSchema, params(KeyHeader),
    responses((status = 201, body = Schema), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn create(
    State(state): State<Arc<ServerState>>,
    Creating(creation, new): Creating<NewSchema>,
) -> Result<(StatusCode, Tagged<Schema>), Refusal> {
    let make = async |database: &Database| {
        let name = SchemaName::parse(new.name)?;
        let about = about(new.description, new.owner, new.labels, new.rule, false)?;
        let refers = &new.references;
        let written_in = new.language;
        let parsed = checking::parsed(&state, written_in, &new.text, refers).await?;
        let text = NewText { text: &new.text, parsed: &parsed, refers, author: &new.author, why: &new.why };
        database.create_schema(&name, written_in, &about, &text).await?;
        Ok(name.to_string())
    };
    creation.make(&state, make, async |name| tagged(&state, &SchemaName::parse(name)?).await).await
}

async fn tagged(state: &ServerState, name: &SchemaName) -> Result<Tagged<Schema>, Refusal> {
    let schema = whole(state, name).await?;
    Ok(Tagged(schema.revision, schema))
}

/// A schema with its versions and what uses it.
#[utoipa::path(operation_id = "getSchema", get, path = "/api/v1/schemas/{name}", tag = "schemas",
    responses((status = 200, body = Schema), (status = 404, body = Problem)))]
pub(crate) async fn one(State(state): State<Arc<ServerState>>, Path(name): Path<String>) -> Result<Tagged<Schema>, Refusal> {
    tagged(&state, &SchemaName::parse(name)?).await
}

/// Changes what is said of a schema, its rule, or whether it is retired. It is retired only when nothing writes by it.
#[utoipa::path(operation_id = "changeSchema", put, path = "/api/v1/schemas/{name}", tag = "schemas", request_body = SchemaEdit,
    params(IfMatchHeader),
    responses((status = 200, body = Schema), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn change(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    at: IfMatch,
    Body(edit): Body<SchemaEdit>,
) -> Result<Tagged<Schema>, Refusal> {
    let name = SchemaName::parse(name)?;
    let revision = at.to_change(&format!("the schema {name}"), state.database.schema(&name).await?.0.revision)?;
    let about = about(edit.description, edit.owner, edit.labels, edit.rule, edit.retired)?;
    if edit.retired {
        unused(&name, &uses(&state, &name).await?)?;
    }
    state.database.change_schema(&name, revision, &about).await?;
    tagged(&state, &name).await
}

/// What uses a schema.
fn used_by(uses: &SchemaUses) -> Vec<String> {
    let mut by: Vec<String> = uses.topics.iter().map(|b| format!("the {}s of {}", b.role, b.topic)).collect();
    by.extend(uses.written_by.iter().chain(&uses.read_by).map(|c| format!("the connector {c}")));
    by.extend(uses.readers.iter().map(|r| format!("the reader {r}")));
    by.extend(uses.schemas.iter().map(|s| format!("the schema {s}")));
    by
}

/// Refuses while something uses a schema, and says what.
fn unused(name: &SchemaName, uses: &SchemaUses) -> Result<(), Refusal> {
    let by = used_by(uses);
    if by.is_empty() {
        return Ok(());
    }
    let detail = format!("{name} is used by {}", by.join(", "));
    Err(Refusal::new(ProblemType::InUse, detail).remedied("let go of it there first"))
}

/// Deletes a schema with all its versions, when nothing reads or writes by it. Records written by it show as they are stored.
#[utoipa::path(operation_id = "deleteSchema", delete, path = "/api/v1/schemas/{name}", tag = "schemas", params(PlanQuery, IfMatchHeader),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(crate) async fn remove(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Query(query): Query<PlanQuery>,
    at: IfMatch,
) -> Result<OrPlan<StatusCode>, Refusal> {
    let name = SchemaName::parse(name)?;
    let (stored, versions) = state.database.schema(&name).await?;
    at.holds(&format!("the schema {name}"), stored.revision)?;
    let against = used_by(&uses(&state, &name).await?);
    let count = counted(i64::try_from(versions.len()).unwrap_or(i64::MAX), "version");
    let says = format!("{name} is deleted with {count}: records that were written by it show as they are stored.");
    let plan = Plan { needs_confirming: true, says: vec![says], against, ..Plan::default() };
    let of = ("deleteSchema", name.as_str(), versions.iter().map(|version| version.id).collect::<Vec<_>>());
    if let Some(plan) = plans::settle(&query, plan, &of, Vec::new())? {
        return Ok(OrPlan::Plan(plan));
    }
    delete(&state, &name).await?;
    Ok(OrPlan::Done(StatusCode::NO_CONTENT))
}

/// Deletes a schema that nothing uses.
pub(crate) async fn delete(state: &ServerState, name: &SchemaName) -> Result<(), Refusal> {
    unused(name, &uses(state, name).await?)?;
    state.database.delete_schema(name).await?;
    state.forget_fittings();
    Ok(())
}

/// Registers a text as the next version; one that a version has already gives that version.
#[utoipa::path(operation_id = "registerSchemaVersion", post, path = "/api/v1/schemas/{name}/versions", tag = "schemas", request_body = SchemaText,
    responses((status = 200, body = Registered), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn register(
    State(state): State<Arc<ServerState>>,
    Path(name): Path<String>,
    Body(new): Body<SchemaText>,
) -> Result<Json<Registered>, Refusal> {
    let name = SchemaName::parse(name)?;
    let refers = &new.references;
    let (stored, _) = state.database.schema(&name).await?;
    let parsed = checking::parsed(&state, stored.language, &new.text, refers).await?;
    let text = NewText { text: &new.text, parsed: &parsed, refers, author: &new.author, why: &new.why };
    let version = state.database.add_version(&name, &text).await?;
    state.forget_fittings();
    Ok(Json(Registered { version }))
}

/// Which version of which schema a record was written with, by the number that the record has.
#[utoipa::path(operation_id = "getSchemaOfRecord", get, path = "/api/v1/schema-versions/{id}", tag = "schemas",
    responses((status = 200, body = api::SchemaOfRecord), (status = 404, body = Problem)))]
pub(crate) async fn of_record(
    State(state): State<Arc<ServerState>>,
    Path(id): Path<i64>,
) -> Result<Json<api::SchemaOfRecord>, Refusal> {
    let (name, version) = state.database.schema_of_version(id).await?;
    Ok(Json(api::SchemaOfRecord { name, version }))
}

/// Binds a topic's keys or values to a schema. Where it is required, a record that does not fit is refused from then on.
#[utoipa::path(operation_id = "bindTopicSchema", put, path = "/api/v1/topics/{name}/schemas/{role}", tag = "schemas", request_body = BindingRequest,
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn bind(
    State(state): State<Arc<ServerState>>,
    Path((topic, role)): Path<(String, String)>,
    Body(request): Body<BindingRequest>,
) -> Result<StatusCode, Refusal> {
    checked_role(&role)?;
    let (topic, schema) = (TopicName::parse(topic)?, SchemaName::parse(request.schema).map_err(name_at("schema"))?);
    state.database.bind_schema(&topic, &role, Some((&schema, request.required))).await?;
    state.forget_fittings();
    Ok(StatusCode::NO_CONTENT)
}

/// Lets go of the schema that a topic's keys or values are bound to. Records keep the version they were written with.
#[utoipa::path(operation_id = "unbindTopicSchema", delete, path = "/api/v1/topics/{name}/schemas/{role}", tag = "schemas",
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn unbind(
    State(state): State<Arc<ServerState>>,
    Path((topic, role)): Path<(String, String)>,
) -> Result<StatusCode, Refusal> {
    checked_role(&role)?;
    state.database.bind_schema(&TopicName::parse(topic)?, &role, None).await?;
    state.forget_fittings();
    Ok(StatusCode::NO_CONTENT)
}
