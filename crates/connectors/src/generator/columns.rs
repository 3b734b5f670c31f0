//! What columns of recipes are to those who read them.

use gonvel_core::column::ColumnType;
use gonvel_core::connector::CapturedTable;
use gonvel_core::data_type::DataType;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::table::{Column as Shape, TableSchema};

use super::about::{KIND, SCHEMA};
use super::recipe::{Column, Holds, Recipe};

impl Column {
    /// How its values are carried, and what they are.
    pub(super) fn ty(&self) -> (ColumnType, DataType) {
        match &self.holds {
            Holds::Number {} | Holds::Whole { .. } | Holds::Reference { .. } => (ColumnType::Int64, DataType::Int64),
            Holds::Decimal { scale, .. } => {
                let (precision, scale) = (scale + 13, *scale);
                let is = DataType::Decimal { precision: precision.into(), scale: scale.into() };
                (ColumnType::Decimal { precision, scale }, is)
            }
            Holds::Flag { .. } => (ColumnType::Boolean, DataType::Boolean),
            Holds::Time {} => (ColumnType::TimestampTz, DataType::Timestamp { digits: None, zone: true }),
            Holds::Day { .. } => (ColumnType::Date, DataType::Date),
            Holds::Key { whole: true, .. } => (ColumnType::Int64, DataType::Int64),
            Holds::Key { .. }
            | Holds::Choice { .. }
            | Holds::Person {}
            | Holds::Company {}
            | Holds::City {}
            | Holds::Street {}
            | Holds::Words {}
            | Holds::Noise { .. } => (ColumnType::Text, DataType::Text),
        }
    }
}

impl Recipe {
    /// `schema.table`.
    pub(super) fn qualified(&self) -> String {
        format!("{SCHEMA}.{}", self.table)
    }

    /// The column by which its rows are known.
    pub(super) fn number(&self) -> &str {
        self.columns.iter().find(|c| matches!(c.holds, Holds::Number {})).map_or("", |c| c.name.as_str())
    }

    /// The shape of its rows as they are captured, and the places of its columns in it.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if a column is named that is not there.
    pub(super) fn captured(&self, wanted: &CapturedTable) -> Result<(TableSchema, Vec<usize>), ConnectorError> {
        let named = wanted.leave_out.iter().chain(&wanted.key);
        if let Some(gone) = named.into_iter().find(|name| !self.columns.iter().any(|column| column.name == **name)) {
            let finding = format!("{} has no column {gone}", self.qualified());
            return Err(ConnectorError::settings(Some("tables"), finding, "take it out, or put it into the recipe"));
        }
        let number = [self.number().to_owned()];
        let key = if wanted.key.is_empty() { &number[..] } else { &wanted.key[..] };
        let kept: Vec<usize> =
            (0..self.columns.len()).filter(|place| !wanted.leave_out.contains(&self.columns[*place].name)).collect();
        let shape = |place: &usize| {
            let column = &self.columns[*place];
            let (ty, source_type) = column.ty();
            Shape { name: column.name.clone(), ty, source_type, key: key.contains(&column.name) }
        };
        let columns = kept.iter().map(shape).collect();
        let (system, schema, table) = (KIND.to_owned(), SCHEMA.to_owned(), self.table.clone());
        Ok((TableSchema { system, schema, table, columns }, kept))
    }
}
