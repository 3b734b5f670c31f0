//! Everything at once: whatever is done to a table in its source, while whatever a person or a failure can do is done to the connectors that
//! carry it, its topic and its targets end as the source is. `GONVEL_SOAK_SECONDS` lets it go on for longer, `GONVEL_SOAK_SEED` repeats it.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

mod compare;

use crate::support::{World, move_sink, sink_positions};
use compare::Brought;
use gonvel_core::connector::{
    Definition, DeliveredTopic, ExistingRows, SinkDefinition, State, TargetRows, ValidConnector, Wish,
};
use gonvel_core::naming::{ConnectorId, ConnectorName, TopicName, TopicPartition};
use gonvel_core::ports::{FleetStore, Topic, TopicLog};
use gonvel_stand_ins::dice::Dice;
use gonvel_storage::quarantine::Which;
use tokio_postgres::Client;
use tokio_postgres::error::SqlState;

const MAKE: &str = "CREATE TABLE bins (id bigint PRIMARY KEY, n int, doc text, code text UNIQUE);
    ALTER TABLE bins ALTER doc SET STORAGE EXTERNAL";
/// A table in parts, which come and go with their rows.
const ROOMS: &str = "CREATE TABLE rooms (id bigint PRIMARY KEY, n int, doc text) PARTITION BY RANGE (id)";
const PATIENCE: Duration = Duration::from_secs(120);

struct Soak {
    world: World,
    source: Client,
    target: Client,
    from: ConnectorId,
    /// Of each way of rows: current, history, appended, changes.
    to: [ConnectorId; 4],
    dice: Dice,
    done: BTreeMap<&'static str, u32>,
    /// What was done since all was at rest, each with the time.
    journal: Vec<String>,
    prepared: bool,
    /// Parts of rooms came or went since it was loaded.
    parts: bool,
    /// What the topic has brought.
    brought: Brought,
    /// Where its partitions ended when all was at rest.
    rest: Vec<(TopicPartition, i64)>,
}

impl Soak {
    /// One statement or transaction in the source, and its kind.
    fn change(&mut self, step: u64) -> (&'static str, String) {
        let (id, n) = (self.dice.roll(60), self.dice.roll(1_000));
        let large = format!("repeat('doc {step} ', {})", 1 + self.dice.roll(2) * 500);
        let (part, part_from) = (id / 20, id / 20 * 20);
        match self.dice.roll(50) {
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
            38..42 => ("rows of parts", format!("INSERT INTO rooms VALUES ({id}, {n}, {large}) ON CONFLICT (id) DO UPDATE SET n = excluded.n")),
            42 => ("rows of parts", format!("DELETE FROM rooms WHERE n % 9 = {}", n % 9)),
            43 => ("parts attached", format!("BEGIN; CREATE TABLE rooms_{part} (LIKE rooms INCLUDING ALL); INSERT INTO rooms_{part} SELECT m, {n}, {large}
                 FROM generate_series({part_from}, {part_from} + 9) m; ALTER TABLE rooms ATTACH PARTITION rooms_{part} FOR VALUES FROM ({part_from}) TO ({part_from} + 20); COMMIT")),
            44 => ("parts detached", format!("BEGIN; ALTER TABLE rooms DETACH PARTITION rooms_{part}; DROP TABLE rooms_{part}; COMMIT")),
            48 if n % 2 == 0 => (
                "names exchanged",
                format!(
                    "BEGIN; ALTER TABLE bins RENAME TO bins_before; ALTER TABLE rooms RENAME TO bins; ALTER TABLE bins_before RENAME TO rooms;
                     UPDATE rooms SET n = {n} WHERE id BETWEEN {id} AND {}; INSERT INTO bins VALUES ({id}, {n}, NULL) ON CONFLICT DO NOTHING;
                     ALTER TABLE bins RENAME TO bins_before; ALTER TABLE rooms RENAME TO bins; ALTER TABLE bins_before RENAME TO rooms; COMMIT",
                    id + 5
                ),
            ),
            48 => (
                "renames",
                format!(
                    "BEGIN; ALTER TABLE bins RENAME TO bins_before; UPDATE bins_before SET n = {n} WHERE id BETWEEN {id} AND {};
                     INSERT INTO bins_before VALUES ({}, {n}, {large}, NULL) ON CONFLICT DO NOTHING; ALTER TABLE bins_before RENAME TO bins; COMMIT",
                    id + 5,
                    400 + id
                ),
            ),
            49 => ("columns renamed", format!("ALTER TABLE bins RENAME COLUMN extra_{} TO extra_{}", n % 3, (n + 1) % 3)),
            _ => ("many rows", format!("INSERT INTO bins SELECT m, m, {large}, NULL FROM generate_series({0}, {0} + 30) m ON CONFLICT DO NOTHING", 1_000 + n)),
        }
    }

    fn note(&mut self, what: String) {
        self.journal.push(format!("{} {what}", chrono::Utc::now().format("%T%.3f")));
    }

    /// What a person does with a connector, or what happens to it.
    async fn interfere(&mut self) {
        let database = &self.world.database;
        let all: Vec<ConnectorId> = self.all().collect();
        let one = all[usize::try_from(self.dice.roll(5)).unwrap()];
        let current = self.to[0];
        let what = match self.dice.roll(13) {
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
            9 => {
                // what is given up comes again with a load
                database.discard(&Which::All(current), i64::MAX, "soak", "it is loaded again").await.unwrap();
                database.ask_to_load_again(self.from, &["public.bins".to_owned()], ExistingRows::Keep).await.unwrap();
                database.start_anew(&[self.from]).await.unwrap();
                "discards"
            }
            10 => {
                let mut found = database.find_connector(current).await.unwrap();
                let Definition::Sink(sink) = &mut found.definition else { panic!("{found:?}") };
                sink.placing.lanes = 1 + u32::try_from(self.dice.roll(3)).unwrap();
                let edited =
                    ValidConnector::check(current, ConnectorName::parse(&found.name).unwrap(), found.definition.clone())
                        .unwrap();
                database.change_connector(&edited, found.version, &[], "").await.unwrap();
                "edits"
            }
            _ => {
                database.retry(&Which::All(current), None).await.unwrap();
                "retries of all"
            }
        };
        *self.done.entry(what).or_default() += 1;
        self.note(format!("{what} {one:?}"));
    }

    /// Lets all of it come to rest, and compares it.
    async fn settle(&mut self, seed: u64) {
        if std::mem::take(&mut self.prepared) {
            self.source.batch_execute("COMMIT PREPARED 'soak'").await.unwrap();
        }
        // whoever writes holds it for a while
        let takes = "ALTER TABLE IF EXISTS current.bins DROP CONSTRAINT IF EXISTS refuses";
        while let Err(error) = self.target.batch_execute(takes).await {
            assert_eq!(error.code(), Some(&SqlState::LOCK_NOT_AVAILABLE), "{error:?}");
        }
        // as the documentation says: what comes and goes with a part is loaded again
        if std::mem::take(&mut self.parts) {
            let rooms = ["public.rooms".to_owned()];
            let existing = if self.dice.roll(2) == 0 { ExistingRows::Compare } else { ExistingRows::Empty };
            self.world.database.ask_to_load_again(self.from, &rooms, existing).await.unwrap();
            self.world.database.start_anew(&[self.from]).await.unwrap();
        }
        for one in self.all() {
            self.world.database.ask(one, Wish::Run, "").await.unwrap();
        }
        self.until_equal(seed).await;
        self.journal.clear();
        self.brought.recent.clear();
        let topic = self.world.database.topic(&TopicName::parse("packhouse.bins").unwrap()).await.unwrap();
        match self.dice.roll(4) {
            0 => self.move_back(&topic).await,
            1 if topic.partitions < 6 => {
                self.world.database.add_partitions(topic.id, topic.partitions + 1, &[self.from]).await.unwrap();
                self.brought.keys_move();
                for one in self.all() {
                    self.world.database.ask(one, Wish::Run, "").await.unwrap();
                }
                self.world.database.start_anew(&self.to).await.unwrap();
                *self.done.entry("partitions added").or_default() += 1;
            }
            _ => {}
        }
        let bounds = self.world.database.bounds(topic.id).await.unwrap();
        self.rest = bounds.iter().map(|b| (TopicPartition { topic: topic.id, partition: b.partition }, b.next.0)).collect();
    }

    /// Moves the sink of current rows back to where all was at rest before.
    async fn move_back(&mut self, topic: &Topic) {
        let current = self.to[0];
        self.world.database.ask(current, Wish::Pause, "").await.unwrap();
        self.world.until_state(current, State::Paused).await;
        let address = self.world.database.address(self.world.connection("settlement").await).await.unwrap();
        let stands = sink_positions(&address, current).await;
        // all partitions, or none: one that came since has no place from before
        let moves: Vec<_> = self.rest.iter().filter_map(|(at, to)| Some((*at, *stands.get(at)?, *to))).collect();
        if moves.len() == stands.keys().filter(|at| at.topic == topic.id).count() {
            move_sink(&address, current, &moves, false).await.unwrap();
            *self.done.entry("moves back").or_default() += 1;
        }
        self.world.database.ask(current, Wish::Run, "").await.unwrap();
    }

    fn all(&self) -> impl Iterator<Item = ConnectorId> + use<> {
        std::iter::once(self.from).chain(self.to)
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
    source.batch_execute(&format!("{MAKE}; {ROOMS}; SET lock_timeout = '300ms'")).await.unwrap();
    target.batch_execute("CREATE SCHEMA current; CREATE SCHEMA history; CREATE SCHEMA appended; CREATE SCHEMA changes; SET lock_timeout = '2s'").await.unwrap();
    let from = world.connector("from-packhouse", world.source(&["bins", "rooms"], 3).await).await;
    let mut to = Vec::new();
    for (schema, rows, lanes) in [
        ("current", TargetRows::Current, 2),
        ("history", TargetRows::History, 1),
        ("appended", TargetRows::Appended, 1),
        ("changes", TargetRows::Changes, 1),
    ] {
        let delivered = |table: &&str| DeliveredTopic {
            topic: format!("packhouse.{table}"),
            schema: schema.into(),
            table: (*table).into(),
            rows: None,
        };
        let tables: &[&str] = if rows == TargetRows::Current { &["bins", "rooms"] } else { &["bins"] };
        let topics = tables.iter().map(delivered).collect();
        let mut sink = SinkDefinition::of(world.connection("settlement").await, topics);
        (sink.writes.rows, sink.placing.lanes) = (rows, lanes);
        (sink.failing.most_in_a_row, sink.failing.most_a_minute) = (1_000_000, 1_000_000);
        to.push(world.connector(schema, sink).await);
    }
    let mut fleet = world.fleet();
    world.until_state(from, State::Following).await;
    let to = to.try_into().unwrap();
    let dice = Dice::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1);
    let (brought, rest, done, journal) = (Brought::default(), Vec::new(), BTreeMap::new(), Vec::new());
    let mut soak =
        Soak { world, source, target, from, to, dice, done, journal, prepared: false, parts: false, brought, rest };
    let start = Instant::now();
    let mut step = 0;
    while start.elapsed() < Duration::from_secs(seconds) {
        // now and then all is let come to rest, and compared
        for _ in 0..300 {
            step += 1;
            let prepared = soak.prepared;
            let (kind, statement) = soak.change(step);
            match soak.source.batch_execute(&statement).await {
                Ok(()) => {
                    soak.note(format!("{step}: {}", statement.chars().take(120).collect::<String>()));
                    soak.parts |= kind.starts_with("parts ");
                    *soak.done.entry(kind).or_default() += 1;
                }
                Err(_) => {
                    soak.prepared = prepared;
                    let _ = soak.source.batch_execute("ROLLBACK").await;
                }
            }
            if soak.dice.roll(8) == 0 {
                soak.interfere().await;
            }
            if soak.dice.roll(120) == 0 {
                let kills = soak.dice.roll(2) == 0;
                if kills {
                    drop(fleet)
                } else {
                    fleet.stop().await
                }
                fleet = soak.world.fleet();
                let what = if kills { "runners killed" } else { "runners replaced" };
                *soak.done.entry(what).or_default() += 1;
                soak.note(what.into());
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
