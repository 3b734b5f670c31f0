//! A request that is sent again is answered as it was at first, whatever has changed since; another one is never taken for it.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Answer, Api, says};

async fn send(api: &Api, headers: &[(&str, &str)], body: &Value) -> Answer {
    let mut request = api.request(Method::POST, "/topics/loads.departed/records");
    for (name, value) in headers {
        request = request.header(*name, value.as_bytes());
    }
    api.send(request.json(body)).await
}

async fn session(api: &Api) -> String {
    api.post("/producers", &json!({})).await.1["session"].as_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_answer_holds_for_the_topic_and_the_body_that_it_was_given_for() {
    let api = Api::start().await;
    api.topic("loads.departed", 2).await;
    let body = json!({"key": "load-7", "value": 1});
    let keyed = [("idempotency-key", "evening")];
    assert_eq!(send(&api, &keyed, &body).await.0, 200);
    assert_eq!(api.confirmed(Method::DELETE, "/topics/loads.departed", None).await.0, 204);
    api.topic("loads.departed", 2).await;
    // the topic of now never had it
    says(&send(&api, &keyed, &body).await, 422, "was used for another request");
    assert_eq!(api.count("loads.departed").await, 0);

    // a key that is no plain text is not passed over: its retry would be appended twice
    says(&send(&api, &[("idempotency-key", "früh")], &body).await, 422, "plain text");
    says(&send(&api, &[("producer-session", "früh"), ("producer-sequence", "0")], &body).await, 422, "plain text");
    assert_eq!(api.count("loads.departed").await, 0);

    let session = session(&api).await;
    let numbered = [("producer-session", session.as_str()), ("producer-sequence", "0")];
    assert_eq!(send(&api, &numbered, &body).await.0, 200);
    let other = send(&api, &numbered, &json!({"key": "load-8", "value": 2})).await;
    says(&other, 422, "sequence 0 was used for another request");
    assert_eq!(send(&api, &numbered, &body).await.0, 200);
    assert_eq!(api.count("loads.departed").await, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_answered_once_is_answered_again() {
    let api = Api::start().await;
    api.topic("loads.departed", 2).await;
    let many: Vec<Value> = (0..40)
        .map(|n| if n % 3 == 0 { json!({"value": n}) } else { json!({"key": format!("load-{n}"), "value": n}) })
        .collect();
    let (body, session) = (json!(many), session(&api).await);
    let tries: [Vec<(&str, &str)>; 2] =
        [vec![("idempotency-key", "evening")], vec![("producer-session", &session), ("producer-sequence", "0")]];
    let mut firsts = Vec::new();
    for headers in &tries {
        let first = send(&api, headers, &body).await;
        assert_eq!(first.0, 200);
        firsts.push(first);
    }
    let partial = json!([{"key": "a", "value": 1}, {"key": "b", "partition": 9}]);
    let asked = || {
        let request = api.request(Method::POST, "/topics/loads.departed/records?partial=true");
        request.header("idempotency-key", "some of it").json(&partial)
    };
    let some = api.send(asked()).await;
    assert_eq!(some.1["refused"].as_array().unwrap().len(), 1);

    // keys belong elsewhere now, and records to nowhere that do not fit
    let grown = api.confirmed(Method::POST, "/topics/loads.departed/partitions", Some(&json!({"partitions": 7}))).await;
    assert_eq!(grown.0, 200, "{:#}", grown.1);
    for (headers, first) in tries.iter().zip(&firsts) {
        assert_eq!(send(&api, headers, &body).await, *first);
    }
    let schema = json!({"name": "loads.departed.value", "language": "json_schema", "text": r#"{"type":"object"}"#});
    assert_eq!(api.post("/schemas", &schema).await.0, 201);
    let bound = json!({"schema": "loads.departed.value", "required": true});
    let put = api.request(Method::PUT, "/topics/loads.departed/schemas/value").json(&bound);
    let required = api.send(put).await;
    assert_eq!(required.0, 204, "{:#}", required.1);
    says(&send(&api, &[("idempotency-key", "another")], &body).await, 422, "is not of type");
    for (headers, first) in tries.iter().zip(&firsts) {
        assert_eq!(send(&api, headers, &body).await, *first);
    }
    assert_eq!(api.send(asked()).await, some);
    assert_eq!(api.count("loads.departed").await, 81);
}
