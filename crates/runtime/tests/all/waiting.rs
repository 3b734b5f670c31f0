//! Targets that keep a lane waiting, and servers that say nothing.

use std::time::{Duration, Instant};

use gonvel_core::connector::{State, Wish};
use gonvel_stand_ins::between::Between;

use crate::support::{TABLES, World};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sink_that_waits_for_a_lock_says_whose_it_is_and_can_be_paused() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{TABLES} INSERT INTO bins SELECT n FROM generate_series(1, 20) n")).await.unwrap();
    let fleet = world.fleet();
    let (_, to) = world.flow(&["bins"], 2).await;
    world.until_equal(&source, &target, &["bins"]).await;

    let clerk = world.cluster.connect("settlement").await.unwrap();
    clerk
        .batch_execute("SET application_name = 'price list'; BEGIN; UPDATE bins SET grade = 'looked at' WHERE id = 7")
        .await
        .unwrap();
    let pid: i32 = clerk.query_one("SELECT pg_backend_pid()", &[]).await.unwrap().get(0);
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    let told = async || {
        let said = world.database.find_connector(to).await.unwrap();
        said.said().find_map(|lane| lane.reason.clone()).unwrap_or_default()
    };
    let start = Instant::now();
    while !told().await.contains(&format!("session {pid} holds (user gonvel, application price list, idle in transaction")) {
        assert!(start.elapsed() < Duration::from_secs(20), "{}", told().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // who asks it to rest is not kept waiting as well
    let start = Instant::now();
    world.database.ask(to, Wish::Pause, "").await.unwrap();
    world.until_state(to, State::Paused).await;
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
    world.database.ask(to, Wish::Run, "").await.unwrap();
    let start = Instant::now();
    while !told().await.contains(&format!("session {pid} holds")) {
        assert!(start.elapsed() < Duration::from_secs(20), "{}", told().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    clerk.batch_execute("ROLLBACK").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    let start = Instant::now();
    while !told().await.is_empty() {
        assert!(start.elapsed() < Duration::from_secs(20), "{}", told().await);
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // a log that was rolled back counts what is asked from before again: what is asked now still counts
    world.sql_own("UPDATE connectors SET wish = 'pause'").await;
    world.until_state(to, State::Paused).await;
    fleet.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_source_and_a_target_that_fall_silent_without_closing_are_given_up_and_reached_anew() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{TABLES} INSERT INTO bins SELECT n FROM generate_series(1, 20) n")).await.unwrap();
    let between = Between::start(world.cluster.port).await;
    let fleet = world.fleet();
    let (from, to) = world.flow(&["bins"], 2).await;
    world.sql_own(&format!("UPDATE connections SET port = {}", between.port)).await;
    world.database.start_anew(&[from, to]).await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    // an idle source is not taken for a silent one
    tokio::time::sleep(Duration::from_secs(13)).await;
    let made = between.made();
    source.batch_execute("UPDATE bins SET grade = 'heard' WHERE id = 1").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert_eq!(between.made(), made, "a session was given up that was only idle");

    between.fall_silent();
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    fleet.stop().await;
}
