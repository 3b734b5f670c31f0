//! The rows of a captured relation, from the cells in which the stream sends them to the values of a change.

use std::sync::Arc;

use gonvel_core::change::{ChangeBatchBuilder, OldImage};
use gonvel_core::column::{ColumnType, Value};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::sql_text::{self, BadValue};
use gonvel_core::table::TableSchema;

use super::binary;
use super::load::push_key;
use super::pgoutput::{Cell, Old, Tuple};
use super::publication;

/// A captured relation as the stream last described it.
pub(super) struct Followed {
    /// Its place in the settings.
    pub(super) table: usize,
    /// `schema.table`.
    pub(super) name: String,
    pub(super) shape: Arc<TableSchema>,
    /// For each column of the stream its place in the shape; none for one that is left out.
    pub(super) places: Vec<Option<usize>>,
}

impl Followed {
    fn check_width(&self, tuple: Tuple<'_>) -> Result<(), ConnectorError> {
        if tuple.len() == self.places.len() {
            return Ok(());
        }
        Err(ConnectorError::Defect(format!(
            "a row of {} has {} columns where its description has {}",
            self.name,
            tuple.len(),
            self.places.len()
        )))
    }

    /// The cells that are captured, with their places in the shape, in its order.
    pub(super) fn cells<'t>(&self, tuple: Tuple<'t>) -> impl Iterator<Item = (usize, Cell<'t>)> {
        tuple.cells().zip(&self.places).filter_map(|(cell, place)| Some(((*place)?, cell)))
    }

    /// The key's values, each written in the one form that a reading's keys have as well.
    pub(super) fn key_text(&self, tuple: Tuple<'_>) -> Vec<u8> {
        self.key_of(self.cells(tuple))
    }

    pub(super) fn key_of<'t>(&self, cells: impl Iterator<Item = (usize, Cell<'t>)>) -> Vec<u8> {
        let (mut key, mut scratch) = (Vec::new(), Vec::new());
        for (index, cell) in cells {
            let column = &self.shape.columns[index];
            if column.key {
                // a value that cannot be read is told where it is pushed
                push_key(column.ty, value_of(column.ty, cell, &mut scratch).unwrap_or(Value::Null), &mut key);
            }
        }
        key
    }

    /// Writes a row as it was sent into the change that was begun.
    #[inline]
    pub(super) fn write_new(
        &self,
        builder: &mut ChangeBatchBuilder,
        scratch: &mut Vec<u8>,
        tuple: Tuple<'_>,
    ) -> Result<(), ConnectorError> {
        self.check_width(tuple)?;
        self.cells(tuple).try_for_each(|(index, cell)| self.write(builder, scratch, index, cell, Image::New))
    }

    /// Writes a row by its cells, in the order of the shape.
    pub(super) fn write_cells(
        &self,
        builder: &mut ChangeBatchBuilder,
        scratch: &mut Vec<u8>,
        cells: &[Cell<'_>],
    ) -> Result<(), ConnectorError> {
        cells.iter().enumerate().try_for_each(|(index, cell)| self.write(builder, scratch, index, *cell, Image::New))
    }

    /// Writes what was sent of the row before.
    pub(super) fn write_old(
        &self,
        builder: &mut ChangeBatchBuilder,
        scratch: &mut Vec<u8>,
        old: Option<Old<'_>>,
    ) -> Result<(), ConnectorError> {
        let (image, tuple) = match old {
            None => {
                builder.no_old();
                return Ok(());
            }
            Some(Old::Row(tuple)) => (OldImage::Row, tuple),
            Some(Old::Key(tuple)) => (OldImage::Key, tuple),
        };
        self.check_width(tuple)?;
        builder.begin_old(image);
        for (index, cell) in self.cells(tuple) {
            let column = &self.shape.columns[index];
            if image == OldImage::Key && column.key && matches!(cell, Cell::Null | Cell::Unchanged) {
                return Err(publication::without_identity(&self.name, &column.name));
            }
            let cell = if image == OldImage::Row || column.key { cell } else { Cell::Null };
            self.write(builder, scratch, index, cell, Image::Old)?;
        }
        Ok(())
    }

    #[inline]
    fn write(
        &self,
        builder: &mut ChangeBatchBuilder,
        scratch: &mut Vec<u8>,
        index: usize,
        cell: Cell<'_>,
        image: Image,
    ) -> Result<(), ConnectorError> {
        if cell == Cell::Unchanged && image == Image::New {
            builder.new_unchanged(index);
            return Ok(());
        }
        let column = &self.shape.columns[index];
        let value = value_of(column.ty, cell, scratch)
            .map_err(|e| ConnectorError::bad_record(format!("{}.{}: {e}", self.name, column.name)))?;
        let written = if image == Image::New { builder.new_value(index, value) } else { builder.old_value(index, value) };
        written.map_err(|e| ConnectorError::Defect(e.to_string()))
    }

    /// The new row of an update of which some values were not sent. A key that is stored out of line is not sent either when it stayed as it
    /// was: the old one is.
    pub(super) fn new_row<'t>(&self, old: Option<Old<'t>>, new: Tuple<'t>) -> Result<NewRow<'t>, ConnectorError> {
        self.check_width(new)?;
        let mut cells: Vec<Cell<'t>> = self.cells(new).map(|(_, cell)| cell).collect();
        if let Some(Old::Key(tuple) | Old::Row(tuple)) = old {
            for (index, before) in self.cells(tuple).filter(|(index, _)| self.shape.columns[*index].key) {
                if cells[index] == Cell::Unchanged {
                    cells[index] = before;
                }
            }
        }
        let unsent = |index: &usize| cells[*index] == Cell::Unchanged;
        if let Some(index) = self.shape.key_columns().into_iter().find(unsent) {
            let column = &self.shape.columns[index].name;
            return Err(ConnectorError::Defect(format!(
                "an update of {} came without the value of its key's {column}",
                self.name
            )));
        }
        let lacks_values = (0..cells.len()).any(|index| unsent(&index));
        Ok(NewRow { cells, lacks_values })
    }
}

/// The new row of an update: as it was sent or, where parts of it were not, with what is known of those.
pub(super) struct NewRow<'t> {
    pub(super) cells: Vec<Cell<'t>>,
    /// Whether a value is still not known.
    pub(super) lacks_values: bool,
}

#[derive(Clone, Copy, PartialEq)]
enum Image {
    New,
    Old,
}

/// A cell's value; one that was not sent is null.
#[inline]
pub(super) fn value_of<'c>(ty: ColumnType, cell: Cell<'c>, scratch: &'c mut Vec<u8>) -> Result<Value<'c>, BadValue> {
    match cell {
        Cell::Text(text) => sql_text::read(ty, text, scratch),
        Cell::Binary(bytes) => binary::read(ty, bytes),
        Cell::Unchanged | Cell::Null => Ok(Value::Null),
    }
}
