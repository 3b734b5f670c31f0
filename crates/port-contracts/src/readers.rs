//! The contract of [`ReaderStore`]: positions that only their holder moves, even shares, no repositioning under active members.

use std::time::Duration;

use gonvel_core::naming::{Offset, PartitionId, ReaderName, TopicId, TopicName, TopicPartition};
use gonvel_core::ports::{PortError, ReaderStore, Share, TopicLog};
use gonvel_core::topic_settings::TopicSettings;
use uuid::Uuid;

const LONG: Duration = Duration::from_secs(30);
const SHORT: Duration = Duration::from_millis(120);

/// All of it.
pub async fn all(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    readers_are_made_once_found_and_deleted(readers, log).await;
    members_share_evenly_and_only_a_holder_commits(readers, log).await;
    a_member_that_was_away_too_long_has_lost_its_share(readers, log).await;
    repositioning_waits_for_members_and_looks_before_it_moves(readers, log).await;
    new_partitions_are_read_from_their_start(readers, log).await;
    members_that_come_and_go_at_once_hold_each_partition_once(readers, log).await;
    topics_come_and_go_and_others_stay_where_they_are(readers, log).await;
}

fn name(text: &str) -> ReaderName {
    ReaderName::parse(text).unwrap()
}

fn at(topic: TopicId, partition: i32) -> TopicPartition {
    TopicPartition { topic, partition: PartitionId(partition) }
}

async fn reader(readers: &dyn ReaderStore, log: &dyn TopicLog, text: &str, partitions: i32) -> (ReaderName, TopicId) {
    let topic = TopicName::parse(format!("{text}.topic")).unwrap();
    let topic = log.create_topic(&topic, partitions, &TopicSettings::default()).await.unwrap().id;
    let start: Vec<_> = (0..partitions).map(|p| (at(topic, p), Offset(i64::from(p)))).collect();
    readers.create_reader(&name(text), &start).await.unwrap();
    (name(text), topic)
}

fn partitions(share: &Share) -> Vec<i32> {
    share.partitions.iter().map(|(at, _)| at.partition.0).collect()
}

async fn readers_are_made_once_found_and_deleted(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (made, topic) = reader(readers, log, "labels", 3).await;
    let found = readers.reader(&made).await.unwrap();
    assert_eq!((found.topics, found.positions.len(), found.members.len()), (vec![topic], 3, 0));
    assert_eq!(found.positions[2].next, Offset(2));
    assert!(found.positions.iter().all(|p| p.committed_us.is_none() && p.holder.is_none()));
    let again = readers.create_reader(&made, &[]).await;
    assert!(matches!(again, Err(PortError::Exists { .. })), "{again:?}");
    let nowhere = readers.create_reader(&name("nowhere"), &[(at(TopicId(-1), 0), Offset(0))]).await;
    assert!(matches!(nowhere, Err(PortError::NotFound { .. })), "{nowhere:?}");
    assert!(matches!(readers.reader(&name("nowhere")).await, Err(PortError::NotFound { .. })));
    let share = readers.join(&made, "one", LONG).await.unwrap();
    assert!(matches!(readers.delete_reader(&made).await, Err(PortError::Refused(_))));
    readers.leave(&made, share.member).await.unwrap();
    readers.delete_reader(&made).await.unwrap();
    assert!(matches!(readers.delete_reader(&made).await, Err(PortError::NotFound { .. })));
    assert!(readers.readers().await.unwrap().iter().all(|r| r.name != made));
}

async fn members_share_evenly_and_only_a_holder_commits(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, topic) = reader(readers, log, "dashboards", 4).await;
    let one = readers.join(&name, "one", LONG).await.unwrap();
    assert_eq!(partitions(&one), [0, 1, 2, 3]);
    assert_eq!(one.partitions[3].1, Offset(3));
    readers.commit(&name, one.member, &[(at(topic, 3), Offset(40))]).await.unwrap();
    let two = readers.join(&name, "two", LONG).await.unwrap();
    let one = readers.stay(&name, one.member, LONG).await.unwrap();
    let (mine, others) = (partitions(&one), partitions(&two));
    assert_eq!((mine.len(), others.len()), (2, 2));
    assert!(mine.iter().all(|p| !others.contains(p)));
    // a commit that holds one partition of another member is refused whole
    let moves = [(at(topic, mine[0]), Offset(9)), (at(topic, others[0]), Offset(9))];
    let refused = readers.commit(&name, one.member, &moves).await;
    assert!(matches!(refused, Err(PortError::NotHeld { at }) if at.partition.0 == others[0]), "{refused:?}");
    let before = readers.reader(&name).await.unwrap().positions;
    assert_eq!(before.iter().filter(|p| p.next == Offset(9)).count(), 0);
    assert_eq!(before[3].next, Offset(40));
    assert!(before[3].committed_us.is_some());
    readers.leave(&name, two.member).await.unwrap();
    let all = readers.stay(&name, one.member, LONG).await.unwrap();
    assert_eq!(all.partitions.len(), 4);
}

async fn a_member_that_was_away_too_long_has_lost_its_share(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, topic) = reader(readers, log, "invoices", 2).await;
    let away = readers.join(&name, "away", SHORT).await.unwrap();
    tokio::time::sleep(SHORT * 2).await;
    assert!(readers.reader(&name).await.unwrap().positions.iter().all(|p| p.holder.is_none()));
    let here = readers.join(&name, "here", LONG).await.unwrap();
    assert_eq!(here.partitions.len(), 2);
    let late = readers.commit(&name, away.member, &[(at(topic, 0), Offset(5))]).await;
    assert!(matches!(late, Err(PortError::NotHeld { .. })), "{late:?}");
    assert!(matches!(readers.stay(&name, away.member, LONG).await, Err(PortError::NotFound { .. })));
    // whoever does nothing but commit takes over what another one left
    let away = readers.join(&name, "away", SHORT).await.unwrap();
    let (lost, (own, _)) = (away.partitions[0].0, readers.share(&name, here.member).await.unwrap().partitions[0]);
    tokio::time::sleep(SHORT * 2).await;
    readers.commit(&name, here.member, &[(own, Offset(3))]).await.unwrap();
    assert!(readers.share(&name, here.member).await.unwrap().partitions.iter().any(|(at, _)| *at == lost));
    let unknown = readers.stay(&name, Uuid::nil(), LONG).await;
    assert!(matches!(unknown, Err(PortError::NotFound { .. })), "{unknown:?}");
}

async fn repositioning_waits_for_members_and_looks_before_it_moves(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, topic) = reader(readers, log, "stock", 2).await;
    let moves = [(at(topic, 0), Offset(0), Offset(7)), (at(topic, 1), Offset(1), Offset(8))];
    let member = readers.join(&name, "line 2", LONG).await.unwrap().member;
    let refused = readers.reposition(&name, &moves).await.unwrap_err();
    assert!(matches!(&refused, PortError::Refused(text) if text.contains("line 2")), "{refused}");
    readers.leave(&name, member).await.unwrap();
    let stale = [moves[0], (at(topic, 1), Offset(99), Offset(8))];
    assert!(matches!(readers.reposition(&name, &stale).await, Err(PortError::Changed { .. })));
    let still: Vec<i64> = readers.reader(&name).await.unwrap().positions.iter().map(|p| p.next.0).collect();
    assert_eq!(still, [0, 1], "a move that was refused was done in part");
    readers.reposition(&name, &moves).await.unwrap();
    let now: Vec<i64> = readers.reader(&name).await.unwrap().positions.iter().map(|p| p.next.0).collect();
    assert_eq!(now, [7, 8]);
}

async fn new_partitions_are_read_from_their_start(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, topic) = reader(readers, log, "audits", 2).await;
    let member = readers.join(&name, "one", LONG).await.unwrap().member;
    log.add_partitions(topic, 4, &[]).await.unwrap();
    // whoever only commits has them as well
    let share = readers.share(&name, member).await.unwrap();
    assert_eq!(partitions(&share), [0, 1, 2, 3]);
    assert_eq!(share.partitions[3].1, Offset(0));
    log.delete_topic(topic).await.unwrap();
    assert!(readers.reader(&name).await.unwrap().positions.is_empty());
}

async fn members_that_come_and_go_at_once_hold_each_partition_once(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, _) = reader(readers, log, "samples", 7).await;
    let one = |number: usize| {
        let name = name.clone();
        async move {
            let member = readers.join(&name, &number.to_string(), LONG).await.unwrap().member;
            if number.is_multiple_of(3) {
                readers.leave(&name, member).await.unwrap();
            }
        }
    };
    futures::future::join_all((0..9).map(one)).await;
    let reader = readers.reader(&name).await.unwrap();
    assert_eq!(reader.members.len(), 6);
    let held = |id: Uuid| reader.positions.iter().filter(|p| p.holder == Some(id)).count();
    let counts: Vec<usize> = reader.members.iter().map(|m| held(m.id)).collect();
    assert_eq!(counts.iter().sum::<usize>(), 7);
    assert!(counts.iter().all(|&c| c == 1 || c == 2), "{counts:?}");
}

async fn topics_come_and_go_and_others_stay_where_they_are(readers: &dyn ReaderStore, log: &dyn TopicLog) {
    let (name, first) = reader(readers, log, "washers", 2).await;
    let (_, second) = reader(readers, log, "dryers", 3).await;
    let one = readers.join(&name, "one", LONG).await.unwrap().member;
    readers.commit(&name, one, &[(at(first, 1), Offset(20))]).await.unwrap();
    let begins = |topic| vec![(at(topic, 0), Offset(5)), (at(topic, 1), Offset(6)), (at(topic, 2), Offset(7))];
    // what it reads already is not moved, whatever is said of its start
    let start: Vec<_> = begins(second).into_iter().chain([(at(first, 1), Offset(1))]).collect();
    readers.change_topics(&name, &[second, first], &start).await.unwrap();
    let stands = async || {
        let reader = readers.reader(&name).await.unwrap();
        assert!(reader.positions.iter().all(|p| p.holder == Some(one)), "not shared out anew");
        reader.positions.iter().map(|p| (p.at, p.next.0)).collect::<Vec<_>>()
    };
    let both = [(at(first, 0), 0), (at(first, 1), 20), (at(second, 0), 5), (at(second, 1), 6), (at(second, 2), 7)];
    assert_eq!(stands().await, both);
    // one that is nowhere changes nothing, in whatever order it is named
    let nowhere = TopicId(-1);
    for (topics, start) in [([nowhere, second], vec![(at(nowhere, 0), Offset(0))]), ([second, nowhere], vec![])] {
        let refused = readers.change_topics(&name, &topics, &start).await;
        assert!(matches!(refused, Err(PortError::NotFound { .. })), "{refused:?}");
        assert_eq!(stands().await, both);
    }
    readers.change_topics(&name, &[second], &[]).await.unwrap();
    assert_eq!(stands().await, both[2..]);
    assert_eq!(readers.reader(&name).await.unwrap().topics, [second]);
    let gone = readers.commit(&name, one, &[(at(first, 0), Offset(3))]).await;
    assert!(matches!(gone, Err(PortError::NotHeld { .. })), "{gone:?}");
    // again from the start, not from where it stood once
    readers.change_topics(&name, &[first, second], &[(at(first, 0), Offset(0)), (at(first, 1), Offset(1))]).await.unwrap();
    assert_eq!(stands().await[..2], [(at(first, 0), 0), (at(first, 1), 1)]);
    let unknown = readers.change_topics(&self::name("nobody"), &[first], &[]).await;
    assert!(matches!(unknown, Err(PortError::NotFound { .. })), "{unknown:?}");
}
