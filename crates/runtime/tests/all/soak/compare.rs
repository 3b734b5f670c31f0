//! What the source has, the topic comes to and the targets hold.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use gonvel_storage::catalog::history::LineFilter;
use gonvel_storage::quarantine::Which;
use serde_json::Value;
use tokio_postgres::Client;
use tokio_postgres::error::SqlState;

use super::{PATIENCE, Soak};
use crate::support::TopicReading;

type Kept = BTreeMap<i64, (Value, Value)>;

/// What the topic has brought so far.
#[derive(Default)]
pub(super) struct Brought {
    reading: TopicReading,
    /// The rows that each partition comes to, and those from before keys went to other ones.
    rows: Vec<Kept>,
    before: Kept,
    /// What is to stand in the tables of changes and of appended rows since they were equal.
    changes: Vec<String>,
    appended: Vec<String>,
    /// What came since all was at rest.
    pub(super) recent: Vec<String>,
}

impl Brought {
    /// From here on a key may go to another partition.
    pub(super) fn keys_move(&mut self) {
        for rows in &mut self.rows {
            self.before.append(rows);
        }
    }

    async fn read_on(&mut self, database: &gonvel_storage::Database) {
        for (partition, change) in self.reading.changes(database, "packhouse.bins").await {
            self.rows.resize_with(self.rows.len().max(partition + 1), Kept::new);
            let (new, word) = (&change["new"], change["change"].as_str().unwrap());
            let (old, origin) = (&change["old"]["id"], &change["origin"]);
            self.recent.push(format!("{partition}: {word} {} {} of {old}, {origin}", new["id"], new["n"]));
            match word {
                "delete" => {
                    let id = change["old"]["id"].as_i64().unwrap();
                    self.rows[partition].remove(&id);
                    self.before.remove(&id);
                }
                "truncate" => {
                    self.rows[partition].clear();
                    self.before.clear();
                }
                _ => {
                    let id = new["id"].as_i64().unwrap();
                    let unsent = change["unchanged"].as_array().is_some_and(|list| list.iter().any(|c| c == "doc"));
                    let before = self.rows[partition].remove(&id).or_else(|| self.before.remove(&id));
                    let doc = if unsent { before.map(|(_, doc)| doc).unwrap_or_default() } else { new["doc"].clone() };
                    self.before.remove(&id);
                    self.rows[partition].insert(id, (new["n"].clone(), doc));
                    self.appended.push(format!("{} {}", new["id"], new["n"]));
                }
            }
            if word == "truncate" {
                // it stands in each partition, and is one change
                let origin = &change["origin"];
                let told = format!("truncate {} {}", origin["position"].as_str().unwrap(), origin["sequence"]);
                if !self.changes.contains(&told) {
                    self.changes.push(told);
                }
            } else {
                self.changes.push(format!("{word} {} {}", new["id"], new["n"]));
            }
        }
    }

    fn folded(&self) -> Vec<String> {
        let all = self.rows.iter().flatten().chain(&self.before);
        let mut rows: Vec<String> =
            all.map(|(id, (n, doc))| format!("{id} {n} {}", doc.as_str().unwrap_or("null"))).collect();
        rows.sort();
        rows
    }
}

async fn texts(client: &Client, query: &str) -> Vec<String> {
    let mut found: Vec<String> = match client.query(query, &[]).await {
        Ok(rows) => rows.iter().map(|row| row.get(0)).collect(),
        // a target's table comes with its first row
        Err(error) if error.code() == Some(&SqlState::UNDEFINED_TABLE) => Vec::new(),
        Err(error) => vec![error.as_db_error().map_or_else(|| error.to_string(), ToString::to_string)],
    };
    found.sort();
    found
}

/// Rows of a table that only grows, and which they are.
async fn grown(client: &Client, table: &str, row: &str) -> (Vec<String>, Vec<String>) {
    let all = texts(client, &format!("SELECT ctid::text || '|' || {row} FROM {table}.bins")).await;
    let mut rows: Vec<(String, String)> = all
        .iter()
        .map(|row| row.split_once('|').map_or_else(|| (row.clone(), String::new()), |(id, row)| (row.into(), id.into())))
        .collect();
    rows.sort();
    rows.into_iter().unzip()
}

async fn found(client: &Client, of: &str) -> Vec<String> {
    texts(client, &format!("SELECT id || ' ' || coalesce(n::text, 'null') || ' ' || coalesce(doc, 'null') FROM {of}")).await
}

/// What a list lacks of another, and what it has more, a few of each.
fn without(wanted: &[String], found: &[String]) -> (Vec<String>, Vec<String>) {
    let count = |list: &[String]| {
        list.iter().cloned().fold(BTreeMap::new(), |mut all, row| {
            *all.entry(row).or_insert(0) += 1;
            all
        })
    };
    let (wanted, found): (BTreeMap<String, i32>, BTreeMap<String, i32>) = (count(wanted), count(found));
    let cut = |row: &String| row.chars().take(60).collect::<String>();
    let more = |of: &BTreeMap<String, i32>, than: &BTreeMap<String, i32>| {
        of.iter().filter(|(row, n)| than.get(*row).unwrap_or(&0) < n).map(|(row, _)| cut(row)).take(4).collect()
    };
    (more(&wanted, &found), more(&found, &wanted))
}

impl Soak {
    /// Waits until source, topic and targets are the same, and nothing waits.
    pub(super) async fn until_equal(&mut self, seed: u64) {
        let start = Instant::now();
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            let database = &self.world.database;
            let waiting = database.quarantined(None, None, &["waiting", "asked"], 0, 500).await.unwrap();
            for one in self.to {
                database.retry(&Which::All(one), None).await.unwrap();
            }
            self.brought.read_on(database).await;
            let bins = found(&self.source, "bins").await;
            let mut changes = std::mem::take(&mut self.brought.changes);
            let mut appended = std::mem::take(&mut self.brought.appended);
            changes.sort();
            appended.sort();
            let of_changes = "change || CASE change WHEN 'truncate' THEN ' ' || position || ' ' || sequence
                 ELSE ' ' || coalesce(new->>'id', 'null') || ' ' || coalesce(new->>'n', 'null') END";
            let (in_changes, which_changes) = grown(&self.target, "changes", of_changes).await;
            let (in_appended, which_appended) =
                grown(&self.target, "appended", "id || ' ' || coalesce(n::text, 'null')").await;
            let pairs = [
                ("topic", bins.clone(), self.brought.folded()),
                ("current", bins.clone(), found(&self.target, "current.bins").await),
                ("history", bins, found(&self.target, "history.bins WHERE valid_to IS NULL").await),
                ("changes", changes, in_changes),
                ("appended", appended, in_appended),
                ("parts", found(&self.source, "rooms").await, found(&self.target, "current.rooms").await),
            ];
            if waiting.is_empty() && pairs.iter().all(|(_, wanted, found)| wanted == found) {
                // what only grows is compared once; more may have come meanwhile, of a load that is not over
                for (table, which) in [("changes", which_changes), ("appended", which_appended)] {
                    if !which.is_empty() {
                        let gone = format!("DELETE FROM {table}.bins WHERE ctid = ANY ($1::text[]::tid[])");
                        self.target.execute(&gone, &[&which]).await.unwrap();
                    }
                }
                return;
            }
            if start.elapsed() > PATIENCE {
                let differ = pairs.iter().filter(|(_, wanted, found)| wanted != found);
                let differ: Vec<_> = differ.map(|(name, wanted, found)| (name, without(wanted, found))).collect();
                let lanes: Vec<_> =
                    database.connectors().await.unwrap().into_iter().map(|c| (c.name.clone(), c.lanes)).collect();
                let waiting: Vec<_> = waiting.iter().map(|w| (w.record_offset, w.finding.clone())).take(3).collect();
                let lines = database.lines_of(self.from, &LineFilter::default(), 300).await.unwrap();
                let said = lines.iter().map(|line| format!("{} {} {:?}", line.at.format("%T%.3f"), line.says, line.facts));
                let told =
                    [said.rev().collect(), std::mem::take(&mut self.journal), std::mem::take(&mut self.brought.recent)];
                for part in told {
                    eprintln!("{}\n", part.join("\n"));
                }
                panic!("seed {seed}: lacks and has more: {differ:?}; {waiting:?}; {:?}; {lanes:#?}", self.done);
            }
            let [.., (_, changes, _), (_, appended, _), _] = pairs;
            (self.brought.changes, self.brought.appended) = (changes, appended);
        }
    }
}
