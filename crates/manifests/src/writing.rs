//! Things as manifests: the same things give the same text, byte for byte.

use serde::Serialize;

use super::things::Thing;

/// Writes things, in the order in which they are made and then by name.
///
/// # Panics
/// Never: what it writes is text, numbers and lists.
#[must_use]
pub fn write<'t>(things: impl IntoIterator<Item = &'t Thing>) -> String {
    let mut things: Vec<&Thing> = things.into_iter().collect();
    things.sort_by_key(|thing| thing.key());
    let written: Vec<String> = things.into_iter().map(one).collect();
    written.join("---\n")
}

fn one(thing: &Thing) -> String {
    match thing {
        Thing::Connection(text) => yaml(text),
        Thing::Function(text) => yaml(text),
        Thing::Schema(text) => yaml(text),
        Thing::Topic(text) => yaml(text),
        Thing::Connector(text) => yaml(text),
        Thing::Reader(text) => yaml(text),
    }
}

fn yaml(text: &impl Serialize) -> String {
    serde_yaml_ng::to_string(text).expect("text, numbers and lists")
}
