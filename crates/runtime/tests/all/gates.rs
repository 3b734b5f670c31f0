//! Both ends behind an SSH server that nobody here wrote, and that goes down again and again.

use std::time::Duration;

use gonvel_connectors::postgres::address::DatabaseAddress;
use gonvel_connectors::reaching::{Reaching, Through, Way};
use gonvel_core::connector::State;
use gonvel_core::naming::ConnectionName;
use gonvel_core::secret::Secret;
use gonvel_stand_ins::gates::Gate;
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_storage::catalog::connections::ConnectionInput;

use crate::support::{TABLES, World, write};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_change_comes_once_through_a_jump_host_that_goes_down_again_and_again() {
    let world = World::new().await;
    let source = world.cluster.connect("packhouse").await.unwrap();
    let target = world.cluster.connect("settlement").await.unwrap();
    let rows = "INSERT INTO bins SELECT n FROM generate_series(100001, 130000) n";
    source.batch_execute(&format!("{TABLES} CREATE SEQUENCE numbers; {rows}")).await.unwrap();
    let mut ssh = Gate::ssh();
    for database in ["packhouse", "settlement"] {
        let address = DatabaseAddress {
            reaching: Reaching {
                through: Some(Through {
                    way: Way::JumpHost,
                    host: "127.0.0.1".into(),
                    port: ssh.gate.port,
                    user: Some(ssh.user.clone()),
                    password: None,
                    key: Some(Secret::new(ssh.key.clone())),
                    host_key: Some(ssh.host_keys[0].clone()),
                }),
                ..Reaching::default()
            },
            ..DatabaseAddress::new("127.0.0.1", world.cluster.port, database, OWNER, &world.cluster.password)
        };
        let input = ConnectionInput { name: ConnectionName::parse(database).unwrap(), address: address.into() };
        world.database.create_connection(&input).await.unwrap();
    }
    let fleet = world.fleet();
    let (from, to) = world.flow(&["bins", "lines"], 2).await;
    let writing = tokio::spawn(write(world.cluster.connect("packhouse").await.unwrap(), 600, 5));
    for round in 0..5 {
        // the first ones fall into the load
        tokio::time::sleep(Duration::from_millis(300 + 300 * round)).await;
        ssh.gate.kill();
        tokio::time::sleep(Duration::from_millis(100)).await;
        ssh.gate.start_again();
    }
    writing.await.unwrap();
    world.until_equal(&source, &target, &["bins", "lines"]).await;
    for connector in [from, to] {
        world.until_state(connector, State::Following).await;
    }
    fleet.stop().await;
}
