//! Which partition a key belongs to.

use xxhash_rust::xxh64::xxh64;

use crate::avro::single_object;
use crate::naming::PartitionId;

/// The partition of a key among `partitions`.
///
/// The rule, stable for ever: XXH64 (seed 0) of the key's bytes, multiplied by the number of partitions, the upper 64 bits of
/// the 128-bit product. A key in Avro single-object encoding is hashed without its ten leading bytes, so that a new version
/// of the key's schema does not move keys. A record without a key goes to partition 0.
///
/// # Panics
/// If `partitions` is not positive, which [`crate::ports::TopicLog::create_topic`] refuses.
#[must_use]
pub fn partition_of(key: Option<&[u8]>, partitions: i32) -> PartitionId {
    let Some(key) = key else { return PartitionId(0) };
    let data = single_object::split(key).map_or(key, |(_, data)| data);
    let spread = u128::try_from(partitions).expect("a topic has at least one partition");
    let product = u128::from(xxh64(data, 0)) * spread;
    PartitionId(i32::try_from(product >> 64).expect("less than the number of partitions"))
}

/// The partitions, ascending, that records of keys may be in: each key's own, or all if records of a key may be elsewhere.
///
/// # Panics
/// As [`partition_of`].
#[must_use]
pub fn partitions_of<K: AsRef<[u8]>>(keys: &[K], partitions: i32, scattered: bool) -> Vec<i32> {
    if scattered {
        return (0..partitions).collect();
    }
    let mut own: Vec<i32> = keys.iter().map(|key| partition_of(Some(key.as_ref()), partitions).0).collect();
    own.sort_unstable();
    own.dedup();
    own
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_keep_their_partition_for_ever_and_spread() {
        assert_eq!(partition_of(Some(b"bin-1"), 6), PartitionId(5));
        assert_eq!(partition_of(Some(b"bin-2"), 6), PartitionId(3));
        assert_eq!(partition_of(None, 6), PartitionId(0));
        let mut seen = [0_u32; 6];
        for n in 0..6_000 {
            let PartitionId(p) = partition_of(Some(format!("key {n}").as_bytes()), 6);
            seen[usize::try_from(p).unwrap()] += 1;
        }
        assert!(seen.iter().all(|&n| (850..1150).contains(&n)), "{seen:?}");
    }

    #[test]
    fn a_new_key_schema_does_not_move_a_key() {
        let with = |fingerprint: u64| {
            let mut key = Vec::new();
            single_object::header(fingerprint, &mut key);
            key.extend_from_slice(&[0x54]);
            partition_of(Some(&key), 64)
        };
        assert_eq!(with(1), with(99));
    }
}
