//! The contract of [`RunnerStore`]: a name has one process, lanes are with runners that are alive, and the plan is kept.

use std::time::Duration;

use gonvel_core::connector::Wish;
use gonvel_core::naming::{ConnectorId, RunnerName};
use gonvel_core::ports::{Beaten, Heartbeat, PortError, RunnerStore};
use uuid::Uuid;

const LONG: Duration = Duration::from_secs(60);
const SHORT: Duration = Duration::from_millis(150);

/// What a process says that begins as a runner.
///
/// # Panics
/// If the name is none.
#[must_use]
pub fn heartbeat(name: &str, labels: &[(&str, &str)], room: u32) -> Heartbeat {
    Heartbeat {
        name: RunnerName::parse(name).expect("a name"),
        instance: Uuid::new_v4(),
        labels: labels.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect(),
        room,
        host: "packhouse".into(),
        release: "0".into(),
    }
}

/// Shares out, and gives the lanes of a runner.
pub async fn lanes_of(runners: &dyn RunnerStore, runner: &Heartbeat) -> Vec<(ConnectorId, i32)> {
    runners.share_out().await.unwrap();
    runners.assigned(&runner.name).await.unwrap().iter().map(|a| (a.connector, a.lane)).collect()
}

/// All of it, with connectors of one lane that are asked to run; nobody carries them.
pub async fn all(runners: &dyn RunnerStore, connectors: &[ConnectorId]) {
    let (first, second) = (heartbeat("first", &[("site", "packhouse")], 100), heartbeat("second", &[], 100));
    runners.join(&first, LONG).await.unwrap();
    assert_eq!(lanes_of(runners, &first).await.len(), connectors.len(), "one runner has all");
    let assigned = runners.assigned(&first.name).await.unwrap();
    assert!(assigned.iter().all(|a| a.wish == Wish::Run && a.version == 1 && !a.others_held));

    // a second one gets its part, and what stays with the first is not touched
    runners.join(&second, SHORT).await.unwrap();
    let (mine, moved) = (lanes_of(runners, &first).await, lanes_of(runners, &second).await);
    assert_eq!((mine.len() + moved.len(), moved.len()), (connectors.len(), connectors.len() / 2));
    let seen = runners.runners().await.unwrap();
    assert_eq!(seen.iter().map(|r| r.said.name.as_str()).collect::<Vec<_>>(), ["first", "second"]);
    assert_eq!((&seen[0].said, seen[0].alive, seen[0].lanes.len()), (&first, true, mine.len()));
    let alive = runners.forget_runner(&first.name).await;
    assert!(matches!(alive, Err(PortError::Refused(_))), "{alive:?}");

    // without heartbeats it is taken to be dead: only its own lanes move
    tokio::time::sleep(SHORT * 2).await;
    let after = lanes_of(runners, &first).await;
    assert_eq!(after.len(), connectors.len());
    assert!(mine.iter().all(|lane| after.contains(lane)));
    assert!(!runners.runners().await.unwrap()[1].alive);
    // it beats again: it was only slow
    assert_eq!(runners.beat(&second, LONG).await.unwrap(), Beaten::Alive);
    assert_eq!(lanes_of(runners, &second).await.len(), connectors.len() / 2);

    // emptied, it has nothing; and again its part
    runners.drain(&first.name, true).await.unwrap();
    assert_eq!(lanes_of(runners, &second).await.len(), connectors.len());
    runners.drain(&first.name, false).await.unwrap();
    assert_eq!(lanes_of(runners, &first).await.len(), connectors.len() / 2);

    // another process of a name replaces the one before
    let again = heartbeat("second", &[], 100);
    runners.join(&again, LONG).await.unwrap();
    assert_eq!(runners.beat(&second, LONG).await.unwrap(), Beaten::Replaced);
    runners.leave(&second.name, second.instance).await.unwrap();
    assert_eq!(runners.beat(&again, LONG).await.unwrap(), Beaten::Alive, "a process that was replaced ended the other");

    // who leaves in good order is gone at once
    runners.leave(&again.name, again.instance).await.unwrap();
    assert_eq!(lanes_of(runners, &first).await.len(), connectors.len());
    runners.forget_runner(&again.name).await.unwrap();
    runners.leave(&first.name, first.instance).await.unwrap();
    assert!(lanes_of(runners, &first).await.is_empty(), "lanes stay with a runner that is gone");
    runners.forget_runner(&first.name).await.unwrap();
    // forgotten and not gone, or of a database that came back older: it is there again, and in nobody's place
    assert_eq!(runners.beat(&first, SHORT).await.unwrap(), Beaten::Alive);
    assert_eq!(lanes_of(runners, &first).await.len(), connectors.len());
    tokio::time::sleep(SHORT * 2).await;
    let later = heartbeat("first", &[], 100);
    assert_eq!(runners.beat(&later, LONG).await.unwrap(), Beaten::Alive, "whoever had the name is gone");
    assert_eq!(runners.beat(&first, LONG).await.unwrap(), Beaten::Replaced);
    runners.leave(&later.name, later.instance).await.unwrap();
    runners.forget_runner(&first.name).await.unwrap();
    let nobody = runners.drain(&first.name, true).await;
    assert!(matches!(nobody, Err(PortError::NotFound { .. })), "{nobody:?}");
}
