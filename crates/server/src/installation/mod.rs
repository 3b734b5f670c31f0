//! The installation as manifests: written, compared with what is there, and made so.

mod steps;
mod there;

use std::collections::BTreeSet;
use std::panic::AssertUnwindSafe;
use std::sync::Arc;

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures::FutureExt;
use gonvel_core::naming::ReaderName;
use gonvel_core::ports::{FleetStore, PortError, ReaderStore, TopicLog};
use gonvel_core::topic_settings::Keep;
use gonvel_http_api::{
    ApplyRequest, InstallationPlan, ManifestsQuery, NeededSecret, Operation, OperationKind, OperationResult, Plan as Shown,
    PlanQuery, PlannedStep, Problem, ProblemType, StepOutcome,
};
use gonvel_manifests::{self as manifests, Deed, Fault, Found, Plan, Step, Thing};
use gonvel_runtime::systems;
use gonvel_storage::catalog::connectors::Connector;
use gonvel_storage::operations::NewOperation;
use serde_json::json;

use self::steps::{Carrying, Secrets};
use self::there::installation;
use crate::connections::{guards_less, refused_address};
use crate::creating::{Creating, KeyHeader};
use crate::edits::judged;
use crate::manifests::{KnownNames, names};
use crate::operations::working::{Halt, Working, work};
use crate::operations::{self, Begun, word};
use crate::plans::{self, OrPlan, counted};
use crate::problems::{Query, Refusal};
use crate::state::ServerState;
use crate::who::Who;

/// What is there as manifests. The same installation gives the same text, byte for byte.
#[utoipa::path(operation_id = "exportManifests", get, path = "/api/v1/manifests", tag = "installation", params(ManifestsQuery),
    responses((status = 200, body = String, content_type = "application/yaml"), (status = 422, body = Problem)))]
pub(crate) async fn export(
    State(state): State<Arc<ServerState>>,
    Query(query): Query<ManifestsQuery>,
) -> Result<Response, Refusal> {
    let there = installation(&state).await?;
    let named: Option<BTreeSet<&str>> = query.names.as_deref().map(|names| names.split(',').map(str::trim).collect());
    let wanted = |thing: &&Thing| {
        query.kind.is_none_or(|kind| kind == thing.kind()) && named.as_ref().is_none_or(|names| names.contains(thing.name()))
    };
    let text = manifests::write(there.things.iter().filter(wanted));
    Ok(([(header::CONTENT_TYPE, "application/yaml")], text).into_response())
}

/// What stands in manifests, and how the installation becomes so or all that is wrong there.
async fn compared(state: &ServerState, request: &ApplyRequest) -> Result<(Vec<Found>, Result<Plan, Vec<Fault>>), Refusal> {
    let files: Vec<manifests::ManifestFile> =
        request.files.iter().map(|f| manifests::ManifestFile { name: f.name.clone(), text: f.text.clone() }).collect();
    let mut there = installation(state).await?;
    there.other_secrets = other_secrets(state, &request.secrets).await?;
    let prune = request.prune;
    // thousands of manifests are work for the processor: the threads that answer requests must not wait for it
    let compared = tokio::task::spawn_blocking(move || {
        let (found, mut faults) = manifests::read(&files, &systems::kinds());
        for one in &found {
            let Thing::Connection(text) = &one.thing else { continue };
            if let Some((field, finding)) = refused_address(text) {
                faults.push(one.fault(&format!("{field}:"), finding));
            }
        }
        for (one, kind, definition) in manifests::reaching(&found, &there) {
            faults.extend(systems::unable(&kind, &definition).into_iter().map(|error| {
                let at = error.field().map(|field| format!("{field}:")).unwrap_or_default();
                one.fault(&at, error.to_string())
            }));
        }
        // what cannot be read is not there for what refers to it either: only the first faults are told
        let plan = if faults.is_empty() { manifests::plan(&found, &there, prune) } else { Err(faults) };
        (found, plan)
    });
    compared.await.map_err(|e| PortError::TryAgain { during: "comparing manifests", cause: Box::new(e) }.into())
}

/// The secrets that were given and are not the kept ones.
async fn other_secrets(state: &ServerState, given: &Secrets) -> Result<BTreeSet<(String, String)>, Refusal> {
    let mut other = BTreeSet::new();
    if given.is_empty() {
        return Ok(other);
    }
    for kept in state.database.connections().await? {
        let Some(fields) = given.get(&kept.name) else { continue };
        let address = state.database.address(kept.id).await?;
        for (field, secret) in fields {
            if address.secrets.get(field).is_none_or(|known| known.expose() != secret) {
                other.insert((kept.name.clone(), field.clone()));
            }
        }
    }
    Ok(other)
}

/// The secrets that connections of manifests refer to.
async fn secrets(state: &ServerState, found: &[Found], given: &Secrets) -> Result<Vec<NeededSecret>, Refusal> {
    let there = state.database.connections().await?;
    let mut out = Vec::new();
    for text in found.iter().filter_map(|one| if let Thing::Connection(text) = &one.thing { Some(text) } else { None }) {
        let less = match there.iter().find(|c| c.name == text.connection) {
            None => true,
            Some(kept) => guards_less(&state.database.address(kept.id).await?, text),
        };
        for (field, from) in &text.secrets {
            let has = given.get(&text.connection).is_some_and(|fields| fields.contains_key(field));
            let (connection, field) = (text.connection.clone(), field.clone());
            out.push(NeededSecret { connection, field, from: from.clone(), needed: less && !has });
        }
    }
    Ok(out)
}

/// What a step does beside what is written.
async fn says(
    state: &ServerState,
    step: &Step,
    connectors: &[Connector],
    names: &KnownNames,
) -> Result<Vec<String>, Refusal> {
    Ok(match (step.deed, &step.thing) {
        (Deed::Change, Thing::Connector(text)) => {
            let Some(stored) = connectors.iter().find(|c| c.name == text.connector) else { return Ok(vec![]) };
            // what refers to something that is made in this plan is told when it is there
            let Ok(definition) = text.definition("", names) else { return Ok(vec![]) };
            let (_, consequences) = judged(state, stored, definition).await?;
            let told = consequences.into_iter().map(|(kind, concerns)| match concerns.is_empty() {
                true => kind.sentence().to_owned(),
                false => format!("{} ({})", kind.sentence(), concerns.into_iter().collect::<Vec<_>>().join(", ")),
            });
            told.collect()
        }
        (Deed::Change, Thing::Topic(text)) => {
            let changes = |field: &str| step.changes.iter().any(|change| change.field == field);
            let keys = "Most keys go to another partition from then on: a reader may see a key's new records before its older ones.";
            let latest = "Of each key only the newest record stays; older ones are removed in the background, for ever.";
            let forgets = "Records beyond that are forgotten, for ever.";
            [
                (changes("partitions"), keys),
                (changes("keep") && text.keep == Keep::Latest, latest),
                (changes("forget_after_ms") && text.forget_after_ms.is_some(), forgets),
                (changes("most_bytes") && text.most_bytes.is_some(), forgets),
            ]
            .into_iter()
            .filter(|(does, _)| *does)
            .map(|(_, sentence)| sentence.to_owned())
            .collect()
        }
        (Deed::Delete, Thing::Topic(text)) => {
            let topic = gonvel_core::naming::TopicName::parse(text.topic.as_str())?;
            let stored = state.database.topic(&topic).await?;
            let bounds = state.database.bounds(stored.id).await?;
            let records: i64 = bounds.iter().map(|b| b.records).sum();
            vec![format!("Its {records} records go for ever.")]
        }
        (Deed::Delete, Thing::Connector(_)) => {
            vec!["Its traces in its system go as well; its topics and the rows that it delivered stay.".into()]
        }
        (Deed::Change, Thing::Reader(text)) => {
            let stored = state.database.reader(&ReaderName::parse(text.reader.as_str())?).await?;
            let topics = state.database.topics().await?;
            let reads = topics.iter().filter(|topic| stored.topics.contains(&topic.id));
            let reads: BTreeSet<&str> = reads.map(|topic| topic.name.as_str()).collect();
            let wanted: BTreeSet<&str> = text.topics.iter().map(String::as_str).collect();
            let list = |names: BTreeSet<&str>| names.into_iter().collect::<Vec<_>>().join(", ");
            let (gone, new) = (&reads - &wanted, &wanted - &reads);
            let mut says = Vec::new();
            if !gone.is_empty() {
                says.push(format!("Its positions in {} are lost.", list(gone)));
            }
            if !new.is_empty() {
                says.push(format!("It begins at the oldest kept records of {}.", list(new)));
            }
            says
        }
        (Deed::Delete, Thing::Reader(_)) => vec!["Its positions are lost.".into()],
        _ => vec![],
    })
}

/// The steps of a plan as they are told.
async fn told(state: &ServerState, plan: &Plan) -> Result<Vec<PlannedStep>, Refusal> {
    let (connectors, names) = (state.database.connectors().await?, names(state).await?);
    let mut steps = Vec::with_capacity(plan.steps.len());
    for step in &plan.steps {
        let says = says(state, step, &connectors, &names).await?;
        let (kind, name) = (step.thing.kind(), step.thing.name().to_owned());
        steps.push(PlannedStep { deed: step.deed, kind, name, changes: step.changes.clone(), says });
    }
    Ok(steps)
}

/// What is wrong in manifests that are to be applied.
fn wrong(request: &ApplyRequest, faults: &[Fault]) -> Refusal {
    let more = if faults.len() > 1 { format!(", and {} more are wrong", faults.len() - 1) } else { String::new() };
    let first = faults.first().map(ToString::to_string).unwrap_or_default();
    let refusal = Refusal::new(ProblemType::Manifests, format!("{first}{more}"));
    faults.iter().fold(refusal, |refusal, fault| {
        let number = request.files.iter().position(|file| file.name == fault.file).unwrap_or_default();
        let place = Some((fault.line, fault.column));
        refusal.and_at(&format!("files.{number}.text"), &fault.finding, place)
    })
}

/// The plan where it is only asked for, or the steps that are confirmed.
async fn planned(
    state: &ServerState,
    query: &PlanQuery,
    request: &ApplyRequest,
) -> Result<Result<Vec<Step>, Box<Shown>>, Refusal> {
    let (found, planned) = compared(state, request).await?;
    let secrets = secrets(state, &found, &request.secrets).await?;
    let plan = match planned {
        Ok(plan) => plan,
        // what is wrong is told as one types
        Err(faults) if query.dry_run => {
            let installation = InstallationPlan { steps: vec![], unchanged: 0, secrets, faults };
            return Ok(Err(Box::new(Shown { installation: Some(installation), ..Shown::default() })));
        }
        Err(faults) => return Err(wrong(request, &faults)),
    };
    let deletes = plan.steps.iter().filter(|step| step.deed == Deed::Delete).map(|step| step.thing.name());
    let deleted: Vec<&str> = deletes.collect();
    let mut shown = Shown { needs_confirming: !deleted.is_empty(), ..Shown::default() };
    if shown.needs_confirming {
        shown.says.push(format!("It deletes {}.", deleted.join(", ")));
    }
    if query.dry_run {
        let steps = told(state, &plan).await?;
        shown.says.extend(steps.iter().flat_map(|step| step.says.clone()));
        let (unchanged, secrets) = (plan.unchanged, secrets.clone());
        shown.installation = Some(InstallationPlan { steps, unchanged, secrets, faults: vec![] });
    }
    if let Some(shown) = plans::settle(query, shown, &("applyManifests", plan.mark()), Vec::new())? {
        return Ok(Err(shown));
    }
    if let Some(secret) = secrets.into_iter().find(|secret| secret.needed) {
        let detail = format!("the {} of {} is not given: it comes from {}", secret.field, secret.connection, secret.from);
        return Err(Refusal::invalid("secrets", detail));
    }
    Ok(Ok(plan.steps))
}

/// Carries steps out one after the other, up to the first that is refused.
async fn carry_out(carrying: &Arc<Carrying>, steps: Vec<Step>, working: &Working) -> Result<(), Halt> {
    let of = steps.len();
    let total = i64::try_from(of).ok();
    let mut result = OperationResult::default();
    for (number, step) in (1..).zip(steps) {
        let (deed, kind, name) = (step.deed, step.thing.kind(), step.thing.name().to_owned());
        let outcome = AssertUnwindSafe(carrying.carry_out(&step)).catch_unwind().await;
        let outcome = outcome
            .unwrap_or_else(|_| Err(Refusal::new(ProblemType::Failed, "it failed in Gonvel itself: please report it")));
        let refused = outcome.as_ref().err().map(Refusal::detail);
        result.steps.push(StepOutcome { number, of, deed, kind, name, refused });
        let done = i64::try_from(number).unwrap_or(i64::MAX) - i64::from(outcome.is_err());
        working.moved(done, total, &result).await?;
        // what refers to it cannot be done either
        outcome?;
    }
    Ok(())
}

/// Makes the installation what manifests say, step by step, as an operation: its result tells how each step went. The first one that is
/// refused is the last; applied again, what was done is not done again. Nothing is done if anything is wrong in the manifests. Cancelled,
/// it ends after the step that is under way.
#[utoipa::path(operation_id = "applyManifests", post, path = "/api/v1/manifests/apply", tag = "installation", request_body = ApplyRequest,
    params(PlanQuery, KeyHeader),
    responses((status = 202, body = Operation), (status = 412, body = Problem), (status = 422, body = Problem)))]
pub(crate) async fn apply(
    State(state): State<Arc<ServerState>>,
    who: Who,
    Query(query): Query<PlanQuery>,
    Creating(creation, request): Creating<ApplyRequest>,
) -> Result<OrPlan<Begun>, Refusal> {
    if query.dry_run {
        return planned(&state, &query, &request).await?.err().map(OrPlan::Plan).ok_or_else(plans::changed);
    }

    let begun = operations::begin(&state, creation, async |database| {
        let steps = planned(&state, &query, &request).await?.map_err(|_| plans::changed())?;
        let says = format!("Applies manifests: {}", counted(i64::try_from(steps.len()).unwrap_or(0), "step"));
        let (kind, total) = (word(OperationKind::Apply), i64::try_from(steps.len()).ok());
        let new = NewOperation { kind, says: &says, who: &who.0, subject: None, connector: None, total, result: json!({}) };
        let id = database.begin_operation(&new).await?;
        let carrying = Arc::new(Carrying { state: state.clone(), who: who.0.clone(), secrets: request.secrets.clone() });
        work(&state, id, async move |working| carry_out(&carrying, steps, &working).await);
        Ok(id)
    });
    Ok(OrPlan::Done(begun.await?))
}
