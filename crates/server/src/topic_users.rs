//! Who writes and reads a topic.

use gonvel_core::connector::Definition;
use gonvel_storage::catalog::connectors::Connector;

/// Whether a connector writes (true) or reads (false) a topic; none if it does neither.
pub(crate) fn writes(connector: &Connector, topic: &str) -> Option<bool> {
    match &connector.definition {
        Definition::Source(source) if source.tables.iter().any(|t| t.topic == topic) => Some(true),
        Definition::Source(source) if source.schema_changes.as_deref() == Some(topic) => Some(true),
        Definition::Source(_) if connector.found().any(|(_, table)| table.other_end == topic) => Some(true),
        Definition::Sink(sink) if sink.topics.iter().any(|t| t.topic == topic) => Some(false),
        Definition::Topics(topics) if topics.carries.iter().any(|t| t.topic == topic) => Some(false),
        Definition::Topics(topics)
            if topics.carries.iter().any(|t| t.to == topic || topics.shape.ways(&t.name()).contains(&topic)) =>
        {
            Some(true)
        }
        _ => None,
    }
}

pub(crate) fn users(connectors: &[Connector], topic: &str) -> (Vec<String>, Vec<String>) {
    let those = |wanted| connectors.iter().filter(|c| writes(c, topic) == Some(wanted)).map(|c| c.name.clone()).collect();
    (those(true), those(false))
}
