//! Answers that are not what was asked for, as the document says them: each status with its body, in the form it is sent in.

use gonvel_http_api::ProblemType;
use serde_json::{Value, json};

const PROBLEM: &str = "#/components/schemas/Problem";
/// What has a revision, and tells it as `ETag`.
const TAGGED: [&str; 6] = ["Connection", "Connector", "FunctionDetail", "Schema", "Topic", "UnfinishedDraft"];
/// What any request may be answered with.
const ALWAYS: [&str; 2] = ["500", "503"];
const METHODS: [&str; 4] = ["get", "put", "post", "delete"];

/// Goes over all operations of a document.
pub(crate) fn each_operation(document: &Value) -> impl Iterator<Item = (&str, &str, &Value)> {
    let paths = document["paths"].as_object().into_iter().flatten();
    paths.flat_map(|(path, item)| {
        METHODS.into_iter().filter_map(move |method| Some((path.as_str(), method, item.get(method)?)))
    })
}

/// Says of every operation what it may be answered with besides what was asked for.
pub(crate) fn tell_answers(document: &mut Value) {
    let Some(paths) = document["paths"].as_object_mut() else { return };
    for (path, item) in paths.iter_mut() {
        for (method, operation) in item.as_object_mut().into_iter().flatten() {
            tell_path(path, operation);
            if method != "get" {
                parameters(operation).push(json!({
                    "name": "Gonvel-Who", "in": "header", "required": false, "schema": {"type": "string"},
                    "description": "Who asks, percent-encoded, at most 200 characters: it stands in histories.",
                }));
            }
        }
    }
    let each = paths.iter_mut().filter_map(|(path, item)| Some((path, item.as_object_mut()?)));
    for (path, (method, operation)) in each.flat_map(|(path, item)| item.iter_mut().map(move |one| (path, one))) {
        let takes = |key| operation.get(key).is_some_and(|given: &Value| given.as_array().is_none_or(|a| !a.is_empty()));
        let (parameters, body) = (takes("parameters"), takes("requestBody"));
        let mut may_be = ALWAYS.to_vec();
        if parameters || body {
            may_be.extend(["400", "422"]);
        }
        if path.contains('{') {
            may_be.push("404");
        }
        if body {
            may_be.extend(["413", "415"]);
        }
        let parameters = operation.get("parameters").and_then(Value::as_array);
        let takes = |name: &str| parameters.is_some_and(|all| all.iter().any(|parameter| parameter["name"] == name));
        let planned = takes("dry_run");
        if planned || takes("If-Match") {
            may_be.push("412");
            may_be.extend((planned || method == "put").then_some("428"));
        }
        let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) else { continue };
        for status in may_be {
            let response = responses.entry(status).or_insert_with(|| json!({}));
            if response.get("content").is_none() {
                response["content"] = json!({"application/json": {"schema": {"$ref": PROBLEM}}});
            }
        }
        if planned {
            or_plan(responses.entry("200").or_insert_with(|| json!({"description": "With `dry_run`: what it would do."})));
        }
        for (status, response) in responses.iter_mut() {
            as_sent(response);
            if response["description"].as_str().is_none_or(str::is_empty) {
                response["description"] = says(status).into();
            }
            if matches!(status.as_str(), "429" | "503") {
                let says = "After how many seconds to ask again.";
                response["headers"] = json!({"Retry-After": {"description": says, "schema": {"type": "integer"}}});
            }
            let tagged = TAGGED.iter().any(|name| {
                response["content"]["application/json"]["schema"]["$ref"] == format!("#/components/schemas/{name}")
            });
            if tagged {
                let says = "The revision that it is at, to be named as If-Match.";
                response["headers"] = json!({"ETag": {"description": says, "schema": {"type": "string"}}});
            }
        }
        responses.sort_keys();
    }
}

/// What was asked for, or what it would do.
fn or_plan(response: &mut Value) {
    let plan = json!({"$ref": "#/components/schemas/Plan"});
    let schema = response["content"]["application/json"]["schema"].take();
    response["content"]["application/json"]["schema"] =
        if schema.is_null() { plan } else { json!({"anyOf": [schema, plan]}) };
}

/// The parameters of an operation, which may have none yet.
fn parameters(operation: &mut Value) -> &mut Vec<Value> {
    let told = &mut operation["parameters"];
    if !told.is_array() {
        *told = json!([]);
    }
    told.as_array_mut().expect("it is a list since")
}

/// Says of each part of an address what it stands for.
fn tell_path(path: &str, operation: &mut Value) {
    let names = path.split('{').skip(1).filter_map(|rest| rest.split_once('}')).map(|(name, _)| name);
    for name in names {
        let says = match name {
            "connector" | "connection" => "Its name or its id.",
            "name" => "Its name.",
            "member" => "The member's id, as it was given when it joined.",
            "role" => "`key` or `value`.",
            "code" => "The word that ends its address.",
            _ => "Its id.",
        };
        let parameters = parameters(operation);
        match parameters.iter_mut().find(|parameter| parameter["name"] == name && parameter["in"] == "path") {
            Some(known) => known["description"] = says.into(),
            None => parameters.push(json!({
                "name": name, "in": "path", "description": says, "required": true, "schema": {"type": "string"},
            })),
        }
    }
}

/// What a status says, where its operation says nothing closer: of refusals the types of problems that come with it.
fn says(status: &str) -> String {
    let types = ProblemType::ALL.into_iter().filter(|kind| kind.status().to_string() == status);
    let types: Vec<String> = types.map(|kind| format!("`{}`", kind.code())).collect();
    match status {
        "201" => "It is made; this is what it is now.".into(),
        "202" => "It is begun, and goes on after this answer.".into(),
        "204" => "It is done.".into(),
        _ if types.is_empty() => "What was asked for.".into(),
        _ => format!("Refused, as {}.", types.join(", ")),
    }
}

/// A problem document has a media type of its own; what is read from YAML is no text, and an event of a stream holds its data as text.
fn as_sent(response: &mut Value) {
    let Some(content) = response.get_mut("content").and_then(Value::as_object_mut) else { return };
    if let Some(body) = content.get_mut("application/yaml") {
        *body = json!({});
    }
    if let Some(body) = content.get_mut("text/event-stream") {
        let data = json!({"type": "string", "contentMediaType": "application/json", "contentSchema": body["schema"].take()});
        let event = json!({"type": "string", "description": "What sort of event it is; `message` where it is not said."});
        let id = json!({"type": "string", "description": "Where the stream goes on after it, to be sent back as `Last-Event-ID`."});
        body["schema"] = json!({"type": "object", "properties": {"event": event, "id": id, "data": data}});
    }
    let problem = content.get("application/json").is_some_and(|body| body["schema"]["$ref"] == PROBLEM);
    if let Some(body) = problem.then(|| content.remove("application/json")).flatten() {
        content.insert("application/problem+json".into(), body);
    }
}
