//! Requests that tell what they would do before they do it: a dry run gives a plan with a tag, and the same request with that tag is
//! carried out if it would still do the same.

use axum::Json;
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gonvel_core::avro::fingerprint::sha256;
use gonvel_http_api::{Plan, PlanQuery, ProblemType};
use serde::Serialize;

use crate::problems::Refusal;

/// What a request did, or what it would do.
pub(crate) enum OrPlan<T> {
    Done(T),
    Plan(Box<Plan>),
}

impl<T: IntoResponse> IntoResponse for OrPlan<T> {
    fn into_response(self) -> Response {
        match self {
            Self::Done(done) => done.into_response(),
            Self::Plan(plan) => Json(plan).into_response(),
        }
    }
}

/// What is confirmed, and what the plan had decided that a later look would decide otherwise.
type Tag = (String, Vec<i64>);

/// What the plan had decided that is confirmed; none where nothing is.
pub(crate) fn decided(query: &PlanQuery) -> Result<Option<Vec<i64>>, Refusal> {
    Ok(read(query)?.map(|(_, decided)| decided))
}

fn read(query: &PlanQuery) -> Result<Option<Tag>, Refusal> {
    let Some(confirm) = &query.confirm else { return Ok(None) };
    let tag = URL_SAFE_NO_PAD.decode(confirm).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
    match tag {
        Some(tag) => Ok(Some(tag)),
        None => {
            let refusal = Refusal::new(ProblemType::Malformed, "what is confirmed is no tag of a plan");
            Err(refusal.at("confirm").remedied("ask with dry_run=true, and send the tag of what that gives"))
        }
    }
}

/// Whether a request is planned or confirms a plan: where nothing is lost it need not be.
pub(crate) fn looked_at(query: &PlanQuery) -> bool {
    query.dry_run || query.confirm.is_some()
}

/// The plan, where it is only asked for; else nothing, if it may be carried out. `of` says what is asked, and what it is asked of, as it
/// is now; whom the plan touches and where it moves whom from and to is confirmed with it. How much that is may change by itself, such as
/// how many records one passes that stands ahead of the log. `decided` is what is carried in the tag.
pub(crate) fn settle(
    query: &PlanQuery,
    mut plan: Plan,
    of: &impl Serialize,
    decided: Vec<i64>,
) -> Result<Option<Box<Plan>>, Refusal> {
    let moves: Vec<_> = plan.moves.iter().map(|m| (&m.topic, m.partition, m.from, m.to)).collect();
    let text = serde_json::to_string(&(of, &decided, &plan.touched, moves)).unwrap_or_default();
    let mark = sha256(false, &text)[..32].to_owned();
    if query.dry_run {
        plan.tag = URL_SAFE_NO_PAD.encode(serde_json::to_vec(&(mark, decided)).unwrap_or_default());
        return Ok(Some(Box::new(plan)));
    }
    match read(query)? {
        Some((confirmed, _)) if confirmed == mark => Ok(None),
        Some(_) => Err(changed()),
        None if plan.needs_confirming => {
            let what = plan.says.join(" ");
            Err(Refusal::new(ProblemType::Unconfirmed, format!("this has to be confirmed: {what}")).at("confirm"))
        }
        None => Ok(None),
    }
}

/// So many of something, for a sentence.
pub(crate) fn counted(count: i64, of: &str) -> String {
    if count == 1 { format!("1 {of}") } else { format!("{count} {of}s") }
}

/// The request would do something else than what was shown.
pub(crate) fn changed() -> Refusal {
    Refusal::new(ProblemType::PlanChanged, "the request would do something else by now than what was confirmed")
        .at("confirm")
}
