//! Lanes of one connector, and lanes on several runners.

use std::time::{Duration, Instant};

use crate::support::{PATIENCE, TABLES, World, write};
use gonvel_core::connector::{State, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorName, RunnerName};
use gonvel_core::planning::Labels;
use gonvel_core::ports::RunnerStore;
use gonvel_runtime::{Fleet, LANE_BYTES, RunnerSettings, Services};

fn labelled(world: &World, name: &str, labels: &[(&str, &str)], room: u32) -> Fleet {
    let labels: Labels = labels.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect();
    let runner = RunnerSettings { name: RunnerName::parse(name).unwrap(), labels, room, lane_bytes: LANE_BYTES };
    Fleet::start(Services::of(&std::sync::Arc::new(world.database.clone()), runner))
}

/// Waits until the lanes of a connector are with these runners, in order.
async fn until_with(world: &World, id: gonvel_core::naming::ConnectorId, runners: &[Option<&str>]) {
    let start = Instant::now();
    loop {
        let lanes = world.database.find_connector(id).await.unwrap().lanes;
        if lanes.iter().map(|l| l.runner.as_deref()).collect::<Vec<_>>() == runners {
            return;
        }
        assert!(start.elapsed() < PATIENCE, "{lanes:?}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn several_lanes_deliver_what_one_does_and_more_are_added_while_it_runs() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source.batch_execute(&format!("{TABLES} CREATE SEQUENCE numbers")).await.unwrap();
    source
        .batch_execute("INSERT INTO bins SELECT n, 1, 'first', 'x', now(), 1 FROM generate_series(1, 900) n")
        .await
        .unwrap();
    world.connector("from-packhouse", world.source(&["bins", "lines"], 4).await).await;
    let mut definition = world.sink(&["bins", "lines"]).await;
    definition.placing.lanes = 2;
    let sink = world.connector("to-settlement", definition.clone()).await;
    let (one, two) = (world.runner("one"), world.runner("two"));
    let writing = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 500, 11));
    // truncates concern all lanes at once
    for n in 0..3 {
        tokio::time::sleep(Duration::from_millis(300)).await;
        source
            .batch_execute(&format!(
                "TRUNCATE bins; INSERT INTO bins SELECT n, 1, 'again', 'y', now(), {n} FROM generate_series(1, 200) n"
            ))
            .await
            .unwrap();
    }
    definition.placing.lanes = 3;
    let name = ConnectorName::parse("to-settlement").unwrap();
    let changed = ValidConnector::check(sink, name.clone(), definition.clone().into()).unwrap();
    world.database.change_connector(&changed, 1, &[], "").await.unwrap();
    for n in 0..3 {
        tokio::time::sleep(Duration::from_millis(300)).await;
        source
            .batch_execute(&format!(
                "TRUNCATE bins; INSERT INTO bins SELECT n, 1, 'again', 'z', now(), {n} FROM generate_series(1, 200) n"
            ))
            .await
            .unwrap();
    }
    writing.await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    assert_eq!(world.database.find_connector(sink).await.unwrap().lanes.len(), 3);
    // and fewer again
    definition.placing.lanes = 1;
    let changed = ValidConnector::check(sink, name, definition.into()).unwrap();
    world.database.change_connector(&changed, 2, &[], "").await.unwrap();
    source.batch_execute("UPDATE bins SET grade = 'juice'; DELETE FROM lines WHERE line_no % 2 = 0").await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    assert_eq!(world.database.find_connector(sink).await.unwrap().lanes.len(), 1);
    one.stop().await;
    two.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn lanes_keep_near_their_system_and_move_when_a_runner_is_emptied_or_ends() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    source
        .batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY, grade text); INSERT INTO bins VALUES (1, 'first')")
        .await
        .unwrap();
    let mut definition = world.source(&["bins"], 2).await;
    definition.placing.only_where.insert("site".into(), "packhouse".into());
    let from = world.connector("from-packhouse", definition).await;
    let to = world.connector("to-settlement", world.sink(&["bins"]).await).await;
    let office = labelled(&world, "office", &[("site", "office")], 10);
    until_with(&world, to, &[Some("office")]).await;
    let found = world.database.find_connector(from).await.unwrap();
    assert!(found.lanes[0].waits.as_deref().unwrap().contains("no runner has site=packhouse"), "{:?}", found.lanes);

    let near = labelled(&world, "near", &[("site", "packhouse")], 10);
    until_with(&world, from, &[Some("near")]).await;
    world.until_equal(&source, &target, &["bins"]).await;
    // emptied, it keeps what may run nowhere else
    world.database.drain(&RunnerName::parse("near").unwrap(), true).await.unwrap();
    world.database.drain(&RunnerName::parse("office").unwrap(), true).await.unwrap();
    let third = labelled(&world, "third", &[], 10);
    until_with(&world, to, &[Some("third")]).await;
    until_with(&world, from, &[Some("near")]).await;
    source.batch_execute("UPDATE bins SET grade = 'second'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;

    // a runner that ends in good order is followed at once, not after its lease
    world.database.drain(&RunnerName::parse("office").unwrap(), false).await.unwrap();
    let begun = Instant::now();
    third.stop().await;
    until_with(&world, to, &[Some("office")]).await;
    source.batch_execute("UPDATE bins SET grade = 'juice'").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    // its lease would have lasted six seconds more
    assert!(begun.elapsed() < Duration::from_secs(6), "{:?}", begun.elapsed());

    // stopped, nobody carries it; started, it goes on where it stood
    world.database.ask(to, Wish::Stop, "grower").await.unwrap();
    world.until_state(to, State::Stopped).await;
    source.batch_execute("INSERT INTO bins VALUES (2, 'late')").await.unwrap();
    world.database.ask(to, Wish::Run, "grower").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    world.database.restart(to, Some(0), "grower").await.unwrap();
    assert!(world.database.restart(to, Some(1), "grower").await.is_err(), "there is no lane 1");
    let history = world.database.history_of(to.0, None, 10).await.unwrap();
    let deeds: Vec<_> = history.iter().rev().map(|d| (d.what.as_str(), d.who.as_str())).collect();
    assert_eq!(
        deeds[..4],
        [("made and started", ""), ("stopped", "grower"), ("started", "grower"), ("started anew", "grower")]
    );

    // a second process of a name ends the first
    let mut replaced = labelled(&world, "near", &[("site", "packhouse")], 10);
    let mut near = near;
    tokio::time::timeout(Duration::from_secs(10), near.ended()).await.expect("two processes of one name");
    source.batch_execute("INSERT INTO bins VALUES (3, 'later')").await.unwrap();
    world.until_equal(&source, &target, &["bins"]).await;
    assert!(tokio::time::timeout(Duration::from_millis(1), replaced.ended()).await.is_err());
    replaced.stop().await;
    office.stop().await;
}
