//! What was told of objects: of each the newest change, in the order of changes, so that a stream goes on from any place in it.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::Arc;

use axum::body::Bytes;
use gonvel_http_api::ObjectKind;
use serde::Serialize;
use uuid::Uuid;

/// A change, in both forms in which it is sent.
#[derive(Debug)]
pub struct Announced {
    /// Of what.
    pub kind: ObjectKind,
    /// As a server-sent event.
    pub event: Bytes,
    /// As a line of JSON.
    pub line: Bytes,
}

impl Announced {
    /// Whether it tells that an object is this.
    fn tells(&self, is: &str) -> bool {
        let data = self.event.strip_suffix(b"}\n\n").and_then(|event| event.strip_suffix(is.as_bytes()));
        data.is_some_and(|begins| begins.ends_with(b"\"object\":"))
    }
}

/// All that was told.
pub struct Known {
    /// Which process tells: places of another one mean nothing here.
    teller: u32,
    /// Objects that are there, each with the place of its newest change.
    objects: HashMap<(ObjectKind, String), u64>,
    told: BTreeMap<u64, Arc<Announced>>,
    last: u64,
    /// Places of objects that are gone, the first first.
    gone: VecDeque<u64>,
    /// The place before which something that is gone was forgotten.
    forgotten: u64,
}

impl Default for Known {
    fn default() -> Self {
        Self {
            teller: Uuid::new_v4().as_fields().0,
            objects: HashMap::new(),
            told: BTreeMap::new(),
            last: 0,
            gone: VecDeque::new(),
            forgotten: 0,
        }
    }
}

/// Where a stream goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From {
    /// After this place.
    After(u64),
    /// What changed since is not known.
    Anew,
}

/// A change as it is sent; what is sent of it does not change either.
#[derive(Serialize)]
struct Sent<'s> {
    kind: ObjectKind,
    id: &'s str,
    #[serde(skip_serializing_if = "Option::is_none")]
    object: Option<&'s serde_json::value::RawValue>,
    #[serde(skip_serializing_if = "Option::is_none")]
    cursor: Option<&'s str>,
}

impl Known {
    /// Deleted objects that are remembered: who has not heard of more than these reads its lists again.
    pub const MOST_GONE: usize = 10_000;

    /// The place of the newest change.
    pub fn last(&self) -> u64 {
        self.last
    }

    /// A place as clients keep it.
    pub fn cursor(&self, place: u64) -> String {
        format!("{:08x}{place:x}", self.teller)
    }

    /// Reads a cursor; none if it is none.
    pub fn read(&self, cursor: &str) -> Option<From> {
        let (teller, place) = cursor.split_at_checked(8)?;
        let (teller, place) = (u32::from_str_radix(teller, 16).ok()?, u64::from_str_radix(place, 16).ok()?);
        let told_here = teller == self.teller && (self.forgotten..=self.last).contains(&place);
        Some(if told_here { From::After(place) } else { From::Anew })
    }

    /// Changes after a place of some kinds, so many at most, and the place up to which these are all.
    pub fn since(&self, place: u64, kinds: &[ObjectKind], most: usize) -> (Vec<Arc<Announced>>, u64) {
        let mut found = Vec::new();
        for (at, told) in self.told.range(place + 1..).filter(|(_, told)| kinds.contains(&told.kind)) {
            found.push(told.clone());
            if found.len() == most {
                return (found, *at);
            }
        }
        (found, self.last)
    }

    /// All objects of a kind as they are now; what differs is told.
    pub fn all_are(&mut self, kind: ObjectKind, found: Vec<(String, String)>) {
        let there: HashSet<&str> = found.iter().map(|(id, _)| id.as_str()).collect();
        let known = self.objects.keys().filter(|(of, _)| *of == kind);
        let gone: Vec<String> = known.filter(|(_, id)| !there.contains(id.as_str())).map(|(_, id)| id.clone()).collect();
        for id in gone {
            self.is_gone(kind, id);
        }
        for (id, is) in found {
            self.is(kind, id, &is);
        }
    }

    /// Some objects of a kind as they are now; those asked for that were not found are gone.
    pub fn some_are(&mut self, kind: ObjectKind, asked: impl IntoIterator<Item = String>, found: Vec<(String, String)>) {
        let mut missing: HashSet<String> = asked.into_iter().collect();
        for (id, is) in found {
            missing.remove(&id);
            self.is(kind, id, &is);
        }
        for id in missing {
            self.is_gone(kind, id);
        }
    }

    fn is(&mut self, kind: ObjectKind, id: String, is: &str) {
        let key = (kind, id);
        if let Some(place) = self.objects.get(&key) {
            if self.told.get(place).is_some_and(|told| told.tells(is)) {
                return;
            }
            self.told.remove(place);
        }
        let place = self.tell(kind, &key.1, Some(is));
        self.objects.insert(key, place);
    }

    fn is_gone(&mut self, kind: ObjectKind, id: String) {
        let key = (kind, id);
        let Some(before) = self.objects.remove(&key) else { return };
        self.told.remove(&before);
        let place = self.tell(kind, &key.1, None);
        self.gone.push_back(place);
        if self.gone.len() > Self::MOST_GONE
            && let Some(first) = self.gone.pop_front()
        {
            self.told.remove(&first);
            self.forgotten = first;
        }
    }

    fn tell(&mut self, kind: ObjectKind, id: &str, is: Option<&str>) -> u64 {
        self.last += 1;
        let cursor = self.cursor(self.last);
        let object = is.and_then(|is| serde_json::from_str(is).ok());
        let sent = |cursor| serde_json::to_string(&Sent { kind, id, object, cursor }).unwrap_or_default();
        let event = format!("id: {cursor}\nevent: change\ndata: {}\n\n", sent(None));
        let line = sent(Some(&cursor)) + "\n";
        self.told.insert(self.last, Arc::new(Announced { kind, event: event.into(), line: line.into() }));
        self.last
    }
}
