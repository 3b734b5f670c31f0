//! What a definition refers to: connections and other connectors, by their ids, or in text by their names.

use super::definition::{SinkDefinition, SourceDefinition, Start, TopicsDefinition};
use crate::shape::Shapes;

/// What stands for a connection or a connector instead of what stood for it.
pub trait Refer<C, D> {
    /// Why nothing does.
    type Error;

    /// A connection.
    ///
    /// # Errors
    /// [`Self::Error`] if there is none.
    fn connection(&self, named: C) -> Result<D, Self::Error>;

    /// A connector.
    ///
    /// # Errors
    /// [`Self::Error`] if there is none.
    fn connector(&self, named: C) -> Result<D, Self::Error>;

    /// A connection that a step of a shape reads through: those stand as text either way.
    ///
    /// # Errors
    /// [`Self::Error`] if there is none.
    fn looked_up(&self, named: &str) -> Result<String, Self::Error>;
}

fn start<C, D, R: Refer<C, D>>(start: Option<Start<C>>, to: &R) -> Result<Option<Start<D>>, R::Error> {
    let Some(start) = start else { return Ok(None) };
    Ok(Some(match start {
        Start::Earliest {} => Start::Earliest {},
        Start::Latest {} => Start::Latest {},
        Start::Time { time } => Start::Time { time },
        Start::Position { position } => Start::Position { position },
        Start::Offsets { offsets } => Start::Offsets { offsets },
        Start::Connector { connector } => Start::Connector { connector: to.connector(connector)? },
    }))
}

fn shape<C, D, R: Refer<C, D>>(mut shape: Shapes, to: &R) -> Result<Shapes, R::Error> {
    for named in shape.connections() {
        *named = to.looked_up(named)?;
    }
    Ok(shape)
}

impl<C> SourceDefinition<C> {
    /// The same with what it refers to called otherwise.
    ///
    /// # Errors
    /// Those of `to`.
    pub fn referring<D, R: Refer<C, D>>(self, to: &R) -> Result<SourceDefinition<D>, R::Error> {
        Ok(SourceDefinition {
            connection: to.connection(self.connection)?,
            tables: self.tables,
            patterns: self.patterns,
            partitions: self.partitions,
            load: self.load,
            existing_rows: self.existing_rows,
            values: self.values,
            start: start(self.start, to)?,
            schema_changes: self.schema_changes,
            shape: shape(self.shape, to)?,
            placing: self.placing,
            failing: self.failing,
        })
    }
}

impl<C> SinkDefinition<C> {
    /// The same with what it refers to called otherwise.
    ///
    /// # Errors
    /// Those of `to`.
    pub fn referring<D, R: Refer<C, D>>(self, to: &R) -> Result<SinkDefinition<D>, R::Error> {
        Ok(SinkDefinition {
            connection: to.connection(self.connection)?,
            topics: self.topics,
            writes: self.writes,
            existing_rows: self.existing_rows,
            start: start(self.start, to)?,
            shape: shape(self.shape, to)?,
            placing: self.placing,
            failing: self.failing,
        })
    }
}

impl<C> TopicsDefinition<C> {
    /// The same with what it refers to called otherwise.
    ///
    /// # Errors
    /// Those of `to`.
    pub fn referring<D, R: Refer<C, D>>(self, to: &R) -> Result<TopicsDefinition<D>, R::Error> {
        Ok(TopicsDefinition {
            carries: self.carries,
            partitions: self.partitions,
            values: self.values,
            start: start(self.start, to)?,
            shape: shape(self.shape, to)?,
            placing: self.placing,
            failing: self.failing,
        })
    }
}
