//! How a reader's members share its partitions.

use std::collections::BTreeMap;

use uuid::Uuid;

use crate::naming::TopicPartition;

/// Gives each partition to a member: no member has more than one partition more than another, and a partition stays where
/// it is unless that is needed. Without members no one holds any.
#[must_use]
pub fn share_out(held: &[(TopicPartition, Option<Uuid>)], members: &[Uuid]) -> Vec<(TopicPartition, Option<Uuid>)> {
    if members.is_empty() {
        return held.iter().map(|(at, _)| (*at, None)).collect();
    }
    let fewest = held.len() / members.len();
    let mut with_one_more = held.len() % members.len();
    let mut load: BTreeMap<Uuid, usize> = members.iter().map(|m| (*m, 0)).collect();
    let mut out: Vec<(TopicPartition, Option<Uuid>)> = Vec::with_capacity(held.len());
    for (at, holder) in held {
        let stays = holder.filter(|holder| {
            load.get_mut(holder).is_some_and(|load| {
                let over = *load == fewest && with_one_more > 0;
                if *load < fewest || over {
                    *load += 1;
                    with_one_more -= usize::from(over);
                    return true;
                }
                false
            })
        });
        out.push((*at, stays));
    }
    for (_, holder) in out.iter_mut().filter(|(_, holder)| holder.is_none()) {
        let Some((member, load)) = load.iter_mut().min_by_key(|(member, load)| (**load, **member)) else { break };
        *load += 1;
        *holder = Some(*member);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::naming::{PartitionId, TopicId};
    use proptest::prelude::*;

    fn member(n: u8) -> Uuid {
        Uuid::from_bytes([n; 16])
    }

    fn counts(shares: &[(TopicPartition, Option<Uuid>)], members: &[Uuid]) -> Vec<usize> {
        members.iter().map(|m| shares.iter().filter(|(_, h)| *h == Some(*m)).count()).collect()
    }

    proptest! {
        #[test]
        fn shares_are_even_and_move_as_little_as_they_can(
            partitions in 0_i32..40,
            comings in prop::collection::vec((0_u8..8, any::<bool>()), 1..20),
        ) {
            let at = |p| TopicPartition { topic: TopicId(1), partition: PartitionId(p) };
            let mut shares: Vec<_> = (0..partitions).map(|p| (at(p), None)).collect();
            let mut members: Vec<Uuid> = Vec::new();
            for (n, comes) in comings {
                members.retain(|m| *m != member(n));
                if comes {
                    members.push(member(n));
                }
                let after = share_out(&shares, &members);
                prop_assert_eq!(after.iter().map(|s| s.0).collect::<Vec<_>>(), shares.iter().map(|s| s.0).collect::<Vec<_>>());
                if members.is_empty() {
                    prop_assert!(after.iter().all(|(_, h)| h.is_none()));
                } else {
                    let counts_after = counts(&after, &members);
                    prop_assert!(after.iter().all(|(_, h)| h.is_some_and(|h| members.contains(&h))));
                    prop_assert!(counts_after.iter().max().unwrap() - counts_after.iter().min().unwrap() <= 1);
                    // as many stay as even shares allow
                    let total = shares.len();
                    let (low, more) = (total / members.len(), total % members.len());
                    let mut before = counts(&shares, &members);
                    before.sort_unstable_by(|a, b| b.cmp(a));
                    let can_stay: usize =
                        before.iter().enumerate().map(|(n, held)| (*held).min(low + usize::from(n < more))).sum();
                    let stayed = shares.iter().zip(&after).filter(|(b, a)| b.1.is_some() && b.1 == a.1).count();
                    prop_assert_eq!(stayed, can_stay);
                }
                shares = after;
            }
        }
    }
}
