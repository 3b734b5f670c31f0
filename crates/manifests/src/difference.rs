//! What has to be done so that an installation is as manifests say.

use std::collections::{BTreeSet, HashMap};

use serde::Serialize;
use serde_json::Value;
use xxhash_rust::xxh64::xxh64;

use super::faults::Fault;
use super::reading::Found;
use super::references::Known;
use super::things::{Binding, Installation, SchemaText, Thing, ThingKind, TopicText, VersionText};
use crate::connector_text::Wished;

/// What is done with a thing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, serde::Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
#[schema(as = StepDeed)]
pub enum Deed {
    /// It is made.
    Make,
    /// It is changed.
    Change,
    /// It is deleted.
    Delete,
}

/// A field that becomes another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize, utoipa::ToSchema)]
pub struct FieldChange {
    /// Its path, as `source.load.chunks`.
    pub field: String,
    /// What it was; none if it was not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// What it becomes; none if it is not said any more.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

/// One step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// What is done.
    pub deed: Deed,
    /// The thing as it is to be, or the one that goes.
    pub thing: Thing,
    /// What changes of it.
    pub changes: Vec<FieldChange>,
}

/// All steps, in their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    /// They.
    pub steps: Vec<Step>,
    /// Things that are as they are to be already.
    pub unchanged: usize,
}

impl Plan {
    /// What tells this plan from another one: whoever was shown it does nothing else by it.
    #[must_use]
    pub fn mark(&self) -> String {
        let told = self.steps.iter().map(|step| (step.deed, step.thing.kind(), value(&step.thing), &step.changes));
        let text = serde_json::to_string(&told.collect::<Vec<_>>()).expect("text, numbers and lists");
        format!("{:016x}", xxh64(text.as_bytes(), 0))
    }
}

/// How an installation becomes what manifests say. With `prune` what they do not name goes, but for the topics that a connector of
/// theirs writes, and the schemas of topics that stay.
///
/// # Errors
/// All that is wrong in the manifests; nothing is to be done then.
pub fn plan(found: &[Found], there: &Installation, prune: bool) -> Result<Plan, Vec<Fault>> {
    let goes = if prune { going(found, there) } else { BTreeSet::new() };
    let stays: Vec<&Thing> = there.things.iter().filter(|thing| !goes.contains(&thing.key())).collect();
    let known = Known::of(found, &stays).beside(&there.things);
    let was: HashMap<(ThingKind, &str), &Thing> = there.things.iter().map(|thing| (thing.key(), thing)).collect();
    let mut faults = known.faults();
    faults.extend(found.iter().filter_map(|one| cannot(one, was.get(&one.thing.key())?)));
    let ordered = known.ordered().unwrap_or_else(|fault| {
        faults.push(fault);
        Vec::new()
    });
    if !faults.is_empty() {
        faults.sort();
        faults.dedup();
        return Err(faults);
    }
    // what carries records goes before anything else is done, and what it used after that: the last that was made first
    let (first, last): (Vec<&Thing>, Vec<&Thing>) = there
        .things
        .iter()
        .filter(|thing| goes.contains(&thing.key()))
        .partition(|thing| matches!(thing.kind(), ThingKind::Connector | ThingKind::Reader));
    let mut plan = Plan { steps: removed(first), unchanged: 0 };
    for one in ordered {
        let Some(was) = was.get(&one.thing.key()) else {
            plan.steps.push(Step { deed: Deed::Make, thing: as_new(&one.thing), changes: vec![] });
            continue;
        };
        let thing = as_it_will_be(was, &one.thing);
        let mut changes = Vec::new();
        differ("", &value(was), &value(&thing), &mut changes);
        if let Thing::Connection(text) = &one.thing {
            let is_other = |field: &str| there.other_secrets.contains(&(text.connection.clone(), field.to_owned()));
            let other = text.secrets.keys().filter(|field| is_other(field));
            changes.extend(other.map(|field| FieldChange { field: field.clone(), from: None, to: None }));
        }
        if changes.is_empty() {
            plan.unchanged += 1;
        } else {
            plan.steps.push(Step { deed: Deed::Change, thing, changes });
        }
    }
    plan.steps.extend(removed(last));
    Ok(plan)
}

/// What goes, each before what it refers to.
fn removed(gone: Vec<&Thing>) -> Vec<Step> {
    let gone: Vec<Found> =
        gone.into_iter().map(|t| Found { thing: t.clone(), file: String::new(), line: 1, text: String::new() }).collect();
    let known = Known::of(&gone, &[]);
    let mut ordered = known.ordered().unwrap_or_else(|_| gone.iter().collect());
    ordered.reverse();
    let step = |one: &Found| Step { deed: Deed::Delete, thing: one.thing.clone(), changes: vec![] };
    ordered.into_iter().map(step).collect()
}

/// What no manifest names, and nothing that stays needs.
fn going<'t>(found: &'t [Found], there: &'t Installation) -> BTreeSet<(ThingKind, &'t str)> {
    let named: BTreeSet<(ThingKind, &str)> = found.iter().map(|one| one.thing.key()).collect();
    let known = Known::of(found, &[]);
    let own = there.written.iter().filter(|(connector, _)| named.contains(&(ThingKind::Connector, connector.as_str())));
    let by_name: BTreeSet<&str> = own.flat_map(|(_, topics)| topics).map(String::as_str).collect();
    let as_named: HashMap<&str, &TopicText> = found
        .iter()
        .filter_map(|one| if let Thing::Topic(text) = &one.thing { Some((text.topic.as_str(), text)) } else { None })
        .collect();
    let mut kept: BTreeSet<&str> = BTreeSet::new();
    let mut goes = BTreeSet::new();
    for thing in &there.things {
        match thing {
            Thing::Topic(text)
                if named.contains(&thing.key())
                    || known.is_written(&text.topic)
                    || by_name.contains(text.topic.as_str()) =>
            {
                // as it will be bound
                let now = as_named.get(text.topic.as_str());
                let said = |binding: fn(&TopicText) -> &Option<Binding>| {
                    now.and_then(|now| binding(now).as_ref()).or(binding(text).as_ref())
                };
                let both = [said(|text| &text.keys), said(|text| &text.values)];
                kept.extend(both.into_iter().flatten().filter_map(Binding::schema).map(|bound| bound.schema.as_str()));
            }
            _ if named.contains(&thing.key()) => {}
            _ => {
                goes.insert(thing.key());
            }
        }
    }
    let schemas: HashMap<&str, &SchemaText> = there
        .things
        .iter()
        .filter_map(|t| if let Thing::Schema(text) = t { Some((text.schema.as_str(), text)) } else { None })
        .collect();
    let mut needed: Vec<&str> = kept.into_iter().collect();
    needed.extend(schemas.keys().filter(|name| named.contains(&(ThingKind::Schema, **name))));
    while let Some(name) = needed.pop() {
        let Some((own, text)) = schemas.get_key_value(name) else { continue };
        let first = goes.remove(&(ThingKind::Schema, *own)) || named.contains(&(ThingKind::Schema, *own));
        let others = text.versions.iter().flat_map(|v| &v.references).map(|r| r.name.as_str());
        needed.extend(others.filter(|other| first && goes.contains(&(ThingKind::Schema, *other))));
    }
    goes
}

/// What a thing that is there cannot become.
fn cannot(one: &Found, was: &Thing) -> Option<Fault> {
    match (was, &one.thing) {
        (Thing::Connection(was), Thing::Connection(now)) if was.kind != now.kind => {
            let finding =
                format!("{} is a connection of kind {}: give one of another kind another name", now.connection, was.kind);
            Some(one.fault("kind:", finding))
        }
        (Thing::Schema(was), Thing::Schema(now)) if was.language != now.language => {
            let finding = format!(
                "the versions of {} are written in {}: give one in another language another name",
                now.schema,
                was.language.word()
            );
            Some(one.fault("language:", finding))
        }
        (Thing::Topic(was), Thing::Topic(now)) if was.partitions > now.partitions => {
            let (has, topic) = (was.partitions, &now.topic);
            let finding = format!("{topic} has {has} partitions, and none can be taken away: give {has} or more");
            Some(one.fault("partitions:", finding))
        }
        (Thing::Connector(was), Thing::Connector(now)) if was.kind() != now.kind() => {
            let finding = format!("{} is a {} connector: give one of another kind another name", now.connector, was.kind());
            Some(one.fault(&format!("{}:", now.kind()), finding))
        }
        _ => None,
    }
}

fn sorted(names: &[String]) -> BTreeSet<&str> {
    names.iter().map(String::as_str).collect()
}

/// A thing that is not there as it becomes.
fn as_new(now: &Thing) -> Thing {
    let mut now = now.clone();
    if let Thing::Topic(now) = &mut now {
        now.keys = Binding::after(None, now.keys.as_ref());
        now.values = Binding::after(None, now.values.as_ref());
    }
    now
}

/// A thing that is there as it becomes: what its manifest does not say and has no usual value stays.
fn as_it_will_be(was: &Thing, now: &Thing) -> Thing {
    let mut now = now.clone();
    match (was, &mut now) {
        (Thing::Connection(was), Thing::Connection(now)) => {
            now.settings = now.plain();
            let kept = was.settings.iter().filter(|(name, _)| was.secrets.contains_key(*name));
            now.settings.extend(kept.map(|(name, from)| (name.clone(), from.clone())));
            now.secrets.clone_from(&was.secrets);
        }
        (Thing::Schema(was), Thing::Schema(now)) if has(was, now.versions.last()) => now.versions.clone_from(&was.versions),
        (Thing::Topic(was), Thing::Topic(now)) => {
            now.keys = Binding::after(was.keys.as_ref(), now.keys.as_ref());
            now.values = Binding::after(was.values.as_ref(), now.values.as_ref());
        }
        (Thing::Connector(was), Thing::Connector(now)) => {
            // one of which nothing is said runs
            let said = was.state.unwrap_or(Wished::Running);
            now.state = if now.state.is_none_or(|wanted| wanted == said) { was.state } else { now.state };
        }
        // in whatever order they are named
        (Thing::Reader(was), Thing::Reader(now)) if sorted(&was.topics) == sorted(&now.topics) => {
            now.topics.clone_from(&was.topics);
        }
        _ => {}
    }
    now
}

/// Whether a schema has a version with this text already.
fn has(schema: &SchemaText, version: Option<&VersionText>) -> bool {
    let json = |text: &str| serde_json::from_str::<Value>(text).ok();
    let same = |one: &str, other: &str| one == other || json(one).is_some_and(|one| json(other) == Some(one));
    version.is_some_and(|new| schema.versions.iter().any(|v| v.references == new.references && same(&v.text, &new.text)))
}

fn value(thing: &Thing) -> Value {
    let value = match thing {
        Thing::Connection(text) => serde_json::to_value(text),
        Thing::Function(text) => serde_json::to_value(text),
        Thing::Schema(text) => serde_json::to_value(text),
        Thing::Topic(text) => serde_json::to_value(text),
        Thing::Connector(text) => serde_json::to_value(text),
        Thing::Reader(text) => serde_json::to_value(text),
    };
    value.expect("text, numbers and lists")
}

/// Longest value that is shown, in characters.
const SHOWN: usize = 200;

fn shown(value: &Value) -> String {
    let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

fn differ(path: &str, was: &Value, now: &Value, out: &mut Vec<FieldChange>) {
    let (Value::Object(from), Value::Object(to)) = (was, now) else {
        if was != now {
            out.push(FieldChange { field: path.into(), from: Some(shown(was)), to: Some(shown(now)) });
        }
        return;
    };
    let fields: BTreeSet<&String> = from.keys().chain(to.keys()).collect();
    for field in fields {
        let path = if path.is_empty() { field.clone() } else { format!("{path}.{field}") };
        match (from.get(field), to.get(field)) {
            (Some(was), Some(now)) => differ(&path, was, now, out),
            (was, now) => out.push(FieldChange { field: path, from: was.map(shown), to: now.map(shown) }),
        }
    }
}
