//! Everything at once: whatever is done to a table in its source, while whatever a person or a failure can do is done to the connectors that
//! carry it, its topic and its targets end as the source is. `GONVEL_SOAK_SECONDS` lets it go on for longer, `GONVEL_SOAK_SEED` repeats it.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::support::{World, topic_changes};
use gonvel_core::connector::{DeliveredTopic, ExistingRows, SinkDefinition, State, TargetRows, Wish};
use gonvel_core::naming::{ConnectorId, TopicName};
use gonvel_core::ports::TopicLog;
use gonvel_stand_ins::dice::Dice;
use gonvel_storage::quarantine::Which;
use tokio_postgres::Client;

const MAKE: &str = "CREATE TABLE bins (id bigint PRIMARY KEY, n int, doc text, code text UNIQUE);
    ALTER TABLE bins ALTER doc SET STORAGE EXTERNAL";
const PATIENCE: Duration = Duration::from_secs(120);

struct Soak {
    world: World,
    source: Client,
    target: Client,
    from: ConnectorId,
    to: [ConnectorId; 2],
    dice: Dice,
    done: BTreeMap<&'static str, u32>,
    prepared: bool,
}

impl Soak {
    /// One statement or transaction in the source, and its kind.
    fn change(&mut self, step: u64) -> (&'static str, String) {
        let (id, n) = (self.dice.roll(60), self.dice.roll(1_000));
        let large = format!("repeat('doc {step} ', {})", 1 + self.dice.roll(2) * 500);
        match self.dice.roll(40) {
            0..8 => ("inserts", format!("INSERT INTO bins VALUES ({id}, {n}, {large}, 'code {id}') ON CONFLICT DO NOTHING")),
            8..14 => ("updates", format!("UPDATE bins SET n = {n}, doc = {large} WHERE id = {id}")),
            14..20 => ("updates of a part", format!("UPDATE bins SET n = {n} WHERE id BETWEEN {id} AND {}", id + 5)),
            20..23 => ("deletes", format!("DELETE FROM bins WHERE id = {id}")),
            23..25 => ("other keys", format!("UPDATE bins SET id = {} WHERE id = {id}", self.dice.roll(60))),
            25..28 => (
                "savepoints",
                format!(
                    "BEGIN; UPDATE bins SET n = {n} WHERE id = {id}; SAVEPOINT a; INSERT INTO bins VALUES ({}, 1, {large}, NULL) ON CONFLICT DO NOTHING;
                     RELEASE SAVEPOINT a; SAVEPOINT b; DELETE FROM bins; ROLLBACK TO SAVEPOINT b; COMMIT",
                    60 + id
                ),
            ),
            28..30 => (
                "exchanged values",
                format!(
                    "BEGIN; UPDATE bins SET code = 'free' WHERE id = {id}; UPDATE bins SET code = 'code {id}' WHERE id = {};
                     UPDATE bins SET code = 'code {}' WHERE id = {id}; COMMIT",
                    id + 1,
                    id + 1
                ),
            ),
            30..32 if self.prepared => {
                self.prepared = false;
                ("prepared transactions", "COMMIT PREPARED 'soak'".into())
            }
            30..32 => {
                self.prepared = true;
                ("prepared transactions", format!("BEGIN; INSERT INTO bins VALUES ({}, {n}, {large}, NULL); PREPARE TRANSACTION 'soak'", 200 + step))
            }
            32 => ("truncates", "TRUNCATE bins".into()),
            33 => ("columns added", format!("ALTER TABLE bins ADD COLUMN IF NOT EXISTS extra_{} text DEFAULT 'x'", n % 3)),
            34 => ("columns dropped", format!("ALTER TABLE bins DROP COLUMN IF EXISTS extra_{}", n % 3)),
            35 => ("identities", format!("ALTER TABLE bins REPLICA IDENTITY {}", if n % 2 == 0 { "FULL" } else { "DEFAULT" })),
            36 => ("rewrites", "VACUUM FULL bins".into()),
            37 if n % 3 == 0 => ("tables made anew", format!("DROP TABLE bins; {MAKE}; INSERT INTO bins VALUES ({id}, {n}, {large}, NULL)")),
            _ => ("many rows", format!("INSERT INTO bins SELECT m, m, {large}, NULL FROM generate_series({0}, {0} + 30) m ON CONFLICT DO NOTHING", 1_000 + n)),
        }
    }

    /// What a person does with a connector, or what happens to it.
    async fn interfere(&mut self) {
        let database = &self.world.database;
        let all = [self.from, self.to[0], self.to[1]];
        let one = all[usize::try_from(self.dice.roll(3)).unwrap()];
        let current = self.to[0];
        let what = match self.dice.roll(10) {
            0 => {
                database.ask(one, Wish::Pause, "").await.unwrap();
                "pauses"
            }
            1..4 => {
                for one in all {
                    database.ask(one, Wish::Run, "").await.unwrap();
                }
                "starts"
            }
            4 => {
                database.start_anew(&[one]).await.unwrap();
                "restarts"
            }
            5 => {
                database.ask_to_load_again(self.from, &["public.bins".to_owned()], ExistingRows::Keep).await.unwrap();
                database.start_anew(&[self.from]).await.unwrap();
                "loads again"
            }
            6 => {
                let rest = self.dice.roll(7);
                let refuse = format!("ALTER TABLE current.bins ADD CONSTRAINT refuses CHECK (n % 7 <> {rest}) NOT VALID");
                let _ = self.target.batch_execute(&refuse).await;
                "rows refused"
            }
            7 => {
                let _ = self.target.batch_execute("ALTER TABLE current.bins DROP CONSTRAINT refuses").await;
                "rows taken"
            }
            8 => {
                let waiting = database.quarantined(Some(current), None, &["waiting"], 0, 500).await.unwrap();
                if !waiting.is_empty() {
                    let chosen = usize::try_from(self.dice.roll(waiting.len() as u64)).unwrap();
                    database.retry(&Which::Ids(vec![waiting[chosen].id]), None).await.unwrap();
                }
                "retries of one"
            }
            _ => {
                database.retry(&Which::All(current), None).await.unwrap();
                "retries of all"
            }
        };
        *self.done.entry(what).or_default() += 1;
    }

    /// The rows that the topic comes to.
    async fn folded(&self) -> Vec<String> {
        let database = &self.world.database;
        let topic = database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
        let mut changes = topic_changes(database, "packhouse.bins").await.into_iter();
        let mut rows: Vec<String> = Vec::new();
        for bounds in database.bounds(topic.id).await.unwrap() {
            let mut of: BTreeMap<i64, (serde_json::Value, serde_json::Value)> = BTreeMap::new();
            for change in changes.by_ref().take(usize::try_from(bounds.next.0).unwrap()) {
                let (new, kept) =
                    (&change["new"], change["unchanged"].as_array().is_some_and(|list| list.iter().any(|c| c == "doc")));
                match change["change"].as_str().unwrap() {
                    "delete" => {
                        of.remove(&change["old"]["id"].as_i64().unwrap());
                    }
                    "truncate" => of.clear(),
                    _ => {
                        let id = new["id"].as_i64().unwrap();
                        let before = of.get(&id).map(|(_, doc)| doc.clone());
                        let doc = if kept { before.unwrap_or_default() } else { new["doc"].clone() };
                        of.insert(id, (new["n"].clone(), doc));
                    }
                }
            }
            rows.extend(of.into_iter().map(|(id, (n, doc))| format!("{id} {n} {}", doc.as_str().unwrap_or("null"))));
        }
        rows.sort();
        rows
    }

    async fn found(client: &Client, of: &str) -> Vec<String> {
        let rows = client
            .query(&format!("SELECT id || ' ' || coalesce(n::text, 'null') || ' ' || coalesce(doc, 'null') FROM {of}"), &[])
            .await;
        let mut rows: Vec<String> = rows.map(|rows| rows.iter().map(|row| row.get(0)).collect()).unwrap_or_default();
        rows.sort();
        rows
    }

    async fn settle(&mut self, seed: u64) {
        if std::mem::take(&mut self.prepared) {
            self.source.batch_execute("COMMIT PREPARED 'soak'").await.unwrap();
        }
        let _ = self.target.batch_execute("ALTER TABLE current.bins DROP CONSTRAINT refuses").await;
        for one in [self.from, self.to[0], self.to[1]] {
            self.world.database.ask(one, Wish::Run, "").await.unwrap();
        }
        let start = Instant::now();
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            let waiting = self.world.database.quarantined(None, None, &["waiting", "asked"], 0, 500).await.unwrap();
            for one in self.to {
                self.world.database.retry(&Which::All(one), None).await.unwrap();
            }
            let source = Self::found(&self.source, "bins").await;
            let states = "history.bins WHERE valid_to IS NULL";
            let all = [
                self.folded().await,
                Self::found(&self.target, "current.bins").await,
                Self::found(&self.target, states).await,
            ];
            if waiting.is_empty() && all.iter().all(|found| *found == source) {
                return;
            }
            if start.elapsed() > PATIENCE {
                let differ = |found: &Vec<String>| {
                    let cut = |row: &String| row.chars().take(60).collect::<String>();
                    let lacks: Vec<_> = source.iter().filter(|row| !found.contains(row)).map(cut).take(4).collect();
                    let more: Vec<_> = found.iter().filter(|row| !source.contains(row)).map(cut).take(4).collect();
                    (lacks, more)
                };
                let lanes: Vec<_> =
                    self.world.database.connectors().await.unwrap().into_iter().map(|c| (c.name.clone(), c.lanes)).collect();
                let waiting: Vec<_> = waiting.iter().map(|w| (w.record_offset, w.finding.clone())).take(3).collect();
                panic!(
                    "seed {seed}: topic, current, history lack and have more: {:?}; {waiting:?}; {:?}; {lanes:#?}",
                    all.iter().map(differ).collect::<Vec<_>>(),
                    self.done
                );
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_done_to_a_table_and_its_connectors_all_ends_as_the_source_is() {
    let asked = |name: &str| std::env::var(name).ok().and_then(|n| n.parse::<u64>().ok());
    let seconds = asked("GONVEL_SOAK_SECONDS").unwrap_or(15);
    let seed = asked("GONVEL_SOAK_SEED").unwrap_or(7);
    let (world, _own) = World::apart_with(&["max_prepared_transactions=3"]).await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{MAKE}; SET lock_timeout = '300ms'")).await.unwrap();
    target.batch_execute("CREATE SCHEMA current; CREATE SCHEMA history; SET lock_timeout = '2s'").await.unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins"], 3).await).await;
    let mut to = Vec::new();
    for (schema, rows, lanes) in [("current", TargetRows::Current, 2), ("history", TargetRows::History, 1)] {
        let topics =
            vec![DeliveredTopic { topic: "packhouse.bins".into(), schema: schema.into(), table: "bins".into(), rows: None }];
        let mut sink = SinkDefinition::of(world.connection("settlement").await, topics);
        (sink.writes.rows, sink.placing.lanes) = (rows, lanes);
        (sink.failing.most_in_a_row, sink.failing.most_a_minute) = (1_000_000, 1_000_000);
        to.push(world.connector(schema, sink).await);
    }
    let mut fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let to = [to[0], to[1]];
    let dice = Dice::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
    let mut soak = Soak { world, source, target, from, to, dice, done: BTreeMap::new(), prepared: false };
    let start = Instant::now();
    let mut step = 0;
    while start.elapsed() < Duration::from_secs(seconds) {
        // now and then all is let come to rest, and compared
        for _ in 0..300 {
            step += 1;
            let prepared = soak.prepared;
            let (kind, statement) = soak.change(step);
            match soak.source.batch_execute(&statement).await {
                Ok(()) => *soak.done.entry(kind).or_default() += 1,
                Err(_) => {
                    soak.prepared = prepared;
                    let _ = soak.source.batch_execute("ROLLBACK").await;
                }
            }
            if soak.dice.roll(8) == 0 {
                soak.interfere().await;
            }
            if soak.dice.roll(120) == 0 {
                fleet.stop().await;
                fleet = soak.world.fleet();
                *soak.done.entry("runners replaced").or_default() += 1;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
            if start.elapsed() > Duration::from_secs(seconds) {
                break;
            }
        }
        soak.settle(seed).await;
    }
    eprintln!("{step} steps: {:?}", soak.done);
    fleet.stop().await;
}
