//! The registry over HTTP: registering, checking, requiring, inferring, and what a change would do to whom.

use gonvel_stand_ins::postgres_cluster::OWNER;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Answer, Api, says};

fn bin(fields: &str) -> String {
    format!("{{\"type\":\"record\",\"name\":\"Bin\",\"fields\":[\n  {{\"name\":\"id\",\"type\":\"long\"}}{fields}]}}")
}

impl Api {
    async fn put(&self, path: &str, body: &Value) -> Answer {
        self.send(self.request(Method::PUT, path).json(body)).await
    }

    async fn delete(&self, path: &str) -> Answer {
        if path.starts_with("/topics") {
            // what is bound is let go of without a look
            return self.send(self.request(Method::DELETE, path)).await;
        }
        self.confirmed(Method::DELETE, path, None).await
    }

    /// Makes a schema and binds a topic's values to it.
    async fn bound(&self, topic: &str, schema: &str, language: &str, text: &str) {
        self.topic(topic, 1).await;
        let made = self.post("/schemas", &json!({"name": schema, "language": language, "text": text})).await;
        assert_eq!(made.0, 201, "{:#}", made.1);
        let bound = self.put(&format!("/topics/{topic}/schemas/value"), &json!({"schema": schema, "required": true})).await;
        assert_eq!(bound.0, 204, "{:#}", bound.1);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn versions_are_registered_checked_compared_and_kept() {
    let api = Api::start().await;
    let (first, second) = (bin(""), bin(r#", {"name":"grade","type":["null","string"],"default":null}"#));
    let new = json!({"name": "bins", "language": "avro", "text": first, "owner": "packhouse", "labels": ["picking", " "],
        "rule": {"reads_past": "all", "past_reads": "latest"}, "author": "Ida", "why": "the first"});
    let broken = json!({"name": "bins", "language": "avro", "text": "{\n \"type\": \"record\",\n \"name\": \"1\"}"});
    says(&api.post("/schemas", &broken).await, 422, "line 3, column 10");
    let (status, made) = api.post("/schemas", &new).await;
    assert_eq!((status, &made["versions"][0]["author"], &made["labels"]), (201, &json!("Ida"), &json!(["picking"])));
    assert_eq!(made["versions"][0]["sha256"].as_str().unwrap().len(), 64);
    says(&api.post("/schemas", &new).await, 409, "is there already");

    // a draft is checked without a trace, and refused for the same reason when it is registered
    let bad = json!({"text": bin(r#", {"name":"grade","type":"string"}"#)});
    let (_, verdict) = api.post("/schemas/bins/check", &bad).await;
    assert_eq!((&verdict["passes"], &verdict["breaches"][0]["half"]), (&json!(false), &json!("reads_past")));
    let misfit = &verdict["breaches"][0]["misfits"][0];
    assert_eq!(misfit["path"], "$.grade");
    assert!(misfit["remedy"].as_str().unwrap().contains("\"default\""), "{misfit}");
    says(&api.post("/schemas/bins/versions", &bad).await, 409, "at $.grade data has no field grade");
    let (_, verdict) = api.post("/schemas/bins/check", &json!({"text": "{\"type\": \"record\"}"})).await;
    assert_eq!(verdict["fault"]["line"], 1);
    assert_eq!(api.post("/schemas/bins/versions", &json!({"text": second, "why": "graded"})).await.1["version"], 2);
    assert_eq!(api.post("/schemas/bins/versions", &json!({"text": first})).await.1["version"], 1, "it is there already");
    let found = api.list("/schemas/bins/difference?from=1&to=2").await;
    assert_eq!((&found[0]["path"], &found[0]["breaks"]), (&json!("$.grade"), &Value::Null), "{found:#}");
    says(&api.get("/schemas/bins/difference?from=1&to=3").await, 404, "version 3");

    // searched by what it is called, who keeps it, and which fields it has
    for (search, hits) in [("BIN", 1), ("packhouse", 1), ("picking", 1), ("grade", 1), ("weight", 0)] {
        let found = api.list(&format!("/schemas?search={search}")).await;
        assert_eq!(found.as_array().unwrap().len(), hits, "{search}: {found:#}");
    }
    assert_eq!(api.list("/schemas?search=grad").await[0]["fields"], json!(["grade"]));

    // what uses it is named before it goes
    api.topic("bins.picked", 1).await;
    api.put("/topics/bins.picked/schemas/value", &json!({"schema": "bins"})).await;
    let retire = json!({"description": "", "owner": "", "labels": [], "rule": {}, "retired": true});
    says(&api.put_at("/schemas/bins", 1, &retire).await, 409, "the values of bins.picked");
    says(&api.delete("/schemas/bins").await, 409, "the values of bins.picked");
    assert_eq!(api.delete("/topics/bins.picked/schemas/value").await.0, 204);
    let named = json!({"name": "lots", "language": "avro", "references": [{"name": "bins", "version": 2}],
        "text": r#"{"type":"array","items":"Bin"}"#});
    assert_eq!(api.post("/schemas", &named).await.0, 201);
    says(&api.delete("/schemas/bins").await, 409, "the schema lots");
    assert_eq!(api.delete("/schemas/lots").await.0, 204);
    assert_eq!(api.put_at("/schemas/bins", 1, &retire).await.0, 200);
    says(&api.put_at("/schemas/bins", 1, &retire).await, 412, "schema bins");
    says(
        &api.post("/schemas/bins/versions", &json!({"text": bin(", {\"name\":\"a\",\"type\":\"int\"}")})).await,
        409,
        "retired",
    );
    assert_eq!(api.delete("/schemas/bins").await.0, 204);
    says(&api.get("/schemas/bins").await, 404, "bins");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_topic_that_requires_a_schema_takes_only_what_fits_in_every_form() {
    let api = Api::start().await;
    let text =
        r#"{"type":"object","properties":{"room":{"type":"integer"},"celsius":{"type":"number"}},"required":["room"]}"#;
    api.bound("cold.json", "reading", "json_schema", text).await;
    let proto = "syntax = \"proto3\";\nmessage Reading { int32 room = 1; optional double celsius = 2; }";
    api.bound("cold.proto", "reading.proto", "protobuf", proto).await;
    let avro = r#"{"type":"record","name":"Reading","fields":[{"name":"room","type":"int"},{"name":"celsius","type":["null","double"],"default":null}]}"#;
    api.bound("cold.avro", "reading.avro", "avro", avro).await;
    let cases = [
        ("cold.json", "record 1: the value: at $.room: \"two\" is not of type"),
        ("cold.proto", "record 1: the value: "),
        ("cold.avro", "record 1: the value: at $.room: found \"two\""),
    ];
    for (topic, finding) in cases {
        let bad = json!([{"value": {"room": 1}}, {"value": {"room": "two"}}]);
        let refused = api.post(&format!("/topics/{topic}/records"), &bad).await;
        assert_eq!(refused.0, 422, "{:#}", refused.1);
        let detail = refused.1["detail"].as_str().unwrap();
        assert!(detail.starts_with(finding), "{detail}");
        says(
            &api.append(topic, "application/octet-stream", &b"\xff\xfe\xfd"[..]).await,
            422,
            "record 0: the value does not fit",
        );
        let event =
            json!({"specversion": "1.0", "id": "r-1", "source": "/rooms/1", "type": "reading", "data": {"room": []}});
        says(&api.append(topic, "application/cloudevents+json", event.to_string()).await, 422, "record 0: the value");
        assert_eq!(api.count(topic).await, 0, "nothing of a refused batch is stored");

        let lines = "{\"key\":\"1\",\"value\":{\"room\":1,\"celsius\":1.5}}\n{\"key\":\"1\",\"value\":null}\n";
        assert_eq!(api.append(topic, "application/x-ndjson", lines).await.0, 200);
        let event = json!({"specversion": "1.0", "id": "r-2", "source": "/rooms/1", "type": "reading", "data": {"room": 2}});
        assert_eq!(api.append(topic, "application/cloudevents+json", event.to_string()).await.0, 200);
        let records = api.all(topic).await;
        assert_eq!(records[0]["value"], json!({"room": 1, "celsius": 1.5}), "{topic}");
        assert_eq!((&records[1]["value"], &records[2]["value"]["room"]), (&Value::Null, &json!(2)), "a delete always fits");
        let of = api.get(&format!("/schema-versions/{}", records[0]["schema"])).await.1;
        assert_eq!(of["version"], 1, "every record says which version wrote it: {of}");
        let said = records[0]["headers"].as_array().unwrap().iter().find(|h| h["name"] == "gonvel-schema");
        assert_eq!(said.map(|h| h["value"].clone()), (topic == "cold.json").then(|| json!("reading:1")));

        // what was exported comes back with its schema
        let file = api
            .request(Method::GET, &format!("/topics/{topic}/export?form=jsonl"))
            .send()
            .await
            .unwrap()
            .bytes()
            .await
            .unwrap();
        let copy = format!("{topic}.copy");
        api.topic(&copy, 1).await;
        let done = api.import(&copy, "form=jsonl", file).await;
        assert_eq!(done.0, 200, "{:#}", done.1);
        assert_eq!(api.all(&copy).await[0]["value"], records[0]["value"]);
    }
    // a message in the language's own bytes, and one with a field that the schema does not know
    assert_eq!(api.append("cold.proto", "application/octet-stream", &[8_u8, 7][..]).await.0, 200);
    says(
        &api.append("cold.proto", "application/octet-stream", &[8_u8, 7, 0x78, 1][..]).await,
        422,
        "at $: the message Reading has no field of number 15",
    );
    // once it is let go of, anything is taken
    assert_eq!(api.delete("/topics/cold.json/schemas/value").await.0, 204);
    assert_eq!(api.post("/topics/cold.json/records", &json!({"value": "anything"})).await.0, 200);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_draft_is_tried_on_real_records_and_says_whom_it_touches() {
    let api = Api::start().await;
    api.cluster.ensure_database("settlement").await.unwrap();
    let there = api.cluster.connect("settlement").await.unwrap();
    there
        .batch_execute(
            "CREATE TABLE bins (id bigint PRIMARY KEY, grade text);
             CREATE TABLE sent (id bigint PRIMARY KEY, grade text)",
        )
        .await
        .unwrap();
    let connection = json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "settlement",
        "user": OWNER, "password": api.cluster.password});
    let (status, connection) = api.post("/connections", &connection).await;
    assert_eq!(status, 201, "{connection:#}");
    let table = json!({"language": "avro", "from": {"table": {"connection": connection["id"], "schema": "public", "table": "bins"}}});
    let inferred = api.post("/schemas/infer", &table).await;
    assert_eq!(inferred.0, 200, "{:#}", inferred.1);
    let text = inferred.1["text"].as_str().unwrap().to_owned();
    let mut as_json = table.clone();
    as_json["language"] = json!("json_schema");
    let described: Value =
        serde_json::from_str(api.post("/schemas/infer", &as_json).await.1["text"].as_str().unwrap()).unwrap();
    assert_eq!(described["properties"]["id"]["type"], "integer");
    assert_eq!(described["properties"]["grade"]["type"], json!(["null", "string"]));
    api.bound("bins", "bins", "avro", &text).await;
    let sink = json!({"name": "to-settlement", "start": false, "definition": {"kind": "sink", "connection": connection["id"],
        "topics": [{"topic": "bins", "schema": "public", "table": "sent"}],
        "shape": {"steps": {"bins": [{"step": "compute", "column": "grade", "value": "upper(grade)"}]}}}});
    api.bound("lots", "lots", "avro", &text).await;
    let rich = json!({"name": "rich-lots", "start": false, "definition": {"kind": "topics",
        "carries": [{"topic": "lots", "to": "lots.rich"}], "partitions": 1,
        "shape": {"steps": {"lots": [{"step": "lookup", "topic": "bins", "by": [{"column": "id", "key": "id"}],
            "columns": [{"from": "grade", "column": "bin_grade"}], "miss": "empty"}]}}}});
    for connector in [sink, rich] {
        let made = api.post("/connectors", &connector).await;
        assert_eq!(made.0, 201, "{:#}", made.1);
    }
    let reader = json!({"name": "labels", "topics": ["bins"]});
    assert_eq!(api.post("/readers", &reader).await.0, 201);
    for (id, grade) in [(1, "A"), (2, "B"), (3, "A")] {
        let done =
            api.post("/topics/bins/records", &json!({"key": id.to_string(), "value": {"id": id, "grade": grade}})).await;
        assert_eq!(done.0, 200, "{:#}", done.1);
    }
    // a column more: the sink's table would need it
    there.batch_execute("ALTER TABLE bins ADD COLUMN weight_kg numeric(7,1)").await.unwrap();
    let wider = api.post("/schemas/infer", &table).await.1["text"].clone();
    let (status, impact) = api.post("/schemas/bins/impact", &json!({"text": wider})).await;
    assert_eq!(status, 200, "{impact:#}");
    assert_eq!((&impact["trials"][0]["tried"], &impact["trials"][0]["failed"]), (&json!(3), &json!(0)), "{impact:#}");
    let uses = impact["uses"].as_array().unwrap();
    let of = |kind: &str| uses.iter().find(|u| u["kind"] == kind).unwrap_or_else(|| panic!("no {kind}: {impact:#}"));
    assert!(of("sink")["statement"].as_str().unwrap().contains("ADD COLUMN"), "{:#}", of("sink"));
    assert_eq!((&of("sink")["fields"], &of("reader")["name"]), (&json!(["weight_kg"]), &json!("labels")));
    assert!(uses.iter().all(|u| u["kind"] != "shape"), "no step uses the new column: {impact:#}");
    // steps and lookups that use what goes, and what stays as a wider one
    let mut without: Value = serde_json::from_str(&text).unwrap();
    without["fields"].as_array_mut().unwrap().retain(|f| f["name"] != "grade");
    let shapes = |impact: &Value| -> Vec<Value> {
        impact["uses"].as_array().unwrap().iter().filter(|u| u["kind"] == "shape").cloned().collect()
    };
    let (_, impact) = api.post("/schemas/bins/impact", &json!({"text": without.to_string()})).await;
    let touched = shapes(&impact);
    assert_eq!(touched.iter().map(|u| &u["name"]).collect::<Vec<_>>(), ["rich-lots", "to-settlement"], "{impact:#}");
    let says = |n: usize, part: &str| touched[n]["meaning"].as_str().unwrap().contains(part);
    assert!(says(0, "could not shape its records: lots, step 1: ") && says(1, "bins, step 1: "), "{touched:#?}");
    assert!(touched.iter().all(|u| u["fields"] == json!(["grade"])), "{touched:#?}");
    there.batch_execute("ALTER TABLE bins ALTER COLUMN grade TYPE int USING 1").await.unwrap();
    let number = api.post("/schemas/infer", &table).await.1["text"].clone();
    let (_, impact) = api.post("/schemas/bins/impact", &json!({"text": number})).await;
    let touched = shapes(&impact);
    assert_eq!(touched[0]["meaning"], "uses these in its steps, and they fit", "what is looked up may be a number");
    assert!(touched[1]["meaning"].as_str().unwrap().contains("upper"), "{touched:#?}");
    // grades that data has and the draft does not
    let mut narrow: Value = serde_json::from_str(&text).unwrap();
    let grade = narrow["fields"].as_array_mut().unwrap().iter_mut().find(|f| f["name"] == "grade").unwrap();
    grade["type"] = json!(["null", {"type": "enum", "name": "Grade", "symbols": ["A"]}]);
    let (_, impact) = api.post("/schemas/bins/impact", &json!({"text": narrow.to_string()})).await;
    let trial = &impact["trials"][0];
    assert_eq!((&trial["failed"], &trial["first"][0]["version"]), (&json!(3), &json!(1)), "{trial:#}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn schemas_are_inferred_from_a_topic_and_from_a_sample() {
    let api = Api::start().await;
    api.topic("cold.readings", 2).await;
    let records: Vec<Value> = (0..40).map(|n| json!({"key": n.to_string(), "value": {"room": n, "celsius": 1.25, "note": if n % 2 == 0 { json!("x") } else { Value::Null }}})).collect();
    assert_eq!(api.post("/topics/cold.readings/records", &json!(records)).await.0, 200);
    let (status, found) =
        api.post("/schemas/infer", &json!({"language": "json_schema", "from": {"topic": {"name": "cold.readings"}}})).await;
    assert_eq!((status, &found["values"]), (200, &json!(40)), "{found:#}");
    let text: Value = serde_json::from_str(found["text"].as_str().unwrap()).unwrap();
    assert_eq!(
        (&text["properties"]["room"]["maximum"], &text["properties"]["note"]["type"]),
        (&json!(39), &json!(["null", "string"]))
    );
    // what was inferred fits what it was inferred from
    assert_eq!(
        api.post("/schemas", &json!({"name": "readings", "language": "json_schema", "text": found["text"]})).await.0,
        201
    );
    api.put("/topics/cold.readings/schemas/value", &json!({"schema": "readings", "required": true})).await;
    assert_eq!(api.post("/topics/cold.readings/records", &records[7]).await.0, 200);
    says(&api.post("/topics/cold.readings/records", &json!({"value": {"room": 40}})).await, 422, "at $");

    let sample = |text: &str| json!({"language": "avro", "name": "Reading", "from": {"sample": text}});
    let (_, found) = api.post("/schemas/infer", &sample("{\"room\": 1}\n{\"room\": 2, \"open\": true}\n")).await;
    let text: Value = serde_json::from_str(found["text"].as_str().unwrap()).unwrap();
    assert_eq!(text["fields"][1], json!({"name": "open", "type": ["null", "boolean"], "default": null}));
    says(&api.post("/schemas/infer", &sample("{\"room\": 1}\n{\"room\": }\n")).await, 422, "line 2, column 10");
    says(&api.post("/schemas/infer", &sample("")).await, 422, "no values");
    says(&api.post("/schemas/infer", &json!({"language": "protobuf", "from": {"sample": "{}"}})).await, 422, "a promise");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_same_text_with_other_references_is_another_version() {
    let api = Api::start().await;
    let bin = |more: &str| format!(r#"{{"type":"record","name":"Bin","fields":[{{"name":"id","type":"long"}}{more}]}}"#);
    let first = json!({"name": "bins", "language": "avro", "text": bin("")});
    assert_eq!(api.post("/schemas", &first).await.0, 201);
    let second = json!({"text": bin(r#",{"name":"grade","type":"string"}"#)});
    assert_eq!(api.post("/schemas/bins/versions", &second).await.0, 200);
    let text = r#"{"type":"array","items":"Bin"}"#;
    let of = |version: i32| json!([{"name": "bins", "version": version}]);
    let lots =
        json!({"name": "lots", "language": "avro", "text": text, "references": of(1), "rule": {"reads_past": "latest"}});
    assert_eq!(api.post("/schemas", &lots).await.0, 201);
    let other = json!({"text": text, "references": of(2)});
    // what the check finds is what registering finds
    let checked = api.post("/schemas/lots/check", &other).await.1;
    assert!(checked["breaches"][0]["misfits"][0]["finding"].as_str().unwrap().contains("grade"), "{checked:#}");
    says(&api.post("/schemas/lots/versions", &other).await, 409, "grade");
    let unruled = json!({"description": "", "owner": "", "labels": [], "rule": {}, "retired": false});
    assert_eq!(api.put_at("/schemas/lots", 1, &unruled).await.0, 200);
    for _ in 0..2 {
        let done = api.post("/schemas/lots/versions", &other).await;
        assert_eq!((done.0, &done.1["version"]), (200, &json!(2)), "{:#}", done.1);
    }
    let again = api.post("/schemas/lots/versions", &json!({"text": text, "references": of(1)})).await;
    assert_eq!(again.1["version"], json!(1), "{:#}", again.1);
}
