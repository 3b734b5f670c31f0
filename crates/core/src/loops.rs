//! Whether connectors carry changes in a circle: a source captures a table that a sink writes with what came from that table,
//! directly or by way of other connectors. Each change would come back as a new one, for ever.

use std::collections::{HashMap, HashSet, VecDeque};
use std::fmt;

use crate::connector::{Carries, Definition, SourceDefinition};
use crate::table_patterns::topic_for;

/// Where changes are: a table of a system, or a topic.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Place {
    /// A table.
    Table {
        /// The system, however its connection is called.
        system: String,
        /// `schema.table`.
        table: String,
    },
    /// A topic.
    Topic(String),
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Table { system, table } => write!(f, "{table} of {system}"),
            Self::Topic(topic) => write!(f, "topic {topic}"),
        }
    }
}

/// A system that connectors reach.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct System {
    /// Which it is, however its connection is called and its address is written.
    pub identity: String,
    /// The name that its rows carry as their system's.
    pub name: String,
    /// The schema that its tables usually are in; empty where there is none such.
    pub usual_schema: String,
}

/// A connector with the system it reaches.
#[derive(Debug, Clone, Copy)]
pub struct Carrier<'a> {
    /// Its name.
    pub name: &'a str,
    /// The system, however its connection is called.
    pub system: &'a System,
    /// What it carries.
    pub definition: &'a Definition,
}

impl Carrier<'_> {
    fn table(&self, qualified: &str) -> Place {
        Place::Table { system: self.system.identity.clone(), table: qualified.into() }
    }

    /// From where to where it carries. A source that chooses by names carries what any of `sinks` writes under such a name.
    fn ways(&self, sinks: &[&Self]) -> Vec<(Place, Place)> {
        let place = |table: bool, name: &str| if table { self.table(name) } else { Place::Topic(name.into()) };
        let reads = |name: &str| place(matches!(self.definition, Definition::Source(_)), name);
        let writes = |name: &str| place(matches!(self.definition, Definition::Sink(_)), name);
        let carries = self.definition.carries();
        let ways = |c: &Carries| c.known_places().map(|to| (reads(&c.from), writes(to))).collect::<Vec<_>>();
        let chosen = carries.iter().flat_map(ways);
        let Definition::Source(SourceDefinition { patterns: Some(patterns), .. }) = self.definition else {
            return chosen.collect();
        };
        let same_system = sinks
            .iter()
            .filter(|s| s.system.identity == self.system.identity && matches!(s.definition, Definition::Sink(_)));
        let written = same_system.flat_map(|s| s.definition.carries());
        let written: Vec<String> = written.flat_map(|c| c.known_places().map(str::to_owned).collect::<Vec<_>>()).collect();
        let found = written.iter().filter_map(|name| {
            let (schema, table) = name.split_once('.').filter(|(schema, table)| patterns.covers(schema, table))?;
            let topic = topic_for(&patterns.topic, (&self.system.name, &self.system.usual_schema), schema, table);
            Some((self.table(name), Place::Topic(topic)))
        });
        chosen.chain(found).collect()
    }
}

/// A shortest circle that goes through one connector: the places in order, the first one again at the end.
#[must_use]
pub fn circle(through: Carrier<'_>, others: &[Carrier<'_>]) -> Option<Vec<Place>> {
    let all: Vec<&Carrier<'_>> = others.iter().chain([&through]).collect();
    let mut next: HashMap<Place, Vec<Place>> = HashMap::new();
    for (from, to) in all.iter().flat_map(|c| c.ways(&all)) {
        next.entry(from).or_default().push(to);
    }
    through
        .ways(&all)
        .into_iter()
        .filter_map(|(from, to)| way(&next, &to, &from).map(|w| [vec![from], w].concat()))
        .min_by_key(Vec::len)
}

/// A shortest way from one place to another, both ends included.
fn way(next: &HashMap<Place, Vec<Place>>, from: &Place, to: &Place) -> Option<Vec<Place>> {
    let mut seen = HashSet::from([from]);
    let mut ways = VecDeque::from([vec![from]]);
    while let Some(way) = ways.pop_front() {
        let here = *way.last()?;
        if here == to {
            return Some(way.into_iter().cloned().collect());
        }
        for place in next.get(here).into_iter().flatten() {
            if seen.insert(place) {
                ways.push_back(way.iter().copied().chain([place]).collect());
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::connector::{CapturedTable, CarriedTopic, DeliveredTopic, SinkDefinition, TopicsDefinition};
    use crate::event_rows::{EventRows, Only, Part};
    use crate::shape::{ShapeStep, Step, Way};
    use crate::table_patterns::TablePatterns;
    use proptest::prelude::*;
    use uuid::Uuid;

    fn system(identity: &str) -> System {
        System { identity: identity.into(), name: "packhouse".into(), usual_schema: "public".into() }
    }

    fn source(table: &str, topic: &str) -> Definition {
        SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", table, topic)], 1).into()
    }

    fn delivered(topic: &str, table: &str) -> DeliveredTopic {
        DeliveredTopic { topic: topic.into(), schema: "public".into(), table: table.into(), rows: None }
    }

    fn sink(topic: &str, table: &str) -> Definition {
        SinkDefinition::of(Uuid::nil(), vec![delivered(topic, table)]).into()
    }

    #[test]
    fn a_circle_through_a_pattern_is_found() {
        let patterns = |exclude: &[&str]| TablePatterns {
            include: vec!["public.*".into()],
            exclude: exclude.iter().map(|p| (*p).to_owned()).collect(),
            topic: "packhouse.{table}".into(),
        };
        let source = |exclude: &[&str]| {
            let of = SourceDefinition::of(Uuid::nil(), vec![], 1);
            Definition::from(SourceDefinition { patterns: Some(patterns(exclude)), ..of })
        };
        let (back, whole, but) = (sink("packhouse.bins", "bins"), source(&[]), source(&["bins"]));
        let here = system("s");
        let carrier = |definition| Carrier { name: "c", system: &here, definition };
        assert!(circle(carrier(&back), &[carrier(&whole)]).is_some());
        assert_eq!(circle(carrier(&back), &[carrier(&but)]), None);
    }

    #[test]
    fn a_circle_is_found_by_all_the_ways_that_rows_go() {
        let system = system("packhouse.example:5432/packhouse");
        let goes_round = |one: &Definition, other: &Definition| {
            let [one, other] = [one, other].map(|definition| Carrier { name: "c", system: &system, definition });
            circle(one, &[other]).is_some()
        };
        let route = |to: &str| {
            let heavy = Way { when: Some("weight_kg > 400".into()), to: to.into() };
            ShapeStep::from(Step::Route { ways: vec![heavy] })
        };
        // a topic that has the system's name
        let found = TablePatterns { include: vec!["bins".into()], exclude: vec![], topic: "{system}.{table}".into() };
        let by_name = SourceDefinition { patterns: Some(found), ..SourceDefinition::of(Uuid::nil(), vec![], 1) };
        assert!(goes_round(&sink("packhouse.bins", "bins"), &by_name.into()));
        // routes of a source, of a sink, and of records of some types of a topic
        let mut out = SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", "bins", "bins")], 1);
        out.shape.steps.insert("public.bins".into(), vec![route("heavy"), route("by.{grade}")]);
        let out = Definition::from(out);
        assert!(goes_round(&sink("heavy", "bins"), &out));
        assert!(!goes_round(&sink("light", "bins"), &out));
        let mut back = SinkDefinition::of(Uuid::nil(), vec![delivered("bins", "all_bins")]);
        back.shape.steps.insert("bins".into(), vec![route("bins")]);
        assert!(goes_round(&back.into(), &source("bins", "bins")));
        let only = Only { part: Part::Header, path: vec!["type".into()], is: vec!["bin.weighed".into()], is_not: vec![] };
        let types = EventRows { only: Some(only), ..EventRows::default() };
        let of_types = CarriedTopic { topic: "events".into(), to: "weighed".into(), rows: Some(types), fit: None };
        let name = of_types.name();
        let mut some = TopicsDefinition::of(vec![of_types], 1);
        some.shape.steps.insert(name, vec![route("heavy")]);
        let again = CarriedTopic { topic: "heavy".into(), to: "events".into(), rows: None, fit: None };
        assert!(goes_round(&some.into(), &TopicsDefinition::of(vec![again], 1).into()));
    }

    #[test]
    fn a_circle_is_named_from_place_to_place() {
        let (here, elsewhere) = (system("127.0.0.1:5432/packhouse"), system("127.0.0.1:5432/settlement"));
        let (out, back) = (source("bins", "packhouse.bins"), sink("packhouse.bins", "bins"));
        let out = Carrier { name: "out", system: &here, definition: &out };
        let back = Carrier { name: "back", system: &here, definition: &back };
        let names = |c: Vec<Place>| c.iter().map(ToString::to_string).collect::<Vec<_>>();
        let table = "public.bins of 127.0.0.1:5432/packhouse";
        assert_eq!(circle(back, &[out]).map(names).unwrap(), ["topic packhouse.bins", table, "topic packhouse.bins"]);
        assert_eq!(circle(out, &[back]).map(names).unwrap(), [table, "topic packhouse.bins", table]);
        assert_eq!(circle(out, &[]), None);
        // the same table of another database is another place
        assert_eq!(circle(Carrier { system: &elsewhere, ..back }, &[out]), None);
    }

    proptest! {
        /// Against the closure of "leads to": a circle is found exactly where an end of the connector leads to its beginning.
        #[test]
        fn a_circle_is_found_if_and_only_if_there_is_one(edges in prop::collection::vec((any::<bool>(), 0..5_usize, 0..5_usize), 1..12)) {
            let definitions: Vec<Definition> = edges
                .iter()
                .map(|(out, a, b)| if *out { source(&format!("t{a}"), &format!("o{b}")) } else { sink(&format!("o{a}"), &format!("t{b}")) })
                .collect();
            let here = system("s");
            let carriers: Vec<Carrier<'_>> = definitions.iter().map(|d| Carrier { name: "c", system: &here, definition: d }).collect();
            // nodes 0 to 4 are tables, 5 to 9 topics
            let ends = |(out, a, b): &(bool, usize, usize)| if *out { (*a, b + 5) } else { (a + 5, *b) };
            let mut leads = [[false; 10]; 10];
            for edge in &edges {
                let (from, to) = ends(edge);
                leads[from][to] = true;
            }
            for middle in 0..10 {
                for from in 0..10 {
                    for to in 0..10 {
                        leads[from][to] |= leads[from][middle] && leads[middle][to];
                    }
                }
            }
            let (through, others) = carriers.split_first().unwrap();
            let (from, to) = ends(&edges[0]);
            let found = circle(*through, others);
            prop_assert_eq!(found.is_some(), leads[to][from]);
            if let Some(found) = found {
                prop_assert_eq!(found.first(), found.last());
                let ways: Vec<(Place, Place)> = carriers.iter().flat_map(|c| c.ways(&[])).collect();
                for pair in found.windows(2) {
                    prop_assert!(ways.contains(&(pair[0].clone(), pair[1].clone())));
                }
            }
        }
    }
}
