//! Transactions of a source that become visible in a target as a whole, while runners come and go.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::Duration;

use crate::support::World;
use gonvel_core::connector::State;

const ACCOUNTS: &str = "
    CREATE TABLE growers (id int PRIMARY KEY, paid bigint NOT NULL);
    CREATE TABLE pools (id int PRIMARY KEY, left_over bigint NOT NULL);
    INSERT INTO growers SELECT n, 1000 FROM generate_series(1, 400) n;
    INSERT INTO pools SELECT n, 1000 FROM generate_series(1, 40) n";

/// Moves money between the tables, some of it in transactions that are larger than a round; the sum never changes.
async fn pay(client: tokio_postgres::Client, steps: u32) {
    for step in 0..steps {
        let amount = i64::from(step % 7) + 1;
        let statement = match step % 40 {
            // every grower at once, again and again: more changes than are read at a time
            20 => "BEGIN; UPDATE pools SET left_over = left_over - 10 * 30;
                   DO $$ BEGIN FOR n IN 1..30 LOOP UPDATE growers SET paid = paid + 1; END LOOP; END $$; COMMIT"
                .to_owned(),
            30 => "BEGIN; UPDATE growers SET paid = paid - 30; UPDATE pools SET left_over = left_over + 10 * 30; COMMIT"
                .to_owned(),
            35 => "BEGIN; UPDATE growers SET paid = paid + 5; ROLLBACK".to_owned(),
            _ => format!(
                "BEGIN; UPDATE growers SET paid = paid + {amount} WHERE id = {};
                 UPDATE pools SET left_over = left_over - {amount} WHERE id = {}; COMMIT",
                1 + step * 37 % 400,
                1 + step * 7 % 40
            ),
        };
        // two that wait for each other: one is rolled back, and does it again
        while let Err(error) = client.batch_execute(&statement).await {
            assert_eq!(error.code(), Some(&tokio_postgres::error::SqlState::T_R_DEADLOCK_DETECTED), "{error}");
            client.batch_execute("ROLLBACK").await.unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_reader_of_the_target_never_sees_a_transaction_in_part() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(ACCOUNTS).await.unwrap();
    let fleet = world.fleet();
    let from = world.connector("from-packhouse", world.source(&["growers", "pools"], 3).await).await;
    let mut sink = world.sink(&["growers", "pools"]).await;
    sink.writes.whole_transactions = true;
    world.until_state(from, State::Following).await;
    let to = world.connector("to-settlement", sink).await;
    // what was loaded is there; from then on every state of the target is one that the source was in
    world.until_equal(&source, &target, &["growers", "pools"]).await;

    let over = Arc::new(AtomicBool::new(false));
    let looked = Arc::new(AtomicU32::new(0));
    let watching = {
        let (over, looked) = (over.clone(), looked.clone());
        let watcher = world.cluster.connect("settlement").await.unwrap();
        tokio::spawn(async move {
            let mut sums = std::collections::BTreeSet::new();
            while !over.load(Ordering::Relaxed) {
                let sum = "SELECT ((SELECT sum(paid) FROM growers) + (SELECT sum(left_over) FROM pools))::bigint";
                sums.insert(watcher.query_one(sum, &[]).await.unwrap().get::<_, i64>(0));
                looked.fetch_add(1, Ordering::Relaxed);
            }
            sums
        })
    };
    let mut paying = Vec::new();
    for _ in 0..2 {
        paying.push(tokio::spawn(pay(world.cluster.connect("packhouse").await.unwrap(), 80)));
    }
    let mut fleet = Some(fleet);
    for round in 0..4_u64 {
        tokio::time::sleep(Duration::from_millis(400 + 150 * round)).await;
        let former = fleet.take().unwrap();
        if round % 2 == 0 {
            former.stop().await
        } else {
            drop(former)
        }
        fleet = Some(world.fleet());
    }
    for payer in paying {
        payer.await.unwrap();
    }
    world.until_equal(&source, &target, &["growers", "pools"]).await;
    // an idle source, and then one single change: it does not wait for the next, nor for the ten seconds of an idle source
    tokio::time::sleep(Duration::from_millis(500)).await;
    let start = std::time::Instant::now();
    source.batch_execute("BEGIN; UPDATE growers SET paid = paid - 1 WHERE id = 1; UPDATE pools SET left_over = left_over + 1 WHERE id = 1; COMMIT").await.unwrap();
    world.until_equal(&source, &target, &["growers", "pools"]).await;
    assert!(start.elapsed() < Duration::from_secs(8), "{:?}", start.elapsed());
    over.store(true, Ordering::Relaxed);
    let sums = watching.await.unwrap();
    assert_eq!(sums, [440_000].into(), "after {} looks", looked.load(Ordering::Relaxed));
    assert!(looked.load(Ordering::Relaxed) > 200, "the watcher looked {} times", looked.load(Ordering::Relaxed));
    assert!(
        world.database.find_connector(to).await.unwrap().said().next().unwrap().tables["packhouse.growers"].counts.update
            > 10_000
    );
    fleet.unwrap().stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn topics_that_no_source_writes_or_in_row_form_are_refused_whole_transactions() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    source.batch_execute(ACCOUNTS).await.unwrap();
    let fleet = world.fleet();
    let mut rows = world.source(&["growers"], 1).await;
    rows.values.form = gonvel_core::connector::ValueForm::Row;
    let from = world.connector("from-packhouse", rows).await;
    world.until_state(from, State::Following).await;
    let mut sink = world.sink(&["growers"]).await;
    sink.writes.whole_transactions = true;
    let to = world.connector("to-settlement", sink).await;
    let reason = world.until_state(to, State::Halted).await;
    assert!(reason.contains("row form do not say their transaction"), "{reason}");
    fleet.stop().await;
}
