//! From where to where a connector carries, by all the ways that its rows go: which topics it writes, and whether changes go in a
//! circle, is told by this alone.

use super::Definition;
use crate::table_patterns::fits;

/// What a connector carries of one table or topic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Carries {
    /// What it is called in the connector; its steps are given by it.
    pub name: String,
    /// The topic, or the table as `schema.table`.
    pub from: String,
    /// Where its rows go unless a step routes them: a topic, or a table as `schema.table`.
    pub to: String,
    /// Where its steps route rows, each place once. A topic's name may have columns in braces.
    pub routed: Vec<String>,
}

impl Carries {
    /// All places that its rows go to, as far as no column decides the name.
    pub fn known_places(&self) -> impl Iterator<Item = &str> {
        let routed = self.routed.iter().filter(|to| !to.contains('{'));
        std::iter::once(&self.to).chain(routed).map(String::as_str)
    }
}

impl Definition {
    /// What it carries, as far as its definition names it: tables that are found by their names are not among it.
    #[must_use]
    pub fn carries(&self) -> Vec<Carries> {
        let routed = |name: &str| self.shape().routes(name).into_iter().map(str::to_owned).collect();
        match self {
            Self::Source(source) => {
                let one =
                    |name: String, to: &String| Carries { routed: routed(&name), from: name.clone(), name, to: to.clone() };
                source.tables.iter().map(|table| one(table.qualified(), &table.topic)).collect()
            }
            Self::Sink(sink) => sink
                .topics
                .iter()
                .map(|topic| {
                    let name = topic.name();
                    let ways = self.shape().routes(&name).into_iter();
                    let routed = ways.map(|to| topic.routed(to).table_name()).collect();
                    Carries { name, from: topic.topic.clone(), to: topic.table_name(), routed }
                })
                .collect(),
            Self::Topics(topics) => topics
                .carries
                .iter()
                .map(|carried| {
                    let name = carried.name();
                    Carries { routed: routed(&name), name, from: carried.topic.clone(), to: carried.to.clone() }
                })
                .collect(),
        }
    }

    /// The topics that its definition says it writes.
    #[must_use]
    pub fn written(&self) -> Written {
        let mut out = Written::default();
        if matches!(self, Self::Sink(_)) {
            return out;
        }
        // steps may be given for tables that are found by their names
        for to in self.shape().steps.keys().flat_map(|name| self.shape().routes(name)) {
            if to.contains('{') {
                out.patterns.push(any_column(to));
            } else {
                out.topics.push(to.to_owned());
            }
        }
        if let Self::Source(source) = self {
            out.topics.extend(source.schema_changes.clone());
        }
        out.topics.extend(self.carries().into_iter().map(|carried| carried.to));
        out
    }

    /// Whether its definition says that it writes a topic. One that finds its tables by their names writes others as well, which
    /// only its lanes know.
    #[must_use]
    pub fn writes(&self, topic: &str) -> bool {
        self.written().has(topic)
    }
}

/// Topics that a connector writes.
#[derive(Debug, Clone, Default)]
pub struct Written {
    /// Their names.
    pub topics: Vec<String>,
    /// Patterns for those whose names columns decide; `*` stands for any characters.
    pub patterns: Vec<String>,
}

impl Written {
    /// Whether a topic is one of them.
    #[must_use]
    pub fn has(&self, topic: &str) -> bool {
        self.topics.iter().any(|known| known == topic) || self.patterns.iter().any(|pattern| fits(pattern, topic))
    }
}

/// A pattern for all names that columns in braces can give.
fn any_column(name: &str) -> String {
    let mut out = String::new();
    let mut rest = name;
    while let Some((before, within)) = rest.split_once('{') {
        let Some((_, after)) = within.split_once('}') else { break };
        out.push_str(before);
        out.push('*');
        rest = after;
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::{CapturedTable, DeliveredTopic, SinkDefinition, SourceDefinition};
    use crate::shape::{ShapeStep, Step, Way};

    fn route(to: &[&str]) -> Vec<ShapeStep> {
        let way = |to: &&str| Way { when: None, to: (*to).to_owned() };
        vec![Step::Route { ways: to.iter().map(way).collect() }.into()]
    }

    #[test]
    fn what_is_written_is_told_by_all_ways() {
        let mut source = SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", "bins", "bins")], 1);
        source.schema_changes = Some("columns".into());
        source.shape.steps.insert("public.bins".into(), route(&["heavy", "bins.{grade}.of.{block}", "heavy"]));
        source.shape.steps.insert("public.found".into(), route(&["apart"]));
        let source = Definition::from(source);
        let carried = &source.carries()[0];
        assert_eq!((carried.from.as_str(), carried.to.as_str()), ("public.bins", "bins"));
        assert_eq!(carried.routed, ["heavy", "bins.{grade}.of.{block}"]);
        assert_eq!(carried.known_places().collect::<Vec<_>>(), ["bins", "heavy"]);
        for (topic, written) in [
            ("bins", true),
            ("columns", true),
            ("heavy", true),
            ("apart", true),
            ("bins.first.of.7", true),
            ("bins.first", false),
            ("lots", false),
        ] {
            assert_eq!(source.writes(topic), written, "{topic}");
        }
        let topic = DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let mut sink = SinkDefinition::of(Uuid::nil(), vec![topic]);
        sink.shape.steps.insert("bins".into(), route(&["heavy", "cold.heavy"]));
        let sink = Definition::from(sink);
        assert_eq!(sink.carries()[0].known_places().collect::<Vec<_>>(), ["public.bins", "public.heavy", "cold.heavy"]);
        assert!(!sink.writes("bins") && !sink.writes("heavy"));
    }
}
