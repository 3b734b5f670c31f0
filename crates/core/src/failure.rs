//! Kinds of failures by what helps against them, and how long to wait before trying again.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh64::xxh64;

/// What helps against a failure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// The system or the way to it does not answer: it will be back.
    Connection,
    /// Others are in the way for a moment: a deadlock, a lock, a serialisation.
    Busy,
    /// The system is full: its disk, its memory, its sessions.
    Full,
    /// The system lets nobody in by these credentials. Trying often may lock the login.
    Login,
    /// A person must change a setting, here or in the system.
    Settings,
    /// A record cannot be handled.
    Record,
    /// Another runner carries the lane.
    Fenced,
    /// Our own mistake.
    Defect,
}

impl Kind {
    /// In a few words, for people.
    #[must_use]
    pub fn says(self) -> &'static str {
        match self {
            Self::Connection => "no answer",
            Self::Busy => "others in the way",
            Self::Full => "full",
            Self::Login => "login refused",
            Self::Settings => "a setting to change",
            Self::Record => "a bad record",
            Self::Fenced => "carried elsewhere",
            Self::Defect => "a defect in Gonvel",
        }
    }

    /// The first wait and the longest; none where trying again by itself does not help.
    fn waits(self) -> Option<(Duration, Duration)> {
        let (first, longest) = match self {
            Self::Busy => (100, 5_000),
            Self::Connection | Self::Fenced => (500, 60_000),
            Self::Full => (5_000, 300_000),
            Self::Login => (15_000, 300_000),
            Self::Settings | Self::Record | Self::Defect => return None,
        };
        Some((Duration::from_millis(first), Duration::from_millis(longest)))
    }

    /// Tries after which this kind is given up whatever the connector's setting: logins that are refused often get locked.
    #[must_use]
    pub fn most_tries(self) -> Option<u32> {
        (self == Self::Login).then_some(5)
    }

    /// How long to wait after so many failures in a row, from 1: doubling from the first wait to the longest. `jitter`, from 0
    /// to 1, takes up to two fifths away, so that many lanes do not come back at one moment. None if a person is needed.
    #[must_use]
    pub fn wait(self, failures: u32, jitter: f64) -> Option<Duration> {
        let (first, longest) = self.waits()?;
        let wait = first.saturating_mul(1 << failures.clamp(1, 16).saturating_sub(1)).min(longest);
        Some(wait.mul_f64(1.0 - 0.4 * jitter.clamp(0.0, 1.0)))
    }
}

/// Failures one after the other, with nothing in between that got anywhere.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Streak {
    kind: Option<Kind>,
    /// Failures of this kind, one after the other.
    pub tries: u32,
    since: Duration,
}

impl Streak {
    /// Notes one more failure at a time, told from any fixed moment; `moved` says whether anything was done since the one before.
    /// Another kind than before is counted by itself: five lost connections do not make a refused login the sixth.
    pub fn note(&mut self, kind: Kind, now: Duration, moved: bool) {
        if moved || self.kind.is_none() {
            (self.tries, self.since) = (0, now);
        }
        if self.kind != Some(kind) {
            self.tries = 0;
        }
        self.kind = Some(kind);
        self.tries = self.tries.saturating_add(1);
    }

    /// Whole minutes since the first failure of the streak.
    #[must_use]
    pub fn minutes(&self, now: Duration) -> u64 {
        now.saturating_sub(self.since).as_secs() / 60
    }
}

/// A fingerprint of what went wrong, by which records with one cause are grouped: the step and the finding without what differs
/// from record to record (numbers, quoted text).
#[must_use]
pub fn cause(step: &str, finding: &str) -> i64 {
    let shape = format!("{step}\u{0}{}", without_particulars(finding));
    xxh64(shape.as_bytes(), 0).cast_signed()
}

/// A finding without what differs from record to record: numbers and quoted text become `…`.
#[must_use]
pub fn without_particulars(finding: &str) -> String {
    let mut out = String::with_capacity(finding.len());
    let mut within: Option<char> = None;
    let mut previous = ' ';
    for c in finding.chars() {
        if let Some(end) = within {
            if c == end {
                within = None;
                out.push(c);
            }
            continue;
        }
        match c {
            // an apostrophe within a word quotes nothing
            '\'' if previous.is_alphanumeric() => out.push(c),
            '"' | '\'' | '`' => {
                within = Some(c);
                out.push(c);
                out.push('…');
            }
            '0'..='9' if out.ends_with('…') => {}
            '0'..='9' => out.push('…'),
            '.' | '-' | ':' if out.ends_with('…') => {}
            _ => out.push(c),
        }
        previous = c;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn waits_double_up_to_the_longest_and_jitter_only_shortens() {
        let waits: Vec<u128> = (1..=9).map(|n| Kind::Connection.wait(n, 0.0).unwrap().as_millis()).collect();
        assert_eq!(waits, [500, 1_000, 2_000, 4_000, 8_000, 16_000, 32_000, 60_000, 60_000]);
        assert_eq!(Kind::Connection.wait(u32::MAX, 1.0).unwrap().as_millis(), 36_000);
        // a refused login is asked again rarely, a full disk has time to be mended, a deadlock is over at once
        assert!(Kind::Login.wait(1, 1.0) > Kind::Full.wait(1, 0.0) && Kind::Full.wait(1, 1.0) > Kind::Busy.wait(1, 0.0));
        assert!([Kind::Settings, Kind::Record, Kind::Defect].iter().all(|kind| kind.wait(1, 0.5).is_none()));
    }

    #[test]
    fn a_streak_counts_by_kind_and_ends_when_something_was_done() {
        let at = Duration::from_secs;
        let mut streak = Streak::default();
        for n in 1..=3 {
            streak.note(Kind::Connection, at(60 * n), false);
        }
        assert_eq!((streak.tries, streak.minutes(at(180))), (3, 2));
        // the login is refused for the first time, and yet the lane fails since long
        streak.note(Kind::Login, at(240), false);
        assert_eq!((streak.tries, streak.minutes(at(240))), (1, 3));
        streak.note(Kind::Login, at(250), true);
        assert_eq!((streak.tries, streak.minutes(at(309))), (1, 0));
    }

    #[test]
    fn one_cause_has_one_fingerprint_whatever_the_record() {
        let same = [
            "value \"12.5\" is out of range for type integer at 2026-11-25T06:00:00Z",
            "value \"9 kg\" is out of range for type integer at 2026-11-24T16:00:01Z",
        ];
        assert_eq!(cause("write", same[0]), cause("write", same[1]));
        assert_ne!(cause("write", same[0]), cause("read", same[0]));
        assert_ne!(cause("write", same[0]), cause("write", "null value in column …"));
        assert_eq!(without_particulars("bin 41's weight -7.25 is 'low'"), "bin …'s weight -… is '…'");
    }
}
