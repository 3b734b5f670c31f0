//! Changes of objects, told to whoever watches, also through cuts.

use std::collections::BTreeMap;
use std::time::Duration;

use futures::StreamExt;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::FleetStore;
use gonvel_stand_ins::dice::Dice;
use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, place, word};

const LISTS: [(&str, &str); 9] = [
    ("connection", "/connections"),
    ("connector", "/connectors"),
    ("draft", "/drafts"),
    ("function", "/functions"),
    ("operation", "/operations"),
    ("reader", "/readers"),
    ("runner", "/runners"),
    ("schema", "/schemas"),
    ("topic", "/topics"),
];

/// A client that keeps lists by what it is told.
#[derive(Default)]
struct Client {
    /// By kind and id.
    lists: BTreeMap<(String, String), Value>,
    cursor: Option<String>,
    /// How often it had to read its lists.
    anew: usize,
}

fn id_of(kind: &str, object: &Value) -> String {
    let id = match kind {
        "connection" | "connector" | "draft" | "operation" => &object["id"],
        "function" => &object["function"]["name"],
        _ => &object["name"],
    };
    id.as_str().unwrap_or_else(|| panic!("{object:#}")).to_owned()
}

async fn all_lists(api: &Api) -> BTreeMap<(String, String), Value> {
    let mut all = BTreeMap::new();
    for (kind, path) in LISTS {
        for object in api.list(&format!("{path}?limit=1000")).await.as_array().unwrap() {
            all.insert((kind.to_owned(), id_of(kind, object)), object.clone());
        }
    }
    all
}

impl Client {
    /// Listens, as server-sent events or lines, until it has what is to be, or so many events were received.
    async fn listen(&mut self, api: &Api, lines: bool, mut enough: impl FnMut(&Self, usize) -> bool) {
        let query = self.cursor.as_ref().map(|cursor| format!("?cursor={cursor}")).unwrap_or_default();
        let mut request = api.request(Method::GET, &format!("/events{query}"));
        if lines {
            request = request.header("accept", "application/x-ndjson");
        } else if let Some(cursor) = &self.cursor {
            request = request.header("last-event-id", cursor);
        }
        let mut body = request.send().await.unwrap().error_for_status().unwrap().bytes_stream();
        let (mut rest, mut received) = (String::new(), 0);
        while !enough(self, received) {
            let piece = tokio::time::timeout(Duration::from_secs(30), body.next()).await.expect("a sign of life");
            rest += std::str::from_utf8(&piece.unwrap().unwrap()).unwrap();
            let ends = if lines { "\n" } else { "\n\n" };
            while let Some(end) = rest.find(ends) {
                let event: String = rest.drain(..end + ends.len()).collect();
                let told = if lines { serde_json::from_str(&event).unwrap() } else { told(&event) };
                self.take(api, &told).await;
                received += 1;
            }
        }
    }

    async fn take(&mut self, api: &Api, told: &Value) {
        self.cursor = Some(told["cursor"].as_str().unwrap().to_owned());
        if told["anew"] == json!(true) {
            self.anew += 1;
            self.lists = all_lists(api).await;
        }
        let Some(kind) = told["kind"].as_str() else { return };
        let key = (kind.to_owned(), told["id"].as_str().unwrap().to_owned());
        match told.get("object") {
            Some(object) => {
                assert_eq!(id_of(kind, object), key.1);
                self.lists.insert(key, object.clone());
            }
            None => _ = self.lists.remove(&key),
        }
    }
}

/// An event as a line would be.
fn told(event: &str) -> Value {
    let field = |name: &str| event.lines().find_map(|line| line.strip_prefix(name)).map(str::trim);
    let mut told: Value = field("data:").map_or_else(|| json!({}), |data| serde_json::from_str(data).unwrap());
    let named = if told.get("kind").is_some() { Some("change") } else { told.get("anew").map(|_| "begin") };
    assert_eq!(field("event:"), named, "{event}");
    told["cursor"] = field("id:").unwrap().into();
    told
}

/// Does something with something, as dice fall.
async fn something(api: &Api, dice: &mut Dice, connection: &str) {
    let name = format!("thing_{}", dice.roll(4));
    let made = match dice.roll(7) {
        0 => ("/topics", json!({"name": name, "partitions": 2})),
        1 => {
            let mut login = login(api);
            login["name"] = name.as_str().into();
            ("/connections", login)
        }
        2 => ("/readers", json!({"name": name, "topics": ["bins"], "start": {"to": "earliest"}})),
        3 => ("/schemas", json!({"name": name, "language": "avro", "text": "\"string\""})),
        4 => ("/drafts", json!({"name": name, "kind": "sink", "lacks": "a topic", "work": {}})),
        5 => ("/functions", json!({})),
        _ => {
            let topic = json!({"topic": "bins", "schema": "public", "table": name});
            let definition = json!({"kind": "sink", "connection": connection, "topics": [topic]});
            ("/connectors", json!({"name": name, "start": false, "definition": definition}))
        }
    };
    match (made, dice.roll(3)) {
        (("/functions", _), 1..) => {
            let path = format!("/functions/{name}");
            let more = dice.roll(9);
            let function = json!({"function": {"name": name, "parameters": [{"name": "kg", "type": "bigint"}], "gives": "bigint",
                "value": format!("kg + {more}"), "examples": [{"given": ["1"], "gives": (1 + more).to_string()}]}});
            let save = || api.request(Method::PUT, &path).json(&function);
            let (status, there) = api.send(save()).await;
            if status == 409 {
                assert_eq!(api.send(save().header("if-match", "*")).await.0, 200);
            } else {
                assert_eq!(status, 200, "{there:#}");
            }
        }
        (("/drafts", _), 0) => {
            if let Some(draft) = api.list("/drafts").await[0]["id"].as_str() {
                api.request(Method::DELETE, &format!("/drafts/{draft}")).send().await.unwrap();
            }
        }
        (("/connectors", _), 0) => {
            if let Ok(id) = api.database.connector_named(&name).await {
                api.database.remove_connector(id).await.unwrap();
            }
        }
        ((path, _), 0) => {
            let path = format!("{path}/{name}");
            let (status, plan) = api.plan(Method::DELETE, &path, None).await;
            let tag = plan["tag"].as_str().filter(|_| status == 200);
            let confirm = tag.map(|tag| format!("?confirm={tag}")).unwrap_or_default();
            let (status, _) = api.send(api.request(Method::DELETE, &format!("{path}{confirm}"))).await;
            assert!(matches!(status, 204 | 404 | 409), "{path}: {status}");
        }
        ((path, body), _) => {
            let (status, answer) = api.post(path, &body).await;
            assert!(matches!(status, 201 | 409), "{path} {answer:#}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_is_cut_off_time_and_again_ends_with_what_the_lists_show() {
    let api = Api::start().await;
    api.topic("bins", 2).await;
    // nobody reads it: how old what waits is would differ at each look
    api.topic("lots", 1).await;
    let (_, connection) = api.post("/connections", &login(&api)).await;
    let connection = connection["id"].as_str().unwrap();
    let mut dice = Dice::new(20_261_201);
    let mut client = Client::default();
    for round in 0..40 {
        // it goes on while nobody listens as well
        for _ in 0..dice.roll(6) {
            something(&api, &mut dice, connection).await;
        }
        let (lines, most) = (dice.roll(2) == 0, 1 + usize::try_from(dice.roll(2)).unwrap());
        let mut during = Dice::new(round);
        let works = async {
            for _ in 0..during.roll(4) {
                something(&api, &mut during, connection).await;
            }
            api.append("lots", "application/json", r#"{"key": "k", "value": 1}"#).await;
        };
        let listens = client.listen(&api, lines, |_, received| received >= most);
        tokio::join!(works, listens);
    }
    let there = all_lists(&api).await;
    assert!(there.len() > 10, "{there:#?}");
    let same = client.listen(&api, true, |client, _| client.lists == there);
    let ends = tokio::time::timeout(Duration::from_secs(20), same).await;
    let differ = there.iter().filter(|(key, is)| client.lists.get(*key) != Some(is));
    let differ: Vec<_> = differ.map(|(key, is)| (is, client.lists.get(key))).collect();
    let others: Vec<_> = client.lists.keys().filter(|key| !there.contains_key(*key)).collect();
    assert!(ends.is_ok(), "there and told: {differ:#?}; told and not there: {others:?}");
    assert_eq!(client.anew, 1, "from every cursor it went on");
}

fn login(api: &Api) -> Value {
    json!({"name": "settlement", "host": "127.0.0.1", "port": api.cluster.port, "database": "gonvel", "user": "gonvel",
        "password": api.cluster.password})
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_connector_that_goes_the_moment_after_it_was_told_is_told_to_be_gone() {
    let api = Api::start().await;
    let (_, connection) = api.post("/connections", &login(&api)).await;
    let topic = json!({"topic": "packhouse.bins", "schema": "public", "table": "bins"});
    let mut client = Client::default();
    for round in 0..3 {
        let name = format!("tables-{round}");
        let sink = json!({"name": name, "start": false,
            "definition": {"kind": "sink", "connection": connection["id"], "topics": [topic]}});
        let (status, made) = api.post("/connectors", &sink).await;
        assert_eq!(status, 201, "{made:#}");
        let id = made["id"].as_str().unwrap().to_owned();
        let key = ("connector".to_owned(), id.clone());
        client.listen(&api, false, |client, _| client.lists.contains_key(&key)).await;
        api.database.remove_connector(ConnectorId(id.parse().unwrap())).await.unwrap();
        client.listen(&api, false, |client, _| !client.lists.contains_key(&key)).await;
    }
    assert_eq!(client.anew, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_changes_while_the_database_is_away_is_told_when_it_is_back() {
    let mut api = Api::start().await;
    api.topic("bins", 1).await;
    let mut client = Client::default();
    client.listen(&api, true, |_, received| received > 0).await;

    api.cluster.crash_and_restart().await;
    api.topic("lots", 1).await;
    client.listen(&api, true, |client, _| client.lists.contains_key(&("topic".into(), "lots".into()))).await;
    assert_eq!(client.anew, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn only_kinds_that_were_asked_for_are_told_and_what_is_none_is_refused() {
    let api = Api::start().await;
    let mut lines = api
        .request(Method::GET, "/events?kinds=reader,topic")
        .header("accept", "application/x-ndjson")
        .send()
        .await
        .unwrap()
        .bytes_stream();
    let mut told = String::from_utf8(lines.next().await.unwrap().unwrap().to_vec()).unwrap();
    api.post("/connections", &login(&api)).await;
    api.topic("bins", 1).await;
    while !told.contains(r#""kind":"topic""#) {
        told += std::str::from_utf8(&lines.next().await.unwrap().unwrap()).unwrap();
    }
    assert!(!told.contains("connection"), "{told}");
    for (query, at) in [("kinds=topic,tables", "kinds"), ("kinds=", "kinds"), ("cursor=beyond", "cursor")] {
        let (status, refused) = api.get(&format!("/events?{query}")).await;
        assert_eq!((status, word(&refused), place(&refused)), (400, Some("malformed"), Some(at)), "{query}");
    }
}
