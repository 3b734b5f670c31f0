//! What things refer to, in which order they can be made, and what is wrong with one before anything is made.

use std::collections::{BTreeMap, HashMap, HashSet};

use uuid::Uuid;

use super::faults::Fault;
use super::reading::Found;
use super::things::{Installation, SchemaText, Thing, ThingKind};
use crate::connector_text::{ConnectorText, Names};
use gonvel_core::connector::{Definition, ValidConnector, Written};
use gonvel_core::naming::{ConnectionName, ConnectorId, ConnectorName, ReaderName, SchemaName, TopicName};
use gonvel_core::nearest::perhaps;
use gonvel_core::own_function::OwnFunction;
use gonvel_core::schemas::{Reference, parse};
use gonvel_core::shape::Step;
use gonvel_core::yaml::ManifestError;

/// A key of a thing that is not borrowed.
pub(super) type Key = (ThingKind, String);

/// Ids for names, so that a definition can be checked before what it refers to is made.
struct Invented<'a>(&'a HashSet<Key>);

fn id(name: &str) -> Uuid {
    Uuid::from_u128(u128::from(xxhash_rust::xxh64::xxh64(name.as_bytes(), 0)) + 1)
}

impl Names for Invented<'_> {
    fn connection(&self, name: &str) -> Option<Uuid> {
        self.0.contains(&(ThingKind::Connection, name.to_owned())).then(|| id(name))
    }

    fn connector(&self, name: &str) -> Option<Uuid> {
        self.0.contains(&(ThingKind::Connector, name.to_owned())).then(|| id(name))
    }

    fn connection_name(&self, _: Uuid) -> Option<String> {
        None
    }

    fn connector_name(&self, _: Uuid) -> Option<String> {
        None
    }
}

/// A connector's definition with ids of its own, which stand for no more than the names do.
fn definition(text: &ConnectorText, keys: &HashSet<Key>) -> Option<Definition> {
    text.definition("", &Invented(keys)).ok()
}

/// Connectors of manifests that reach a system, each with the kind of that system and with ids of its own in its definition.
#[must_use]
pub fn reaching<'f>(found: &'f [Found], there: &Installation) -> Vec<(&'f Found, String, Definition)> {
    let all = || there.things.iter().chain(found.iter().map(|one| &one.thing));
    let keys: HashSet<Key> = all().map(|thing| (thing.kind(), thing.name().to_owned())).collect();
    // as it is to be, where it is there as well
    let kinds: HashMap<&str, &str> = all()
        .filter_map(|thing| match thing {
            Thing::Connection(text) => Some((text.connection.as_str(), text.kind.as_str())),
            _ => None,
        })
        .collect();
    let one = |one: &'f Found| {
        let Thing::Connector(text) = &one.thing else { return None };
        let kind = kinds.get(text.connection()?)?;
        Some((one, (*kind).to_owned(), definition(text, &keys)?))
    };
    found.iter().filter_map(one).collect()
}

/// The functions that are called in a text.
fn called<'t>(text: &'t str, functions: &'t HashSet<&str>) -> impl Iterator<Item = Key> + 't {
    let names = text.match_indices('(').filter_map(|(at, _)| {
        let before = text[..at].trim_end();
        before.rsplit(|c: char| !c.is_ascii_alphanumeric() && c != '_').next()
    });
    names.filter(|name| functions.contains(name)).map(|name| (ThingKind::Function, name.to_owned()))
}

/// What one thing refers to. Functions are known by being called in a function's or a shape's text.
fn refers(thing: &Thing, functions: &HashSet<&str>) -> Vec<Key> {
    let mut out: Vec<Key> = Vec::new();
    match thing {
        Thing::Connection(_) => {}
        Thing::Function(text) => out.extend(called(&text.value, functions).filter(|(_, name)| *name != text.function)),
        Thing::Schema(text) => {
            let names = text.versions.iter().flat_map(|v| &v.references).map(|r| r.name.clone());
            out.extend(names.filter(|name| *name != text.schema).map(|name| (ThingKind::Schema, name)));
        }
        Thing::Topic(text) => out.extend(text.bound().map(|(_, bound)| (ThingKind::Schema, bound.schema.clone()))),
        Thing::Connector(text) => {
            out.extend(text.connection().map(|name| (ThingKind::Connection, name.to_owned())));
            out.extend(text.begins_at().map(|name| (ThingKind::Connector, name.to_owned())));
            out.extend(text.topics_read().map(|name| (ThingKind::Topic, name.to_owned())));
            let fits = text.topics.iter().flat_map(|topics| &topics.carries).filter_map(|carried| carried.fit.as_ref());
            out.extend(fits.map(|fit| (ThingKind::Schema, fit.schema.clone())));
            let shape = text.shape().and_then(|shape| serde_json::to_string(shape).ok()).unwrap_or_default();
            out.extend(called(&shape, functions));
            for step in text.shape().into_iter().flat_map(|shape| shape.steps.values()).flatten() {
                let Step::Lookup { topic, table, .. } = &step.step else { continue };
                out.extend(table.iter().map(|table| (ThingKind::Connection, table.connection.clone())));
                out.extend(Some(topic).filter(|topic| !topic.is_empty()).map(|topic| (ThingKind::Topic, topic.clone())));
            }
        }
        Thing::Reader(text) => out.extend(text.topics.iter().map(|name| (ThingKind::Topic, name.clone()))),
    }
    out
}

/// Things of manifests, and those that are there and stay.
pub(super) struct Known<'a> {
    found: &'a [Found],
    keys: HashSet<Key>,
    functions: HashSet<&'a str>,
    /// The connectors that write a topic, as far as their definitions say; those whose text cannot be read say so themselves.
    writers: HashMap<String, Vec<&'a str>>,
    /// The same for topics whose names columns decide.
    by_columns: Vec<(&'a str, Written)>,
    /// Whether any source finds tables by their names.
    finds: bool,
    schemas: HashMap<&'a str, Vec<&'a SchemaText>>,
}

impl<'a> Known<'a> {
    /// `stays` are those that are there and are not removed.
    pub(super) fn of(found: &'a [Found], stays: &[&'a Thing]) -> Self {
        let all = || found.iter().map(|f| &f.thing).chain(stays.iter().copied());
        let keys: HashSet<Key> = all().map(|thing| (thing.kind(), thing.name().to_owned())).collect();
        let functions = all().filter(|thing| thing.kind() == ThingKind::Function).map(Thing::name).collect();
        let (mut writers, mut by_columns, mut finds): (HashMap<String, Vec<&str>>, _, _) =
            (HashMap::new(), Vec::new(), false);
        let mut seen = HashSet::new();
        let mut schemas: HashMap<&str, Vec<&SchemaText>> = HashMap::new();
        for thing in all() {
            match thing {
                // as it is to be, where it is there as well
                Thing::Connector(text) if seen.insert(text.connector.as_str()) => {
                    let Some(definition) = definition(text, &keys) else { continue };
                    finds |= matches!(&definition, Definition::Source(source) if source.patterns.is_some());
                    let mut written = definition.written();
                    for topic in std::mem::take(&mut written.topics) {
                        writers.entry(topic).or_default().push(text.connector.as_str());
                    }
                    if !written.patterns.is_empty() {
                        by_columns.push((text.connector.as_str(), written));
                    }
                }
                Thing::Schema(text) => schemas.entry(&text.schema).or_default().push(text),
                _ => {}
            }
        }
        Self { found, keys, functions, writers, by_columns, finds, schemas }
    }

    /// The same where these functions were there: whoever calls one that goes calls one that is not there.
    pub(super) fn beside(mut self, there: &'a [Thing]) -> Self {
        self.functions.extend(there.iter().filter(|thing| thing.kind() == ThingKind::Function).map(Thing::name));
        self
    }

    /// The connectors that write a topic, as far as their definitions say.
    fn writers(&self, topic: &str) -> Vec<Key> {
        let named = self.writers.get(topic).into_iter().flatten();
        let by_columns = self.by_columns.iter().filter(|(_, written)| written.has(topic)).map(|(name, _)| name);
        named.chain(by_columns).map(|name| (ThingKind::Connector, (*name).to_owned())).collect()
    }

    /// Whether any of them writes a topic, as far as their definitions say.
    pub(super) fn is_written(&self, topic: &str) -> bool {
        !self.writers(topic).is_empty()
    }

    /// The order in which things are made: what they refer to first.
    ///
    /// # Errors
    /// [`Fault`] if they refer to each other in a circle.
    pub(super) fn ordered(&self) -> Result<Vec<&'a Found>, Fault> {
        let mut left: Vec<&Found> = self.found.iter().collect();
        left.sort_by_key(|one| one.thing.key());
        let own: HashMap<Key, &Found> =
            left.iter().map(|one| ((one.thing.kind(), one.thing.name().to_owned()), *one)).collect();
        let mut before: BTreeMap<Key, Vec<Key>> = BTreeMap::new();
        for one in &left {
            let mut needs: Vec<Key> = Vec::new();
            for key in refers(&one.thing, &self.functions) {
                match key {
                    (ThingKind::Topic, topic) if !own.contains_key(&(ThingKind::Topic, topic.clone())) => {
                        needs.extend(self.writers(&topic));
                    }
                    key => needs.push(key),
                }
            }
            let key = (one.thing.kind(), one.thing.name().to_owned());
            needs.retain(|need| own.contains_key(need) && *need != key);
            before.insert(key, needs);
        }
        let mut made: HashSet<&Key> = HashSet::new();
        let mut out = Vec::with_capacity(left.len());
        for key in before.keys() {
            let mut way: Vec<(&Key, usize)> = vec![(key, 0)];
            while let Some((here, next)) = way.pop() {
                if made.contains(here) {
                    continue;
                }
                if let Some(need) = before[here].get(next) {
                    way.push((here, next + 1));
                    if let Some(place) = way.iter().position(|(key, _)| *key == need) {
                        let names: Vec<&str> =
                            way[place..].iter().map(|(key, _)| key.1.as_str()).chain([need.1.as_str()]).collect();
                        let finding = format!("these refer to each other in a circle: {}", names.join(" → "));
                        return Err(own[here].fault(&need.1, finding));
                    }
                    way.push((need, 0));
                } else {
                    made.insert(here);
                    out.push(own[here]);
                }
            }
        }
        Ok(out)
    }

    /// What is wrong with things, each by itself and in what it refers to.
    pub(super) fn faults(&self) -> Vec<Fault> {
        let mut out = Vec::new();
        for one in self.found {
            out.extend(self.wrong(one));
            for (kind, name) in refers(&one.thing, &self.functions) {
                let key = (kind, name);
                let written = key.0 == ThingKind::Topic && (self.is_written(&key.1) || self.finds);
                if self.keys.contains(&key) || written {
                    continue;
                }
                let others = self.keys.iter().filter(|(kind, _)| *kind == key.0).map(|(_, name)| name.as_str());
                let perhaps = perhaps(&key.1, others);
                let finding = format!("there is no {} {}{perhaps}: write it here, or make it first", key.0.word(), key.1);
                out.push(one.fault(&key.1, finding));
            }
        }
        out
    }

    fn wrong(&self, one: &Found) -> Option<Fault> {
        let named = |result: Result<(), gonvel_core::naming::NameError>| {
            result.err().map(|e| one.fault(one.thing.name(), format!("it cannot be called so: {e}")))
        };
        match &one.thing {
            Thing::Connection(text) => named(ConnectionName::parse(text.connection.as_str()).map(drop)),
            Thing::Function(text) => {
                let checked = OwnFunction::from(text.clone()).check();
                checked.err().map(|(field, finding)| one.fault(&format!("{field}:"), finding))
            }
            Thing::Schema(text) => {
                named(SchemaName::parse(text.schema.as_str()).map(drop)).or_else(|| self.wrong_text(one, text))
            }
            Thing::Topic(text) => named(TopicName::parse(text.topic.as_str()).map(drop))
                .or_else(|| {
                    let finding = || format!("{} partitions: give 1 to 1000", text.partitions);
                    (!(1..=1000).contains(&text.partitions)).then(|| one.fault("partitions:", finding()))
                })
                .or_else(|| {
                    let error = text.settings().check().err()?;
                    Some(one.fault(&format!("{}:", error.setting()), error.to_string()))
                }),
            Thing::Connector(text) => named(ConnectorName::parse(text.connector.as_str()).map(drop)).or_else(|| {
                let definition = match text.definition(&one.text, &Invented(&self.keys)) {
                    Ok(definition) => definition,
                    // what is referred to and is not there is told with the references
                    Err(error) if error.finding.starts_with("there is no") => return None,
                    Err(error) => return Some(one.told(&error)),
                };
                let name = ConnectorName::parse(text.connector.as_str()).ok()?;
                let error = ValidConnector::check(ConnectorId(Uuid::nil()), name, definition).err()?;
                Some(one.told(&ManifestError::of(&one.text, &error)))
            }),
            Thing::Reader(text) => named(ReaderName::parse(text.reader.as_str()).map(drop)).or_else(|| {
                text.topics.is_empty().then(|| one.fault("topics:", "a reader reads at least one topic: name it"))
            }),
        }
    }

    fn wrong_text(&self, one: &Found, text: &SchemaText) -> Option<Fault> {
        if text.versions.is_empty() {
            return Some(one.fault("versions:", "a schema has at least one version: give its text"));
        }
        for version in &text.versions {
            let references =
                version.references.iter().map(|r| self.standalone(&r.name, r.version, 0)).collect::<Option<Vec<_>>>();
            // a name that is not there is told with the references
            let references = match references {
                Some(references) => references,
                None if version.references.iter().any(|r| !self.schemas.contains_key(r.name.as_str())) => return None,
                None => {
                    let names: Vec<String> =
                        version.references.iter().map(|r| format!("{} {}", r.name, r.version)).collect();
                    let finding = format!("of the versions that it refers to one is not there: {}", names.join(", "));
                    return Some(one.fault("references:", finding));
                }
            };
            if let Err(fault) = parse(text.language, &version.text, &references) {
                let first = version.text.lines().map(str::trim).find(|line| !line.is_empty()).unwrap_or_default();
                let finding = format!("the text cannot be taken, at its line {}: {}", fault.line, fault.finding);
                return Some(one.fault(first, finding));
            }
        }
        None
    }

    /// A version that another one refers to; none if there is none.
    fn standalone(&self, name: &str, version: i32, depth: usize) -> Option<Reference> {
        let place = usize::try_from(version).ok()?.checked_sub(1)?;
        let mut all = self.schemas.get(name)?.iter();
        let (language, text) = all.find_map(|schema| Some((schema.language, schema.versions.get(place)?)))?;
        // those that refer to each other in a circle are told with the order
        if depth > 20 {
            return None;
        }
        let references: Option<Vec<Reference>> =
            text.references.iter().map(|r| self.standalone(&r.name, r.version, depth + 1)).collect();
        let whole = parse(language, &text.text, &references?).ok()?;
        Some(Reference { name: name.to_owned(), text: whole.text })
    }
}
