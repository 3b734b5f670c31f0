//! What a connector guarantees, and why, as people read it.

use super::{BadRecords, Definition, Guarantee};
use crate::kinds::LateWrites;

const SOURCE_GUARANTEE: &str =
    "Exactly once: the position in the source and the records it produced commit in one transaction of the topic log.";
const TOPICS_GUARANTEE: &str =
    "Exactly once: records and the positions they bring commit in one transaction of the topic log.";

/// What a sink gives, by where its position is kept.
fn sink_guarantee(guarantee: Guarantee) -> &'static str {
    match guarantee {
        Guarantee::ExactlyOnce => "Exactly once: rows and position commit in one transaction of the target.",
        Guarantee::AtLeastOnce => {
            "At least once: Gonvel keeps the position and moves it once the rows are in the target, so a crash in between delivers some again."
        }
        Guarantee::AtMostOnce => {
            "At most once: Gonvel keeps the position and moves it before the rows are in the target, so a crash in between loses some."
        }
    }
}

impl Definition {
    /// What it guarantees, and why, in a sentence or two; `late` is what a late write can do in the system that a sink writes, as far as
    /// that is known.
    #[must_use]
    pub fn guarantee(&self, late: Option<LateWrites>) -> String {
        let whole = matches!(self, Self::Sink(sink) if sink.writes.whole_transactions);
        let halts = whole || self.failing().records == BadRecords::Halt;
        let (guarantee, bad) = match self {
            Self::Source(source) if source.shape.is_nothing() => return SOURCE_GUARANTEE.into(),
            Self::Source(_) if halts => (SOURCE_GUARANTEE, "It halts before a row that it cannot shape."),
            Self::Source(_) => (SOURCE_GUARANTEE, "A row that it cannot shape waits in quarantine by its key."),
            Self::Topics(_) if halts => (TOPICS_GUARANTEE, "It halts before a record that it cannot shape."),
            Self::Topics(_) => (TOPICS_GUARANTEE, "A record that it cannot shape waits in quarantine."),
            Self::Sink(sink) => {
                let bad = if halts {
                    "It halts before a record that it cannot deliver."
                } else {
                    "A record that it cannot deliver waits in quarantine."
                };
                (sink_guarantee(sink.writes.guarantee), bad)
            }
        };
        let late = match late.filter(|_| matches!(self, Self::Sink(_))) {
            Some(LateWrites::Possible) => " A runner that lost its lane without knowing may still write once more.",
            Some(LateWrites::Fenced | LateWrites::Versioned) | None => "",
        };
        format!("{guarantee} {bad}{late}")
    }
}
