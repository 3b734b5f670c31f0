use std::collections::{BTreeMap, BTreeSet, HashSet};

use proptest::prelude::*;
use serde_json::json;

use super::*;
use crate::connector_text::{ConnectorText, Wished};
use gonvel_core::connector::{
    CapturedTable, CarriedTopic, DeliveredTopic, SinkDefinition, SourceDefinition, Start, TopicsDefinition,
};
use gonvel_core::kinds::example::cold_room;
use gonvel_core::kinds::{About, Settings};
use gonvel_core::own_function::FunctionExample;
use gonvel_core::schemas::{Half, Language, Rule, SchemaReference};
use gonvel_core::topic_settings::{Keep, TopicSettings};

fn files(text: &str) -> Vec<ManifestFile> {
    vec![ManifestFile { name: "all.yaml".into(), text: text.into() }]
}

fn planned(text: &str, there: &[Thing], prune: bool) -> Result<Plan, Vec<Fault>> {
    let (found, faults) = read(&files(text), &kinds());
    assert_eq!(faults, [], "{text}");
    plan(&found, &installed(there), prune)
}

fn installed(things: &[Thing]) -> Installation {
    Installation { things: things.to_vec(), ..Installation::default() }
}

/// An installation by what its things are found by.
type Made = BTreeMap<(ThingKind, String), Thing>;

fn made(things: &[Thing]) -> Made {
    things.iter().map(|thing| ((thing.kind(), thing.name().to_owned()), thing.clone())).collect()
}

/// Carries steps out as an installation does: nothing is made before what it refers to, and nothing goes before what refers to it.
fn carry_out(made: &mut Made, steps: &[Step]) {
    for step in steps {
        let key = (step.thing.kind(), step.thing.name().to_owned());
        match step.deed {
            Deed::Make => assert!(made.insert(key, step.thing.clone()).is_none(), "made twice: {step:?}"),
            Deed::Change => assert!(made.insert(key, step.thing.clone()).is_some(), "changed and not there: {step:?}"),
            Deed::Delete => assert!(made.remove(&key).is_some(), "deleted and not there: {step:?}"),
        }
        for (kind, name) in made.values().flat_map(names) {
            assert!(made.contains_key(&(kind, name.clone())), "after {step:?} there is no {name}");
        }
        // where another one stood is looked at once, when it begins
        if let (Deed::Make | Deed::Change, Thing::Connector(text)) = (step.deed, &step.thing) {
            let other = text.begins_at().map(|other| (ThingKind::Connector, other.to_owned()));
            assert!(other.is_none_or(|other| made.contains_key(&other)), "{step:?} begins where nothing is");
        }
    }
}

/// What the things of these tests refer to, told once more and otherwise.
fn names(thing: &Thing) -> Vec<(ThingKind, String)> {
    match thing {
        Thing::Topic(text) => text.bound().map(|(_, bound)| (ThingKind::Schema, bound.schema.clone())).collect(),
        Thing::Reader(text) => text.topics.iter().map(|t| (ThingKind::Topic, t.clone())).collect(),
        Thing::Schema(text) => {
            let refers = text.versions.iter().flat_map(|v| &v.references);
            refers.map(|r| (ThingKind::Schema, r.name.clone())).collect()
        }
        Thing::Connector(text) => {
            let mut out: Vec<_> = text.topics_read().map(|t| (ThingKind::Topic, t.to_owned())).collect();
            out.extend(text.connection().map(|c| (ThingKind::Connection, c.to_owned())));
            out
        }
        Thing::Connection(_) | Thing::Function(_) => Vec::new(),
    }
}

/// The kinds that are known.
pub(super) fn kinds() -> Vec<About> {
    vec![cold_room()]
}

fn connection(n: usize, port: u16) -> Thing {
    let settings = json!({
        "host": "db.orchard.example", "port": port, "tls": if n == 0 { "verify" } else { "prefer" },
        "ca": (n == 0).then_some("-----BEGIN CERTIFICATE-----\n---\nMIIB\n"), "settings": {"lock_timeout": "5s"},
        "password": "",
    });
    let about = &kinds()[0];
    let mut read = about.read(settings.as_object().unwrap(), |_| Err("none is given".into())).unwrap();
    read.secrets.insert("password".into(), SecretFrom::Env(format!("SYSTEM_{n}_PASSWORD")));
    Thing::Connection(ConnectionText::of(&format!("system-{n}"), about, read))
}

/// What is kept as usual is not written, so that it does not differ from what is read.
#[test]
fn a_connection_that_says_what_is_usual_is_the_same_as_one_that_does_not() {
    let about = &kinds()[0];
    let of = |settings: serde_json::Value| {
        let plain = settings.as_object().unwrap().clone();
        ConnectionText::of("c", about, Settings { plain, secrets: BTreeMap::new() })
    };
    let short = of(json!({"host": "db", "port": 5432}));
    assert_eq!(of(json!({"tls": "prefer", "port": 5432, "host": "db", "settings": {}})), short);
    let (found, faults) = read(&files(&write(&[Thing::Connection(short.clone())])), &kinds());
    assert_eq!((found[0].thing.clone(), faults), (Thing::Connection(short), vec![]));
}

fn schema(n: usize, versions: usize, refers: bool) -> Thing {
    let text = |v: usize| format!(r#"{{"type": "record", "name": "Reading{n}_{v}", "fields": []}}"#);
    let references = || vec![SchemaReference { name: "schema-0".into(), version: 1 }];
    let version = |v: usize| VersionText { text: text(v), references: if refers && n > 0 { references() } else { vec![] } };
    Thing::Schema(SchemaText {
        schema: format!("schema-{n}"),
        language: Language::Avro,
        description: "what: \"a cold room\"\nsays".into(),
        owner: String::new(),
        labels: vec!["cold".into()],
        rule: Rule { reads_past: Half::Latest, past_reads: Half::Off },
        retired: false,
        versions: (0..=versions).map(version).collect(),
    })
}

fn topic(n: usize, latest: bool, bound: Option<usize>) -> Thing {
    let settings = TopicSettings { keep: if latest { Keep::Latest } else { Keep::All }, ..TopicSettings::default() };
    let values = bound.map(|s| Binding::To(BoundText { schema: format!("schema-{s}"), required: latest }));
    Thing::Topic(TopicText { values, ..TopicText::of(&format!("topic-{n}"), 3, &settings) })
}

fn reader(n: usize, reads: impl Iterator<Item = usize>) -> Thing {
    Thing::Reader(ReaderText { reader: format!("reader-{n}"), topics: reads.map(|n| format!("topic-{n}")).collect() })
}

fn sink(n: usize, start: Option<usize>, state: Option<Wished>) -> Thing {
    let topic = DeliveredTopic { topic: format!("topic-{n}"), schema: "public".into(), table: format!("t{n}"), rows: None };
    let mut sink = blank(SinkDefinition::of(uuid::Uuid::nil(), vec![topic]), |s| s.referring(&Named("system-0")));
    sink.start = start.map(|n| Start::Connector { connector: format!("sink-{n}") });
    Thing::Connector(Box::new(ConnectorText {
        connector: format!("sink-{n}"),
        state,
        source: None,
        sink: Some(sink),
        topics: None,
    }))
}

fn source(table: &str, topic: &str) -> Thing {
    let tables = vec![CapturedTable::whole("public", table, topic)];
    let source = blank(SourceDefinition::of(uuid::Uuid::nil(), tables, 1), |s| s.referring(&Named("system-0")));
    let connector = format!("source-of-{table}");
    Thing::Connector(Box::new(ConnectorText { connector, state: None, source: Some(source), sink: None, topics: None }))
}

fn blank<D, N, E: std::fmt::Debug>(definition: D, named: impl FnOnce(D) -> Result<N, E>) -> N {
    named(definition).unwrap()
}

struct Named(&'static str);

impl gonvel_core::connector::Refer<uuid::Uuid, String> for Named {
    type Error = ();

    fn connection(&self, _: uuid::Uuid) -> Result<String, ()> {
        Ok(self.0.into())
    }

    fn connector(&self, _: uuid::Uuid) -> Result<String, ()> {
        Err(())
    }

    fn looked_up(&self, id: &str) -> Result<String, ()> {
        Ok(id.into())
    }
}

prop_compose! {
    /// A whole installation of four of each kind at most, in which every reference is to something of it.
    fn installation()(
        connections in 1_usize..3, port in 5432_u16..5435, schemas in prop::collection::vec((0_usize..2, any::<bool>()), 1..4),
        topics in prop::collection::vec((any::<bool>(), prop::option::of(0_usize..4)), 1..4),
        readers in prop::collection::vec(prop::collection::hash_set(0_usize..4, 1..4), 0..4), sinks in prop::collection::vec((prop::option::of(0_usize..4), any::<bool>()), 0..4),
    ) -> Vec<Thing> {
        let mut out: Vec<Thing> = (0..connections).map(|n| connection(n, port)).collect();
        out.extend(schemas.iter().enumerate().map(|(n, (versions, refers))| schema(n, *versions, *refers)));
        out.extend(topics.iter().enumerate().map(|(n, (latest, bound))| topic(n, *latest, bound.filter(|s| *s < schemas.len()))));
        let reads = |of: HashSet<usize>| of.into_iter().map(|n| n % topics.len()).collect::<HashSet<_>>();
        out.extend(readers.into_iter().enumerate().map(|(n, of)| reader(n, reads(of).into_iter())));
        let sinks: Vec<_> = sinks.into_iter().take(topics.len()).collect();
        // later ones begin where earlier ones stand, and the other way round
        out.extend(sinks.iter().enumerate().map(|(n, (start, paused))| {
            let start = start.filter(|other| *other > n && *other < sinks.len());
            sink(n, start, Some(if *paused { Wished::Paused } else { Wished::Running }))
        }));
        out
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn what_is_written_is_read_and_there_is_nothing_to_do(things in installation()) {
        let written = write(&things);
        let (found, faults) = read(&files(&written), &kinds());
        prop_assert_eq!(faults, vec![]);
        let again: Vec<Thing> = found.iter().map(|f| f.thing.clone()).collect();
        prop_assert_eq!(made(&again), made(&things), "{}", written);
        prop_assert_eq!(&write(&again), &written);
        let nothing = planned(&written, &things, true);
        prop_assert_eq!(nothing, Ok(Plan { steps: vec![], unchanged: things.len() }));
    }

    /// Whatever people write into a schema comes back as it was.
    #[test]
    fn any_text_comes_back(text in "(?s).{0,60}", description in "(?s).{0,40}", label in ".{0,20}", name in "[a-z.]{1,9}") {
        let Thing::Schema(mut one) = schema(0, 1, false) else { unreachable!() };
        (one.description, one.labels) = (description, vec![label]);
        one.versions[1].text = text;
        let things = [Thing::Schema(one), Thing::Topic(TopicText::of(&name, 1, &TopicSettings::default()))];
        let written = write(&things);
        let (found, faults) = read(&files(&written), &kinds());
        prop_assert_eq!(faults, vec![], "{}", written);
        let again: Vec<Thing> = found.iter().map(|f| f.thing.clone()).collect();
        prop_assert_eq!(&again[..], &things[..], "{}", written);
        prop_assert_eq!(write(&again), written);
    }

    /// From any installation to any other: in an order that its references allow, and then there is nothing to do.
    #[test]
    fn an_installation_becomes_what_is_written(
        was in installation(), now in installation(), cut in 0_usize..20, unbound: bool,
    ) {
        // where a manifest says to what a topic is bound, it may say to nothing
        let said = now.iter().cloned().map(|mut thing| {
            if let (Thing::Topic(text), true) = (&mut thing, unbound) {
                text.values.get_or_insert(Binding::Nothing);
            }
            thing
        });
        let text = write(&said.collect::<Vec<_>>());
        let mut there = made(&was);
        let all = planned(&text, &was, true).unwrap();
        // ended half way, and run again
        carry_out(&mut there, &all.steps[..cut.min(all.steps.len())]);
        let half: Vec<Thing> = there.values().cloned().collect();
        let rest = planned(&text, &half, true).unwrap();
        carry_out(&mut there, &rest.steps);
        let mut wanted = made(&now);
        for (key, thing) in &mut wanted {
            if let (Thing::Reader(now), Some(Thing::Reader(there))) = (&*thing, there.get(key)) {
                prop_assert_eq!(there.topics.iter().collect::<BTreeSet<_>>(), now.topics.iter().collect::<BTreeSet<_>>());
            }
            if let (Thing::Topic(now), Some(Thing::Topic(there))) = (thing, there.get(key)) {
                // a topic stays bound where its manifest does not say to what
                if !unbound {
                    now.values = now.values.take().or_else(|| there.values.clone());
                }
                prop_assert_eq!(there.bound().collect::<Vec<_>>(), now.bound().collect::<Vec<_>>());
            }
        }
        let end: Vec<Thing> = there.values().cloned().collect();
        prop_assert_eq!(planned(&text, &end, true).unwrap().steps, vec![]);
        // a schema stays for what is bound to it
        there.retain(|key, _| key.0 != ThingKind::Schema || wanted.contains_key(key));
        prop_assert_eq!(there.keys().collect::<Vec<_>>(), wanted.keys().collect::<Vec<_>>());
    }
}

#[test]
fn all_that_is_wrong_is_told_at_its_place_and_nothing_is_done() {
    let connection = write(&[connection(1, 5432)]);
    let cases = [
        ("topic: bins\npartitions: 3\nvalues: {schema: Bins}\n", "", 3, "there is no schema Bins"),
        ("reader: night\ntopics: [bin]\n---\ntopic: bins\npartitions: 3\n", "", 2, "there is no topic bin, perhaps bins"),
        ("topic: b ins\npartitions: 3\n", "", 1, "cannot be called so"),
        ("topic: bins\npartitions: 0\n", "", 2, "give 1 to 1000"),
        ("topic: bins\npartitions: 3\nmost_bytes: -1\n", "", 3, "give a number above 0"),
        ("reader: night\ntopics: []\n", "", 2, "at least one topic"),
        ("schema: S\nlanguage: avro\nversions: []\n", "", 3, "at least one version"),
        ("schema: S\nlanguage: avro\nversions:\n- text: |\n    {\"type\": \"recor\"}\n", "", 5, "cannot be taken"),
        (
            "schema: S\nlanguage: avro\nversions:\n- text: '\"string\"'\n  references: [{name: R, version: 1}]\n",
            "",
            5,
            "there is no schema R",
        ),
        ("function: f\ngives: bigint\nvalue: a + 1\n", "", 1, "there is no example"),
        ("connector: c\nsink:\n  connection: system-2\n  topics: []\n", "", 3, "no connection system-2, perhaps system-1"),
        ("connector: c\nsink:\n  connection: system-1\n  topics: []\n", "", 4, "no topic is chosen"),
        (
            "connector: c\ntopics:\n  carries: [{topic: a, to: b}, {topic: b, to: c}]\n  partitions: 2\n",
            "",
            3,
            "the topic b would be read and written",
        ),
        ("connector: c\ntopics:\n  carries: [{topic: a, to: c}]\n  partitions: 0\n", "", 4, "0 partitions"),
        (
            "connector: c\ntopics:\n  carries: [{topic: a, to: c}]\n  partitions: 1\n  placing:\n    lanes: 2\n",
            "",
            6,
            "give it one lane",
        ),
        (
            "connector: c\ntopics:\n  carries: [{topic: a, to: c}]\n  partitions: 1\n  shape:\n    steps:\n      b: []\n",
            "",
            7,
            "steps are given for b",
        ),
        ("connector: c\n", "", 1, "source, sink or topics"),
        ("topic: bins\npartitions: 2\n", "topic: bins\npartitions: 3\n", 2, "give 3 or more"),
        (
            "schema: S\nlanguage: avro\nversions: [{text: '\"string\"'}]\n",
            "schema: S\nlanguage: json-schema\nversions: [{text: '{}'}]\n",
            2,
            "written in json-schema",
        ),
    ];
    let topics = "---\ntopic: a\npartitions: 1\n---\ntopic: b\npartitions: 1\n";
    for (text, there, line, part) in cases {
        let (there, none) = read(&files(there), &kinds());
        assert_eq!(none, []);
        let there: Vec<Thing> = there.into_iter().map(|f| f.thing).collect();
        let faults = planned(&format!("{text}---\n{connection}{topics}"), &there, false).unwrap_err();
        let found = faults.iter().any(|fault| fault.line == line && fault.finding.contains(part));
        assert!(found, "{text}: no {part:?} at line {line}: {faults:#?}");
    }
    // all at once
    let many = "topic: b ins\npartitions: 3\n---\nreader: night\ntopics: [x, y]\n";
    assert_eq!(planned(many, &[], false).unwrap_err().len(), 3);
}

#[test]
fn circles_of_references_are_named() {
    let circle =
        [sink(0, Some(1), None), sink(1, Some(0), None), connection(0, 5432), topic(0, false, None), topic(1, false, None)];
    let faults = planned(&write(&circle), &[], false).unwrap_err();
    assert!(faults[0].finding.contains("sink-0 → sink-1 → sink-0"), "{faults:#?}");
    assert_eq!(faults[0].file, "all.yaml");
}

#[test]
fn a_topic_that_a_connector_of_the_text_writes_is_there_once_that_is_made() {
    let things = [connection(0, 5432), sink(0, None, None), source("bins", "topic-0")];
    let steps = planned(&write(&things), &[], false).unwrap().steps;
    let order: Vec<&str> = steps.iter().map(|s| s.thing.name()).collect();
    assert_eq!(order, ["system-0", "source-of-bins", "sink-0"]);
    let mut twice =
        TopicsDefinition::of(vec![CarriedTopic { topic: "topic-0".into(), to: "rich".into(), rows: None, fit: None }], 1);
    twice.partitions = 2;
    let topics = twice.referring(&Named("")).unwrap();
    let carries = Thing::Connector(Box::new(ConnectorText {
        connector: "a-carrier".into(),
        state: None,
        source: None,
        sink: None,
        topics: Some(topics),
    }));
    let steps = planned(&write(&[things[0].clone(), things[2].clone(), carries]), &[], false).unwrap().steps;
    let order: Vec<&str> = steps.iter().map(|s| s.thing.name()).collect();
    assert_eq!(order, ["system-0", "source-of-bins", "a-carrier"]);
}

#[test]
fn what_a_manifest_leaves_out_stays_and_what_changes_is_told_by_its_field() {
    let there = [connection(0, 5432), topic(0, false, Some(0)), schema(0, 1, false), sink(0, None, Some(Wished::Paused))];
    let change = |thing: &Thing| {
        let mut all: Vec<Thing> = there.iter().filter(|t| t.key() != thing.key()).cloned().collect();
        all.push(thing.clone());
        let steps = planned(&write(&all), &there, false).unwrap().steps;
        steps.into_iter().flat_map(|s| s.changes).map(|c| (c.field, c.from, c.to)).collect::<Vec<_>>()
    };
    let said = |field: &str, from: &str, to: &str| (field.to_owned(), Some(from.to_owned()), Some(to.to_owned()));
    assert_eq!(change(&topic(0, false, None)), []);
    assert_eq!(change(&sink(0, None, None)), []);
    // an older text is a version already
    assert_eq!(change(&schema(0, 0, false)), []);
    assert_eq!(change(&sink(0, None, Some(Wished::Running))), [said("state", "paused", "running")]);
    assert_eq!(change(&connection(0, 5433)), [said("port", "5432", "5433")]);
    assert_eq!(change(&topic(0, true, None)), [("keep".to_owned(), None, Some("latest".to_owned()))]);
    let (found, _) = read(&files(&write(&there)), &kinds());
    let other_secrets = BTreeSet::from([("system-0".to_owned(), "password".to_owned())]);
    let steps = plan(&found, &Installation { other_secrets, ..installed(&there) }, false).unwrap().steps;
    assert_eq!(steps.len(), 1);
    assert_eq!(steps[0].changes, [FieldChange { field: "password".into(), from: None, to: None }]);
}

#[test]
fn what_a_connector_that_stays_writes_is_not_pruned_nor_the_schema_of_that() {
    let there = [
        connection(0, 5432),
        schema(0, 0, false),
        schema(1, 0, true),
        schema(2, 0, false),
        topic(0, false, Some(1)),
        topic(1, false, None),
        topic(2, false, Some(2)),
        source("bins", "topic-0"),
    ];
    let text = write(&[there[0].clone(), there[7].clone()]);
    let (found, _) = read(&files(&text), &kinds());
    let gone = |written: &[(&str, &str)]| {
        let written =
            written.iter().map(|(connector, topic)| ((*connector).to_owned(), vec![(*topic).to_owned()])).collect();
        let steps = plan(&found, &Installation { written, ..installed(&there) }, true).unwrap().steps;
        assert!(steps.iter().all(|step| step.deed == Deed::Delete));
        steps.iter().map(|step| step.thing.name().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(gone(&[]), ["topic-2", "topic-1", "schema-2"]);
    assert_eq!(gone(&[("source-of-bins", "topic-1"), ("another", "topic-2")]), ["topic-2", "schema-2"]);
}

#[test]
fn what_goes_goes_before_what_it_refers_to() {
    let Thing::Schema(last) = schema(1, 0, false) else { unreachable!() };
    let Thing::Schema(mut first) = schema(0, 0, false) else { unreachable!() };
    first.versions[0].references = vec![SchemaReference { name: "schema-1".into(), version: 1 }];
    let there = [Thing::Schema(first), Thing::Schema(last), topic(0, false, Some(0)), sink(0, None, None), connection(0, 1)];
    let steps = planned("", &there, true).unwrap().steps;
    let order: Vec<&str> = steps.iter().map(|step| step.thing.name()).collect();
    assert_eq!(order, ["sink-0", "topic-0", "schema-0", "schema-1", "system-0"]);
}

#[test]
fn a_function_that_goes_is_missed_where_a_shape_calls_it() {
    let function = Thing::Function(FunctionText {
        function: "tonnes".into(),
        description: String::new(),
        parameters: vec![],
        gives: "bigint".into(),
        value: "1".into(),
        examples: vec![FunctionExample { given: vec![], gives: Some("1".into()) }],
    });
    let text = "connector: heavy\ntopics:\n  carries: [{topic: topic-0, to: heavy}]\n  partitions: 1\n  \
                shape: {steps: {topic-0: [{step: filter, only: \"kg > tonnes ()\"}]}}\n---\n";
    let text = format!("{text}{}", write(&[topic(0, false, None)]));
    let there = [function.clone(), topic(0, false, None)];
    let faults = planned(&text, &there, true).unwrap_err();
    assert!(faults[0].line == 5 && faults[0].finding.contains("there is no function tonnes"), "{faults:#?}");
    assert_eq!(planned(&text, &there, false).unwrap().steps.len(), 1);
    // and where it is written, it is made first
    let steps = planned(&format!("{text}---\n{}", write(&[function])), &there[1..], true).unwrap().steps;
    assert_eq!(steps.iter().map(|s| s.thing.name()).collect::<Vec<_>>(), ["tonnes", "heavy"]);
}
