//! Shapes over HTTP: tried on rows, compared with what is in force, and what is said of what is wrong.

use gonvel_core::naming::{ConnectorId, Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{BadRecord, FleetStore, HeldLane, QuarantineStore, Step, TopicLog};
use gonvel_core::record::Record;
use gonvel_shape::tools::MaskKey;
use gonvel_stand_ins::postgres_cluster::OWNER;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, says};

const TABLES: &str = "CREATE SCHEMA packing;
    CREATE TABLE packing.rooms (id int PRIMARY KEY, label text);
    CREATE TABLE packing.bins (id bigint PRIMARY KEY, room int, phone text, weight_kg numeric(7,1));
    INSERT INTO packing.rooms VALUES (1, 'cold'), (2, 'warm');
    INSERT INTO packing.bins SELECT n, n % 3, '0161 496 000' || n, n * 100 FROM generate_series(1, 6) n";

/// A server with the tables, and the connection they are read through.
async fn with_tables() -> (Api, String) {
    let api = Api::start().await;
    api.cluster.connect("gonvel").await.unwrap().batch_execute(TABLES).await.unwrap();
    let connection = json!({"name": "packhouse", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel",
        "user": OWNER, "password": api.cluster.password});
    let (status, made) = api.post("/connections", &connection).await;
    assert_eq!(status, 201, "{made:#}");
    (api, made["id"].as_str().unwrap().to_owned())
}

fn bins(connection: &str) -> Value {
    json!({"from": "table", "connection": connection, "table": {"schema": "packing", "table": "bins", "topic": "bins"}})
}

fn shape(steps: Value) -> Value {
    json!({"steps": {"packing.bins": steps}})
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_shape_is_tried_on_a_tables_rows_and_on_made_ones() {
    let (api, connection) = with_tables().await;
    let lookup = |table: &str| {
        json!({"step": "lookup", "table": {"connection": connection, "schema": "packing", "table": table},
            "by": [{"column": "room", "key": "id"}], "columns": [{"from": "label", "column": "room_label"}]})
    };
    let steps = json!([lookup("rooms"), {"step": "compute", "column": "share", "value": "1000 / (weight_kg - 300) + length(phone)"},
        {"step": "filter", "only": "weight_kg < 600"}, {"step": "mask", "columns": ["phone"], "how": "hash"}]);
    let made = json!([{"id": "99", "room": "2", "phone": null, "weight_kg": "450.5"}]);
    let (status, tried) =
        api.post("/shapes/try", &json!({"shape": shape(steps.clone()), "rows": bins(&connection), "made": made})).await;
    let warned = &tried["findings"][0];
    assert_eq!((status, &warned["wrong"], &warned["step"]), (200, &json!(false), &json!(1)), "{tried:#}");
    assert!(warned["message"].as_str().unwrap().contains("share is made of phone, which is hidden"), "{warned}");
    let outcomes: Vec<(Value, Value)> =
        tried["outcomes"].as_array().unwrap().iter().map(|o| (o["becomes"].clone(), o["finding"].clone())).collect();
    let fine = (json!(["load"]), Value::Null);
    let failed = "step 2 (compute): division by zero: weight_kg = 300.0, phone = •••";
    let expected = [
        fine.clone(),
        fine.clone(),
        (json!([]), json!(failed)),
        fine.clone(),
        fine,
        (json!([]), Value::Null),
        (json!(["insert"]), Value::Null),
    ];
    assert_eq!(outcomes, expected);
    // the made row as the lookup leaves it: its columns in order, then what was found
    let looked_up = tried["stages"][0]["rows"].as_array().unwrap().last().unwrap();
    assert_eq!(looked_up["cells"], json!(["99", "2", null, "450.5", "warm"]));
    let last = tried["stages"].as_array().unwrap().last().unwrap();
    assert!(!last.to_string().contains("0161") && last["rows"][0]["cells"][2].as_str().unwrap().len() == 64);
    assert_eq!(tried["stages"][2]["rows"][5]["there"], json!(false));

    // a trial answers made-up rows, so it must not tell what a stored hash stands for
    let told = tried["findings"].as_array().unwrap().last().unwrap();
    assert!(told["message"].as_str().unwrap().contains("a secret of this trial's own"), "{told}");
    let guess = json!([{"step": "compute", "column": "guess", "value": "keyed_hash('0161 496 0018')"}]);
    let (_, guessed) = api.post("/shapes/try", &json!({"shape": shape(guess), "rows": bins(&connection)})).await;
    let secret = api.database.mask_secret();
    let signed = MaskKey::of(secret.expose()).sign(&[b"0161 496 0018"]);
    let stored: String = signed.iter().map(|byte| format!("{byte:02x}")).collect();
    let cells = guessed["stages"][0]["rows"][0]["cells"].as_array().unwrap().last().unwrap();
    assert!(cells.as_str().unwrap().len() == 64 && cells != &json!(stored), "{cells}");

    // what is wrong stands at its step and character
    let wrong = json!([lookup("rums"), {"step": "compute", "column": "share", "value": "lenght(phone)"}]);
    let (_, tried) = api.post("/shapes/try", &json!({"shape": shape(wrong), "rows": bins(&connection)})).await;
    let findings = tried["findings"].as_array().unwrap();
    assert_eq!(findings[0]["message"], "the table packing.rums(id) cannot be read");
    assert!(findings[0]["suggestion"].as_str().unwrap().contains("there is no table packing.rums"), "{findings:#?}");
    let (step, from, to) = (&findings[1]["step"], &findings[1]["from"], &findings[1]["to"]);
    assert_eq!((step, from, to, &findings[1]["suggestion"]), (&json!(1), &json!(0), &json!(6), &json!("perhaps length")));

    let tried_with = async |made: Value| {
        api.post("/shapes/try", &json!({"shape": shape(steps.clone()), "rows": bins(&connection), "made": made})).await
    };
    says(&tried_with(json!([{"id": "1", "rume": "2"}])).await, 422, "there is no column rume");
    says(&tried_with(json!([{"room": "2"}])).await, 422, "the key needs a value");
    says(&tried_with(json!([{"id": "one"}])).await, 422, "row 1, id");
    says(&tried_with(json!(vec![json!({"id": "1"}); 21])).await, 422, "make at most 20");
    let strict = json!([{"step": "filter", "only": "true", "when": "always"}]);
    let answer = api.post("/shapes/try", &json!({"shape": shape(strict), "rows": bins(&connection)})).await;
    says(&answer, 422, "step filter has no field when");

    // a connection that a lookup reads through is not deleted under it
    let definition = json!({"kind": "source", "connection": connection, "partitions": 1, "shape": shape(json!([lookup("rooms")])),
        "tables": [{"schema": "packing", "table": "bins", "topic": "bins"}]});
    let draft = json!({"name": "bins", "definition": definition, "start": false});
    let (status, made) = api.post("/connectors", &draft).await;
    assert_eq!(status, 201, "{made:#}");
    let answer = api.send(api.request(Method::DELETE, &format!("/connections/{connection}"))).await;
    says(&answer, 409, "is used by bins");

    // what waits of a source is tried as it is in its table now
    let connector = made["id"].as_str().unwrap();
    api.topic("bins", 1).await;
    let topic = api.database.topic(&TopicName::parse("bins").unwrap()).await.unwrap();
    let waiting = |key: &str, cause: i64| BadRecord {
        at: TopicPartition { topic: topic.id, partition: PartitionId(0) },
        topic: "bins".into(),
        offset: Offset(-7 - cause),
        record: Record { key: Some(key.to_owned().into()), ..Record::default() },
        step: Step::Shape,
        finding: "division by zero".into(),
        cause,
    };
    let bad = [waiting(r#"{"id":"3"}"#, 11), waiting(r#"{"id":"77"}"#, 12)];
    let id = ConnectorId(connector.parse().unwrap());
    let (lane, long) = (0, std::time::Duration::from_secs(60));
    let epoch = api.database.acquire(id, lane, "press", long).await.unwrap().unwrap().epoch;
    api.database.put(HeldLane { connector: id, lane, epoch }, 1, &bad, long).await.unwrap();
    let of_cause = async |cause: &str| {
        let rows = json!({"from": "quarantine", "connector": connector, "cause": cause});
        let steps = json!([{"step": "compute", "column": "share", "value": "1000 / (weight_kg - 300)"}]);
        api.post("/shapes/try", &json!({"shape": shape(steps), "rows": rows})).await
    };
    let (status, tried) = of_cause("000000000000000b").await;
    assert_eq!((status, &tried["rows"][0]["cells"][0]), (200, &json!("3")), "{tried:#}");
    assert_eq!(tried["outcomes"][0]["finding"], "step 1 (compute): division by zero: weight_kg = 300.0");
    assert_eq!(of_cause("000000000000000c").await.1["no_rows"], "the rows are no longer in their table");
    says(&of_cause("000000000000000d").await, 422, "nothing of this cause waits any more");
    says(&of_cause("grade").await, 422, "is no cause");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_shapes_are_compared_row_by_row() {
    let (api, connection) = with_tables().await;
    let compared = async |before: Value, after: Value, most: usize| {
        let body = json!({"before": shape(before), "after": shape(after), "rows": bins(&connection), "most": most});
        api.post("/shapes/compare", &body).await
    };
    let before = json!([{"step": "filter", "only": "id <> 1"}]);
    let after = json!([{"step": "filter", "only": "id <> 2"},
        {"step": "compute", "column": "weight_kg", "value": "CASE WHEN id = 3 THEN 1 / (id - 3) WHEN id = 4 THEN 7 ELSE weight_kg END"}]);
    let (status, found) = compared(before.clone(), after, 10_000).await;
    assert_eq!(status, 200, "{found:#}");
    let counts: Vec<i64> =
        ["rows", "same", "appear", "disappear", "change", "fail"].map(|name| found[name].as_i64().unwrap()).to_vec();
    assert_eq!(counts, [6, 2, 1, 1, 1, 1]);
    let example = |what: &str| found["examples"].as_array().unwrap().iter().find(|e| e["what"] == what).unwrap().clone();
    assert_eq!((example("appears")["key"].as_str(), example("disappears")["key"].as_str()), (Some("1"), Some("2")));
    assert!(example("fails")["finding"].as_str().unwrap().contains("division by zero"));
    let (_, found) = compared(before.clone(), json!([{"step": "drop", "columns": ["phone"]}]), 3).await;
    assert_eq!((&found["rows"], &found["columns_gone"]), (&json!(3), &json!(["phone"])));
    says(&compared(before.clone(), json!([]), 0).await, 422, "from 1 to 100000");
    let (_, found) = compared(before, json!([{"step": "drop", "columns": ["fone"]}]), 3).await;
    assert_eq!((&found["findings"][0]["message"], &found["rows"]), (&json!("there is no column fone"), &json!(0)));

    let functions = api.list("/shapes/functions?limit=1000").await;
    let functions = functions.as_array().unwrap();
    assert!(functions.len() >= 90, "{}", functions.len());
    let whole = |f: &&Value| ["name", "group", "line", "example", "result"].iter().all(|field| f[*field].is_string());
    assert_eq!(functions.iter().filter(whole).count(), functions.len());
}
