//! Topics whose rows are written under a registered schema: which version that is, and how rows of each table become its values.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use gonvel_core::change::ChangeKind;
use gonvel_core::connector::CarriedTopic;
use gonvel_core::fitting::{Fit, FitForm};
use gonvel_core::naming::{SchemaId, SchemaName};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{PortError, Topic};
use gonvel_core::schemas::values::ValueSchema;
use gonvel_core::table::TableSchema;

use crate::failing::Failure;
use crate::services::Services;

/// Shared by what reads, which refuses rows that do not fit, and what writes.
pub(crate) type Fits = Arc<FitTargets>;

struct Target {
    id: SchemaId,
    /// The schema's name and version, for people.
    said: String,
    schema: Arc<ValueSchema>,
    fit: Fit,
}

/// Forms, or why there is none, by the place of what is read and its table.
type Forms = HashMap<(usize, Arc<TableSchema>), Result<Arc<FitForm>, String>>;

/// What rows are written under, by the places of the topics that are read.
pub(crate) struct FitTargets {
    to: HashMap<usize, Target>,
    forms: Mutex<Forms>,
}

/// A change whose value says its row.
pub(crate) fn has_value(kind: ChangeKind) -> bool {
    !matches!(kind, ChangeKind::Delete | ChangeKind::Truncate)
}

impl FitTargets {
    /// Of a connector, each written topic bound to its schema; none if it writes all rows under schemas of their own.
    pub(crate) async fn of(
        services: &Services,
        carries: &[CarriedTopic],
        written: &[Topic],
    ) -> Result<Option<Fits>, Failure> {
        let mut to = HashMap::new();
        for (place, (carried, topic)) in carries.iter().zip(written).enumerate() {
            let Some(fit) = &carried.fit else { continue };
            let wrong = |finding: String, remedy: &str| ConnectorError::settings(Some("carries"), finding, remedy);
            let name = SchemaName::parse(fit.schema.as_str()).map_err(|e| wrong(e.to_string(), "choose a schema"))?;
            let (id, version, language, text) = match services.schemas.latest(&name).await {
                Err(PortError::NotFound { .. }) => {
                    return Err(wrong(format!("there is no schema {name}"), "register it, or choose another").into());
                }
                found => found?,
            };
            let said = format!("{name}:{version}");
            let schema =
                ValueSchema::new(language, &text).map_err(|e| wrong(format!("{said} cannot be read: {e}"), "mend it"))?;
            let bound = services.schemas.bind_values(&topic.name, &name).await?;
            if bound != fit.schema {
                let finding = format!("{} holds values by {bound}, and rows are to be written under {name}", topic.name);
                return Err(wrong(finding, "write into another topic, or bind this one to that schema").into());
            }
            to.insert(place, Target { id, said, schema: Arc::new(schema), fit: fit.clone() });
        }
        Ok((!to.is_empty()).then(|| Arc::new(Self { to, forms: Mutex::default() })))
    }

    /// How rows of a table that are read at a place become values, and the version that they are of; none where rows have a schema of
    /// their own.
    ///
    /// # Errors
    /// Why the table does not fit.
    pub(crate) fn form(
        &self,
        place: usize,
        table: &Arc<TableSchema>,
    ) -> Result<Option<(SchemaId, Arc<FitForm>)>, ConnectorError> {
        let Some(target) = self.to.get(&place) else { return Ok(None) };
        let mut forms = self.forms.lock().unwrap_or_else(PoisonError::into_inner);
        let form = forms
            .entry((place, table.clone()))
            .or_insert_with(|| FitForm::new(target.schema.clone(), &target.said, table, &target.fit).map(Arc::new));
        match form {
            Ok(form) => Ok(Some((target.id, form.clone()))),
            Err(finding) => {
                let remedy = "link its fields with columns, or change the shape";
                Err(ConnectorError::settings(Some("carries"), finding.clone(), remedy))
            }
        }
    }
}
