//! What is known of what was told: whoever follows has what is there, from whatever place on.

use std::collections::BTreeMap;
use std::sync::Arc;

use gonvel_http_api::ObjectKind;
use gonvel_server::inner::{Announced, From, Known};
use proptest::prelude::*;

const KINDS: [ObjectKind; 2] = [ObjectKind::Topic, ObjectKind::Reader];

/// What a client keeps of lines that it is told.
fn take(lists: &mut BTreeMap<(String, String), u64>, told: &[Arc<Announced>]) {
    for told in told {
        let line: serde_json::Value = serde_json::from_slice(&told.line).unwrap();
        let text = |field: &str| line[field].as_str().unwrap().to_owned();
        let key = (text("kind"), text("id"));
        match line["object"]["n"].as_u64() {
            Some(n) => lists.insert(key, n),
            None => lists.remove(&key),
        };
    }
}

proptest! {
    /// Whoever follows, in pieces of any size, and whoever takes it up again from any cursor that it was given, ends with what is there.
    #[test]
    fn who_follows_from_any_cursor_has_what_is_there(
        rounds in prop::collection::vec((0..2usize, any::<bool>(), prop::collection::btree_map(0..6u8, 0..3u64, 0..5)), 1..20),
        most in 1..4usize,
        leaves_at in 0..20usize,
    ) {
        let mut known = Known::default();
        let mut there = BTreeMap::new();
        let (mut always, mut place) = (BTreeMap::new(), 0);
        let (mut sometimes, mut left_at) = (BTreeMap::new(), None);
        for (round, (kind, whole, now)) in rounds.into_iter().enumerate() {
            let kind = KINDS[kind];
            let word = serde_json::to_value(kind).unwrap().as_str().unwrap().to_owned();
            let found: Vec<_> = now.iter().map(|(id, n)| (id.to_string(), format!("{{\"n\":{n}}}"))).collect();
            if whole {
                there.retain(|(of, _), _| *of != word);
                known.all_are(kind, found);
            } else {
                // those below 3 were asked for
                there.retain(|(of, id): &(String, String), _| *of != word || id.as_str() >= "3");
                known.some_are(kind, (0..3).map(|id| id.to_string()), found);
            }
            there.extend(now.into_iter().map(|(id, n)| ((word.clone(), id.to_string()), n)));
            loop {
                let (told, upto) = known.since(place, &KINDS, most);
                take(&mut always, &told);
                place = upto;
                if told.is_empty() {
                    break;
                }
            }
            prop_assert_eq!(&always, &there);
            if round == leaves_at {
                sometimes.clone_from(&there);
                left_at = Some(known.cursor(known.last()));
            }
        }
        if let Some(cursor) = left_at {
            let Some(From::After(place)) = known.read(&cursor) else { panic!("{cursor} is of here") };
            take(&mut sometimes, &known.since(place, &KINDS, usize::MAX).0);
            prop_assert_eq!(&sometimes, &there);
        }
    }
}

#[test]
fn cursors_of_others_and_of_long_ago_begin_anew() {
    let mut known = Known::default();
    let first = known.cursor(0);
    for n in 0..=Known::MOST_GONE {
        known.all_are(ObjectKind::Topic, vec![(n.to_string(), "{}".into())]);
    }
    assert_eq!(known.read(&first), Some(From::After(0)));
    known.all_are(ObjectKind::Topic, Vec::new());
    assert_eq!(known.read(&first), Some(From::Anew), "one that is gone was forgotten since");
    assert_eq!(known.since(0, &[ObjectKind::Topic], usize::MAX).0.len(), Known::MOST_GONE);
    assert_eq!(known.read(&Known::default().cursor(0)), Some(From::Anew));
    assert_eq!(known.read(&known.cursor(known.last() + 1)), Some(From::Anew));
    for bad in ["", "x", "12345678", "1234567é9", "yyyyyyyy1"] {
        assert_eq!(known.read(bad), None, "{bad}");
    }
}
