//! Whether connectors carry changes in a circle: a source captures a table that a sink writes with what came from that table,
//! directly or by way of other connectors. Each change would come back as a new one, for ever.

use std::collections::{HashMap, HashSet, VecDeque};
use std::fmt;

use crate::connector::Definition;

/// Where changes are: a table of a database, or a topic.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Place {
    /// A table.
    Table {
        /// The database, however its connection is called: address and name.
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

/// A connector with the database it reaches.
#[derive(Debug, Clone, Copy)]
pub struct Carrier<'a> {
    /// Its name.
    pub name: &'a str,
    /// The database, however its connection is called.
    pub system: &'a str,
    /// What it carries.
    pub definition: &'a Definition,
}

impl Carrier<'_> {
    fn ways(&self) -> Vec<(Place, Place)> {
        let table =
            |schema: &str, table: &str| Place::Table { system: self.system.into(), table: format!("{schema}.{table}") };
        match self.definition {
            Definition::Source { tables, .. } => {
                tables.iter().map(|t| (table(&t.schema, &t.table), Place::Topic(t.topic.clone()))).collect()
            }
            Definition::Sink { topics, .. } => {
                topics.iter().map(|t| (Place::Topic(t.topic.clone()), table(&t.schema, &t.table))).collect()
            }
        }
    }
}

/// A shortest circle that goes through one connector: the places in order, the first one again at the end.
#[must_use]
pub fn circle(through: Carrier<'_>, others: &[Carrier<'_>]) -> Option<Vec<Place>> {
    let mut next: HashMap<Place, Vec<Place>> = HashMap::new();
    for (from, to) in others.iter().chain([&through]).flat_map(Carrier::ways) {
        next.entry(from).or_default().push(to);
    }
    through
        .ways()
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

/// A database's place for comparison, however its address is written.
#[must_use]
pub fn system_of(host: &str, port: u16, database: &str) -> String {
    let host = host.to_lowercase();
    let host = if matches!(host.as_str(), "localhost" | "::1") { "127.0.0.1" } else { &host };
    format!("{host}:{port}/{database}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::connector::{CapturedTable, DeliveredTopic, InitialLoad};
    use proptest::prelude::*;
    use uuid::Uuid;

    fn source(table: &str, topic: &str) -> Definition {
        let tables = vec![CapturedTable { schema: "public".into(), table: table.into(), topic: topic.into() }];
        Definition::Source { connection: Uuid::nil(), tables, partitions: 1, load: InitialLoad::default() }
    }

    fn sink(topic: &str, table: &str) -> Definition {
        let topics = vec![DeliveredTopic { topic: topic.into(), schema: "public".into(), table: table.into() }];
        Definition::Sink { connection: Uuid::nil(), topics }
    }

    #[test]
    fn a_circle_is_named_from_place_to_place() {
        let (here, there) = (system_of("LOCALHOST", 5432, "packhouse"), system_of("127.0.0.1", 5432, "packhouse"));
        let (out, back) = (source("bins", "packhouse.bins"), sink("packhouse.bins", "bins"));
        let out = Carrier { name: "out", system: &here, definition: &out };
        let back = Carrier { name: "back", system: &there, definition: &back };
        let names = |c: Vec<Place>| c.iter().map(ToString::to_string).collect::<Vec<_>>();
        let table = "public.bins of 127.0.0.1:5432/packhouse";
        assert_eq!(circle(back, &[out]).map(names).unwrap(), ["topic packhouse.bins", table, "topic packhouse.bins"]);
        assert_eq!(circle(out, &[back]).map(names).unwrap(), [table, "topic packhouse.bins", table]);
        assert_eq!(circle(out, &[]), None);
        // the same table of another database is another place
        assert_eq!(circle(Carrier { system: "127.0.0.1:5432/settlement", ..back }, &[out]), None);
    }

    proptest! {
        /// Against the closure of "leads to": a circle is found exactly where an end of the connector leads to its beginning.
        #[test]
        fn a_circle_is_found_if_and_only_if_there_is_one(edges in prop::collection::vec((any::<bool>(), 0..5_usize, 0..5_usize), 1..12)) {
            let definitions: Vec<Definition> = edges
                .iter()
                .map(|(out, a, b)| if *out { source(&format!("t{a}"), &format!("o{b}")) } else { sink(&format!("o{a}"), &format!("t{b}")) })
                .collect();
            let carriers: Vec<Carrier<'_>> = definitions.iter().map(|d| Carrier { name: "c", system: "s", definition: d }).collect();
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
                let ways: Vec<(Place, Place)> = carriers.iter().flat_map(Carrier::ways).collect();
                for pair in found.windows(2) {
                    prop_assert!(ways.contains(&(pair[0].clone(), pair[1].clone())));
                }
            }
        }
    }
}
