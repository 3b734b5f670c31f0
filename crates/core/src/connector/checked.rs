//! Connectors whose definitions were checked.

use super::definition::{Definition, Deletes, SinkDefinition, SourceDefinition, Start, TargetRows, TopicsDefinition};
use super::error::DefinitionError;
use super::{Carries, carrying, existing_checked, ways};
use crate::event_rows::{EventRows, check_apart};
use crate::naming::{ConnectorId, ConnectorName, TopicName};

/// A connector whose definition was checked; the runtime takes no other.
///
/// Invariant: made only by [`ValidConnector::check`], so every topic name parses and no table or topic stands twice.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ValidConnector {
    id: ConnectorId,
    name: ConnectorName,
    definition: Definition,
}

impl ValidConnector {
    /// Checks a definition.
    ///
    /// # Errors
    /// [`DefinitionError`] with the finding and the remedy.
    pub fn check(id: ConnectorId, name: ConnectorName, definition: Definition) -> Result<Self, DefinitionError> {
        carrying::check(definition.placing(), definition.failing())?;
        // each table or topic at the other end, the topic, and what that is called
        let of_read = |definition: &Definition| {
            let read = definition.read_topics().into_iter();
            read.map(|read| (read.to, read.topic.to_owned(), read.name)).collect()
        };
        let pairs: Vec<(String, String, String)> = match &definition {
            Definition::Source(source) => {
                check_source(source)?;
                source.tables.iter().map(|t| (t.qualified(), t.topic.clone(), t.topic.clone())).collect()
            }
            Definition::Sink(sink) => {
                check_sink(sink)?;
                of_read(&definition)
            }
            Definition::Topics(topics) => {
                check_topics(topics)?;
                check_no_circle(&definition)?;
                of_read(&definition)
            }
        };
        let found_by_name = |name: &str| matches!(&definition, Definition::Source(source) if source.finds(name));
        let source = matches!(definition, Definition::Source(_));
        let carried = |name: &str| pairs.iter().any(|(table, _, read)| if source { table == name } else { read == name });
        if let Some(name) = definition.shape().steps.keys().find(|name| !carried(name) && !found_by_name(name)) {
            return Err(DefinitionError::Shape { name: name.clone() });
        }
        let mut seen = std::collections::HashSet::new();
        check_read(&definition)?;
        for (table, topic, read) in &pairs {
            TopicName::parse(topic.as_str()).map_err(|cause| DefinitionError::Topic {
                table: table.clone(),
                topic: topic.clone(),
                cause,
            })?;
            for (what, name) in [("table", table), ("topic", read)] {
                if !seen.insert((what, name)) {
                    return Err(DefinitionError::Twice { what, name: name.clone() });
                }
            }
        }
        ways::check(&definition)?;
        Ok(Self { id, name, definition })
    }

    /// Its id.
    #[must_use]
    pub fn id(&self) -> ConnectorId {
        self.id
    }

    /// Its name.
    #[must_use]
    pub fn name(&self) -> &ConnectorName {
        &self.name
    }

    /// What it does.
    #[must_use]
    pub fn definition(&self) -> &Definition {
        &self.definition
    }
}

fn check_source(source: &SourceDefinition) -> Result<(), DefinitionError> {
    if source.load.rows_per_second == Some(0) {
        return Err(DefinitionError::Pace);
    }
    if !(1..=16).contains(&source.load.chunks) {
        return Err(DefinitionError::Chunks(source.load.chunks));
    }
    if let Some(patterns) = &source.patterns {
        let empty = |list: &[String]| list.iter().any(|p| p.trim().is_empty());
        if patterns.include.is_empty() || empty(&patterns.include) || empty(&patterns.exclude) {
            return Err(DefinitionError::Patterns("a pattern is empty: write one such as public.*, or take it out"));
        }
        if !patterns.topic.contains("{table}") {
            return Err(DefinitionError::Patterns("topics of tables found by a pattern need {table} in their names"));
        }
    } else if source.tables.is_empty() {
        return Err(DefinitionError::NoTables);
    }
    if source.placing.lanes > 1 {
        return Err(DefinitionError::Lanes("a source has one lane: its system's log is one sequence"));
    }
    if !(1..=1000).contains(&source.partitions) {
        return Err(DefinitionError::Partitions(source.partitions));
    }
    for table in &source.tables {
        if let Some(column) = table.leave_out.iter().find(|c| table.key.contains(c)) {
            return Err(DefinitionError::KeyLeftOut { table: table.qualified(), column: column.clone() });
        }
    }
    if let Some(topic) = &source.schema_changes {
        let of = || "changes of columns".to_owned();
        let wrong = |cause| DefinitionError::Topic { table: of(), topic: topic.clone(), cause };
        TopicName::parse(topic.as_str()).map_err(wrong)?;
        if source.tables.iter().any(|t| t.topic == *topic) {
            return Err(DefinitionError::Twice { what: "topic", name: topic.clone() });
        }
    }
    existing_checked::check_source(source)?;
    match &source.start {
        Some(Start::Offsets { .. }) => Err(DefinitionError::Start {
            kind: "source",
            remedy: "give a position of the source's log, a time, or another connector",
        }),
        Some(start) => check_start(start, "source"),
        None => Ok(()),
    }
}

fn check_rows<'t>(topics: impl Iterator<Item = (&'t String, Option<&'t EventRows>)>) -> Result<(), DefinitionError> {
    for (topic, rows) in topics {
        let checked = rows.map_or(Ok(()), EventRows::check);
        checked.map_err(|finding| DefinitionError::Rows { topic: topic.clone(), finding })?;
    }
    Ok(())
}

/// Checks that no record of a topic that is read several times is read twice.
fn check_read(definition: &Definition) -> Result<(), DefinitionError> {
    let read = definition.read_topics();
    let apart = check_apart(read.iter().map(|read| (read.topic, read.rows)));
    apart.map_err(|(topic, finding)| DefinitionError::Rows { topic, finding: finding.to_owned() })
}

fn check_sink(sink: &SinkDefinition) -> Result<(), DefinitionError> {
    if sink.topics.is_empty() {
        return Err(DefinitionError::NoTopics);
    }
    check_rows(sink.topics.iter().map(|t| (&t.topic, t.rows.as_ref())))?;
    for topic in &sink.topics {
        let wrong = |finding: &str| DefinitionError::Rows { topic: topic.topic.clone(), finding: finding.into() };
        let Some(rows) = &topic.rows else { continue };
        if sink.writes.whole_transactions {
            return Err(wrong("events have no transactions that could be kept whole: deliver it with a sink of its own"));
        }
        if rows.newest_by.is_some() && sink.writes.rows != TargetRows::Current {
            return Err(wrong(
                "the newest of each key is found where the table holds current rows: choose those, or the topic's order",
            ));
        }
    }
    if sink.writes.whole_transactions && sink.placing.lanes > 1 {
        return Err(DefinitionError::Lanes(
            "transactions become visible as a whole only if one lane delivers them: give it one lane",
        ));
    }
    if !sink.writes.guarantee.in_target() && sink.placing.lanes > 1 {
        return Err(DefinitionError::Lanes(
            "lanes keep step by their positions in the target: give it one lane, or let it deliver exactly once",
        ));
    }
    if sink.writes.deletes == Deletes::Marked && sink.writes.rows != TargetRows::Current {
        return Err(DefinitionError::Writes(
            "deleted rows can be marked where the table holds current rows: choose applied or ignored",
        ));
    }
    existing_checked::check_sink(sink)?;
    match &sink.start {
        Some(Start::Position { .. }) => {
            Err(DefinitionError::Start { kind: "sink", remedy: "give offsets, a time, or another connector" })
        }
        Some(start) => check_start(start, "sink"),
        None => Ok(()),
    }
}

fn check_no_circle(definition: &Definition) -> Result<(), DefinitionError> {
    let carries = definition.carries();
    let mut written = carries.iter().flat_map(Carries::known_places);
    match written.find(|to| definition.reads(to)) {
        Some(same) => Err(DefinitionError::Circle(same.to_owned())),
        None => Ok(()),
    }
}

fn check_topics(topics: &TopicsDefinition) -> Result<(), DefinitionError> {
    if topics.carries.is_empty() {
        return Err(DefinitionError::NoTopics);
    }
    check_rows(topics.carries.iter().map(|t| (&t.topic, t.rows.as_ref())))?;
    if let Some(carried) = topics.carries.iter().find(|t| t.rows.as_ref().is_some_and(|rows| rows.newest_by.is_some())) {
        let finding = "a topic keeps all events in their order: take out what finds the newest".into();
        return Err(DefinitionError::Rows { topic: carried.topic.clone(), finding });
    }
    if !(1..=1000).contains(&topics.partitions) {
        return Err(DefinitionError::Partitions(topics.partitions));
    }
    if topics.placing.lanes > 1 {
        return Err(DefinitionError::Lanes("topics are carried into topics by one lane: give it one lane"));
    }
    for carried in &topics.carries {
        TopicName::parse(carried.to.as_str()).map_err(|cause| DefinitionError::Topic {
            table: carried.topic.clone(),
            topic: carried.to.clone(),
            cause,
        })?;
    }
    for carried in topics.carries.iter().filter(|c| c.fit.is_some()) {
        if !topics.shape.routes(&carried.name()).is_empty() {
            let finding =
                "a step routes its rows, and they are to be written under one schema: let a connector of its own fit each";
            return Err(DefinitionError::Rows { topic: carried.topic.clone(), finding: finding.into() });
        }
    }
    match &topics.start {
        Some(Start::Position { .. } | Start::Connector { .. }) => {
            Err(DefinitionError::Start { kind: "connector between topics", remedy: "give offsets or a time" })
        }
        Some(start) => check_start(start, "connector between topics"),
        None => Ok(()),
    }
}

fn check_start(start: &Start, kind: &'static str) -> Result<(), DefinitionError> {
    match start {
        Start::Time { time } if crate::civil::read_rfc3339(time).is_none() => {
            Err(DefinitionError::Start { kind, remedy: "give the time as 2026-11-25T06:00:00Z" })
        }
        Start::Position { position } if position.trim().is_empty() => {
            Err(DefinitionError::Start { kind, remedy: "give the position as the source writes it" })
        }
        Start::Offsets { offsets } if offsets.iter().any(|o| o.offset < 0) => {
            Err(DefinitionError::Start { kind, remedy: "give offsets from 0 on" })
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::{CapturedTable, CarriedTopic, DeliveredTopic, Failing, Guarantee, Placing};
    use crate::failure::Kind;
    use crate::table_patterns::TablePatterns;

    fn check(tables: &[(&str, &str)], partitions: i32) -> Result<ValidConnector, DefinitionError> {
        let tables = tables.iter().map(|(table, topic)| CapturedTable::whole("public", table, topic)).collect();
        valid(SourceDefinition::of(Uuid::nil(), tables, partitions))
    }

    fn valid(definition: impl Into<Definition>) -> Result<ValidConnector, DefinitionError> {
        ValidConnector::check(ConnectorId(Uuid::nil()), ConnectorName::parse("orchard").unwrap(), definition.into())
    }

    #[test]
    fn definitions_are_refused_with_a_remedy() {
        assert!(check(&[("bins", "packhouse.bins"), ("blocks", "packhouse.blocks")], 4).is_ok());
        type Case<'a> = (&'a [(&'a str, &'a str)], i32, &'a str);
        let cases: [Case<'_>; 5] = [
            (&[], 1, "choose at least one"),
            (&[("bins", "a")], 0, "from 1 to 1000"),
            (&[("bins", "a b")], 1, "use letters"),
            (&[("bins", "a"), ("blocks", "a")], 1, "the topic a is named twice"),
            (&[("bins", "a"), ("bins", "b")], 1, "the table public.bins is named twice"),
        ];
        for (tables, partitions, part) in cases {
            let error = check(tables, partitions).unwrap_err().to_string();
            let cause = std::error::Error::source(&check(tables, partitions).unwrap_err()).map(ToString::to_string);
            assert!(error.contains(part) || cause.is_some_and(|c| c.contains(part)), "{error}");
        }
    }

    #[test]
    fn settings_that_do_not_fit_are_refused_with_a_remedy() {
        let source = || SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", "bins", "bins")], 1);
        let patterns = |include: &[&str], topic: &str| TablePatterns {
            include: include.iter().map(|p| (*p).to_owned()).collect(),
            exclude: vec![],
            topic: topic.into(),
        };
        type Change = fn(&mut SourceDefinition);
        let sources: [(Change, &str); 8] = [
            (|s| s.load.chunks = 0, "from 1 to 16"),
            (|s| s.load.rows_per_second = Some(0), "at least 1"),
            (|s| (s.tables[0].key, s.tables[0].leave_out) = (vec!["id".into()], vec!["id".into()]), "cannot be left out"),
            (|s| s.start = Some(Start::Offsets { offsets: vec![] }), "position of the source's log"),
            (|s| s.start = Some(Start::Time { time: "yesterday".into() }), "2026-11-25T06:00:00Z"),
            (|s| s.start = Some(Start::Position { position: " ".into() }), "as the source writes it"),
            (|s| s.schema_changes = Some("bins".into()), "named twice"),
            (|s| drop(s.shape.steps.insert("public.rooms".into(), vec![])), "does not carry"),
        ];
        for (change, part) in sources {
            let mut changed = source();
            change(&mut changed);
            let error = valid(changed).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
        for (found, part) in [
            (patterns(&[], "{table}"), "pattern is empty"),
            (patterns(&["a", " "], "{table}"), "pattern is empty"),
            (patterns(&["*"], "all"), "need {table}"),
        ] {
            let error = valid(SourceDefinition { patterns: Some(found), ..source() }).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
        let found = SourceDefinition { patterns: Some(patterns(&["*"], "{table}")), tables: vec![], ..source() };
        assert!(valid(found).is_ok());
        let topic = DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let mut sink = SinkDefinition::of(Uuid::nil(), vec![topic]);
        (sink.writes.rows, sink.writes.deletes) = (TargetRows::History, Deletes::Marked);
        assert!(valid(sink).unwrap_err().to_string().contains("applied or ignored"));
    }

    #[test]
    fn topics_are_carried_into_others_only() {
        let carried = |topic: &str, to: &str| CarriedTopic { topic: topic.into(), to: to.into(), rows: None, fit: None };
        let of = |carries| TopicsDefinition::of(carries, 2);
        assert!(valid(of(vec![carried("bins", "bins.rich"), carried("lines", "lines.rich")])).is_ok());
        let cases = [
            (of(vec![]), "choose at least one"),
            (of(vec![carried("bins", "bins")]), "would be read and written"),
            (of(vec![carried("bins", "a"), carried("a", "b")]), "would be read and written"),
            (of(vec![carried("bins", "a"), carried("lines", "a")]), "named twice"),
            (TopicsDefinition { partitions: 0, ..of(vec![carried("bins", "a")]) }, "from 1 to 1000"),
            (
                TopicsDefinition { placing: Placing { lanes: 2, ..Placing::default() }, ..of(vec![carried("bins", "a")]) },
                "one lane",
            ),
        ];
        for (definition, part) in cases {
            let error = valid(definition).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
    }

    #[test]
    fn where_it_runs_and_what_happens_when_it_fails_is_checked() {
        let topic = DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let sink = || SinkDefinition::of(Uuid::nil(), vec![topic.clone()]);
        type Change = fn(&mut SinkDefinition);
        let cases: [(Change, &str); 8] = [
            (|s| s.placing.weight = 0, "weight is 0: give a number from 1 to 1000"),
            (|s| s.placing.lanes = 65, "lanes is 65"),
            (|s| s.failing.kept_days = 0, "kept_days is 0"),
            (|s| s.failing.most_tries = Some(0), "most_tries is 0"),
            (
                |s| drop(s.placing.only_where.insert("site".into(), "the packhouse".into())),
                "site=the packhouse cannot be named so",
            ),
            (|s| (s.placing.lanes, s.writes.whole_transactions) = (2, true), "one lane"),
            (|s| (s.placing.lanes, s.writes.guarantee) = (2, Guarantee::AtLeastOnce), "lanes keep step"),
            (|s| (s.writes.rows, s.writes.deletes) = (TargetRows::Changes, Deletes::Marked), "current rows"),
        ];
        for (change, part) in cases {
            let mut changed = sink();
            change(&mut changed);
            let error = valid(changed).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
        let mut source = SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", "bins", "bins")], 1);
        source.placing.lanes = 2;
        assert!(valid(source).unwrap_err().to_string().contains("a source has one lane"));

        // a login that is refused is given up by itself, a lost connection only where that is said
        let usual = Failing::default();
        assert!(!usual.gives_up(Kind::Connection, 1_000, 10_000) && !usual.gives_up(Kind::Login, 4, 10_000));
        assert!(usual.gives_up(Kind::Login, 5, 0));
        let limited = Failing { most_tries: Some(9), most_minutes: Some(30), ..usual };
        assert!(
            limited.gives_up(Kind::Full, 9, 0) && limited.gives_up(Kind::Busy, 1, 30) && limited.gives_up(Kind::Login, 5, 0)
        );
        assert!(!limited.gives_up(Kind::Full, 8, 29));
    }

    #[test]
    fn a_definition_of_an_earlier_day_reads_as_it_was_meant() {
        let text = r#"{"kind": "source", "connection": "00000000-0000-0000-0000-000000000000", "partitions": 3,
            "tables": [{"schema": "public", "table": "bins", "topic": "packhouse.bins"}], "load": {"rows": true}}"#;
        let tables = vec![CapturedTable::whole("public", "bins", "packhouse.bins")];
        let expected = Definition::from(SourceDefinition::of(Uuid::nil(), tables, 3));
        assert_eq!(serde_json::from_str::<Definition>(text).unwrap(), expected);
    }
}
