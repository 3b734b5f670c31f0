//! Where rows may be routed: each place is one name's alone, or records of it would stand there in no order.

use std::collections::{HashMap, HashSet};

use uuid::Uuid;

use super::{Definition, DefinitionError, DeliveredTopic};
use crate::naming::TopicName;
use crate::shape::Step;
use crate::table::qualified;

impl DeliveredTopic {
    /// The same topic routed to another table: `schema.table`, or a table of the same schema.
    #[must_use]
    pub fn routed(&self, way: &str) -> Self {
        let own = (self.schema.as_str(), way);
        // where there are no schemas, a name may have dots
        let (schema, table) = if self.schema.is_empty() { own } else { way.split_once('.').unwrap_or(own) };
        Self { schema: schema.to_owned(), table: table.to_owned(), ..self.clone() }
    }

    /// `schema.table` of its table.
    #[must_use]
    pub fn table_name(&self) -> String {
        qualified(&self.schema, &self.table)
    }
}

/// Checks where rows are routed, and that nothing is looked up in what is written.
pub(super) fn check(definition: &Definition) -> Result<(), DefinitionError> {
    let places: Vec<(String, String)> = definition.carries().into_iter().map(|carried| (carried.name, carried.to)).collect();
    // by whom, and by which way if it is not where its rows go anyway
    let mut taken: HashMap<String, (&str, Option<&str>)> =
        places.iter().map(|(name, place)| (place.clone(), (name.as_str(), None))).collect();
    let changes = match definition {
        Definition::Source(source) => source.schema_changes.as_deref(),
        Definition::Sink(_) | Definition::Topics(_) => None,
    };
    let mut written: Vec<String> = places.iter().map(|(_, place)| place.clone()).collect();
    for name in definition.shape().steps.keys() {
        for to in definition.shape().routes(name) {
            let wrong = |reason: String| DefinitionError::Way { name: name.clone(), to: to.to_owned(), reason };
            let place = match definition {
                Definition::Sink(_) if to.contains('{') => {
                    let reason = "a sink writes tables that are known before: name each in a way of its own";
                    return Err(wrong(reason.into()));
                }
                Definition::Sink(sink) => match sink.topics.iter().find(|t| t.name() == *name) {
                    Some(topic) if !to.split('.').any(str::is_empty) => topic.routed(to).table_name(),
                    _ => return Err(wrong("give schema.table, or a table of the same schema".into())),
                },
                _ if to.contains('{') => continue,
                _ => {
                    TopicName::parse(to).map_err(|cause| wrong(cause.to_string()))?;
                    to.to_owned()
                }
            };
            if changes == Some(place.as_str()) {
                return Err(wrong("changes of columns are told there: give its rows another topic".into()));
            }
            match taken.insert(place.clone(), (name.as_str(), Some(to))) {
                Some((whose, _)) if whose != name => {
                    return Err(wrong(format!("rows of {whose} go there: give each a place of its own")));
                }
                Some((_, None)) => {
                    return Err(wrong("they go there where no way takes them: say which go elsewhere".into()));
                }
                Some((_, Some(way))) if way != to => {
                    return Err(wrong(format!("it is the same as {way}: write it one way")));
                }
                _ => written.push(place),
            }
        }
    }
    let followed = definition.shape().followed().into_iter().next().map(str::to_owned);
    if let (Definition::Source(_) | Definition::Sink(_), Some(topic)) = (definition, followed) {
        return Err(DefinitionError::Again(topic));
    }
    for step in definition.shape().steps.values().flatten() {
        let Step::Lookup { topic, table, again, .. } = &step.step else { continue };
        let wrong = match table {
            None if topic.is_empty() => "it looks into nothing: name a reference topic, or a table",
            Some(_) if !topic.is_empty() => "it looks into a topic and into a table: choose one",
            Some(table) if Uuid::parse_str(&table.connection).is_err() => "its table's connection is given by its id",
            Some(table) if !(5..=86_400).contains(&table.every_seconds) => "its table is read anew every 5 to 86400 seconds",
            Some(_) if *again => "rows are carried again when a topic changes, not when a table does: load it into a topic",
            _ => continue,
        };
        return Err(DefinitionError::Lookup(wrong));
    }
    for name in definition.shape().steps.keys() {
        let headers = definition.shape().headers(name);
        if let (Definition::Sink(_), Some((header, _))) = (definition, headers.first()) {
            return Err(DefinitionError::Header(header.clone(), "a table has no headers: make it a column"));
        }
        let mut seen = HashSet::new();
        if let Some((header, _)) = headers.iter().find(|(header, _)| !seen.insert(header.as_str())) {
            return Err(DefinitionError::Header(header.clone(), "two facts would have it: give each a name of its own"));
        }
    }
    if matches!(definition, Definition::Source(_) | Definition::Topics(_))
        && let Some(topic) = definition.shape().references().into_iter().find(|reference| written.contains(&reference.name))
    {
        return Err(DefinitionError::OwnReference(topic.name));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::connector::{CapturedTable, CarriedTopic, SinkDefinition, SourceDefinition, TopicsDefinition};
    use crate::shape::{Fact, FactColumn, LookedUpTable, Match, Miss, ShapeStep, Way};

    fn route(ways: &[&str]) -> ShapeStep {
        let way = |to: &&str| Way { when: Some("weight_kg > 400".into()), to: (*to).to_owned() };
        ShapeStep::from(Step::Route { ways: ways.iter().map(way).collect() })
    }

    fn said(mut definition: Definition, steps: Vec<(&str, ShapeStep)>) -> String {
        let shape = match &mut definition {
            Definition::Source(source) => &mut source.shape,
            Definition::Sink(sink) => &mut sink.shape,
            Definition::Topics(topics) => &mut topics.shape,
        };
        for (name, step) in steps {
            shape.steps.entry(name.to_owned()).or_default().push(step);
        }
        check(&definition).map_or_else(|e| e.to_string(), |()| "taken".into())
    }

    #[test]
    fn each_place_is_one_names_alone() {
        let captured = |table: &str| CapturedTable::whole("public", table, table);
        let source = || {
            let mut source = SourceDefinition::of(Uuid::nil(), vec![captured("bins"), captured("lots")], 1);
            source.schema_changes = Some("columns".into());
            Definition::from(source)
        };
        let topic =
            |table: &str| DeliveredTopic { topic: table.into(), schema: "public".into(), table: table.into(), rows: None };
        let sink = || Definition::from(SinkDefinition::of(Uuid::nil(), vec![topic("bins"), topic("lots")]));
        let carries = || {
            let carried =
                |topic: &str| CarriedTopic { topic: topic.into(), to: format!("{topic}.rich"), rows: None, fit: None };
            Definition::from(TopicsDefinition::of(vec![carried("bins"), carried("lots")], 1))
        };
        let twice = |a: &'static str, b: &'static str| vec![(a, route(&["heavy"])), (b, route(&["heavy"]))];
        let looks = |topic: &str, table: Option<LookedUpTable>, again: bool| {
            let by = vec![Match { column: "id".into(), key: "id".into() }];
            vec![("bins", Step::Lookup { topic: topic.into(), table, by, columns: vec![], miss: Miss::Empty, again }.into())]
        };
        let table = |connection: &str, every_seconds| LookedUpTable {
            connection: connection.into(),
            schema: "public".into(),
            table: "rooms".into(),
            every_seconds,
        };
        let lookup = |topic: &str| looks(topic, None, true);
        let facts = |name: &'static str, headers: &[&str]| {
            let fact = |header: &&str| FactColumn { fact: Fact::Kind, column: String::new(), header: (*header).to_owned() };
            vec![(name, Step::Origin { facts: headers.iter().map(fact).collect() }.into())]
        };
        let cases = [
            (said(source(), vec![("public.bins", route(&["heavy", "light", "heavy"]))]), "taken"),
            (said(source(), vec![("public.bins", route(&["bins.{grade}"]))]), "taken"),
            (said(source(), vec![("public.bins", route(&["bins"]))]), "where no way takes them"),
            (said(source(), vec![("public.bins", route(&["lots"]))]), "rows of public.lots go there"),
            (said(source(), vec![("public.bins", route(&["columns"]))]), "changes of columns"),
            (said(source(), vec![("public.bins", route(&["heavy bins"]))]), "use letters"),
            (said(source(), twice("public.bins", "public.lots")), "rows of public.bins go there"),
            (said(sink(), vec![("bins", route(&["heavy", "cold.heavy"]))]), "taken"),
            (said(sink(), vec![("bins", route(&["public.bins"]))]), "where no way takes them"),
            (said(sink(), vec![("bins", route(&["lots"]))]), "rows of lots go there"),
            (said(sink(), vec![("bins", route(&["bins_{grade}"]))]), "name each in a way of its own"),
            (said(sink(), vec![("bins", route(&["cold."]))]), "give schema.table"),
            (said(sink(), vec![("bins", route(&["heavy", "public.heavy"]))]), "the same as heavy"),
            (said(sink(), twice("bins", "lots")), "rows of bins go there"),
            (said(carries(), lookup("rooms")), "taken"),
            (said(sink(), lookup("rooms")), "only a connector between topics"),
            (said(carries(), lookup("lots.rich")), "by the connector that writes it"),
            (said(carries(), looks("", Some(table("00000000-0000-0000-0000-000000000000", 60)), false)), "taken"),
            (said(carries(), looks("", None, false)), "looks into nothing"),
            (said(carries(), looks("rooms", Some(table("packhouse", 60)), false)), "choose one"),
            (said(carries(), looks("", Some(table("packhouse", 60)), false)), "by its id"),
            (said(carries(), looks("", Some(table("00000000-0000-0000-0000-000000000000", 1)), false)), "5 to 86400"),
            (
                said(carries(), looks("", Some(table("00000000-0000-0000-0000-000000000000", 60)), true)),
                "not when a table does",
            ),
            (said(carries(), facts("bins", &["at", "by"])), "taken"),
            (said(carries(), facts("bins", &["at", "at"])), "two facts would have it"),
            (said(sink(), facts("bins", &["at"])), "a table has no headers"),
        ];
        for (said, part) in cases {
            assert!(said.contains(part), "{said} (expected: {part})");
        }
    }
}
