//! Functions of one's own over HTTP: kept by version, tried on the rows of all that use them, and refused where those would break.

use std::time::{Duration, Instant};

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Api, says};

fn points(value: &str, first: &str) -> Value {
    json!({"function": {
        "name": "grade_points", "parameters": [{"name": "grade", "type": "text"}], "gives": "integer", "value": value,
        "description": "Points that a grade is paid by.",
        "examples": [{"given": ["'first'"], "gives": first}, {"given": ["NULL"]}],
    }})
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_function_is_kept_by_version_and_a_change_is_tried_on_all_that_use_it() {
    let api = Api::start().await;
    let put = |name: &str, body: &Value| api.send(api.request(Method::PUT, &format!("/functions/{name}")).json(body));
    let by_grade = "CASE grade WHEN 'first' THEN 3 WHEN 'second' THEN 2 END";
    let asked = points(by_grade, "4");
    says(&put("grade_points", &asked).await, 422, "example 1 gives 3, and says 4");
    says(&put("other", &points(by_grade, "3")).await, 422, "give one name");
    says(&put("grade_points", &points("CASE grde WHEN 'first' THEN 3 END", "3")).await, 422, "perhaps grade");
    let (status, saved) = put("grade_points", &points(by_grade, "3")).await;
    assert_eq!(
        (status, &saved["version"], &saved["signature"]),
        (200, &json!(1), &json!("(grade text) → integer")),
        "{saved:#}"
    );
    says(&put("grade_points", &points(by_grade, "3")).await, 409, "the function grade_points is there already");
    let at = async |version: i64, body: &Value| api.put_at("/functions/grade_points", version, body).await;
    assert_eq!(at(7, &points(by_grade, "3")).await.0, 412, "made from a version that is not in force");
    let listed = api.list("/shapes/functions?limit=1000").await;
    let own = listed.as_array().unwrap().iter().find(|f| f["name"] == "grade_points").unwrap();
    assert_eq!(
        (&own["group"], &own["example"], &own["result"]),
        (&json!("your own"), &json!("grade_points('first')"), &json!("3"))
    );

    // a shape that calls it, on events of a topic
    api.topic("bins.weighed", 1).await;
    let grades = ["first", "second", "third", "first"];
    let records: Vec<Value> = grades.iter().map(|g| json!({"value": {"grade": g}})).collect();
    assert_eq!(api.post("/topics/bins.weighed/records", &json!(records)).await.0, 200);
    let rows = json!({"columns": [
        {"name": "grade", "type": "text", "path": ["grade"]},
        {"name": "record_partition", "type": "integer", "part": "partition", "key": true},
        {"name": "record_offset", "type": "bigint", "part": "offset", "key": true},
    ]});
    let shape =
        json!({"steps": {"bins.weighed": [{"step": "compute", "column": "points", "value": "grade_points(grade) * 10"}]}});
    let try_shape = json!({"shape": shape, "rows": {"from": "topic", "topic": "bins.weighed", "rows": rows}});
    let (status, tried) = api.post("/shapes/try", &try_shape).await;
    assert_eq!((status, &tried["findings"]), (200, &json!([])), "{tried:#}");
    let last = tried["stages"].as_array().unwrap().last().unwrap();
    let mut found: Vec<String> = last["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["cells"].as_array().unwrap().last().unwrap().to_string())
        .collect();
    found.sort();
    assert_eq!(found, ["\"20\"", "\"30\"", "\"30\"", "null"]);
    let definition = json!({"kind": "topics", "partitions": 1, "carries": [{"topic": "bins.weighed", "to": "bins.paid", "rows": rows}], "shape": shape});
    let (status, made) =
        api.post("/connectors", &json!({"name": "pay-bins", "definition": definition, "start": true})).await;
    assert!(status == 200 || status == 201, "{made:#}");

    let used = api.get("/functions/grade_points").await.1;
    assert_eq!(used["used_by"][0]["name"], "pay-bins");
    let gone = |version: i32| {
        let request = api.request(Method::DELETE, "/functions/grade_points");
        api.send(request.header("if-match", format!("\"{version}\"")))
    };
    says(&gone(1).await, 409, "grade_points is used by pay-bins");
    // what a change does to the newest rows of what uses it, before it is saved
    let more = points("CASE grade WHEN 'first' THEN 5 WHEN 'second' THEN 2 ELSE 0 END", "5");
    let mut more = more;
    more["function"]["examples"][1]["gives"] = json!("0");
    let (_, tried) = api.post("/functions/try", &more).await;
    let effect = &tried["effects"][0];
    assert_eq!((&effect["connector"], &effect["of"]), (&json!("pay-bins"), &json!("bins.weighed")), "{tried:#}");
    assert_eq!(
        (&effect["compared"]["rows"], &effect["compared"]["change"], &effect["compared"]["same"]),
        (&json!(4), &json!(3), &json!(1))
    );
    // one that the shape would no longer fit with is refused
    let mut wrong = points("grade", "first");
    wrong["function"]["gives"] = json!("text");
    says(&at(1, &wrong).await, 422, "pay-bins would no longer fit, at bins.weighed");
    let (status, saved) = at(1, &more).await;
    assert_eq!((status, &saved["version"]), (200, &json!(2)), "{saved:#}");
    assert_eq!(saved["versions"].as_array().unwrap().len(), 2);
    // a function that calls another: both are used where the outer one is
    let outer = json!({"function": {"name": "paid", "parameters": [{"name": "g", "type": "text"}], "gives": "integer",
        "value": "grade_points(g) + 1", "examples": [{"given": ["'second'"], "gives": "3"}]}});
    assert_eq!(put("paid", &outer).await.0, 200);
    assert_eq!(api.get("/functions/grade_points").await.1["called_by"], json!(["paid"]));
    assert_eq!(api.confirmed(Method::DELETE, "/functions/paid", None).await.0, 204);
    says(&api.get("/functions/paid").await, 404, "function paid");
    // one of its name can be made again, and its versions count on
    let (status, again) = put("paid", &outer).await;
    assert_eq!((status, &again["version"], again["versions"].as_array().map(Vec::len)), (200, &json!(3), Some(1)));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_who_save_at_once_make_one_version_each_or_are_told() {
    let api = Api::start().await;
    let began = Instant::now();
    let body = points("CASE grade WHEN 'first' THEN 3 END", "3");
    let save = || api.send(api.request(Method::PUT, "/functions/grade_points").json(&body));
    let (a, b) = tokio::join!(save(), save());
    let mut statuses = [a.0, b.0];
    statuses.sort_unstable();
    // whoever comes later finds it there, or finds that it came in between
    assert!(statuses == [200, 412] || statuses == [200, 409], "{statuses:?}");
    assert!(began.elapsed() < Duration::from_secs(20));
}
