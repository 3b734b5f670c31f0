//! Up to where the sources of a sink's topics are complete, so that no transaction of theirs is delivered in part.

use std::collections::BTreeSet;
use std::sync::Arc;

use gonvel_connectors::kinds;
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::{ConnectorError, SourceKind};
use gonvel_core::ports::{FleetStore, PortError};

use crate::failing::Failure;
use crate::source_position::complete_to;
use crate::work::ONLY;

/// What is known of a sink's sources, and of the transactions that are being delivered.
pub(crate) struct Whole {
    fleet: Arc<dyn FleetStore>,
    /// The sources, and how their kinds read positions.
    sources: Vec<(ConnectorId, &'static dyn SourceKind)>,
    /// The place of each topic's source among them.
    of_topic: Vec<usize>,
    /// Partitions that moved since the last round that was not in part.
    pub(crate) moved: BTreeSet<usize>,
    /// Whether a round in part was read, whose rest is to come.
    pub(crate) under_way: bool,
}

impl Whole {
    /// For these topics, in the order of the sink's.
    pub(crate) async fn of(fleet: Arc<dyn FleetStore>, topics: &[String]) -> Result<Self, Failure> {
        let (mut sources, mut of_topic) = (Vec::new(), Vec::new());
        for topic in topics {
            let Some(source) = fleet.source_of(topic).await? else {
                return Err(ConnectorError::settings(
                    Some("topics"),
                    format!("no source connector writes the topic {topic}, so where its transactions end is not known"),
                    "deliver it with a connector that does not keep transactions whole",
                )
                .into());
            };
            let place = match sources.iter().position(|(known, _)| *known == source) {
                Some(place) => place,
                None => {
                    sources.push((source, kind_of(&*fleet, source).await?));
                    sources.len() - 1
                }
            };
            of_topic.push(place);
        }
        Ok(Self { fleet, sources, of_topic, moved: BTreeSet::new(), under_way: false })
    }

    /// The place of a topic's source.
    pub(crate) fn source(&self, topic: usize) -> usize {
        self.of_topic[topic]
    }

    /// For each source a position of its log: every transaction that committed before it is in the topics as a whole.
    pub(crate) async fn complete_to(&self) -> Result<Vec<u64>, Failure> {
        let mut out = Vec::with_capacity(self.sources.len());
        for (source, kind) in &self.sources {
            // a source that is gone brings nothing any more: what is there is all
            out.push(match self.fleet.position(*source, ONLY).await? {
                None => u64::MAX,
                Some(position) => complete_to(*kind, &position)?,
            });
        }
        Ok(out)
    }
}

/// The kind of system that a source reads.
async fn kind_of(fleet: &dyn FleetStore, source: ConnectorId) -> Result<&'static dyn SourceKind, Failure> {
    let connector = fleet.connector(source).await?;
    let connection = connector.as_ref().and_then(|connector| connector.definition().connection());
    let gone = || PortError::NotFound { what: format!("source connector {source}") };
    let address = fleet.address(connection.ok_or_else(gone)?).await?;
    Ok(kinds::source(&address)?)
}
