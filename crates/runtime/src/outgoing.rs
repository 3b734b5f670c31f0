//! Changes on their way into topics: shaped, routed, written into blocks.

use gonvel_connectors::error::ConnectorError;
use gonvel_connectors::postgres::source::TableChanges;
use gonvel_core::change::KindCounts;
use gonvel_core::connector::CapturedTable;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{PortError, Topic};
use gonvel_core::topic_settings::TopicSettings;

use crate::fleet::Services;
use crate::lane::Failure;
use crate::shaping::{Came, Pass, Shaping};
use crate::writing::Writer;

pub(crate) type Blocks = Vec<gonvel_core::ports::PartitionBlocks>;

/// Why a part of a row does not go where the row may not be.
const PART_OF_A_ROW: &str = "an update brings a part of its row only, and the row may come where it was not before: what was not \
     sent of it cannot be known; give the source's table REPLICA IDENTITY FULL, or write the topic in row form";

/// Where changes go: shaped, then into blocks.
pub(crate) struct Out<'o> {
    services: &'o Services,
    partitions: i32,
    writer: Writer,
    shaping: Option<Shaping>,
}

impl<'o> Out<'o> {
    pub(crate) fn new(services: &'o Services, partitions: i32, writer: Writer, shaping: Option<Shaping>) -> Self {
        Self { services, partitions, writer, shaping }
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, table: &CapturedTable, topic: Topic) {
        self.writer.add(topic);
        if let Some(shaping) = &mut self.shaping {
            shaping.add(table.qualified());
        }
    }

    /// Writes one table's changes into blocks and counts them.
    ///
    /// # Errors
    /// [`ConnectorError::BadRecord`] for a row that cannot be shaped, by what it is called.
    pub(crate) async fn write(
        &mut self,
        changes: &TableChanges,
        counts: &mut KindCounts,
        called: impl Fn(usize) -> String,
    ) -> Result<Blocks, Failure> {
        let place = self.writer.of_table(changes.table);
        let Some(shaping) = &mut self.shaping else { return Ok(self.writer.write(place, changes, counts).await?) };
        shaping.catch_up().await?;
        let Came::Otherwise(shaped, _) = shaping.shape(changes.table, &changes.batch, Pass::First)? else {
            return Ok(self.writer.write(place, changes, counts).await?);
        };
        let counts_row = |row: usize| changes.rows.as_ref().is_none_or(|rows| rows.binary_search(&row).is_ok());
        if let Some(failed) = shaped.failed.iter().find(|f| counts_row(f.row)) {
            return Err(ConnectorError::bad_record(format!("{}: {}", called(failed.row), failed.finding)).into());
        }
        let mut out = Vec::new();
        for part in shaped.parts {
            if let Some(place) = part.partly.first() {
                let finding = format!("{}: {PART_OF_A_ROW}", called(part.rows[*place]));
                return Err(ConnectorError::bad_record(finding).into());
            }
            let place = match &part.to {
                None => place,
                Some(way) => match self.writer.way(way) {
                    Some(known) => known,
                    None => {
                        let topic = ensure_topic(self.services, way, self.partitions).await?;
                        self.writer.add_way(topic)
                    }
                },
            };
            let rows = changes.rows.as_ref().map(|_| (0..part.rows.len()).filter(|n| counts_row(part.rows[*n])).collect());
            let changes = TableChanges { table: changes.table, batch: part.batch, rows };
            out.extend(self.writer.write(place, &changes, counts).await?);
        }
        Ok(out)
    }
}

pub(crate) async fn ensure_topic(services: &Services, topic: &str, partitions: i32) -> Result<Topic, Failure> {
    let name = TopicName::parse(topic).map_err(|e| PortError::Refused(e.to_string()))?;
    Ok(match services.log.create_topic(&name, partitions, &TopicSettings::default()).await {
        Err(PortError::Exists { .. }) => services.log.topic(&name).await?,
        made => made?,
    })
}
