//! The document of the interface: how everything in it is written, and that answers are what it says.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_http_api::ProblemType;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::Api;

struct Operation {
    method: Method,
    path: String,
    told: Value,
}

fn document() -> Value {
    serde_json::from_str(&gonvel_server::openapi_json()).unwrap()
}

fn operations(document: &Value) -> Vec<Operation> {
    let of = |(path, item): (&String, &Value)| {
        let operation = |(method, told): (&String, &Value)| Operation {
            method: method.to_uppercase().parse().unwrap(),
            path: path.clone(),
            told: told.clone(),
        };
        item.as_object().unwrap().iter().map(operation).collect::<Vec<_>>()
    };
    document["paths"].as_object().unwrap().iter().flat_map(of).collect()
}

/// All schemas that stand in a part of the document, with the place of each.
fn schemas(part: &Value, at: &str, found: &mut impl FnMut(&str, &Value)) {
    match part {
        Value::Object(fields) => {
            if ["type", "$ref", "oneOf", "allOf", "enum"].iter().any(|key| fields.contains_key(*key)) {
                found(at, part);
            }
            for (name, field) in fields {
                schemas(field, &format!("{at}/{name}"), found);
            }
        }
        Value::Array(items) => {
            for (number, item) in items.iter().enumerate() {
                schemas(item, &format!("{at}/{number}"), found);
            }
        }
        _ => {}
    }
}

fn snake_case(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_lowercase())
        && word.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
}

#[test]
fn all_of_it_is_written_in_one_way() {
    let document = document();
    let mut findings = Vec::new();
    let mut ids = BTreeSet::new();
    for Operation { method, path, told } in operations(&document) {
        let mut wrong = |what: String| findings.push(format!("{method} {path}: {what}"));
        if !ids.insert(told["operationId"].to_string()) || told["tags"].as_array().is_none_or(|tags| tags.len() != 1) {
            wrong("it has to have an id of its own, and one tag".into());
        }
        if told["summary"].as_str().is_none_or(|text| !text.ends_with('.')) {
            wrong("what it does is said in a sentence".into());
        }
        let steps = path.strip_prefix("/api/v1/").unwrap_or_default().split('/');
        for step in steps.filter(|step| !step.starts_with('{')) {
            if !step.chars().all(|c| c.is_ascii_lowercase() || c == '-') {
                wrong(format!("{step} is not written in small letters with hyphens"));
            }
        }
        let takes = |name: &str| told["parameters"].as_array().into_iter().flatten().any(|p| p["name"] == name);
        let answer = &told["responses"]["200"]["content"]["application/json"]["schema"];
        let is_page = answer["$ref"].as_str().is_some_and(|name| name.ends_with("Page"));
        // a stream has a cursor too, and no end
        let pages = !told["responses"]["200"]["content"]["text/event-stream"].is_object() && method == Method::GET;
        if pages && (answer["type"] == "array" || is_page != takes("cursor") || is_page && !takes("limit")) {
            wrong("a list comes in pages, with a limit and a cursor, and nothing else does".into());
        }
        let plan = told["responses"]["200"].to_string().contains("/schemas/Plan\"");
        let refuses = |status: &str| !told["responses"][status].is_null();
        if takes("dry_run") != plan || takes("confirm") != plan || plan && !(refuses("412") && refuses("428")) {
            wrong("what can be planned gives a plan, takes its tag, and may be refused for it".into());
        }
        for parameter in told["parameters"].as_array().into_iter().flatten() {
            let name = parameter["name"].as_str().unwrap();
            if parameter["in"] != "header" && !snake_case(name) {
                wrong(format!("the parameter {name} is not in snake_case"));
            }
            if parameter["description"].as_str().is_none_or(str::is_empty) {
                wrong(format!("the parameter {name} is not described"));
            }
        }
        for (status, response) in told["responses"].as_object().unwrap() {
            let forms: Vec<&str> =
                response["content"].as_object().into_iter().flat_map(|c| c.keys()).map(String::as_str).collect();
            let health = path.ends_with("/health");
            if status.as_str() >= "400" && !health && forms != ["application/problem+json"] {
                wrong(format!("{status} comes as {forms:?}"));
            }
            if response["description"].as_str().is_none_or(str::is_empty) {
                wrong(format!("{status} is not described"));
            }
        }
    }
    schemas(&document["components"]["schemas"], "", &mut |at, schema| {
        let words = schema["enum"].as_array().into_iter().flatten().filter_map(Value::as_str);
        for word in words.filter(|word| !snake_case(word)) {
            findings.push(format!("{at}: the word {word:?} is not in snake_case"));
        }
        for (name, field) in schema["properties"].as_object().into_iter().flatten() {
            let moment = name.ends_with("_at") || name == "at" || name == "since" || name == "time";
            let text = field["type"] == "string" || field["type"] == json!(["string", "null"]);
            if moment && text && field["format"] != "date-time" && field["enum"].is_null() {
                findings.push(format!("{at}: {name} is a time, and not said to be one"));
            }
            if !snake_case(name) {
                findings.push(format!("{at}: the field {name} is not in snake_case"));
            }
        }
    });
    assert!(findings.is_empty(), "{} findings:\n{}", findings.len(), findings.join("\n"));
}

#[test]
fn the_catalogue_in_docs_is_the_server_s() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/http.md");
    let docs = std::fs::read_to_string(path).unwrap();
    for entry in ProblemType::ALL.map(ProblemType::entry) {
        let row = format!("| `{}` | {} | {} | {} |", entry.code, entry.status, entry.means, entry.remedy);
        assert!(docs.contains(&row), "docs/http.md lacks\n{row}");
    }
    let rows = docs.lines().filter(|line| line.starts_with("| `") && line.matches(" | ").count() == 3).count();
    assert!(rows >= ProblemType::ALL.len());
    let by_status = ProblemType::ALL.map(ProblemType::status);
    assert!(by_status.is_sorted(), "{by_status:?}");
}

/// What is sent in the place of a parameter.
const TRIED: [&str; 7] = [
    "nowhere",
    "00000000-0000-0000-0000-000000000000",
    "-1",
    "99999999999999999999",
    "%00",
    "%F0%9F%8D%8F%20..%2F",
    "2026-11-25T00:00:00Z",
];

/// A request that an operation is tried with.
struct Tried {
    path: String,
    /// Its form and itself.
    body: Option<(&'static str, &'static str)>,
    header: Option<(String, String)>,
}

fn tried(operation: &Operation) -> Vec<Tried> {
    let parameters = operation.told["parameters"].as_array().cloned().unwrap_or_default();
    let query: Vec<&str> = parameters.iter().filter(|p| p["in"] == "query").map(|p| p["name"].as_str().unwrap()).collect();
    let filled = |value: &str| {
        let mut path = operation.path.clone();
        while let (Some(from), Some(to)) = (path.find('{'), path.find('}')) {
            path.replace_range(from..=to, value);
        }
        path
    };
    let bodies: &[Option<(&str, &str)>] = if operation.told["requestBody"].is_object() {
        &[
            None,
            Some(("text/plain", "{}")),
            Some(("application/json", "{")),
            Some(("application/json", "{}")),
            Some(("application/json", "[1, null]")),
            Some(("application/json", r#"{"name": "a", "colour": 1}"#)),
            Some(("application/json", "{\"name\": \"a\\u0000\", \"text\": \"\\u0000\", \"topics\": [\"\\u0000\"]}")),
        ]
    } else {
        &[None]
    };
    let of = |path: String, body| Tried { path, body, header: None };
    let mut out: Vec<_> = TRIED.iter().map(|value| of(filled(value), bodies.last().copied().flatten())).collect();
    out.extend(bodies.iter().map(|body| of(filled("nowhere"), *body)));
    for name in query {
        out.extend(TRIED.iter().map(|value| of(format!("{}?{name}={value}", filled("packhouse.bins")), None)));
    }
    if operation.path.contains('{') {
        // of what is there
        out.extend(bodies.iter().map(|body| of(filled("packhouse.bins"), *body)));
    }
    for parameter in parameters.iter().filter(|p| p["in"] == "header") {
        let name = parameter["name"].as_str().unwrap();
        out.extend(["\u{e9}", "nowhere", "", "%FF"].map(str::to_owned).into_iter().chain(["n".repeat(700)]).map(|value| {
            Tried {
                header: Some((name.to_owned(), value)),
                ..of(filled("packhouse.bins"), bodies.iter().flatten().next_back().copied())
            }
        }));
    }
    out
}

/// By a validator that nobody here wrote: whatever is asked is answered as the document says, errors above all.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_asked_is_answered_as_the_document_says() {
    let api = Api::start().await;
    let made = [
        ("topics", json!({"name": "packhouse.bins", "partitions": 1})),
        ("schemas", json!({"name": "packhouse.bins", "language": "avro", "text": "\"string\""})),
        ("readers", json!({"name": "packhouse.bins", "topics": ["packhouse.bins"], "start": {"to": "earliest"}})),
    ];
    for (what, body) in &made {
        let answer = api.request(Method::POST, &format!("/{what}")).json(body).send().await.unwrap();
        assert_eq!(answer.status(), 201, "{what}: {}", answer.text().await.unwrap());
    }

    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/http.md");
    let docs = std::fs::read_to_string(path).unwrap();
    let example = docs.split("```json\n").nth(1).unwrap().split("```").next().unwrap();
    let example: Value = serde_json::from_str(example).unwrap();
    let refused = api.post("/topics", &json!({"name": "packhouse.lots", "partitions": 0})).await;
    assert_eq!(refused, (422, example), "the example in docs/http.md is what a server says");

    let document = document();
    let problem = json!({"$ref": "#/components/schemas/Problem", "components": document["components"]});
    let problem = jsonschema::draft202012::new(&problem).unwrap();
    let mut validators = BTreeMap::new();
    let (mut asked, mut findings) = (0, BTreeMap::new());
    // what is there is deleted last
    let mut all = operations(&document);
    all.sort_by_key(|operation| operation.method == Method::DELETE);
    for operation in all {
        for Tried { path, body, header } in tried(&operation) {
            let mut request = api.request(operation.method.clone(), path.strip_prefix("/api/v1").unwrap());
            if let Some((form, text)) = body {
                request = request.header("content-type", form).body(text);
            }
            if let Some((name, value)) = &header {
                request = request.header(name, value);
            }
            let answer = request.send().await.unwrap();
            asked += 1;
            let status = answer.status().as_u16();
            let form = answer.headers().get("content-type").map(|f| f.to_str().unwrap().to_owned()).unwrap_or_default();
            let form = form.split(';').next().unwrap_or_default().to_owned();
            let what = format!("{} {}: {status} {form}", operation.method, operation.path);
            let with = format!("{path} {body:?} {header:?}");
            let told = &operation.told["responses"][status.to_string()];
            if answer.headers().contains_key("etag") && told["headers"]["ETag"].is_null() {
                findings.insert(format!("{what} has an ETag that is not in the document"), with.clone());
            }
            for header in told["headers"].as_object().into_iter().flatten().map(|(name, _)| name) {
                if !answer.headers().contains_key(header) {
                    findings.insert(format!("{what} lacks the header {header}"), with.clone());
                }
            }
            let body_told = &told["content"][&form];
            if told.is_null() || (body_told.is_null() && !form.is_empty()) || status >= 500 && status != 502 {
                findings.insert(format!("{what} is not in the document"), with);
                continue;
            }
            if !form.ends_with("json") {
                continue;
            }
            let answer: Value = answer.json().await.unwrap();
            let key = body_told["schema"].to_string();
            let validator = validators.entry(key).or_insert_with(|| {
                let mut schema = body_told["schema"].clone();
                schema["components"] = document["components"].clone();
                jsonschema::draft202012::new(&schema).unwrap()
            });
            if let Err(error) = validator.validate(&answer) {
                findings
                    .insert(format!("{what} does not fit the document: {error} at {}", error.instance_path()), with.clone());
            }
            if status >= 400 {
                let kind = ProblemType::ALL.iter().find(|kind| kind.address() == answer["type"]);
                if !problem.is_valid(&answer) || kind.is_none_or(|kind| kind.status() != status) {
                    findings.insert(format!("{what} is not as the catalogue has it"), format!("{with}: {answer}"));
                }
                let places = |error: &Value| error["pointer"].is_string() || error["parameter"].is_string();
                let about =
                    answer["errors"].as_array().is_some_and(|errors| errors.iter().all(places) && !errors.is_empty());
                // the database does not say which value it cannot hold
                let unfit = answer["type"] == ProblemType::Unfit.address();
                if matches!(status, 400 | 422) && !about && !unfit && answer["checks"].is_null() {
                    findings.insert(format!("{what} does not say where"), format!("{with}: {answer}"));
                }
            }
        }
    }
    assert!(asked > 1000, "{asked}");
    let told: Vec<String> = findings.iter().map(|(what, with)| format!("{what}\n    {with}")).collect();
    assert!(findings.is_empty(), "{} findings:\n{}", findings.len(), told.join("\n"));
}
