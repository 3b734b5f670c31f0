//! A connector's manifest: declarative text (YAML). Connections and other connectors stand in it by their names.

use gonvel_core::connector::{Definition, Refer, SinkDefinition, SourceDefinition, Start, TopicsDefinition, Wish};
use gonvel_core::shape::Shapes;
use gonvel_core::yaml::{ManifestError, from_yaml};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// What is wished of a connector, as a word for its state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Wished {
    /// It runs.
    Running,
    /// It is held where it is.
    Paused,
    /// It does not run; its place in its system is kept.
    Stopped,
    /// It did not start yet.
    Draft,
}

impl Wished {
    /// The wish that it stands for.
    #[must_use]
    pub fn wish(self) -> Wish {
        match self {
            Self::Running => Wish::Run,
            Self::Paused => Wish::Pause,
            Self::Stopped => Wish::Stop,
            Self::Draft => Wish::Draft,
        }
    }

    /// The word for a wish; none for a connector that is being deleted.
    #[must_use]
    pub fn of(wish: Wish) -> Option<Self> {
        match wish {
            Wish::Run => Some(Self::Running),
            Wish::Pause => Some(Self::Paused),
            Wish::Stop => Some(Self::Stopped),
            Wish::Draft => Some(Self::Draft),
            Wish::Delete => None,
        }
    }
}

/// A connector's manifest.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConnectorText {
    /// Its name.
    pub connector: String,
    /// What is wished of it; without it a new one runs, and one that is there goes on as it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub state: Option<Wished>,
    /// What it does, if it is a source.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceDefinition<String>>,
    /// What it does, if it is a sink.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sink: Option<SinkDefinition<String>>,
    /// What it does, if it carries topics into topics.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub topics: Option<TopicsDefinition<String>>,
}

impl ConnectorText {
    /// A connector as a manifest.
    #[must_use]
    pub fn of(name: &str, definition: &Definition, names: &dyn Names) -> Self {
        let mut text = Self { connector: name.into(), state: None, source: None, sink: None, topics: None };
        let named = Named(names);
        match definition.clone() {
            Definition::Source(source) => text.source = source.referring(&named).ok(),
            Definition::Sink(sink) => text.sink = sink.referring(&named).ok(),
            Definition::Topics(topics) => text.topics = topics.referring(&named).ok(),
        }
        text
    }

    /// What it does, with ids for names. `text` is where it was read from.
    ///
    /// # Errors
    /// [`ManifestError`] at the name that nothing has, or where it is of no kind or of several.
    pub fn definition(&self, text: &str, names: &dyn Names) -> Result<Definition, ManifestError> {
        let ids = Ids { text, names };
        let one = self.clone();
        Ok(match (one.source, one.sink, one.topics) {
            (Some(source), None, None) => Definition::Source(source.referring(&ids)?),
            (None, Some(sink), None) => Definition::Sink(sink.referring(&ids)?),
            (None, None, Some(topics)) => Definition::Topics(topics.referring(&ids)?),
            (None, None, None) => {
                return Err(ManifestError::about(text, "connector", "say what it is: source, sink or topics"));
            }
            _ => return Err(ManifestError::about(text, "sink:", "a connector is one of source, sink and topics")),
        })
    }

    /// `source`, `sink` or `topics`.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        match (&self.source, &self.sink) {
            (Some(_), _) => "source",
            (None, Some(_)) => "sink",
            (None, None) => "topics",
        }
    }

    /// The connection that it uses.
    #[must_use]
    pub fn connection(&self) -> Option<&str> {
        let sink = self.sink.as_ref().map(|sink| sink.connection.as_str());
        self.source.as_ref().map(|source| source.connection.as_str()).or(sink)
    }

    /// The connector at whose place it begins.
    #[must_use]
    pub fn begins_at(&self) -> Option<&str> {
        let source = self.source.as_ref().and_then(|source| source.start.as_ref());
        let start = source.or_else(|| self.sink.as_ref().and_then(|sink| sink.start.as_ref()));
        match start.or_else(|| self.topics.as_ref().and_then(|topics| topics.start.as_ref()))? {
            Start::Connector { connector } => Some(connector),
            _ => None,
        }
    }

    /// The same without the place of another connector to begin at: that one is gone, and this one is past it.
    #[must_use]
    pub fn begun(mut self) -> Self {
        let starts = [
            self.source.as_mut().map(|source| &mut source.start),
            self.sink.as_mut().map(|sink| &mut sink.start),
            self.topics.as_mut().map(|topics| &mut topics.start),
        ];
        for start in starts.into_iter().flatten() {
            *start = start.take().filter(|start| !matches!(start, Start::Connector { .. }));
        }
        self
    }

    /// The topics that it reads.
    pub fn topics_read(&self) -> impl Iterator<Item = &str> {
        let delivered = self.sink.iter().flat_map(|sink| &sink.topics).map(|topic| topic.topic.as_str());
        delivered.chain(self.topics.iter().flat_map(|topics| &topics.carries).map(|carried| carried.topic.as_str()))
    }

    /// What happens to rows on their way.
    #[must_use]
    pub fn shape(&self) -> Option<&Shapes> {
        let sink = self.sink.as_ref().map(|sink| &sink.shape);
        let source = self.source.as_ref().map(|source| &source.shape);
        source.or(sink).or_else(|| self.topics.as_ref().map(|topics| &topics.shape))
    }
}

/// The names that stand in manifests for connections and connectors.
pub trait Names {
    /// The connection of a name.
    fn connection(&self, name: &str) -> Option<Uuid>;
    /// The connector of a name.
    fn connector(&self, name: &str) -> Option<Uuid>;
    /// The name of a connection.
    fn connection_name(&self, id: Uuid) -> Option<String>;
    /// The name of a connector.
    fn connector_name(&self, id: Uuid) -> Option<String>;
}

/// Reads a manifest: a connector's name and definition, not yet checked.
///
/// # Errors
/// [`ManifestError`] at the place.
pub fn read(text: &str, names: &dyn Names) -> Result<(String, Definition), ManifestError> {
    let manifest: ConnectorText = from_yaml(text)?;
    if manifest.state.is_some() {
        let finding =
            "whether it runs is chosen beside this text: leave it out here, and give it where manifests are applied";
        return Err(ManifestError::about(text, "state:", finding));
    }
    let definition = manifest.definition(text, names)?;
    Ok((manifest.connector, definition))
}

/// A connector as a manifest. What is as it usually is stands not in it. It never holds a secret: those are the connection's.
///
/// # Panics
/// Never: what it writes is text, numbers and lists.
#[must_use]
pub fn write(name: &str, definition: &Definition, names: &dyn Names) -> String {
    serde_yaml_ng::to_string(&ConnectorText::of(name, definition, names)).expect("text, numbers and lists")
}

/// Ids instead of names, and where a name stands that nothing has.
struct Ids<'a> {
    text: &'a str,
    names: &'a dyn Names,
}

impl Refer<String, Uuid> for Ids<'_> {
    type Error = ManifestError;

    fn connection(&self, name: String) -> Result<Uuid, ManifestError> {
        let missing = || ManifestError::about(self.text, &name, format!("there is no connection {name:?}: make it first"));
        self.names.connection(&name).ok_or_else(missing)
    }

    fn connector(&self, name: String) -> Result<Uuid, ManifestError> {
        let missing = || ManifestError::about(self.text, &name, format!("there is no connector {name:?}"));
        self.names.connector(&name).ok_or_else(missing)
    }

    fn looked_up(&self, name: &str) -> Result<String, ManifestError> {
        Ok(self.connection(name.to_owned())?.to_string())
    }
}

/// Names instead of ids; what has none by now keeps its id.
struct Named<'a>(&'a dyn Names);

impl Refer<Uuid, String> for Named<'_> {
    type Error = std::convert::Infallible;

    fn connection(&self, id: Uuid) -> Result<String, Self::Error> {
        Ok(self.0.connection_name(id).unwrap_or_else(|| id.to_string()))
    }

    fn connector(&self, id: Uuid) -> Result<String, Self::Error> {
        Ok(self.0.connector_name(id).unwrap_or_else(|| id.to_string()))
    }

    fn looked_up(&self, id: &str) -> Result<String, Self::Error> {
        Uuid::parse_str(id).map_or_else(|_| Ok(id.to_owned()), |id| self.connection(id))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use gonvel_core::connector::{
        BadRecords, CapturedTable, CarriedTopic, Deletes, DeliveredTopic, Encoding, ExistingRows, Failing, Forgotten,
        Guarantee, InitialLoad, Placing, Start, StartOffset, TargetColumns, TargetRows, ValueForm, Values, Writes,
    };
    use gonvel_core::table_patterns::TablePatterns;

    struct Known;

    impl Names for Known {
        fn connection(&self, name: &str) -> Option<Uuid> {
            (name == "packhouse").then_some(Uuid::nil())
        }

        fn connector(&self, name: &str) -> Option<Uuid> {
            (name == "other").then_some(Uuid::max())
        }

        fn connection_name(&self, _: Uuid) -> Option<String> {
            Some("packhouse".into())
        }

        fn connector_name(&self, _: Uuid) -> Option<String> {
            Some("other".into())
        }
    }

    #[test]
    fn errors_are_told_at_their_lines() {
        let cases = [
            ("connector: a\nsource:\n  connection: packhouse\n  partitions: many\n", 4, "invalid type"),
            ("connector: a\nsource:\n  connection: nowhere\n  partitions: 1\n", 3, "no connection \"nowhere\""),
            ("connector: a\nsource:\n  connection: packhouse\n  partition: 1\n", 4, "unknown field `partition`"),
            (
                "connector: a\nsink:\n  connection: packhouse\n  topics: []\n  start: {at: connector, connector: it}\n",
                5,
                "no connector \"it\"",
            ),
            ("connector: a\n", 1, "source, sink or topics"),
            ("connector: a\nstate: paused\ntopics: {carries: [], partitions: 1}\n", 2, "where manifests are applied"),
            ("connector: a\n  sink: 1\n", 2, "mapping values are not allowed"),
            (
                "connector: a\nsource:\n  connection: packhouse\n  partitions: 1\n  values: {form: rows}\n",
                5,
                "unknown variant",
            ),
        ];
        for (text, line, part) in cases {
            let error = read(text, &Known).unwrap_err();
            assert!(error.finding.contains(part), "{error}");
            assert_eq!(error.line, line, "{error}");
        }
    }

    fn text() -> impl Strategy<Value = String> {
        prop_oneof![
            "[a-z][a-z0-9_.]{0,12}",
            "\\PC{1,12}",
            Just("yes".to_owned()),
            Just("1e3".to_owned()),
            Just("a: b # c".to_owned())
        ]
    }

    fn start() -> impl Strategy<Value = Option<Start>> {
        prop_oneof![
            Just(None),
            Just(Some(Start::Latest {})),
            text().prop_map(|time| Some(Start::Time { time })),
            Just(Some(Start::Connector { connector: Uuid::max() })),
            (text(), 0..9_i32, 0..99_i64).prop_map(|(topic, p, o)| Some(Start::Offsets {
                offsets: vec![StartOffset { topic, partition: p, offset: o }]
            })),
        ]
    }

    fn existing() -> impl Strategy<Value = Option<ExistingRows>> {
        prop::option::of(prop_oneof![Just(ExistingRows::Keep), Just(ExistingRows::Empty), Just(ExistingRows::Compare)])
    }

    prop_compose! {
        fn source()(
            tables in prop::collection::vec((text(), text(), text(), prop::collection::vec(text(), 0..3), prop::option::of(text())), 0..3),
            include in prop::option::of(prop::collection::vec(text(), 1..3)),
            partitions in 1..20, pace in prop::option::of(1_u32..9000), chunks in 1_u32..5,
            rows: bool, json: bool, row: bool, existing in existing(), start in start().boxed(), told in prop::option::of(text()), carried in carried().boxed(), shape in shape().boxed(),
        ) -> Definition {
            let table = |(schema, table, topic, leave_out, load_where)| CapturedTable { schema, table, topic, key: vec![], leave_out, load_where };
            Definition::Source(SourceDefinition {
                connection: Uuid::nil(),
                tables: tables.into_iter().map(table).collect(),
                patterns: include.map(|include| TablePatterns { include, exclude: vec![], topic: "{table}".into() }),
                partitions,
                load: InitialLoad { rows, rows_per_second: pace, chunks },
                existing_rows: existing,
                values: Values {
                    form: if row { ValueForm::Row } else { ValueForm::Change },
                    encoding: if json { Encoding::Json } else { Encoding::Avro },
                },
                start,
                schema_changes: told,
                shape,
                placing: carried.0,
                failing: carried.1,
            })
        }
    }

    prop_compose! {
        fn shape()(name in text(), only in text(), column in text(), some: bool, off: bool) -> Shapes {
            use gonvel_core::shape::{Added, Characters, LookedUpTable, Mask, Match, Miss, Rule, ShapeStep, Step, TableRule};
            if !some {
                return Shapes::default();
            }
            let mask = Step::Mask { columns: vec![column.clone()], mask: Mask::Partial { first: 0, last: 2 } };
            let lookup = Step::Lookup {
                topic: String::new(),
                table: Some(LookedUpTable {
                    connection: Uuid::nil().to_string(),
                    schema: name.clone(),
                    table: column.clone(),
                    every_seconds: if off { 60 } else { 5 },
                }),
                by: vec![Match { column: column.clone(), key: name.clone() }],
                columns: vec![Added { from: name.clone(), column: column.clone() }],
                miss: Miss::Leave,
                again: false,
            };
            let filter = ShapeStep { off, step: Step::Filter { only } };
            let steps = vec![filter, mask.into(), lookup.into(), Step::DropRepeats { by: vec![] }.into()];
            let rule = Rule::Substitute { characters: Characters::These { characters: column }, with: String::new() };
            Shapes { rules: vec![TableRule { tables: name.clone(), rules: vec![rule] }], steps: [(name, steps)].into() }
        }
    }

    prop_compose! {
        fn carried()(
            site in prop::option::of("[a-z]{1,9}"), weight in 1_u32..9, lanes in 1_u32..9, halt: bool, kept_days in 1_u32..99,
            most_tries in prop::option::of(1_u32..9),
        ) -> (Placing, Failing) {
            let records = if halt { BadRecords::Halt } else { BadRecords::Quarantine };
            let forgotten = if halt { Forgotten::Halt } else { Forgotten::PassOver };
            let only_where = site.into_iter().map(|site| ("site".to_owned(), site)).collect();
            (Placing { only_where, weight, lanes }, Failing { records, kept_days, most_tries, forgotten, ..Failing::default() })
        }
    }

    prop_compose! {
        fn sink()(
            topics in prop::collection::vec((text(), text(), text()), 0..3), whole: bool, history: bool, ask: bool,
            existing in existing(), start in start().boxed(), carried in carried().boxed(), shape in shape().boxed(),
        ) -> Definition {
            let topic = |(topic, schema, table)| DeliveredTopic { topic, schema, table, rows: None };
            Definition::Sink(SinkDefinition {
                connection: Uuid::nil(),
                topics: topics.into_iter().map(topic).collect(),
                writes: Writes {
                    rows: if history { TargetRows::History } else { TargetRows::Current },
                    deletes: if history { Deletes::Ignored } else { Deletes::Marked },
                    columns: if ask { TargetColumns::Ask } else { TargetColumns::Widen },
                    whole_transactions: whole,
                    guarantee: if ask { Guarantee::AtLeastOnce } else { Guarantee::ExactlyOnce },
                },
                existing_rows: existing,
                start,
                shape,
                placing: carried.0,
                failing: carried.1,
            })
        }
    }

    prop_compose! {
        fn topics()(
            carries in prop::collection::vec((text(), text()), 0..3), partitions in 1..9, start in start().boxed(), carried in carried().boxed(),
            shape in shape().boxed(),
        ) -> Definition {
            let carries = carries.into_iter().map(|(topic, to)| CarriedTopic { topic, to, rows: None, fit: None }).collect();
            let values = Values::default();
            Definition::Topics(TopicsDefinition { carries, partitions, values, start, shape, placing: carried.0, failing: carried.1 })
        }
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(name in text(), definition in prop_oneof![source().boxed(), sink().boxed(), topics().boxed()]) {
            let written = write(&name, &definition, &Known);
            prop_assert!(!written.contains(&Uuid::nil().to_string()), "{}", written);
            prop_assert_eq!(read(&written, &Known), Ok((name, definition)), "{}", written);
        }
    }
}
