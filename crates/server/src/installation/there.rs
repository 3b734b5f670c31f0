//! What an installation has, as it stands in manifests.

use std::collections::{BTreeMap, BTreeSet};

use gonvel_core::kinds::Settings;
use gonvel_core::ports::{ReaderStore, TopicLog};
use gonvel_manifests::connector_text::{ConnectorText, Names, Wished};
use gonvel_manifests::{
    Binding, BoundText, ConnectionText, Installation, ReaderText, SchemaText, SecretFrom, Thing, TopicText, VersionText,
};
use gonvel_runtime::systems;
use gonvel_storage::catalog::connections::Connection;

use crate::manifests::names;
use crate::problems::Refusal;
use crate::state::ServerState;

/// All that there is. A connector that is being deleted is not.
pub(super) async fn installation(state: &ServerState) -> Result<Installation, Refusal> {
    let names = names(state).await?;
    let (mut things, mut written) = (Vec::new(), BTreeMap::new());
    let mut variables = BTreeSet::new();
    for stored in state.database.connections().await? {
        // one of a kind that this version does not know cannot be told
        things.extend(connection(stored, &mut variables).map(Thing::Connection));
    }
    things.extend(state.database.kept_functions().await?.into_iter().map(|kept| Thing::Function(kept.function.into())));
    for (schema, versions) in state.database.whole_schemas().await?.into_iter().filter(|(_, versions)| !versions.is_empty())
    {
        things.push(Thing::Schema(SchemaText {
            schema: schema.name,
            language: schema.language,
            description: schema.description,
            owner: schema.owner,
            labels: schema.labels,
            rule: schema.rule,
            retired: schema.retired_at.is_some(),
            versions: versions.into_iter().map(|(text, references)| VersionText { text, references }).collect(),
        }));
    }
    let topics = state.database.topics().await?;
    let mut made: BTreeMap<String, TopicText> =
        topics.iter().map(|t| (t.name.to_string(), TopicText::of(t.name.as_str(), t.partitions, &t.settings))).collect();
    for (schema, binding) in state.database.bindings().await? {
        let Some(topic) = made.get_mut(&binding.topic) else { continue };
        let bound = Some(Binding::To(BoundText { schema, required: binding.required }));
        if binding.role == "key" {
            topic.keys = bound;
        } else {
            topic.values = bound;
        }
    }
    things.extend(made.into_values().map(Thing::Topic));
    for connector in state.database.connectors().await? {
        let Some(wished) = Wished::of(connector.wish) else { continue };
        // one that is there goes on as it does, and a new one runs: only what does neither has to be said
        let state = Some(wished).filter(|wished| *wished != Wished::Running);
        let mut text = ConnectorText { state, ..ConnectorText::of(&connector.name, &connector.definition, &names) };
        if text.begins_at().is_some_and(|other| names.connector(other).is_none()) {
            text = text.begun();
        }
        written.insert(connector.name.clone(), connector.found().map(|(_, table)| table.other_end.clone()).collect());
        things.push(Thing::Connector(Box::new(text)));
    }
    for reader in state.database.readers().await? {
        let read = reader.topics.iter().filter_map(|id| topics.iter().find(|t| t.id == *id)).map(|t| t.name.to_string());
        things.push(Thing::Reader(ReaderText { reader: reader.name.to_string(), topics: read.collect() }));
    }
    Ok(Installation { things, written, other_secrets: BTreeSet::new() })
}

/// Nothing is said of its secrets but where whoever applies it is to have them: `variables` are those that others have.
fn connection(stored: Connection, variables: &mut BTreeSet<String>) -> Option<ConnectionText> {
    let about = systems::kind(&stored.kind).ok()?.about();
    let upper = |text: &str| -> String {
        text.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect()
    };
    let mut variable = upper(&stored.name);
    while !variables.insert(variable.clone()) {
        variable.push('_');
    }
    let plain = stored.address().settings;
    let secrets = about.settings.iter().filter(|setting| setting.secret && about.in_force(setting, &plain));
    let from = |name: &str| SecretFrom::Env(format!("{variable}_{}", upper(name)));
    let secrets = secrets.map(|setting| (setting.name.to_string(), from(&setting.name))).collect();
    Some(ConnectionText::of(&stored.name, &about, Settings { plain, secrets }))
}
