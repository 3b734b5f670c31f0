//! The cold store: sixty rooms, each of which tells its temperature and humidity every few seconds, and now and then that a
//! door was opened or that it is too warm. As CloudEvents 1.0 in JSON, to be sent over HTTP in batches.

use chrono::{DateTime, SecondsFormat, Utc};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value, json};

use crate::packhouse::seed::room_targets;

/// Above this a room is too warm, in tenths of a degree Celsius over its target.
const TOO_WARM: i32 = 18;

struct Room {
    number: u32,
    /// Tenths of a degree Celsius.
    target: i32,
    over: i32,
    humidity: i32,
    open: bool,
}

/// The rooms and what they were last like.
pub struct Coldstore {
    random: StdRng,
    rooms: Vec<Room>,
    events: u64,
}

impl Default for Coldstore {
    fn default() -> Self {
        let mut random = StdRng::seed_from_u64(60);
        let rooms = (1..)
            .zip(room_targets())
            .map(|(number, target)| Room { number, target, over: 0, humidity: random.random_range(880..940), open: false })
            .collect();
        Self { random, rooms, events: 0 }
    }
}

impl Coldstore {
    /// What the rooms tell at a time: one reading each, with the doors and alarms of the moment.
    pub fn tell(&mut self, now: DateTime<Utc>) -> Vec<Value> {
        let mut out = Vec::new();
        let time = now.to_rfc3339_opts(SecondsFormat::Millis, true);
        let boot = now.timestamp();
        let mut event = |kind: &str, room: u32, data: Value| {
            self.events += 1;
            out.push(json!({
                "specversion": "1.0", "id": format!("{boot}-{}", self.events), "source": format!("/coldstore/rooms/{room}"),
                "type": format!("coldstore.{kind}"), "time": time, "partitionkey": format!("room-{room}"), "data": data,
            }));
        };
        for room in &mut self.rooms {
            // an open door lets the warmth in, a closed one lets the room come back to its target
            room.over =
                (room.over + self.random.random_range(-2..=2) + if room.open { 5 } else { -room.over / 4 }).clamp(-8, 40);
            room.humidity = (room.humidity + self.random.random_range(-3..=3)).clamp(850, 960);
            let celsius = f64::from(room.target + room.over) / 10.0;
            let humidity = f64::from(room.humidity) / 10.0;
            event("reading", room.number, json!({"room": room.number, "celsius": celsius, "humidity": humidity}));
            if self.random.random_ratio(1, if room.open { 3 } else { 60 }) {
                room.open = !room.open;
                event("door", room.number, json!({"room": room.number, "open": room.open}));
            }
            if room.over > TOO_WARM {
                let limit = f64::from(room.target + TOO_WARM) / 10.0;
                event("alarm", room.number, json!({"room": room.number, "celsius": celsius, "limit": limit}));
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::HashSet;

    #[test]
    fn every_room_tells_and_no_event_has_another_s_id() {
        let mut coldstore = Coldstore::default();
        let mut ids = HashSet::new();
        let mut kinds = HashSet::new();
        for second in 0..200 {
            let events = coldstore.tell(DateTime::from_timestamp(1_793_000_000 + second * 5, 0).unwrap_or_default());
            assert_eq!(
                events.iter().filter(|e| e["type"] == "coldstore.reading").count(),
                60,
                "a room of the packhouse each"
            );
            for event in events {
                kinds.insert(event["type"].to_string());
                assert!(ids.insert(event["id"].to_string()));
            }
        }
        assert_eq!(kinds.len(), 3, "{kinds:?}");
    }
}
