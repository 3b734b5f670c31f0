//! What is gathered of who appends.

use std::collections::HashMap;
use std::sync::Mutex;

use gonvel_core::naming::TopicId;
use gonvel_storage::producers::ProducerTally;

/// Producers that are held at once until they are noted.
const MOST_HELD: usize = 5_000;
/// Most that is kept of a reason, in characters.
const LONGEST_REASON: usize = 500;

/// What applications did since it was last noted.
#[derive(Default)]
pub(crate) struct Heard(Mutex<HashMap<(TopicId, String), ProducerTally>>);

impl Heard {
    /// Adds what a producer did.
    pub(crate) fn add(&self, topic: TopicId, name: &str, records: usize, refused: usize, why: Option<&str>) {
        let Ok(mut heard) = self.0.lock() else { return };
        let key = (topic, name.to_owned());
        if records + refused == 0 || heard.len() >= MOST_HELD && !heard.contains_key(&key) {
            return;
        }
        let tally = heard.entry(key).or_insert_with(|| ProducerTally {
            topic_id: topic.0,
            name: name.to_owned(),
            ..ProducerTally::default()
        });
        tally.records += i64::try_from(records).unwrap_or(0);
        tally.refused += i64::try_from(refused).unwrap_or(0);
        if let Some(why) = why {
            tally.why = why.chars().take(LONGEST_REASON).collect();
        }
    }

    pub(crate) fn take(&self) -> Vec<ProducerTally> {
        self.0.lock().map(|mut heard| heard.drain().map(|(_, tally)| tally).collect()).unwrap_or_default()
    }

    /// What could not be noted is to be noted later.
    pub(crate) fn put_back(&self, tallies: Vec<ProducerTally>) {
        for tally in tallies {
            let why = (tally.refused > 0).then_some(tally.why.as_str());
            let counts = [tally.records, tally.refused].map(|n| usize::try_from(n).unwrap_or(0));
            self.add(TopicId(tally.topic_id), &tally.name, counts[0], counts[1], why);
        }
    }
}
