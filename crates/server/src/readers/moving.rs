//! Moves of whoever stands in partitions: planned, shown, and carried out as they were shown.

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::ports::PortError;
use gonvel_core::reposition::{self, plan};
use gonvel_http_api::{Move, Moves, Reposition};

use super::{Goal, Held};
use crate::problems::Refusal;
use crate::state::ServerState;

/// A move in one partition of a topic.
pub(crate) type Planned = (TopicPartition, String, reposition::Move);

/// What a request moves of one that stands at these offsets; what was shown is what is done, also if records came or went in
/// between.
pub(crate) async fn planned(
    state: &ServerState,
    held: &Held,
    name: &str,
    stands: &[(TopicPartition, Offset)],
    request: &Reposition,
    goal: &Goal,
) -> Result<Vec<Planned>, Refusal> {
    if let Some(topic) = &request.topic
        && !stands.iter().any(|(at, _)| held.name(at.topic) == *topic)
    {
        return Err(Refusal::invalid("topic", format!("{name} does not read {topic}")));
    }
    let mut planned = Vec::new();
    for (at, next) in stands {
        let topic = held.name(at.topic);
        let Some(bounds) = held.bounds.get(at) else { continue };
        if request.topic.as_ref().is_some_and(|t| *t != topic) || request.partition.is_some_and(|p| p != at.partition.0) {
            continue;
        }
        let target = match &request.confirmed {
            None => goal.at(state, *at, bounds).await?,
            Some(confirmed) => {
                let shown = confirmed.iter().find(|c| c.topic == topic && c.partition == at.partition.0);
                let Some(shown) = shown else { continue };
                if shown.from != next.0 {
                    let what = format!("the position of {name} in partition {} of {topic}", shown.partition);
                    return Err(PortError::Changed { what }.into());
                }
                reposition::Target::Offset(Offset(shown.to))
            }
        };
        let moved = plan(bounds, *next, target).map_err(|e| Refusal::invalid("target", e.to_string()))?;
        planned.push((*at, topic, moved));
    }
    if planned.is_empty() {
        let what = request.partition.map_or_else(|| "no partition".to_owned(), |p| format!("no partition {p}"));
        return Err(Refusal::invalid("partition", format!("{name} reads {what} there")));
    }
    Ok(planned)
}

/// Moves in the form of the API.
pub(crate) fn told(planned: Vec<Planned>, done: bool) -> Moves {
    let moves: Vec<Move> = planned
        .into_iter()
        .map(|(at, topic, m)| Move {
            topic,
            partition: at.partition.0,
            from: m.from.0,
            to: m.to.0,
            skipped: m.skipped,
            repeated: m.repeated,
        })
        .collect();
    let (skipped, repeated) = (moves.iter().map(|m| m.skipped).sum(), moves.iter().map(|m| m.repeated).sum());
    Moves { moves, skipped, repeated, done }
}
