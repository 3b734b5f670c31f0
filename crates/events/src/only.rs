//! Of which type a record is, and whether that is taken.

use gonvel_core::event_rows::{EventColumn, Only, Part};
use gonvel_shape::ty::Ty;

use crate::beside::Beside;
use crate::came::Came;
use crate::cell::Cell;
use crate::decoding::decode;
use crate::schema::EventSchema;
use crate::tree::Node;

/// What says a record's type, and which types are taken.
#[derive(Debug, Clone)]
pub struct Teller {
    only: Only,
    field: Node,
}

impl Teller {
    /// For these types.
    #[must_use]
    pub fn new(only: &Only) -> Self {
        let column = EventColumn { path: only.path.clone(), ..EventColumn::of(only.part, "", "text") };
        Self { only: only.clone(), field: Node::of(&[column]) }
    }

    /// Whether a record is taken.
    ///
    /// # Errors
    /// Why its type cannot be told.
    pub fn takes(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<bool, String> {
        Ok(self.only.takes(self.told(came, schema)?.as_deref()))
    }

    /// The type that a record says; none where it says none.
    pub(crate) fn told(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<Option<String>, String> {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        match self.only.part {
            Part::Key => Ok(came.record.key.map(text)),
            Part::Header => {
                let headers = came.record.headers();
                let of_name = headers.iter().rev().find(|(name, _)| self.only.path.first().is_some_and(|own| own == name));
                Ok(of_name.map(|(_, value)| text(value)))
            }
            _ => self.in_value(came, schema),
        }
    }

    fn in_value(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<Option<String>, String> {
        let Some(value) = came.record.value else {
            return Err("it has no value, and a field of the value says its type: let a header say it, or discard it".into());
        };
        let mut cells = [Cell::Absent];
        decode(&self.field, Beside::LeftOut, value, schema, &mut cells)?;
        let [cell] = cells;
        let given = cell.into_given(&Ty::Text).map_err(|fault| {
            format!("at $.{}: {fault}, and it says the record's type: mend the record", self.only.path.join("."))
        })?;
        Ok(match given.value() {
            gonvel_core::column::Value::Text(text) => Some(text.to_owned()),
            _ => None,
        })
    }
}
