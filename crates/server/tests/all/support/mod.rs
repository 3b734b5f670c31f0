//! A server over a real log, and how the tests talk to it.
#![allow(dead_code, reason = "each test program uses a part of it")]

use std::sync::Arc;
use std::time::Duration;

use gonvel_server::ServerState;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::sealing::Sealer;
use reqwest::{Method, RequestBuilder};
use serde_json::{Value, json};
use tokio::sync::Notify;

pub struct Api {
    pub cluster: TestCluster,
    pub base: String,
    pub client: reqwest::Client,
    pub database: Database,
}

pub type Answer = (u16, Value);

impl Api {
    pub async fn start() -> Self {
        Self::importing(gonvel_server::LARGEST_IMPORT).await
    }

    /// With files of so many bytes at most that may be imported.
    pub async fn importing(largest: u64) -> Self {
        let cluster = TestCluster::start(&["gonvel"]).await;
        let database = Database::open(&cluster.url("gonvel"), Sealer::new(&[7; 32])).await.unwrap();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let base = format!("http://{}/api/v1", listener.local_addr().unwrap());
        let state = ServerState::importing(database.clone(), Arc::new(Notify::new()), None, largest);
        tokio::spawn(gonvel_server::serve(listener, state, |_| None, std::future::pending()));
        Self { cluster, base, client: reqwest::Client::new(), database }
    }

    pub fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.client.request(method, format!("{}{path}", self.base))
    }

    pub async fn send(&self, request: RequestBuilder) -> Answer {
        let answer = request.send().await.unwrap();
        let status = answer.status().as_u16();
        if status >= 400 {
            assert_eq!(answer.headers()["content-type"], "application/problem+json");
        }
        (status, serde_json::from_slice(&answer.bytes().await.unwrap()).unwrap_or_default())
    }

    pub async fn get(&self, path: &str) -> Answer {
        self.send(self.request(Method::GET, path)).await
    }

    /// The items of a list, all in one page.
    pub async fn list(&self, path: &str) -> Value {
        let (status, page) = self.get(path).await;
        assert_eq!((status, page.get("next")), (200, None), "{page:#}");
        page["items"].clone()
    }

    pub async fn post(&self, path: &str, body: &Value) -> Answer {
        self.send(self.request(Method::POST, path).json(body)).await
    }

    /// Changes what is at this revision.
    pub async fn put_at(&self, path: &str, revision: i64, body: &Value) -> Answer {
        self.send(self.request(Method::PUT, path).header("if-match", format!("\"{revision}\"")).json(body)).await
    }

    /// What a request would do.
    pub async fn plan(&self, method: Method, path: &str, body: Option<&Value>) -> Answer {
        self.send(self.planned(method, path, "dry_run=true", body)).await
    }

    /// The same request, with what goes before it or confirms it in its query; of whatever revision it is.
    pub fn planned(&self, method: Method, path: &str, query: &str, body: Option<&Value>) -> RequestBuilder {
        let request = self.request(method, &format!("{path}?{query}")).header("if-match", "*");
        body.iter().fold(request, |request, body| request.json(body))
    }

    /// What manifests change.
    pub async fn manifests(&self, files: &Value) -> Value {
        let (status, mut plan) = self.plan(Method::POST, "/manifests/apply", Some(files)).await;
        assert_eq!(status, 200, "{plan:#}");
        plan["installation"].take()
    }

    /// Has what a request would do carried out.
    pub async fn confirmed(&self, method: Method, path: &str, body: Option<&Value>) -> Answer {
        let (status, plan) = self.plan(method.clone(), path, body).await;
        assert_eq!(status, 200, "{plan:#}");
        self.send(self.planned(method, path, &format!("confirm={}", plan["tag"].as_str().unwrap()), body)).await
    }

    /// What becomes of an operation that was begun: 200 with it when it is done, or its problem as an answer.
    pub async fn ended(&self, begun: Answer) -> Answer {
        if begun.0 != 202 {
            return begun;
        }
        let path = format!("/operations/{}", begun.1["id"].as_str().unwrap());
        for _ in 0..6_000 {
            let (status, mut operation) = self.get(&path).await;
            assert_eq!(status, 200, "{operation:#}");
            match operation["state"].as_str() {
                Some("running") => tokio::time::sleep(Duration::from_millis(10)).await,
                Some("failed") => {
                    let problem = operation["problem"].take();
                    return (problem["status"].as_u64().unwrap().try_into().unwrap(), problem);
                }
                _ => return (200, operation),
            }
        }
        panic!("{path} does not end");
    }

    /// Imports a file, and gives what came of it.
    pub async fn import(&self, topic: &str, query: &str, file: impl Into<reqwest::Body>) -> Answer {
        let (status, operation) = self
            .ended(self.send(self.request(Method::POST, &format!("/topics/{topic}/import?{query}")).body(file)).await)
            .await;
        (status, if status == 200 { operation["result"].clone() } else { operation })
    }

    pub async fn append(&self, topic: &str, media: &str, body: impl Into<reqwest::Body>) -> Answer {
        let request = self.request(Method::POST, &format!("/topics/{topic}/records"));
        self.send(request.header("content-type", media).body(body)).await
    }

    pub async fn topic(&self, name: &str, partitions: i32) {
        let made = self.post("/topics", &json!({"name": name, "partitions": partitions})).await;
        assert_eq!(made.0, 201, "{}", made.1);
    }

    /// What is there is as old as its records, as if each had been appended when it happened.
    pub async fn appended_as_it_happened(&self) {
        let client = self.cluster.connect("gonvel").await.unwrap();
        client.batch_execute("UPDATE blocks SET appended_us = latest_us").await.unwrap();
    }

    pub async fn count(&self, topic: &str) -> i64 {
        self.get(&format!("/topics/{topic}")).await.1["records"].as_i64().unwrap()
    }

    pub async fn all(&self, topic: &str) -> Vec<Value> {
        let path = format!("/topics/{topic}/records?order=oldest&limit=500&raw=true");
        self.get(&path).await.1["items"].as_array().unwrap().clone()
    }
}

pub fn says(answer: &Answer, status: u16, part: &str) {
    assert_eq!(answer.0, status, "{:#}", answer.1);
    let detail = answer.1["detail"].as_str().unwrap_or_default();
    assert!(detail.contains(part), "does not say {part:?}: {detail}");
}

/// What a problem document is about: a field of the body by its way from the top, or a parameter.
pub fn place(problem: &Value) -> Option<&str> {
    let error = &problem["errors"][0];
    error["parameter"].as_str().or_else(|| Some(error["pointer"].as_str()?.trim_start_matches('/')))
}

/// The word that ends the type of a problem.
pub fn word(problem: &Value) -> Option<&str> {
    problem["type"].as_str()?.strip_prefix("/api/v1/problems/")
}
