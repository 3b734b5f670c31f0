//! The plain lists that every read is compared with, and what of them may be gone.

use std::collections::BTreeMap;

use gonvel_core::latest_per_key::Says;
use gonvel_core::topic_settings::{Keep, TopicSettings};

use super::store::{At, Block, Rec};

#[derive(Debug, Clone, Copy)]
pub(super) struct Entry {
    pub(super) rec: Rec,
    appended_us: i64,
    /// A rule of the topic allowed once that it goes.
    pub(super) may_go: bool,
    /// It was forgotten by age or size, or may have been.
    pub(super) may_be_forgotten: bool,
    /// When a read first ended without it.
    gone: Option<u32>,
}

/// When something began, and how long the lists were then.
#[derive(Debug, Clone, Default)]
pub(super) struct Began {
    tick: u32,
    lengths: BTreeMap<At, i64>,
}

#[derive(Debug, Default)]
pub(super) struct Lists {
    all: BTreeMap<At, Vec<Entry>>,
    pub(super) tick: u32,
}

/// What a read is that the lists do not allow.
pub(super) type Fault = String;

impl Lists {
    pub(super) fn append(&mut self, at: At, first: i64, records: &[Rec], appended_us: i64) {
        let list = self.all.entry(at).or_default();
        assert_eq!(i64::try_from(list.len()), Ok(first), "offsets are dense");
        let entry = |rec: &Rec| Entry { rec: *rec, appended_us, may_go: false, may_be_forgotten: false, gone: None };
        list.extend(records.iter().map(entry));
    }

    pub(super) fn began(&self) -> Began {
        let lengths = self.all.iter().map(|(at, list)| (*at, i64::try_from(list.len()).unwrap())).collect();
        Began { tick: self.tick, lengths }
    }

    pub(super) fn length(&self, at: At, began: &Began) -> i64 {
        began.lengths.get(&at).copied().unwrap_or(0)
    }

    pub(super) fn entries(&self, at: At) -> &[Entry] {
        self.all.get(&at).map_or(&[], Vec::as_slice)
    }

    /// Time went on, or a topic keeps something else: what its rules let go from now on.
    pub(super) fn allow(&mut self, topic: u32, settings: &TopicSettings, latest: bool, now_us: i64) {
        let latest = latest || settings.keep == Keep::Latest;
        for list in self.all.range_mut((topic, 0)..=(topic, usize::MAX)).map(|(_, list)| list) {
            let newest_of_all = list.len();
            let mut newer = [false; 256];
            for (n, entry) in list.iter_mut().enumerate().rev() {
                let ages_from = entry.rec.time_us.max(entry.appended_us);
                let by_age = settings.forget_after_ms.is_some_and(|ms| ages_from < now_us - ms * 1000);
                let by_size = settings.most_bytes.is_some() && n + 1 < newest_of_all;
                let told = ages_from < now_us - settings.deletes_kept_ms * 1000;
                let key = usize::from(entry.rec.key);
                let superseded = newer[key] || (entry.rec.says == Says::Gone && told);
                newer[key] |= entry.rec.says != Says::Part;
                entry.may_be_forgotten |= by_age || by_size;
                entry.may_go |= by_age || by_size || (latest && superseded);
            }
        }
    }

    /// What a read from an offset gave that began some time ago: all that was there then and may not be gone, each as it was
    /// appended, in order, and nothing that was gone. Where it goes on.
    pub(super) fn read(&mut self, at: At, from: i64, began: &Began, blocks: &[Block]) -> Result<i64, Fault> {
        let length = self.length(at, began);
        let to = blocks.last().map_or(length, |b| b.end);
        let tick = self.tick;
        let list = self.all.entry(at).or_default();
        let mut found = blocks.iter().flat_map(|b| &b.records).filter(|(offset, _)| *offset >= from).peekable();
        for (offset, entry) in (0..).zip(list.iter_mut()).skip(usize::try_from(from).unwrap()).take_while(|(n, _)| *n < to) {
            match found.next_if(|(n, _)| *n == offset) {
                Some((_, rec)) if *rec != entry.rec => return Err(format!("{offset} of {at:?} is {rec:?}, not {entry:?}")),
                Some(_) if entry.gone.is_some_and(|gone| gone < began.tick) => {
                    return Err(format!("{offset} of {at:?} was gone and comes back"));
                }
                Some(_) => {}
                None if !entry.may_go => return Err(format!("{offset} of {at:?} is missing, read from {from}: {entry:?}")),
                None => drop(entry.gone.get_or_insert(tick)),
            }
        }
        match found.next() {
            Some(more) => Err(format!("{more:?} of {at:?} twice, out of order or never appended")),
            None => Ok(to.max(from)),
        }
    }

    /// The first of what must be there from a time on, and the last of it up to an offset.
    pub(super) fn first_at(&self, at: At, time_us: i64) -> Option<i64> {
        let there = |(_, e): &(i64, &Entry)| !e.may_go && e.rec.time_us >= time_us;
        (0..).zip(self.entries(at)).find(there).map(|(n, _)| n)
    }

    pub(super) fn last_up_to(&self, at: At, last: i64, began: &Began) -> Option<i64> {
        let length = self.length(at, began).min(last + 1).max(0);
        let entries = &self.entries(at)[..usize::try_from(length).unwrap()];
        entries.iter().rposition(|e| !e.may_go).map(|n| i64::try_from(n).unwrap())
    }
}

/// The newest whole record of each key and all parts after it: what a reader from the start ends with.
pub(super) fn state(records: impl Iterator<Item = (i64, Rec)>) -> BTreeMap<u8, Vec<i64>> {
    let mut state: BTreeMap<u8, Vec<i64>> = BTreeMap::new();
    for (offset, rec) in records {
        match rec.says {
            Says::Whole => drop(state.insert(rec.key, vec![offset])),
            Says::Part => {
                if let Some(parts) = state.get_mut(&rec.key) {
                    parts.push(offset);
                }
            }
            Says::Gone => drop(state.remove(&rec.key)),
        }
    }
    state
}
