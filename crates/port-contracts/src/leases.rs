//! The contract of [`FleetStore`]'s leases: one holder at a time, and each new holder fences all earlier ones.

use std::time::Duration;

use gonvel_core::connector::State;
use gonvel_core::naming::{ConnectorId, Epoch};
use gonvel_core::ports::{FleetStore, HeldLane, LaneStatus, PortError, RunnerStore};

const LONG: Duration = Duration::from_secs(30);
const SHORT: Duration = Duration::from_millis(150);

/// All of it, on a connector that has lane 0 and is not run by anyone.
pub async fn all<F: FleetStore + RunnerStore>(fleet: &F, connector: ConnectorId) {
    one_holder_at_a_time(fleet, connector).await;
    an_expired_lease_goes_to_another_and_fences_the_first(fleet, connector).await;
    a_lease_given_back_is_free_and_its_former_holder_fenced(fleet, connector).await;
    many_who_ask_at_once_get_one_lease(fleet, connector).await;
    let nothing = fleet.acquire(connector, 99, "a", LONG).await;
    assert!(matches!(nothing, Err(PortError::NotFound { .. })), "{nothing:?}");
}

async fn take<F: FleetStore + RunnerStore>(fleet: &F, connector: ConnectorId, runner: &str, ttl: Duration) -> Option<Epoch> {
    fleet.acquire(connector, 0, runner, ttl).await.unwrap().map(|l| l.epoch)
}

async fn renewed<F: FleetStore + RunnerStore>(fleet: &F, connector: ConnectorId, epoch: Epoch) -> bool {
    let held = HeldLane { connector, lane: 0, epoch };
    let lost = fleet.renew(&[held], LONG).await.unwrap();
    assert!(lost.is_empty() || lost == [held], "{lost:?}");
    lost.is_empty()
}

async fn one_holder_at_a_time<F: FleetStore + RunnerStore>(fleet: &F, connector: ConnectorId) {
    let first = take(fleet, connector, "a", LONG).await.unwrap();
    assert_eq!(take(fleet, connector, "b", LONG).await, None, "a lease was given twice");
    // a runner that was started again under its name takes over at once, as a new holder
    let again = take(fleet, connector, "a", LONG).await.unwrap();
    assert!(again > first);
    assert!(!renewed(fleet, connector, first).await, "a former holder renewed");
    assert!(renewed(fleet, connector, again).await);
    fleet.release(connector, 0, again).await.unwrap();
}

async fn an_expired_lease_goes_to_another_and_fences_the_first<F: FleetStore + RunnerStore>(
    fleet: &F,
    connector: ConnectorId,
) {
    let first = take(fleet, connector, "a", SHORT).await.unwrap();
    tokio::time::sleep(SHORT * 2).await;
    let second = take(fleet, connector, "b", LONG).await.unwrap();
    assert!(second > first);
    assert!(!renewed(fleet, connector, first).await, "a presumed dead holder renewed");
    let status = LaneStatus::entering(State::Following, 1);
    fleet.save_status(connector, 0, first, &status).await.unwrap();
    fleet.release(connector, 0, first).await.unwrap();
    assert_eq!(take(fleet, connector, "c", LONG).await, None, "a former holder gave the lease away");
    fleet.release(connector, 0, second).await.unwrap();
}

async fn a_lease_given_back_is_free_and_its_former_holder_fenced<F: FleetStore + RunnerStore>(
    fleet: &F,
    connector: ConnectorId,
) {
    let first = take(fleet, connector, "a", LONG).await.unwrap();
    fleet.release(connector, 0, first).await.unwrap();
    assert!(!renewed(fleet, connector, first).await);
    let second = take(fleet, connector, "b", LONG).await.unwrap();
    assert!(second > first);
    fleet.release(connector, 0, second).await.unwrap();
}

async fn many_who_ask_at_once_get_one_lease<F: FleetStore + RunnerStore>(fleet: &F, connector: ConnectorId) {
    let names: Vec<String> = (0..8).map(|n| format!("runner {n}")).collect();
    let asked = names.iter().map(|name| take(fleet, connector, name, LONG));
    let got: Vec<Epoch> = futures::future::join_all(asked).await.into_iter().flatten().collect();
    assert_eq!(got.len(), 1, "{got:?}");
    fleet.release(connector, 0, got[0]).await.unwrap();
}
