//! Rows that are in a target's tables before a sink first delivers into them: removed all, or those that its topics do not know.
//! It happens in the transaction that takes the positions over, so once, whatever fails, and before anything is delivered.

use std::collections::{BTreeMap, HashSet};
use std::fmt::Write as _;

use gonvel_core::change::{ChangeBatch, ChangeKind};
use gonvel_core::column::ColumnArray;
use gonvel_core::fold::Place;
use gonvel_core::naming::TopicId;
use gonvel_core::ports::systems::{ConnectorError, TopicChanges};

use super::apply::{Application, PartsOfRows};
use super::client::explain;
use super::names::{ident, qualified};
use super::sink::{NOT_WAITING, PgSink};

fn during(error: &tokio_postgres::Error) -> ConnectorError {
    explain(error, "removing rows that were there")
}

type Image = fn(&ChangeBatch) -> &[ColumnArray];

fn old(batch: &ChangeBatch) -> &[ColumnArray] {
    &batch.old
}

fn new(batch: &ChangeBatch) -> &[ColumnArray] {
    &batch.new
}

fn gathered(place: usize) -> String {
    format!("pg_temp.gonvel_keys_{place}")
}

impl PgSink {
    /// The tables of topics that are there, each with the places that it has in the settings.
    async fn tables_there(&self, topics: &HashSet<TopicId>) -> Result<BTreeMap<String, Vec<usize>>, ConnectorError> {
        let mut there: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (place, (_, delivered)) in self.settings.topics.iter().enumerate().filter(|(_, (t, _))| topics.contains(t)) {
            let name = qualified(&delivered.schema, &delivered.table);
            let found = self.client.query_opt("SELECT 1 WHERE to_regclass($1) IS NOT NULL", &[&name]).await;
            if found.map_err(|e| during(&e))?.is_some() {
                there.entry(name).or_default().push(place);
            }
        }
        Ok(there)
    }

    /// Opens a transaction for what becomes of rows that are there, where Gonvel keeps the position; [`Self::begun`] ends it.
    ///
    /// # Errors
    /// [`ConnectorError`].
    pub async fn about_to_begin(&mut self) -> Result<(), ConnectorError> {
        self.open = true;
        self.client.batch_execute("BEGIN; SET LOCAL synchronous_commit = on").await.map_err(|e| during(&e))
    }

    /// Makes last what became of the rows that were there, with the positions where the target holds them.
    ///
    /// # Errors
    /// [`ConnectorError`]; nothing of it has then happened.
    pub async fn begun(&mut self) -> Result<(), ConnectorError> {
        self.commit().await?;
        let waits = if self.settings.writes.guarantee.in_target() { NOT_WAITING } else { "" };
        self.client.batch_execute(waits).await.map_err(|e| during(&e))
    }

    /// Removes all rows of the tables of some topics; gives how many.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn remove_all(&self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError> {
        let mut removed = 0;
        for name in self.tables_there(topics).await?.keys() {
            removed += self.client.execute(&format!("DELETE FROM {name}"), &[]).await.map_err(|e| during(&e))?;
        }
        Ok(removed)
    }

    /// Notes the keys of changes, whatever became of their rows.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn note_keys(&mut self, changes: &TopicChanges) -> Result<(), ConnectorError> {
        let Some(first) = changes.batches.first() else { return Ok(()) };
        if changes.is_truncate() {
            return Ok(());
        }
        self.prepare(changes).await?;
        let Some(target) = self.targets.get(&(changes.topic, first.table.clone())) else { return Ok(()) };
        let key = first.table.key_columns();
        let mut names: Vec<String> = key.iter().map(|&c| ident(&first.table.columns[c].name)).collect();
        let into = gathered(changes.topic);
        if !self.known_keys.contains_key(&changes.topic) {
            let make = format!(
                "CREATE TEMP TABLE {into} ON COMMIT DROP AS SELECT {} FROM {} WITH NO DATA",
                names.join(", "),
                target.name
            );
            self.client.batch_execute(&make).await.map_err(|e| during(&e))?;
        }
        let columns = self.known_keys.entry(changes.topic).or_insert_with(|| names.clone());
        let mut sorted = columns.clone();
        sorted.sort_unstable();
        names.sort_unstable();
        if names != sorted || names.is_empty() {
            let (_, topic) = &self.settings.topics[changes.topic];
            return Err(ConnectorError::settings(
                Some("existing_rows"),
                format!("records of {} have no key, or not all the same one: rows cannot be compared", topic.topic),
                "begin empty, or keep all rows that are there",
            ));
        }
        let (batches, statements) = (&changes.batches, &self.statements);
        let application = Application {
            client: &self.client,
            target,
            batches,
            shape: &first.table,
            statements,
            marks: false,
            parts_of_rows: PartsOfRows::default(),
        };
        let (rows, casts) = application.rows_of(&key);
        let names = key.iter().map(|&c| ident(&first.table.columns[c].name)).collect::<Vec<_>>().join(", ");
        let statement = format!("INSERT INTO {into} ({names}) SELECT {} FROM {rows}", casts.join(", "));
        let kind = |&(batch, row): &Place| batches[batch].kinds[row];
        let (deletes, brings): (Vec<Place>, Vec<Place>) =
            changes.changes.iter().map(|(place, _)| *place).partition(|place| kind(place) == ChangeKind::Delete);
        for (places, image) in [(deletes, old as Image), (brings, new)] {
            if !places.is_empty() {
                let parameters: Vec<_> = key.iter().map(|&c| application.parameter(&places, c, image)).collect();
                application.execute(&statement, &parameters).await.map_err(|e| during(&e))?;
            }
        }
        Ok(())
    }

    /// Removes the rows of some topics' tables whose keys are not known; gives how many.
    ///
    /// # Errors
    /// [`ConnectorError`]; the sink must be started again.
    pub async fn remove_unknown(&self, topics: &HashSet<TopicId>) -> Result<u64, ConnectorError> {
        let mut removed = 0;
        // set-wise for once
        self.client.batch_execute("SET LOCAL enable_hashjoin = on").await.map_err(|e| during(&e))?;
        for (name, places) in self.tables_there(topics).await? {
            let mut delete = format!("DELETE FROM {name} t WHERE true");
            for (place, columns) in places.iter().filter_map(|place| Some((*place, self.known_keys.get(place)?))) {
                self.client.batch_execute(&format!("ANALYZE {}", gathered(place))).await.map_err(|e| during(&e))?;
                let same = columns.iter().map(|c| format!("k.{c} = t.{c}")).collect::<Vec<_>>().join(" AND ");
                let _ = write!(delete, " AND NOT EXISTS (SELECT 1 FROM {} k WHERE {same})", gathered(place));
            }
            removed += self.client.execute(&delete, &[]).await.map_err(|e| during(&e))?;
        }
        Ok(removed)
    }
}
