//! Changes on their way into topics: shaped, routed, written into blocks.

use gonvel_core::change::KindCounts;
use gonvel_core::connector::CapturedTable;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::systems::{ConnectorError, TableChanges};
use gonvel_core::ports::{PortError, Topic};
use gonvel_core::topic_settings::TopicSettings;
use gonvel_shape::run::Failed;

use crate::aside::source::{RowsAside, RowsCame};
use crate::comparing::Gone;
use crate::failing::Failure;
use crate::services::Services;
use crate::shaping::{Came, PART_OF_A_ROW, Pass, Shaping};
use crate::writing::{KnownColumns, Writer, Written};

pub(crate) type Blocks = Vec<Written>;

/// Where changes go: shaped, then into blocks.
pub(crate) struct Out<'o> {
    services: &'o Services,
    partitions: i32,
    writer: Writer,
    shaping: Option<Shaping>,
    /// Where rows wait that cannot be shaped; none where they end it.
    aside: Option<RowsAside>,
}

impl<'o> Out<'o> {
    pub(crate) fn new(
        services: &'o Services,
        partitions: i32,
        writer: Writer,
        shaping: Option<Shaping>,
        aside: Option<RowsAside>,
    ) -> Self {
        Self { services, partitions, writer, shaping, aside }
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, table: &CapturedTable, topic: Topic) {
        if let Some(aside) = &mut self.aside {
            aside.add(topic.clone());
        }
        self.writer.add(topic);
        if let Some(shaping) = &mut self.shaping {
            shaping.add(table.qualified());
        }
    }

    /// The topic of a captured table, where its rows go into it as they were captured.
    pub(crate) fn topic_unshaped(&self, table: usize) -> Option<&Topic> {
        self.shaping.is_none().then(|| self.writer.topic(self.writer.of_table(table)))
    }

    /// The columns that a captured table's rows were written with.
    pub(crate) fn known(&self, table: usize) -> KnownColumns {
        self.writer.known(self.writer.of_table(table))
    }

    /// The same, as it was stored.
    pub(crate) fn set_known(&mut self, table: usize, known: KnownColumns) {
        self.writer.set_known(self.writer.of_table(table), known);
    }

    /// The rows that wait.
    pub(crate) fn aside(&mut self) -> Option<&mut RowsAside> {
        self.aside.as_mut()
    }

    /// Writes one table's changes into blocks and counts them. Rows that cannot be shaped go into quarantine.
    ///
    /// # Errors
    /// [`ConnectorError::BadRecord`] for a row that cannot be shaped, where it may not wait.
    pub(crate) async fn write(&mut self, changes: &TableChanges, counts: &mut KindCounts) -> Result<Blocks, Failure> {
        let came = self.shape(changes, Pass::First).await?;
        let (shaped, hides_keys) = match &came {
            Came::AsItWas => (None, false),
            Came::Otherwise(shaped, plan) => (Some(shaped), plan.hides_keys()),
        };
        let counts_row = |row: usize| changes.rows.as_ref().is_none_or(|rows| rows.binary_search(&row).is_ok());
        let failed = shaped.map_or(&[][..], |shaped| &shaped.failed);
        let first = failed.iter().find(|f| counts_row(f.row));
        match (&mut self.aside, first) {
            (Some(aside), first) if first.is_none() || !hides_keys => {
                let topic = self.writer.topic(self.writer.of_table(changes.table));
                aside.take(RowsCame { topic, batch: &changes.batch, rows: changes.rows.as_deref(), failed }).await?;
            }
            (aside, Some(first)) => {
                let why = if aside.is_some() { "; its key is hidden, so it may not wait in quarantine" } else { "" };
                let finding = format!("a row of {}: {}{why}", changes.batch.table.qualified(), first.finding);
                return Err(ConnectorError::bad_record(finding).into());
            }
            (_, None) => {}
        }
        self.blocks(changes, came, counts).await
    }

    /// Writes rows that waited, as they are now; gives those that still cannot be shaped as well.
    pub(crate) async fn write_again(
        &mut self,
        rows: &TableChanges,
        counts: &mut KindCounts,
    ) -> Result<(Blocks, Vec<Failed>), Failure> {
        let mut came = self.shape(rows, Pass::Again).await?;
        let failed = match &mut came {
            Came::AsItWas => Vec::new(),
            Came::Otherwise(shaped, _) => std::mem::take(&mut shaped.failed),
        };
        Ok((self.blocks(rows, came, counts).await?, failed))
    }

    /// Writes that rows of a topic are gone, as they were written there. One that waits in quarantine is not gone.
    pub(crate) async fn write_gone(
        &mut self,
        table: usize,
        Gone { topic, deletes }: Gone,
        counts: &mut KindCounts,
    ) -> Result<Blocks, Failure> {
        let place = self.writer.place_of(&topic);
        let headers = self.shaping.as_ref().map_or_else(Vec::new, |shaping| shaping.headers(table));
        let mut out = Vec::new();
        for batch in deletes {
            let of = self.writer.topic(self.writer.of_table(table)).id;
            let waits = |row: &usize| self.aside.as_ref().is_some_and(|aside| aside.waits(of, &batch, *row));
            let gone: Vec<usize> = (0..batch.len()).filter(|row| !waits(row)).collect();
            let changes = TableChanges { table, batch, rows: Some(gone) };
            out.extend(self.writer.write_as_known(place, &changes, &headers, counts).await?);
        }
        Ok(out)
    }

    async fn shape(&mut self, changes: &TableChanges, pass: Pass) -> Result<Came, Failure> {
        let Some(shaping) = &mut self.shaping else { return Ok(Came::AsItWas) };
        shaping.catch_up().await?;
        let mut came = shaping.shape(changes.table, &changes.batch, pass)?;
        if let Came::Otherwise(shaped, _) = &mut came {
            shaped.refuse_parts(PART_OF_A_ROW);
        }
        Ok(came)
    }

    async fn blocks(&mut self, changes: &TableChanges, came: Came, counts: &mut KindCounts) -> Result<Blocks, Failure> {
        let place = self.writer.of_table(changes.table);
        let headers = self.shaping.as_ref().map_or_else(Vec::new, |shaping| shaping.headers(changes.table));
        let Came::Otherwise(shaped, _) = came else { return Ok(self.writer.write(place, changes, &headers, counts).await?) };
        let counts_row = |row: usize| changes.rows.as_ref().is_none_or(|rows| rows.binary_search(&row).is_ok());
        let mut out = Vec::new();
        for part in shaped.parts {
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
            out.extend(self.writer.write(place, &changes, &headers, counts).await?);
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
