//! The fields of a value of any form.

use gonvel_core::avro::single_object;

use crate::avro::AvroReading;
use crate::beside::Beside;
use crate::cell::Cell;
use crate::json;
use crate::schema::EventSchema;
use crate::tree::Node;

/// Fills the cells of a tree's columns from a value's fields; gives those that no column takes.
pub(crate) fn decode<'a>(
    tree: &Node,
    beside: Beside,
    value: &'a [u8],
    schema: Option<&'a EventSchema>,
    cells: &mut [Cell<'a>],
) -> Result<Option<String>, String> {
    match schema {
        Some(EventSchema::Avro { schema, named }) if single_object::split(value).is_some() => {
            let data = single_object::split(value).map_or(value, |(_, data)| data);
            AvroReading { named, beside }.read(schema, data, tree, cells)
        }
        Some(EventSchema::Protobuf(schema)) => {
            let json = schema
                .to_json_whole(value)
                .map_err(|e| format!("the value does not follow its schema ({e}): mend the record, or discard it"))?;
            let text = json.to_string();
            let mut own = vec![Cell::Absent; cells.len()];
            let rest = json::read(&text, tree, beside, &mut own)?;
            // the text is this function's: what is kept of it becomes its own
            cells.iter_mut().zip(own).for_each(|(cell, own)| *cell = own.owned());
            Ok(rest)
        }
        _ => {
            let text = std::str::from_utf8(value).map_err(|_| {
                "the value is neither JSON nor of a schema that is known: take the value whole, as bytea".to_owned()
            })?;
            json::read(text, tree, beside, cells)
        }
    }
}
