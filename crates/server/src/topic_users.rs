//! Who writes and reads a topic.

use gonvel_storage::catalog::connectors::Connector;

/// Whether a connector writes or reads a topic.
pub(crate) fn uses(connector: &Connector, topic: &str) -> bool {
    connector.writes(topic) || connector.definition.reads(topic)
}

/// The names of those that write it, and of those that read it.
pub(crate) fn users(connectors: &[Connector], topic: &str) -> (Vec<String>, Vec<String>) {
    let names = |those: fn(&Connector, &str) -> bool| {
        connectors.iter().filter(|c| those(c, topic)).map(|c| c.name.clone()).collect::<Vec<_>>()
    };
    (names(Connector::writes), names(|connector, topic| connector.definition.reads(topic)))
}
