//! The program, served in a process of its own.
#![allow(dead_code, reason = "each test uses a part of it")]

pub mod checks;
pub mod shell;

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::Value;

/// The program as it is now.
pub const THIS: &str = env!("CARGO_BIN_EXE_gonvel");

pub struct Gonvel {
    child: Child,
    pub base: String,
    pub client: reqwest::Client,
}

impl Gonvel {
    pub async fn serve(cluster: &TestCluster, folder: &std::path::Path, port: u16) -> Self {
        Self::serve_at(&cluster.url("gonvel"), folder, port, "runner-1").await
    }

    /// The same, with a database by its URL and a name for the runner inside.
    pub async fn serve_at(url: &str, folder: &std::path::Path, port: u16, runner: &str) -> Self {
        Self::serve_telling(url, folder, port, runner, Stdio::inherit()).await
    }

    /// The same, with what it logs going somewhere.
    pub async fn serve_telling(url: &str, folder: &std::path::Path, port: u16, runner: &str, log: Stdio) -> Self {
        Self::serve_by(THIS, url, folder, port, (runner, log)).await
    }

    /// The same, by a program of this or of another version.
    pub async fn serve_by(
        program: &str,
        url: &str,
        folder: &std::path::Path,
        port: u16,
        (runner, log): (&str, Stdio),
    ) -> Self {
        gonvel_storage::provide_tls();
        let child = Command::new(program)
            .arg("serve")
            .env("GONVEL_RUNNER", runner)
            .env("GONVEL_DATABASE_URL", url)
            .env("GONVEL_LISTEN", format!("127.0.0.1:{port}"))
            .env("GONVEL_KEY_FILE", folder.join("secret.key"))
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()
            .unwrap();
        // one that takes requests and does not answer yet must not keep the test waiting
        let client = reqwest::Client::builder().timeout(Duration::from_secs(10)).build().unwrap();
        let made = Self { child, base: format!("http://127.0.0.1:{port}/api/v1"), client };
        let start = Instant::now();
        while made.get("/health").await.is_none() {
            assert!(start.elapsed() < Duration::from_secs(120), "the server does not answer");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        made
    }

    pub async fn get(&self, path: &str) -> Option<Value> {
        self.client.get(format!("{}{path}", self.base)).send().await.ok()?.json().await.ok()
    }

    /// The items of a list, all in one page.
    pub async fn list(&self, path: &str) -> Option<Value> {
        let found = self.get(path).await?;
        // a version from before lists had pages
        let plain = found.is_array() && std::env::var_os("GONVEL_BEFORE").is_some();
        if plain { Some(found) } else { found.get("items").cloned() }
    }

    /// Deletes something, after a look at what that does.
    pub async fn delete(&self, path: &str) {
        let ask = async |query: &str| {
            let answer = self.client.delete(format!("{}{path}{query}", self.base)).send().await.unwrap();
            (answer.status(), answer.text().await.unwrap())
        };
        let (_, plan) = ask("?dry_run=true").await;
        let plan: Value = serde_json::from_str(&plan).unwrap_or_default();
        let Some(tag) = plan["tag"].as_str() else {
            // a version from before there were plans has deleted it now
            assert!(std::env::var_os("GONVEL_BEFORE").is_some(), "{plan:#}");
            return;
        };
        let (status, said) = ask(&format!("?confirm={tag}")).await;
        assert!(status.is_success(), "{said}");
    }

    pub async fn post(&self, path: &str, body: Value) -> Value {
        let answer = self.client.post(format!("{}{path}", self.base)).json(&body).send().await.unwrap();
        let status = answer.status();
        let made: Value = answer.json().await.unwrap();
        assert!(status.is_success(), "{made:#}");
        made
    }

    /// One more runner, in a process of its own; it answers nothing.
    pub fn runner(url: &str, folder: &std::path::Path, name: &str, label: Option<&str>) -> Self {
        Self::runner_by(THIS, url, folder, name, label)
    }

    /// The same, by a program of this or of another version.
    pub fn runner_by(program: &str, url: &str, folder: &std::path::Path, name: &str, label: Option<&str>) -> Self {
        gonvel_storage::provide_tls();
        let mut command = Command::new(program);
        command.args(["runner", "--runner", name]).args(label.map(|l| ["--label", l]).into_iter().flatten());
        let child = command
            .env("GONVEL_DATABASE_URL", url)
            .env("GONVEL_KEY_FILE", folder.join("secret.key"))
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        Self { child, base: String::new(), client: reqwest::Client::new() }
    }

    /// Sends the process a signal, by its name.
    pub fn signal(&self, name: &str) {
        let sent = Command::new("kill").args([&format!("-{name}"), &self.child.id().to_string()]).status().unwrap();
        assert!(sent.success(), "{name} could not be sent");
    }

    /// Waits until the process ends by itself.
    pub fn ended(&mut self) -> std::process::ExitStatus {
        self.child.wait().unwrap()
    }

    /// Memory in use, in MiB.
    pub fn memory(&self) -> u64 {
        self.memory_by("VmRSS:")
    }

    /// Most memory that was in use at any time, in MiB.
    pub fn most_memory(&self) -> u64 {
        self.memory_by("VmHWM:")
    }

    fn memory_by(&self, what: &str) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|l| l.strip_prefix(what)).unwrap();
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
