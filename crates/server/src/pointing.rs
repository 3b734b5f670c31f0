//! Where in a request something stands that a refusal names: worked out once from the document, for every address.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use axum::extract::{MatchedPath, Request, State};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use percent_encoding::percent_decode_str;
use serde_json::Value;

use crate::answers::each_operation;
use crate::problems::{Place, Refusal, pointer, unread, written};

/// How deep in a body is looked.
const DEEPEST: usize = 4;

/// What each operation takes, by its method and its address.
pub(crate) type Places = HashMap<(String, String), Taken>;

/// What an operation takes.
#[derive(Debug, Default)]
pub(crate) struct Taken {
    /// The parameters of its query.
    query: HashSet<String>,
    /// Where something stands, by its name in small letters.
    places: HashMap<String, Place>,
}

/// What the operations of a document take, and where.
pub(crate) fn places(document: &Value) -> Places {
    let of = |operation: &Value| {
        let (mut query, mut found) = (HashSet::new(), HashMap::new());
        for parameter in operation["parameters"].as_array().into_iter().flatten() {
            if let Some(name) = parameter["name"].as_str() {
                if parameter["in"] == "query" {
                    query.insert(name.to_owned());
                }
                found.entry(name.to_lowercase()).or_insert_with(|| Place::Parameter(name.to_owned()));
            }
        }
        let body = &operation["requestBody"]["content"]["application/json"]["schema"];
        // what a connector does goes before what is asked beside it: either may say a start
        properties(document, body, &mut |name, schema| {
            if name == "definition" {
                properties(document, schema, &mut |within, _| {
                    found.insert(within.to_lowercase(), Place::Body(pointer([name, within])));
                });
            }
        });
        // else those that stand nearer to the top go before those that stand within others
        let mut level = vec![(String::new(), body)];
        for _ in 0..DEEPEST {
            let mut below = Vec::new();
            for (to, schema) in level {
                properties(document, schema, &mut |name, schema| {
                    let to = to.clone() + &pointer([name]);
                    found.entry(name.to_lowercase()).or_insert_with(|| Place::Body(to.clone()));
                    below.push((to, schema));
                });
            }
            level = below;
        }
        Taken { query, places: found }
    };
    let key = |path: &str, method: &str| (method.to_uppercase(), path.to_owned());
    each_operation(document).map(|(path, method, operation)| (key(path, method), of(operation))).collect()
}

/// Calls for each property that an object of the schema may have.
fn properties<'d>(document: &'d Value, schema: &'d Value, found: &mut impl FnMut(&'d str, &'d Value)) {
    if let Some(name) = schema["$ref"].as_str().and_then(|to| to.strip_prefix("#/components/schemas/")) {
        return properties(document, &document["components"]["schemas"][name], found);
    }
    for (name, schema) in schema["properties"].as_object().into_iter().flatten() {
        found(name, schema);
    }
    for one in ["oneOf", "allOf", "anyOf"].iter().filter_map(|key| schema[key].as_array()).flatten() {
        properties(document, one, found);
    }
}

/// The first parameter of a query that an operation does not take.
fn unknown<'q>(taken: &Taken, query: &'q str) -> Option<Cow<'q, str>> {
    let names = query.split('&').map(|pair| pair.split('=').next().unwrap_or_default()).filter(|name| !name.is_empty());
    let mut names = names.map(|name| percent_decode_str(name).decode_utf8_lossy());
    names.find(|name| !taken.query.contains(name.as_ref()))
}

fn not_taken(taken: &Taken, name: &str) -> Refusal {
    let mut names: Vec<&str> = taken.query.iter().map(String::as_str).collect();
    names.sort_unstable();
    let finding = match names[..] {
        [] => "this address takes none".to_owned(),
        _ => format!("this address takes {}", names.join(", ")),
    };
    unread("query", Some(name), &finding)
}

/// Refuses parameters that an operation does not take, and says in every refusal where in the request that stands which it is about.
pub(crate) async fn point(State(places): State<Arc<Places>>, request: Request, next: Next) -> Response {
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let method = request.method().as_str().to_owned();
    let known = path.and_then(|path| places.get(&(method, path)));
    let query = request.uri().query().unwrap_or_default();
    let mut response = match known.and_then(|taken| Some((taken, unknown(taken, query)?))) {
        Some((taken, name)) => not_taken(taken, &name).into_response(),
        None => next.run(request).await,
    };
    let Some(refusal) = response.extensions_mut().remove::<Refusal>() else { return response };
    let Some(known) = known else { return response };
    let document = refusal.document(|name| known.places.get(&name.to_lowercase()).cloned());
    let (_, body) = written(&document).into_parts();
    // its length is told anew
    response.headers_mut().remove(axum::http::header::CONTENT_LENGTH);
    *response.body_mut() = body;
    response
}
