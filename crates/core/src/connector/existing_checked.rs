//! What may become of rows that stand where a connector writes before it begins.

use super::definition::{Deletes, SinkDefinition, SourceDefinition, TargetRows, ValueForm};
use super::error::DefinitionError;
use super::existing::ExistingRows;

/// Whether a load of a source may do so with the rows that are in its topics; `only` are the tables that are loaded.
///
/// # Errors
/// [`DefinitionError::Existing`] with the remedy.
pub fn may_load_so(
    source: &SourceDefinition,
    existing: ExistingRows,
    only: impl Fn(&str) -> bool,
) -> Result<(), DefinitionError> {
    let part = source.tables.iter().find(|table| table.load_where.is_some() && only(&table.qualified()));
    match (existing, part) {
        (ExistingRows::Empty, _) if source.values.form == ValueForm::Row => Err(DefinitionError::Existing(
            "values in row form do not tell that a table is emptied: compare, or write the topics in change form".into(),
        )),
        (ExistingRows::Compare, Some(table)) => Err(DefinitionError::Existing(format!(
            "only a part of {} is loaded, so what is gone cannot be told from what is left out: take the load's condition out, or \
             begin empty",
            table.qualified()
        ))),
        _ => Ok(()),
    }
}

pub(super) fn check_source(source: &SourceDefinition) -> Result<(), DefinitionError> {
    let Some(existing) = source.existing_rows.filter(|e| *e != ExistingRows::Keep) else { return Ok(()) };
    if !source.load.rows {
        return Err(DefinitionError::Existing(
            "no rows are loaded that could take their place: load them, or keep all".into(),
        ));
    }
    may_load_so(source, existing, |_| true)
}

pub(super) fn check_sink(sink: &SinkDefinition) -> Result<(), DefinitionError> {
    let by_key = sink.writes.rows == TargetRows::Current && sink.writes.deletes == Deletes::Applied;
    if sink.existing_rows == Some(ExistingRows::Compare) && !by_key {
        let finding = "rows that are gone are found and removed where the table holds current rows and deletes are applied: \
                       choose those, begin empty, or keep all";
        return Err(DefinitionError::Existing(finding.into()));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::{CapturedTable, DeliveredTopic, ValidConnector};
    use crate::naming::{ConnectorId, ConnectorName};

    #[test]
    fn what_would_remove_too_much_or_could_not_be_told_is_refused() {
        use ExistingRows::{Compare, Empty, Keep};
        let source = || SourceDefinition::of(Uuid::nil(), vec![CapturedTable::whole("public", "bins", "bins")], 1);
        let (mut part, mut rows, mut unloaded) = (source(), source(), source());
        part.tables[0].load_where = Some("id > 7".into());
        rows.values.form = ValueForm::Row;
        unloaded.load.rows = false;
        let topic = DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let sink = || SinkDefinition::of(Uuid::nil(), vec![topic.clone()]);
        let (mut marks, mut history) = (sink(), sink());
        marks.writes.deletes = Deletes::Marked;
        history.writes.rows = TargetRows::History;
        let sources = [source(), part, rows, unloaded].map(super::super::Definition::from);
        let sinks = [sink(), marks, history].map(super::super::Definition::from);
        // of each definition those that are taken
        let taken = [
            vec![Keep, Empty, Compare],
            vec![Keep, Empty],
            vec![Keep, Compare],
            vec![Keep],
            vec![Keep, Empty, Compare],
            vec![Keep, Empty],
            vec![Keep, Empty],
        ];
        for (definition, taken) in sources.into_iter().chain(sinks).zip(taken) {
            let takes = |existing: &ExistingRows| {
                let mut definition = definition.clone();
                match &mut definition {
                    super::super::Definition::Source(source) => source.existing_rows = Some(*existing),
                    super::super::Definition::Sink(sink) => sink.existing_rows = Some(*existing),
                    super::super::Definition::Topics(_) => {}
                }
                let name = ConnectorName::parse("bins").unwrap();
                ValidConnector::check(ConnectorId(Uuid::nil()), name, definition).is_ok()
            };
            let found: Vec<ExistingRows> = [Keep, Empty, Compare].into_iter().filter(takes).collect();
            assert_eq!(found, taken, "{definition:?}");
        }
        for existing in [Keep, Empty, Compare] {
            assert_eq!(ExistingRows::of_word(existing.word()), existing);
        }
    }
}
