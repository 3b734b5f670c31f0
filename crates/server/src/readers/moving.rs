//! Moves of whoever stands in partitions: planned, shown, and carried out as they were shown.

use gonvel_core::naming::{Offset, TopicPartition};
use gonvel_core::reposition::{self, plan};
use gonvel_http_api::{Move, Moves, Plan, Reposition};

use super::{Goal, Held};
use crate::plans::{self, counted};
use crate::problems::Refusal;
use crate::state::ServerState;

/// A move in one partition of a topic.
pub(crate) type Planned = (TopicPartition, String, reposition::Move);

/// What a request moves of one that stands at these offsets. What was shown is what is done, also if records came or went in between:
/// `decided` are the places that a plan showed, in the same order.
pub(crate) async fn planned(
    state: &ServerState,
    held: &Held,
    name: &str,
    stands: &[(TopicPartition, Offset)],
    request: &Reposition,
    goal: &Goal,
    decided: Option<&[i64]>,
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
        let target = match decided {
            None => goal.at(state, *at, bounds).await?,
            // partitions that came since are not among them
            Some(decided) => match decided.get(planned.len()) {
                Some(to) => reposition::Target::Offset(Offset(*to)),
                None => return Err(plans::changed()),
            },
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

/// What moves do, and the places that they decide on.
pub(crate) fn plan_of(planned: &[Planned], name: &str) -> (Plan, Vec<i64>) {
    let Moves { moves, skipped, repeated } = told(planned);
    let says = match (skipped, repeated) {
        (0, 0) => format!("{name} stays where it stands."),
        (0, _) => format!("{name} reads {} once more.", counted(repeated, "record")),
        (_, 0) => format!("{name} never reads {}.", counted(skipped, "record")),
        _ => format!("{name} never reads {}, and reads {repeated} once more.", counted(skipped, "record")),
    };
    let decided = moves.iter().map(|m| m.to).collect();
    (Plan { needs_confirming: true, says: vec![says], records: skipped, repeated, moves, ..Plan::default() }, decided)
}

/// Moves in the form of the API.
pub(crate) fn told(planned: &[Planned]) -> Moves {
    let moves: Vec<Move> = planned
        .iter()
        .map(|(at, topic, m)| Move {
            topic: topic.clone(),
            partition: at.partition.0,
            from: m.from.0,
            to: m.to.0,
            skipped: m.skipped,
            repeated: m.repeated,
        })
        .collect();
    let (skipped, repeated) = (moves.iter().map(|m| m.skipped).sum(), moves.iter().map(|m| m.repeated).sum());
    Moves { moves, skipped, repeated }
}
