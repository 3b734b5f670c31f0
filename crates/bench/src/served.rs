//! What is measured on the served program, from outside: memory while it exports, the list of many topics, the keeper at rest.

use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use futures::StreamExt;
use gonvel_stand_ins::postgres_cluster::free_port;
use serde_json::Value;

use crate::append::record;
use crate::log::{fill, topic};
use crate::report::{Measured, median};
use crate::world::{Outcome, World};

pub struct Served {
    child: Child,
    base: String,
    _folder: tempfile::TempDir,
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Served {
    pub async fn start(world: &World) -> Outcome<Self> {
        Self::start_with(world, &[]).await
    }

    /// The same with settings, by the names of their variables.
    pub async fn start_with(world: &World, settings: &[(&str, &str)]) -> Outcome<Self> {
        let program = std::env::current_exe()?.with_file_name("gonvel");
        if !program.exists() {
            return Err(format!("{} is not built: run make bench", program.display()).into());
        }
        let (folder, port) = (tempfile::tempdir()?, free_port()?);
        let child = Command::new(program)
            .arg("serve")
            .env("GONVEL_DATABASE_URL", world.url("gonvel"))
            .env("GONVEL_LISTEN", format!("127.0.0.1:{port}"))
            .env("GONVEL_KEY_FILE", folder.path().join("secret.key"))
            .envs(settings.iter().copied())
            .stdout(Stdio::null())
            .spawn()?;
        let served = Self { child, base: format!("http://127.0.0.1:{port}/api/v1"), _folder: folder };
        let start = Instant::now();
        while reqwest::get(format!("{}/health", served.base)).await.is_err() {
            if start.elapsed() > Duration::from_secs(20) {
                return Err("the server does not answer".into());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Ok(served)
    }

    /// Where its API is.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// Asks it for something.
    pub async fn get(&self, path: &str) -> Outcome<Value> {
        Ok(serde_json::from_str(&reqwest::get(format!("{}{path}", self.base)).await?.text().await?)?)
    }

    /// The items of a list that fits into one page.
    pub async fn items(&self, path: &str) -> Outcome<Value> {
        Ok(self.get(path).await?["items"].take())
    }

    /// Asks it to make or do something.
    pub async fn post(&self, path: &str, body: Value) -> Outcome<Value> {
        let answer = reqwest::Client::new().post(format!("{}{path}", self.base)).json(&body).send().await?;
        let status = answer.status();
        let text = answer.text().await?;
        if status.is_success() { Ok(serde_json::from_str(&text)?) } else { Err(text.into()) }
    }

    /// What part of a core it uses for as long.
    pub async fn share(&self, over: Duration) -> Outcome<f64> {
        let used = || processor(&self.child.id().to_string()).ok_or("its processor time is not told");
        let before = used()?;
        tokio::time::sleep(over).await;
        Ok((used()? - before) / over.as_secs_f64())
    }

    /// Memory in use, in MiB.
    pub fn memory(&self) -> Outcome<f64> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).ok_or("no memory is stated")?;
        Ok(line.trim().trim_end_matches("kB").trim().parse::<f64>()? / 1024.0)
    }
}

/// The server's memory while a topic of 10 million records is exported.
pub async fn export() -> Outcome<Measured> {
    const RECORDS: usize = 10_000_000;
    let world = World::start(&[]).await?;
    let to = topic(&world, "coldstore.readings").await?;
    fill(&world, to, RECORDS, record).await?;
    let served = Served::start(&world).await?;
    let mut detail = Vec::new();
    let mut worst = f64::INFINITY;
    for form in ["avro", "parquet", "jsonl", "csv"] {
        let answer = reqwest::get(format!("{}/topics/coldstore.readings/export?form={form}", served.base)).await?;
        let mut pieces = answer.bytes_stream();
        let (start, mut bytes) = (Instant::now(), 0_usize);
        // by seconds: the first is the measure of all that follow
        let (mut early, mut peak, mut looked) = (0.0_f64, 0.0_f64, Instant::now());
        while let Some(piece) = pieces.next().await {
            bytes += piece?.len();
            if looked.elapsed() > Duration::from_millis(100) {
                let memory = served.memory()?;
                if start.elapsed() < Duration::from_secs(5) {
                    early = early.max(memory);
                }
                peak = peak.max(memory);
                looked = Instant::now();
            }
        }
        worst = worst.min(early / peak);
        let took = start.elapsed().as_secs_f64();
        detail.push(format!(
            "{form}: {early:.0} MiB in the first 5 s, {peak:.0} MiB at most, {:.1} GB in {took:.0} s",
            bytes as f64 / 1e9
        ));
    }
    Ok(Measured {
        name: "export-memory",
        what: "memory of the server while 10,000,000 records are exported: in the first five seconds divided by the most at any time, the worst of four forms (flat is 1; a tenth more is let pass)",
        ratio: worst,
        goal: 0.9,
        detail: detail.join("; "),
    })
}

async fn many_topics(world: &World) -> Outcome<()> {
    let client = world.connect("gonvel").await?;
    client
        .batch_execute(
            "INSERT INTO topics (name, partitions, forget_after_ms) SELECT 'packhouse.room.' || n, 6, 604800000 FROM generate_series(1, 10000) n; \
             INSERT INTO topic_partitions (topic_id, partition, next_offset, bytes, small_blocks, reach_us) \
               SELECT id, p, 1, 100, 1, (extract(epoch FROM now()) * 1000000)::bigint FROM topics, generate_series(0, 5) p; \
             INSERT INTO blocks (topic_id, partition, first_offset, records, span, earliest_us, latest_us, reach_us, unpacked, body) \
               SELECT topic_id, partition, 0, 1, 1, reach_us, reach_us, reach_us, 100, decode(repeat('ab', 100), 'hex') FROM topic_partitions",
        )
        .await?;
    client.batch_execute("VACUUM ANALYZE").await?;
    Ok(())
}

/// The list of 10,000 topics of 6 partitions.
pub async fn list() -> Outcome<Measured> {
    const LIMIT_MS: f64 = 300.0;
    let world = World::start(&[]).await?;
    many_topics(&world).await?;
    let served = Served::start(&world).await?;
    let mut times = Vec::new();
    let mut bytes = 0;
    for _ in 0..21 {
        let start = Instant::now();
        bytes = reqwest::get(format!("{}/topics?limit=10000", served.base)).await?.bytes().await?.len();
        times.push(start.elapsed().as_secs_f64() * 1000.0);
    }
    let most = times.iter().copied().fold(0.0, f64::max);
    let middle = median(times);
    Ok(Measured {
        name: "topic-list",
        what: "the list of 10,000 topics of 6 partitions over HTTP, against a limit of 300 ms",
        ratio: LIMIT_MS / most,
        goal: 1.0,
        detail: format!("median {middle:.0} ms, most {most:.0} ms of 21; {:.1} MB", f64::from(u32::try_from(bytes)?) / 1e6),
    })
}

/// Processor time of a process, in seconds.
pub fn processor(pid: &str) -> Option<f64> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    let after = stat.rsplit(')').next()?;
    let fields: Vec<&str> = after.split_whitespace().collect();
    let ticks: f64 = fields.get(11)?.parse::<f64>().ok()? + fields.get(12)?.parse::<f64>().ok()?;
    Some(ticks / 100.0)
}

/// The processes of a server and its children.
fn family(parent: u32) -> Vec<String> {
    let all = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let pids: Vec<String> =
        all.filter_map(|e| e.file_name().into_string().ok()).filter(|n| n.parse::<u32>().is_ok()).collect();
    let is_child = |pid: &String| {
        let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(1).map(str::to_owned))
            == Some(parent.to_string())
    };
    pids.into_iter().filter(|pid| *pid == parent.to_string() || is_child(pid)).collect()
}

fn total(pids: &[u32]) -> f64 {
    pids.iter().flat_map(|pid| family(*pid)).filter_map(|pid| processor(&pid)).sum()
}

/// What the keeper costs when it has nothing to do, with 10,000 topics of 6 partitions: the program and the database together.
pub async fn keeper() -> Outcome<Measured> {
    const LIMIT: f64 = 0.02;
    let world = World::start(&[]).await?;
    many_topics(&world).await?;
    let served = Served::start(&world).await?;
    let file = std::fs::read_to_string(PathBuf::from(world.home()).join("postgres/postmaster.pid"))?;
    let postmaster: u32 = file.lines().next().ok_or("no postmaster")?.trim().parse()?;
    // the first round does all the keeper's work once
    tokio::time::sleep(Duration::from_secs(70)).await;
    let (start, before) = (Instant::now(), total(&[served.child.id(), postmaster]));
    tokio::time::sleep(Duration::from_secs(120)).await;
    let cost = (total(&[served.child.id(), postmaster]) - before) / start.elapsed().as_secs_f64();
    Ok(Measured {
        name: "keeper-idle",
        what: "processor time of the server and its database at rest with 10,000 topics of 6 partitions and two rounds of all the keeper's work in it, against a limit of 2 % of a core",
        ratio: LIMIT / cost,
        goal: 1.0,
        detail: format!("{:.2} % of a core over 120 s, everything else that they do at rest included", cost * 100.0),
    })
}
