//! Numbers keep their digits from the request to the page, whatever schema they are written by.

use reqwest::Method;
use serde_json::json;

use crate::support::{Api, says};

const ID: &str = "12345678901234567890123";
const KG: &str = "1234567890123456.78";

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_number_is_shown_with_the_digits_it_was_sent_with() {
    let api = Api::start().await;
    let avro = json!({"type": "record", "name": "Load", "fields": [
        {"name": "kg", "type": {"type": "bytes", "logicalType": "decimal", "precision": 30, "scale": 2}},
        {"name": "share", "type": ["null", "float"]}]});
    let text = json!({"type": "object", "properties": {"id": {"type": "number"}, "kg": {"type": "number"}}});
    let both = format!("{{\"id\": {ID},\n \"kg\": {KG}}}");
    for (topic, language, schema, value, shown) in [
        ("loads.avro", "avro", Some(&avro), format!("{{\"kg\": {KG}, \"share\": 0.5}}"), format!("\"kg\":\"{KG}\"")),
        ("loads.json", "json_schema", Some(&text), both.clone(), both.replace('\n', " ")),
        ("loads.plain", "", None, both.clone(), both.replace('\n', " ")),
    ] {
        api.topic(topic, 1).await;
        if let Some(schema) = schema {
            let made = json!({"name": format!("{topic}.value"), "language": language, "text": schema.to_string()});
            assert_eq!(api.post("/schemas", &made).await.0, 201);
            let bound = json!({"schema": format!("{topic}.value"), "required": true});
            let put = api.request(Method::PUT, &format!("/topics/{topic}/schemas/value")).json(&bound);
            assert_eq!(api.send(put).await.0, 204);
        }
        // as a part of JSON, and as a body of its own
        let record = format!("{{\"key\": {ID}, \"value\": {value}}}");
        let done = api.append(topic, "application/json", record).await;
        assert_eq!(done.0, 200, "{:#}", done.1);
        let raw = api.request(Method::POST, &format!("/topics/{topic}/records?key=own"));
        let done = api.send(raw.header("content-type", "application/octet-stream").body(value)).await;
        assert_eq!(done.0, 200, "{:#}", done.1);
        for path in ["records?order=oldest", "search?filter=true"] {
            let answer = api.request(Method::GET, &format!("/topics/{topic}/{path}")).send().await.unwrap();
            let page = answer.text().await.unwrap();
            assert_eq!(page.matches(&shown).count(), 2, "{topic} {path}: {page}");
            assert!(page.contains(&format!("\"key\":{ID}")), "{page}");
        }
    }
    let large = json!([{"value": {"kg": 1, "share": 1e39}}]);
    says(&api.post("/topics/loads.avro/records", &large).await, 422, "a number of 32 bits");
}

#[test]
fn a_value_that_is_mended_is_taken_as_it_was_written() {
    let of = |text: &str| serde_json::from_str::<gonvel_http_api::MendRecord>(text).unwrap().value;
    let value = of(&format!("{{\"value\": {{\"id\": {ID}, \"kg\": {KG}}}}}")).unwrap();
    assert_eq!(value.get(), format!("{{\"id\": {ID}, \"kg\": {KG}}}"));
    assert!(of("{\"value\": null}").is_none(), "nothing takes a mending back");
}
