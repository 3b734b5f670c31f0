//! Which runner carries which lane: as evenly as may be, with the fewest moves.
//!
//! A lane goes only where the labels it asks for stand, a runner never gets more than it has room for, and what is carried well
//! already stays where it is. A lane for which there is no place waits, and [`Waiting`] says why.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use crate::naming::ConnectorId;

/// Labels by name: of a runner what it has, of a lane what it asks for.
pub type Labels = BTreeMap<String, String>;

/// A lane that is to be carried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedLane {
    /// Its connector.
    pub connector: ConnectorId,
    /// Its number.
    pub lane: i32,
    /// How much of a runner's room it takes, from 1.
    pub weight: u32,
    /// Labels that its runner must have.
    pub only_where: Labels,
    /// The runner that it is with now.
    pub with: Option<String>,
}

/// A runner that is alive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlannedRunner {
    /// Its name.
    pub name: String,
    /// What it has.
    pub labels: Labels,
    /// The weight it can carry, from 1.
    pub room: u32,
    /// Whether it is being emptied: what it has moves away as far as there is room elsewhere, and nothing comes.
    pub draining: bool,
}

/// Why a lane has no runner.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Waiting {
    /// Nobody is there.
    #[error("no runner is there: start one with gonvel runner")]
    NoRunner,
    /// Nobody fits.
    #[error("no runner has {0}: start one with these labels, or change where the connector may run")]
    Labels(String),
    /// All who fit are full.
    #[error("no runner that it may run on has room for it: start another, or give one more room")]
    Room,
}

impl PlannedRunner {
    fn has(&self, labels: &Labels) -> bool {
        labels.iter().all(|(name, value)| self.labels.get(name) == Some(value))
    }
}

/// Labels as people write them: `site=packhouse, tier=fast`.
#[must_use]
pub fn labels_text(labels: &Labels) -> String {
    labels.iter().map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join(", ")
}

/// Reads one label, `name=value`.
///
/// # Errors
/// What is wrong with it, and what fits.
pub fn read_label(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or_else(|| format!("{text:?} is no label: write it as site=packhouse"))?;
    check_label(name.trim(), value.trim())?;
    Ok((name.trim().to_owned(), value.trim().to_owned()))
}

/// Checks a label's name and value: letters, digits, `.`, `-`, `_`, at most 60.
///
/// # Errors
/// What is wrong with it, and what fits.
pub fn check_label(name: &str, value: &str) -> Result<(), String> {
    let fits = |text: &str| {
        !text.is_empty()
            && text.len() <= 60
            && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_'))
    };
    if fits(name) && fits(value) {
        return Ok(());
    }
    Err(format!(
        "the label {name}={value} cannot be named so: use up to 60 letters, digits, '.', '-' and '_' on either side"
    ))
}

/// The work of a plan.
struct Planning<'a> {
    lanes: &'a [PlannedLane],
    runners: &'a [PlannedRunner],
    placed: Vec<Option<usize>>,
    loads: Vec<u64>,
}

impl Planning<'_> {
    fn weight(&self, lane: usize) -> u64 {
        u64::from(self.lanes[lane].weight.max(1))
    }

    fn room(&self, runner: usize) -> u64 {
        u64::from(self.runners[runner].room.max(1))
    }

    fn fits(&self, lane: usize, runner: usize) -> bool {
        self.loads[runner] + self.weight(lane) <= self.room(runner)
    }

    fn place(&mut self, lane: usize, runner: usize) {
        if let Some(before) = self.placed[lane].replace(runner) {
            self.loads[before] -= self.weight(lane);
        }
        self.loads[runner] += self.weight(lane);
    }

    /// The runner that is the least full with a lane, of those that may take it.
    fn best(&self, lane: usize) -> Option<usize> {
        self.best_but(lane, None)
    }

    /// The same, of all but one.
    fn best_but(&self, lane: usize, but: Option<usize>) -> Option<usize> {
        let takes = |&r: &usize| {
            let runner = &self.runners[r];
            Some(r) != but && !runner.draining && runner.has(&self.lanes[lane].only_where) && self.fits(lane, r)
        };
        // per mille of a million: fine enough to tell rooms apart
        let full = |&r: &usize| ((self.loads[r] + self.weight(lane)) * 1_000_000_000 / self.room(r), &self.runners[r].name);
        (0..self.runners.len()).filter(takes).min_by_key(full)
    }

    /// What stays where it is: heavy ones first, so that a runner whose room was made smaller gives up light ones.
    fn keep(&mut self) {
        let mut order: Vec<usize> = (0..self.lanes.len()).collect();
        order.sort_by_key(|&l| Reverse(self.lanes[l].weight));
        for lane in order {
            let Some(with) = &self.lanes[lane].with else { continue };
            let Some(runner) = self.runners.iter().position(|r| r.name == *with) else { continue };
            if self.runners[runner].has(&self.lanes[lane].only_where) && self.fits(lane, runner) {
                self.place(lane, runner);
            }
        }
    }

    /// What may run in few places goes before what may run anywhere.
    fn order(&self) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.lanes.len()).collect();
        order.sort_by_key(|&l| {
            let lane = &self.lanes[l];
            (self.placed[l].is_some(), Reverse(lane.only_where.len()), Reverse(lane.weight), lane.connector, lane.lane)
        });
        order
    }

    /// What has no place gets one, heavy ones first; then what stands on runners that are being emptied.
    fn settle(&mut self) {
        for lane in self.order() {
            if self.placed[lane].is_none_or(|r| self.runners[r].draining)
                && let Some(runner) = self.best(lane)
            {
                self.place(lane, runner);
            }
        }
    }

    /// What waits, or stands on a runner that is being emptied, in the order in which it is settled.
    fn unsettled(&self) -> Vec<usize> {
        self.order().into_iter().filter(|&l| self.placed[l].is_none_or(|r| self.runners[r].draining)).collect()
    }

    /// Whether something unsettled has a place now.
    fn could_settle(&self) -> bool {
        self.unsettled().into_iter().any(|l| self.best(l).is_some())
    }

    /// Settles something for which another one makes room that has a place elsewhere, the lightest that will do; false if nothing is
    /// helped by one move.
    fn make_room(&mut self) -> bool {
        for lane in self.unsettled() {
            let mut found: Option<(u64, usize, usize, usize)> = None;
            for to in 0..self.runners.len() {
                if self.runners[to].draining || !self.runners[to].has(&self.lanes[lane].only_where) {
                    continue;
                }
                let lacking = (self.loads[to] + self.weight(lane)).saturating_sub(self.room(to));
                for other in (0..self.lanes.len()).filter(|&l| self.placed[l] == Some(to) && self.weight(l) >= lacking) {
                    let lighter = found.is_none_or(|(weight, ..)| self.weight(other) < weight);
                    if let Some(elsewhere) = self.best_but(other, Some(to)).filter(|_| lighter) {
                        found = Some((self.weight(other), other, elsewhere, to));
                    }
                }
            }
            if let Some((_, other, elsewhere, to)) = found {
                self.place(other, elsewhere);
                self.place(lane, to);
                return true;
            }
        }
        false
    }

    /// Moves that make the fullness of runners more alike, the most useful first. Each makes the sum of the squares of loads,
    /// by room, smaller, so there is an end.
    fn balance(&mut self) {
        while let Some((lane, runner)) = self.most_useful_move() {
            self.place(lane, runner);
        }
    }

    fn most_useful_move(&self) -> Option<(usize, usize)> {
        let mut best: Option<(i128, usize, usize)> = None;
        for lane in 0..self.lanes.len() {
            let Some(from) = self.placed[lane] else { continue };
            if self.runners[from].draining {
                continue;
            }
            for (to, runner) in self.runners.iter().enumerate() {
                if to == from || runner.draining || !runner.has(&self.lanes[lane].only_where) || !self.fits(lane, to) {
                    continue;
                }
                let (weight, room_from, room_to) =
                    (i128::from(self.weight(lane)), i128::from(self.room(from)), i128::from(self.room(to)));
                let gap = i128::from(self.loads[from]) * room_to - i128::from(self.loads[to]) * room_from;
                let gain = weight * (2 * gap - weight * (room_from + room_to));
                if gain > 0 && best.is_none_or(|(most, ..)| gain > most) {
                    best = Some((gain, lane, to));
                }
            }
        }
        best.map(|(_, lane, to)| (lane, to))
    }
}

/// For each lane its runner's place among the runners, or why it has none. The same lanes and runners give the same plan, and a
/// plan that was carried out is kept by the next one.
#[must_use]
pub fn plan(lanes: &[PlannedLane], runners: &[PlannedRunner]) -> Vec<Result<usize, Waiting>> {
    let mut planning = Planning { lanes, runners, placed: vec![None; lanes.len()], loads: vec![0; runners.len()] };
    planning.keep();
    loop {
        planning.settle();
        planning.balance();
        // what moved may have left room for what waits, and what moves now may leave it
        if !planning.could_settle() && !planning.make_room() {
            break;
        }
    }
    let reason = |lane: &PlannedLane| {
        if runners.iter().all(|r| r.draining) {
            Waiting::NoRunner
        } else if runners.iter().any(|r| !r.draining && r.has(&lane.only_where)) {
            Waiting::Room
        } else {
            Waiting::Labels(labels_text(&lane.only_where))
        }
    };
    planning.placed.iter().zip(lanes).map(|(placed, lane)| placed.ok_or_else(|| reason(lane))).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use uuid::Uuid;

    use super::*;

    fn lane(number: usize, weight: u32, only_where: &[(&str, &str)], with: Option<String>) -> PlannedLane {
        let only_where = only_where.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect();
        PlannedLane { connector: ConnectorId(Uuid::from_u128(number as u128)), lane: 0, weight, only_where, with }
    }

    fn runner(name: &str, room: u32, labels: &[(&str, &str)], draining: bool) -> PlannedRunner {
        let labels = labels.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect();
        PlannedRunner { name: name.into(), labels, room, draining }
    }

    /// The same lanes after a plan was carried out.
    fn carried(lanes: &[PlannedLane], runners: &[PlannedRunner], plan: &[Result<usize, Waiting>]) -> Vec<PlannedLane> {
        let with = |at: &Result<usize, Waiting>| at.as_ref().ok().map(|&r| runners[r].name.clone());
        lanes.iter().zip(plan).map(|(lane, at)| PlannedLane { with: with(at), ..lane.clone() }).collect()
    }

    fn loads(lanes: &[PlannedLane], runners: &[PlannedRunner]) -> Vec<u32> {
        let of = |r: &PlannedRunner| lanes.iter().filter(|l| l.with.as_ref() == Some(&r.name)).map(|l| l.weight).sum();
        runners.iter().map(of).collect()
    }

    fn moved(before: &[PlannedLane], after: &[PlannedLane]) -> usize {
        before.iter().zip(after).filter(|(b, a)| b.with.is_some() && b.with != a.with).count()
    }

    #[test]
    fn three_runners_share_and_the_death_of_one_moves_only_its_own_lanes() {
        let names = ["a", "b", "c"];
        let runners = names.map(|n| runner(n, 1_000, &[], false));
        let lanes: Vec<_> = (0..300).map(|n| lane(n, 1, &[], None)).collect();
        let first = carried(&lanes, &runners, &plan(&lanes, &runners));
        assert_eq!(loads(&first, &runners), [100, 100, 100]);
        let left = [runners[0].clone(), runners[2].clone()];
        let second = carried(&first, &left, &plan(&first, &left));
        assert_eq!(loads(&second, &left), [150, 150]);
        for (before, after) in first.iter().zip(&second).filter(|(b, _)| b.with.as_deref() != Some("b")) {
            assert_eq!(before.with, after.with);
        }
        // it comes back: as many come as make it equal, and not one more
        let third = carried(&second, &runners, &plan(&second, &runners));
        assert_eq!(loads(&third, &runners), [100, 100, 100]);
        assert_eq!(moved(&second, &third), 100);
    }

    #[test]
    fn labels_room_and_emptying_are_kept_and_what_has_no_place_says_why() {
        let runners = [
            runner("near", 3, &[("site", "packhouse")], false),
            runner("far", 5, &[("site", "office")], false),
            runner("leaving", 9, &[("site", "packhouse")], true),
        ];
        let near = [("site", "packhouse")];
        let lanes = [
            lane(0, 2, &near, None),
            lane(1, 2, &near, Some("leaving".into())),
            lane(2, 1, &[("site", "orchard")], None),
            lane(3, 1, &near, Some("far".into())),
            lane(4, 4, &[], None),
        ];
        let planned = plan(&lanes, &runners);
        let expected = [
            Ok(0),
            // no room elsewhere: it goes on where it is until there is
            Ok(2),
            Err(Waiting::Labels("site=orchard".into())),
            Ok(0),
            Ok(1),
        ];
        assert_eq!(planned, expected);
        assert_eq!(plan(&lanes[4..], &runners[2..]), [Err(Waiting::NoRunner)]);
        assert_eq!(plan(&[lane(9, 9, &[], None)], &runners[..2]), [Err(Waiting::Room)]);
        assert!(read_label("site").unwrap_err().contains("site=packhouse"));
        assert!(read_label("site=the packhouse").unwrap_err().contains("letters"));
        assert_eq!(read_label(" site = packhouse").unwrap(), ("site".into(), "packhouse".into()));
    }

    fn worlds() -> impl Strategy<Value = (Vec<PlannedLane>, Vec<PlannedRunner>)> {
        let labels = || proptest::sample::subsequence(vec![("site", "packhouse"), ("tier", "fast")], 0..=2);
        let runners = proptest::collection::vec((1_u32..40, labels(), proptest::bool::weighted(0.2)), 0..6);
        let lanes = proptest::collection::vec((1_u32..6, labels(), proptest::option::of(0_usize..7)), 0..40);
        (lanes, runners).prop_map(|(lanes, runners)| {
            let lanes = lanes.into_iter().enumerate().map(|(n, (weight, labels, with))| {
                let only: &[_] = if n % 3 == 0 { &labels } else { &[] };
                lane(n, weight, only, with.map(|w| format!("r{w}")))
            });
            let runners = runners.into_iter().enumerate();
            let runners = runners.map(|(n, (room, labels, draining))| runner(&format!("r{n}"), room, &labels, draining));
            (lanes.collect(), runners.collect())
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(600) })]

        #[test]
        fn every_plan_keeps_labels_and_room_and_is_kept_by_the_next((lanes, runners) in worlds()) {
            let planned = plan(&lanes, &runners);
            let after = carried(&lanes, &runners, &planned);
            for (lane, at) in lanes.iter().zip(&planned) {
                match at {
                    Ok(at) => {
                        prop_assert!(runners[*at].has(&lane.only_where));
                        prop_assert!(!runners[*at].draining || lane.with.as_ref() == Some(&runners[*at].name));
                    }
                    Err(Waiting::Room) => {
                        let full = |r: &PlannedRunner, load: &u32| load + lane.weight > r.room;
                        let fits = runners.iter().zip(loads(&after, &runners)).filter(|(r, _)| !r.draining && r.has(&lane.only_where));
                        prop_assert!(fits.into_iter().all(|(r, load)| full(r, &load)));
                    }
                    Err(_) => prop_assert!(!runners.iter().any(|r| !r.draining && r.has(&lane.only_where))),
                }
            }
            for (runner, load) in runners.iter().zip(loads(&after, &runners)) {
                prop_assert!(load <= runner.room);
            }
            // nothing waits for which one move would make room
            let loads = loads(&after, &runners);
            let takes = |r: usize, lane: &PlannedLane, without: u32| {
                !runners[r].draining && runners[r].has(&lane.only_where) && loads[r] + lane.weight <= runners[r].room + without
            };
            for waits in lanes.iter().zip(&planned).filter(|(_, at)| at.is_err()).map(|(lane, _)| lane) {
                for (other, at) in lanes.iter().zip(&planned).filter_map(|(lane, at)| Some((lane, *at.as_ref().ok()?))) {
                    let goes = (0..runners.len()).any(|r| r != at && takes(r, other, 0));
                    prop_assert!(!(goes && takes(at, waits, other.weight)), "{other:?} could make room for {waits:?}");
                }
            }
            prop_assert_eq!(&plan(&after, &runners), &planned);
        }

        #[test]
        fn lanes_that_are_alike_are_shared_evenly_with_the_fewest_moves(
            with in proptest::collection::vec(0_usize..6, 0..60), count in 1_usize..6,
        ) {
            let runners: Vec<_> = (0..count).map(|n| runner(&format!("r{n}"), 100, &[], false)).collect();
            let lanes: Vec<_> = with.iter().enumerate().map(|(n, w)| lane(n, 1, &[], Some(format!("r{w}")))).collect();
            let after = carried(&lanes, &runners, &plan(&lanes, &runners));
            let mut before = loads(&lanes, &runners);
            let now = loads(&after, &runners);
            prop_assert!(now.iter().max().unwrap() - now.iter().min().unwrap() <= 1, "{:?}", now);
            // the fewest: the fullest keep one more than the others, where not all can have the same
            before.sort_unstable_by_key(|&l| Reverse(l));
            let (each, more) = (with.len() / count, with.len() % count);
            let keeps = |n: usize| u32::try_from(each + usize::from(n < more)).unwrap();
            let fewest: u32 = before.iter().enumerate().map(|(n, &l)| l.saturating_sub(keeps(n))).sum();
            let alive = |l: &&PlannedLane| runners.iter().any(|r| Some(&r.name) == l.with.as_ref());
            let orphans = lanes.len() - lanes.iter().filter(alive).count();
            prop_assert_eq!(moved(&lanes, &after) - orphans, fewest as usize);
        }
    }
}
