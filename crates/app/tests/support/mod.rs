//! The program, served in a process of its own.
#![allow(dead_code, reason = "each test uses a part of it")]

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::Value;

pub struct Gonvel {
    child: Child,
    pub base: String,
    pub client: reqwest::Client,
}

impl Gonvel {
    pub async fn serve(cluster: &TestCluster, folder: &std::path::Path, port: u16) -> Self {
        let child = Command::new(env!("CARGO_BIN_EXE_gonvel"))
            .arg("serve")
            .env("GONVEL_DATABASE_URL", cluster.url("gonvel"))
            .env("GONVEL_LISTEN", format!("127.0.0.1:{port}"))
            .env("GONVEL_KEY_FILE", folder.join("secret.key"))
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        let made = Self { child, base: format!("http://127.0.0.1:{port}/api/v1"), client: reqwest::Client::new() };
        let start = Instant::now();
        while made.get("/health").await.is_none() {
            assert!(start.elapsed() < Duration::from_secs(20), "the server does not answer");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        made
    }

    pub async fn get(&self, path: &str) -> Option<Value> {
        self.client.get(format!("{}{path}", self.base)).send().await.ok()?.json().await.ok()
    }

    pub async fn post(&self, path: &str, body: Value) -> Value {
        let answer = self.client.post(format!("{}{path}", self.base)).json(&body).send().await.unwrap();
        let status = answer.status();
        let made: Value = answer.json().await.unwrap();
        assert!(status.is_success(), "{made:#}");
        made
    }

    /// Memory in use, in MiB.
    pub fn memory(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap();
        line.trim().trim_end_matches("kB").trim().parse::<u64>().unwrap() / 1024
    }

    pub fn kill(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

impl Drop for Gonvel {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
