//! What is asked of an outside system on a person's behalf, and carried out where the system is reached.

use std::collections::{BTreeMap, HashMap};

use async_trait::async_trait;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use uuid::Uuid;

use super::PortError;
use super::systems::{Address, ConnectorError, Expected, Sample, SourcePlace, Stand, TableSummary, ToldError};
use crate::change::ChangeBatch;
use crate::connector::{CapturedTable, SourceDefinition, Values, Writes};
use crate::kinds::About;
use crate::naming::{ConnectorId, RunnerName, TopicPartition};
use crate::planning::Labels;
use crate::preflight::Report;
use crate::rows_told::{self, RowsTold};
use crate::table::TableSchema;

/// What is asked.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Errand {
    /// Whether it can be reached and used.
    Test,
    /// That a check's statement is carried out.
    Mend(String),
    /// Its tables.
    Tables,
    /// The shape of a table's rows.
    Describe(CapturedTable),
    /// A few rows, and the records they would become.
    Sample(CapturedTable, Values),
    /// Rows as they are now, at most so many.
    Rows(CapturedTable, usize),
    /// Rows as they are now, by their keys.
    RowsByKey(CapturedTable, Vec<BTreeMap<String, String>>),
    /// What a source needs.
    OfSource(Box<SourceDefinition>, Option<ConnectorId>),
    /// What a sink needs.
    OfSink(Vec<Expected>, Writes),
    /// Which tables a source would capture.
    Choose(Box<SourceDefinition>),
    /// The place that it keeps for a source.
    Place(ConnectorId),
    /// Whether it goes on from a source's stored position.
    GoesOn(ConnectorId, Json),
    /// Where a sink stands.
    Stands(ConnectorId),
}

/// What came of it.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    /// It was done.
    Done,
    /// What was checked.
    Report(Report),
    /// Tables.
    Tables(Vec<TableSummary>),
    /// The shape of a table's rows.
    Shape(TableSchema),
    /// Rows for people.
    Sample(Sample),
    /// Rows.
    Rows(RowsTold),
    /// Tables that would be captured.
    Chosen(Vec<CapturedTable>),
    /// A source's place; none where none is kept.
    Place(Option<SourcePlace>),
    /// Where a sink's partitions stand.
    Stands(Vec<(TopicPartition, Stand)>),
}

/// What came of an errand, as it goes from one process to another.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It was carried out.
    Answered(Answer),
    /// It could not be.
    Failed(ToldError),
}

impl Outcome {
    /// As whoever asked takes it.
    ///
    /// # Errors
    /// What it failed with.
    pub fn taken(self, about: &About) -> Result<Answer, ConnectorError> {
        match self {
            Self::Answered(answer) => Ok(answer),
            Self::Failed(told) => Err(told.taken(about)),
        }
    }
}

/// Carries errands out, wherever the system is reached.
#[async_trait]
pub trait Errands: Send + Sync {
    /// Carries one out.
    ///
    /// # Errors
    /// [`ConnectorError`] if the system does not answer or does not do as asked.
    async fn carry_out(&self, address: &Address, errand: Errand) -> Result<Answer, ConnectorError>;
}

fn other(answer: &Answer) -> ConnectorError {
    let named = format!("{answer:?}");
    let word: String = named.chars().take_while(|c| c.is_alphanumeric()).collect();
    ConnectorError::Defect(format!("a runner gave {word} for what was asked of it"))
}

/// An errand of each sort with its answer. The errors are those of [`Errands::carry_out`].
#[allow(clippy::missing_errors_doc, reason = "said once for all")]
impl dyn Errands + '_ {
    /// Checks that a system can be reached and used.
    pub async fn test(&self, address: &Address) -> Report {
        self.report(address, Errand::Test).await
    }

    /// What an errand that checks something reports; that it cannot be carried out is a check that failed.
    pub async fn report(&self, address: &Address, errand: Errand) -> Report {
        match self.carry_out(address, errand).await {
            Ok(Answer::Report(report)) => report,
            Ok(answer) => vec![other(&answer).as_check("connection", "connection")],
            Err(error) => vec![error.as_check("connection", "connection")],
        }
    }

    /// Carries out the statement of a check.
    pub async fn mend(&self, address: &Address, statement: String) -> Result<(), ConnectorError> {
        self.carry_out(address, Errand::Mend(statement)).await.map(|_| ())
    }

    /// Tables of a system.
    pub async fn tables(&self, address: &Address) -> Result<Vec<TableSummary>, ConnectorError> {
        match self.carry_out(address, Errand::Tables).await? {
            Answer::Tables(tables) => Ok(tables),
            answer => Err(other(&answer)),
        }
    }

    /// The shape of a table's rows, as they would be captured.
    pub async fn describe(&self, address: &Address, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
        match self.carry_out(address, Errand::Describe(table.clone())).await? {
            Answer::Shape(shape) => Ok(shape),
            answer => Err(other(&answer)),
        }
    }

    /// A few rows, and the records they would become.
    pub async fn sample(&self, address: &Address, table: &CapturedTable, values: Values) -> Result<Sample, ConnectorError> {
        match self.carry_out(address, Errand::Sample(table.clone(), values)).await? {
            Answer::Sample(sample) => Ok(sample),
            answer => Err(other(&answer)),
        }
    }

    /// Rows as they are now.
    pub async fn rows(&self, address: &Address, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError> {
        self.some_rows(address, Errand::Rows(table.clone(), most)).await
    }

    /// Rows as they are now, by their keys.
    pub async fn rows_by_key(
        &self,
        address: &Address,
        table: &CapturedTable,
        keys: &[BTreeMap<String, String>],
    ) -> Result<ChangeBatch, ConnectorError> {
        self.some_rows(address, Errand::RowsByKey(table.clone(), keys.to_vec())).await
    }

    async fn some_rows(&self, address: &Address, errand: Errand) -> Result<ChangeBatch, ConnectorError> {
        match self.carry_out(address, errand).await? {
            Answer::Rows(rows) => rows_told::taken(rows).map_err(ConnectorError::Defect),
            answer => Err(other(&answer)),
        }
    }

    /// The tables that a source would capture now: those that are named, and those that its patterns find.
    pub async fn captured_now(
        &self,
        address: &Address,
        source: &SourceDefinition,
    ) -> Result<Vec<CapturedTable>, ConnectorError> {
        if source.patterns.is_none() {
            return Ok(source.tables.clone());
        }
        match self.carry_out(address, Errand::Choose(Box::new(source.clone()))).await? {
            Answer::Chosen(tables) => Ok(tables),
            answer => Err(other(&answer)),
        }
    }

    /// The place that a system keeps for a source; none where it keeps none.
    pub async fn place(&self, address: &Address, source: ConnectorId) -> Result<Option<SourcePlace>, ConnectorError> {
        match self.carry_out(address, Errand::Place(source)).await? {
            Answer::Place(place) => Ok(place),
            answer => Err(other(&answer)),
        }
    }

    /// Whether a system goes on from a source's stored position.
    pub async fn goes_on(&self, address: &Address, source: ConnectorId, stored: &Json) -> Result<(), ConnectorError> {
        self.carry_out(address, Errand::GoesOn(source, stored.clone())).await.map(|_| ())
    }

    /// Where a sink stands.
    pub async fn stands(
        &self,
        address: &Address,
        sink: ConnectorId,
    ) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
        match self.carry_out(address, Errand::Stands(sink)).await? {
            Answer::Stands(stands) => Ok(stands.into_iter().collect()),
            answer => Err(other(&answer)),
        }
    }
}

/// An errand that a runner took on.
#[derive(Debug)]
pub struct TakenErrand {
    /// Its id.
    pub id: Uuid,
    /// How the system is reached.
    pub address: Address,
    /// What is asked.
    pub errand: Errand,
}

/// How an errand stands.
#[derive(Debug)]
pub enum ErrandState {
    /// No runner has taken it on.
    Waiting,
    /// A runner is at it.
    Taken,
    /// It came to something; it is forgotten now.
    Done(Outcome),
    /// It is not there: it was withdrawn, or the database was restarted.
    Gone,
}

/// Where errands are handed to runners. Nothing of them can be read there but by whoever has the key of secrets.
#[async_trait]
pub trait ErrandStore: Send + Sync {
    /// Asks the runners that have these labels.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn ask_runners(&self, only_where: &Labels, address: &Address, errand: &Errand) -> Result<Uuid, PortError>;

    /// How one stands.
    ///
    /// # Errors
    /// [`PortError::TryAgain`]; [`PortError::Refused`] if it cannot be opened.
    async fn errand(&self, id: Uuid) -> Result<ErrandState, PortError>;

    /// Forgets one.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn withdraw(&self, id: Uuid) -> Result<(), PortError>;

    /// Takes on what waits for a runner with these labels, each once. One that cannot be opened here is answered as that.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn take_errands(&self, runner: &RunnerName, labels: &Labels) -> Result<Vec<TakenErrand>, PortError>;

    /// Says what came of one.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    async fn answer_errand(&self, id: Uuid, outcome: &Outcome) -> Result<(), PortError>;
}
