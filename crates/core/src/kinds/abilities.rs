//! What a kind of system can do for connectors: what is not declared is neither offered nor taken.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::connector::{
    BadRecords, Definition, Deletes, ExistingRows, Guarantee, SinkDefinition, SourceDefinition, Start, TargetColumns,
    TargetRows,
};
use crate::shape::Shapes;

/// How a source learns of what changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Follows {
    /// From the system's own log.
    Log,
    /// By asking again and again.
    Poll,
    /// The system hands records on.
    Feed,
    /// Not at all.
    None,
}

/// Where a source can begin besides now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum BeginsAt {
    /// With what is kept longest.
    Earliest,
    /// At a time.
    Time,
    /// After a position.
    Position,
    /// Where another connector stands.
    Connector,
}

/// What sources can do in a kind of system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SourceAbilities {
    /// Whether rows that are there can be loaded.
    pub loads: bool,
    /// How it learns of changes.
    pub follows: Follows,
    /// Where it can begin besides now.
    pub starts: Vec<BeginsAt>,
    /// Whether it tells truncates.
    pub truncates: bool,
    /// Whether it tells changes of columns.
    pub schema_changes: bool,
    /// Whether tables can be found by their names.
    pub patterns: bool,
    /// Whether a row can be read again by its key: what cannot be shaped can then wait in quarantine.
    pub by_key: bool,
}

/// What a late write of a runner can do that lost its lane.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum LateWrites {
    /// Nothing: the system refuses it.
    Fenced,
    /// Nothing: it is older than what is there, and gives way.
    Versioned,
    /// It is written.
    Possible,
}

/// What sinks can do in a kind of system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SinkAbilities {
    /// Whether it holds positions beside the rows: exactly once comes of that.
    pub holds: bool,
    /// Whether what was written can be taken back before it is committed.
    pub takes_back: bool,
    /// What its tables can hold.
    pub rows: Vec<TargetRows>,
    /// What can become of deleted rows.
    pub deletes: Vec<Deletes>,
    /// What can happen when columns change.
    pub columns: Vec<TargetColumns>,
    /// Whether transactions can become visible as a whole.
    pub whole_transactions: bool,
    /// Whether several lanes can share the work.
    pub lanes: bool,
    /// Whether rows that are there before the first delivery can be removed.
    pub existing_rows: bool,
    /// What a late write can do.
    pub late_writes: LateWrites,
}

/// What of a definition a kind cannot do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unable {
    /// The field it belongs to.
    pub field: &'static str,
    /// What it cannot do, as the end of a sentence that begins with a system of the kind.
    pub cannot: &'static str,
    /// What to do.
    pub remedy: &'static str,
}

fn unable(field: &'static str, cannot: &'static str, remedy: &'static str) -> Unable {
    Unable { field, cannot, remedy }
}

impl super::About {
    /// What of a definition this kind cannot do.
    #[must_use]
    pub fn unable(&self, definition: &Definition) -> Vec<Unable> {
        let mut all = self.unable_to_do(definition);
        all.extend(self.without_a_place(definition));
        all
    }

    /// A table that is named without its schema, or with one where there are none.
    fn without_a_place(&self, definition: &Definition) -> Option<Unable> {
        let (field, schemas): (_, Vec<&str>) = match definition {
            Definition::Source(source) => ("tables", source.tables.iter().map(|table| table.schema.as_str()).collect()),
            Definition::Sink(sink) => ("topics", sink.topics.iter().map(|topic| topic.schema.as_str()).collect()),
            Definition::Topics(_) => return None,
        };
        let has = self.usual_schema.is_some();
        let wrong = schemas.iter().any(|schema| schema.trim().is_empty() == has);
        wrong.then(|| match has {
            true => unable(field, "has its tables in schemas, and one is named without", "say the schema of each table"),
            false => unable(field, "has its tables in no schemas, and one is named", "leave the schema out"),
        })
    }

    fn unable_to_do(&self, definition: &Definition) -> Vec<Unable> {
        match definition {
            Definition::Source(source) => match &self.source {
                Some(abilities) => abilities.unable(source),
                None => {
                    vec![unable("connection", "is not read by sources", "take a connection to a system of another kind")]
                }
            },
            Definition::Sink(sink) => match &self.sink {
                Some(abilities) => abilities.unable(sink),
                None => {
                    vec![unable("connection", "is not written by sinks", "take a connection to a system of another kind")]
                }
            },
            Definition::Topics(_) => Vec::new(),
        }
    }
}

impl super::About {
    /// A definition as this kind carries it: what it has no rows to load of is not loaded.
    #[must_use]
    pub fn settled(&self, definition: &Definition) -> Definition {
        let mut settled = definition.clone();
        if let (Definition::Source(source), Some(SourceAbilities { loads: false, .. })) = (&mut settled, &self.source) {
            source.load.rows = false;
        }
        settled
    }
}

/// What is wanted, where it may not be, and what is said then.
type Rule = (bool, Unable);

fn broken(rules: impl IntoIterator<Item = Rule>) -> Vec<Unable> {
    rules.into_iter().filter(|(wanted, _)| *wanted).map(|(_, unable)| unable).collect()
}

impl SourceAbilities {
    fn unable(&self, source: &SourceDefinition) -> Vec<Unable> {
        let begins = match &source.start {
            None | Some(Start::Latest {} | Start::Offsets { .. }) => None,
            Some(Start::Earliest {}) => Some(BeginsAt::Earliest),
            Some(Start::Time { .. }) => Some(BeginsAt::Time),
            Some(Start::Position { .. }) => Some(BeginsAt::Position),
            Some(Start::Connector { .. }) => Some(BeginsAt::Connector),
        };
        let existing = source.existing_rows.is_some_and(|rows| rows != ExistingRows::Keep);
        let paced = source.load.rows_per_second.is_some() || source.load.chunks > 1;
        let some_rows = source.tables.iter().any(|table| table.load_where.is_some());
        let waits = source.shape != Shapes::default() && source.failing.records == BadRecords::Quarantine;
        broken([
            (
                begins.is_some_and(|begins| !self.starts.contains(&begins)),
                unable("start", "cannot begin there", "let it begin now"),
            ),
            (!self.loads && (paced || some_rows), unable("load", "has no rows to load", "take out how they are loaded")),
            (
                !self.loads && existing,
                unable("existing_rows", "loads no rows that others could be compared with", "keep the rows that are there"),
            ),
            (
                !self.schema_changes && source.schema_changes.is_some(),
                unable("schema_changes", "does not tell changes of columns", "take that topic out"),
            ),
            (
                !self.patterns && source.patterns.is_some(),
                unable("patterns", "has no tables that are found by their names", "choose them one by one"),
            ),
            (
                !self.by_key && waits,
                unable(
                    "failing",
                    "cannot give a row again that could not be shaped",
                    "let the connector halt before such a row",
                ),
            ),
        ])
    }
}

impl SinkAbilities {
    fn unable(&self, sink: &SinkDefinition) -> Vec<Unable> {
        let writes = sink.writes;
        let existing = sink.existing_rows.is_some_and(|rows| rows != ExistingRows::Keep);
        broken([
            (
                !self.holds && writes.guarantee == Guarantee::ExactlyOnce,
                unable("writes", "holds no positions, so it cannot give exactly once", "choose at least once"),
            ),
            (
                !self.rows.contains(&writes.rows),
                unable("writes", "cannot hold rows in this way", "choose another way of rows"),
            ),
            (
                !self.deletes.contains(&writes.deletes),
                unable("writes", "cannot do that with deleted rows", "choose another way of deletes"),
            ),
            (
                !self.columns.contains(&writes.columns),
                unable("writes", "cannot change its columns in this way", "choose another way of columns"),
            ),
            (
                !self.whole_transactions && writes.whole_transactions,
                unable("writes", "cannot show transactions as a whole", "do not keep transactions whole"),
            ),
            (!self.lanes && sink.placing.lanes > 1, unable("placing", "is written by one lane", "give it one lane")),
            (
                !self.existing_rows && existing,
                unable("existing_rows", "cannot remove rows that are there", "keep the rows that are there"),
            ),
        ])
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::{CapturedTable, DeliveredTopic, InitialLoad};
    use crate::kinds::About;
    use crate::kinds::example::cold_room;
    use crate::shape::{ShapeStep, Step};
    use crate::table_patterns::TablePatterns;

    fn can_do_nothing() -> About {
        About {
            source: Some(SourceAbilities {
                loads: false,
                follows: Follows::Feed,
                starts: vec![],
                truncates: false,
                schema_changes: false,
                patterns: false,
                by_key: false,
            }),
            sink: Some(SinkAbilities {
                holds: false,
                takes_back: false,
                rows: vec![TargetRows::Appended],
                deletes: vec![Deletes::Ignored],
                columns: vec![TargetColumns::Ask],
                whole_transactions: false,
                lanes: false,
                existing_rows: false,
                late_writes: LateWrites::Possible,
            }),
            usual_schema: Some("sample".into()),
            ..cold_room()
        }
    }

    fn can_do_all() -> About {
        let About { source: Some(source), sink: Some(sink), .. } = can_do_nothing() else { unreachable!() };
        let starts = vec![BeginsAt::Earliest, BeginsAt::Time, BeginsAt::Position, BeginsAt::Connector];
        let source = SourceAbilities {
            loads: true,
            starts,
            truncates: true,
            schema_changes: true,
            patterns: true,
            by_key: true,
            ..source
        };
        let sink = SinkAbilities {
            holds: true,
            takes_back: true,
            rows: vec![TargetRows::Current, TargetRows::Appended],
            deletes: vec![Deletes::Applied, Deletes::Marked, Deletes::Ignored],
            columns: vec![TargetColumns::Ask, TargetColumns::Add],
            whole_transactions: true,
            lanes: true,
            existing_rows: true,
            ..sink
        };
        About { source: Some(source), sink: Some(sink), ..can_do_nothing() }
    }

    #[test]
    fn what_is_not_declared_is_refused_at_its_field_and_nothing_else_is() {
        let source = || SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("sample", "picks", "picks")], 1);
        type Source = fn(&mut SourceDefinition);
        let cases: [(Source, &str); 8] = [
            (|s| s.start = Some(Start::Earliest {}), "start"),
            (|s| s.start = Some(Start::Position { position: "7".into() }), "start"),
            (|s| s.load = InitialLoad { chunks: 2, ..InitialLoad::default() }, "load"),
            (|s| s.tables[0].load_where = Some("true".into()), "load"),
            (|s| s.existing_rows = Some(ExistingRows::Compare), "existing_rows"),
            (|s| s.schema_changes = Some("told".into()), "schema_changes"),
            (
                |s| s.patterns = Some(TablePatterns { include: vec!["*".into()], exclude: vec![], topic: "{table}".into() }),
                "patterns",
            ),
            (
                |s| {
                    let step = ShapeStep::from(Step::Drop { columns: vec!["remark".into()] });
                    s.shape.steps.insert("sample.picks".into(), vec![step]);
                },
                "failing",
            ),
        ];
        let fields = |about: &About, definition: &Definition| {
            about.unable(definition).into_iter().map(|unable| unable.field).collect::<Vec<_>>()
        };
        assert_eq!(fields(&can_do_nothing(), &source().into()), [] as [&str; 0]);
        for (change, field) in cases {
            let mut changed = source();
            change(&mut changed);
            let changed = Definition::from(changed);
            assert_eq!(fields(&can_do_nothing(), &changed), [field]);
            assert_eq!(fields(&can_do_all(), &changed), [] as [&str; 0]);
        }
        let topic = DeliveredTopic { topic: "picks".into(), schema: "s".into(), table: "picks".into(), rows: None };
        let sink = || {
            let mut sink = SinkDefinition::of(Uuid::nil(), vec![topic.clone()]);
            sink.writes.rows = TargetRows::Appended;
            (sink.writes.deletes, sink.writes.columns) = (Deletes::Ignored, TargetColumns::Ask);
            sink.writes.guarantee = Guarantee::AtLeastOnce;
            sink
        };
        type Sink = fn(&mut SinkDefinition);
        let cases: [(Sink, &str); 7] = [
            (|s| s.writes.guarantee = Guarantee::ExactlyOnce, "writes"),
            (|s| s.writes.rows = TargetRows::Current, "writes"),
            (|s| s.writes.deletes = Deletes::Marked, "writes"),
            (|s| s.writes.columns = TargetColumns::Add, "writes"),
            (|s| s.writes.whole_transactions = true, "writes"),
            (|s| s.placing.lanes = 2, "placing"),
            (|s| s.existing_rows = Some(ExistingRows::Empty), "existing_rows"),
        ];
        assert_eq!(fields(&can_do_nothing(), &sink().into()), [] as [&str; 0]);
        for (change, field) in cases {
            let mut changed = sink();
            change(&mut changed);
            let changed = Definition::from(changed);
            assert_eq!(fields(&can_do_nothing(), &changed), [field]);
            assert_eq!(fields(&can_do_all(), &changed), [] as [&str; 0]);
        }
        // tables are in schemas or in none
        let files = About { usual_schema: None, ..can_do_all() };
        let path = SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("", "2026/picks.csv", "picks")], 1);
        let into = SinkDefinition { topics: vec![DeliveredTopic { schema: String::new(), ..topic.clone() }], ..sink() };
        let (without, within): ([Definition; 2], [Definition; 2]) =
            ([path.into(), into.into()], [source().into(), sink().into()]);
        for (about, fit, other) in [(&files, &without, &within), (&can_do_all(), &within, &without)] {
            assert_eq!(fit.each_ref().map(|definition| fields(about, definition)), [vec![], vec![]] as [Vec<&str>; 2]);
            assert_eq!(other.each_ref().map(|definition| fields(about, definition)), [["tables"], ["topics"]]);
        }
        assert_eq!(CapturedTable::whole("", "2026/picks.csv", "picks").qualified(), "2026/picks.csv");
        assert_eq!(DeliveredTopic { schema: String::new(), ..topic.clone() }.routed("a.csv").table_name(), "a.csv");
        // what cannot be loaded is not, whatever is usual
        let loads = |about: &About| match about.settled(&source().into()) {
            Definition::Source(source) => source.load.rows,
            other => panic!("{other:?}"),
        };
        assert_eq!([loads(&can_do_nothing()), loads(&can_do_all())], [false, true]);
        let neither = About { source: None, sink: None, ..can_do_all() };
        assert_eq!(fields(&neither, &source().into()), ["connection"]);
        assert_eq!(fields(&neither, &sink().into()), ["connection"]);
    }
}
