//! What a server may ask of outside systems on a person's behalf: tests, preflights, remedies, lists of tables.

use std::collections::{BTreeMap, HashMap, HashSet};

use gonvel_connectors::postgres::preflight::Expected;
use gonvel_connectors::postgres::{client, preflight, sample, sink_positions, slot, tables, tls};
use gonvel_core::change::ChangeBatch;
use gonvel_core::connector::{CapturedTable, Definition, DeliveredTopic, SourceDefinition, Values};
use gonvel_core::delivered::Nulls;
use gonvel_core::loops::{self, Carrier};
use gonvel_core::naming::{ConnectorId, TopicPartition};
use gonvel_core::ports::DatabaseAddress;
use gonvel_core::preflight::{Check, Report};
use gonvel_core::table::TableSchema;

use crate::choosing::choose;
use crate::load_filter::checked;

pub use gonvel_connectors::error::ConnectorError;
pub use gonvel_connectors::kinds::kinds;
pub use gonvel_connectors::postgres::sample::Sample;
pub use gonvel_connectors::postgres::sink_positions::Stand;
pub use gonvel_connectors::postgres::tables::TableSummary;

/// Checks that a system can be reached and logged in to.
pub async fn test(address: &DatabaseAddress) -> Report {
    preflight::connection(address).await
}

/// What a preflight is about.
#[derive(Debug)]
pub struct Asked<'a> {
    /// What the connector is to do.
    pub definition: &'a Definition,
    /// Its id, if it is saved already.
    pub connector: Option<ConnectorId>,
    /// How its system is reached.
    pub address: Option<&'a DatabaseAddress>,
    /// The shapes of topics that hold captured rows, by topic.
    pub shapes: HashMap<String, TableSchema>,
    /// Topics that a sink delivers already, whose tables' rows are its own.
    pub begun: HashSet<String>,
    /// What is null in the newest records of topics that are delivered as they are, by topic.
    pub nulls: HashMap<String, Nulls>,
    /// All other connectors: name, database, definition.
    pub others: Vec<(String, String, Definition)>,
}

/// Checks what a connector needs of its system, and that it does not carry changes in a circle.
pub async fn preflight(asked: &Asked<'_>) -> Report {
    let mut report = match (asked.definition, asked.address) {
        (Definition::Source(source), Some(address)) => {
            let (source, refused) = understood(address, source).await;
            let mut report = preflight::source(address, &source, asked.connector).await;
            report.extend(refused);
            report
        }
        (Definition::Sink(sink), Some(address)) => {
            let expected = |topic: &DeliveredTopic| Expected {
                topic: topic.clone(),
                shape: asked.shapes.get(&topic.name()).cloned(),
                nulls: asked.nulls.get(&topic.name()).cloned(),
                begun: asked.begun.contains(&topic.topic),
                existing: sink.existing_rows,
            };
            let expected: Vec<Expected> = sink.topics.iter().map(expected).collect();
            preflight::sink(address, &expected, sink.writes).await
        }
        (Definition::Topics(topics), _) => {
            let carried = topics.carries.len();
            vec![Check::passed("topics", format!("{carried} carried within Gonvel: no system is needed"))]
        }
        (_, None) => vec![Check::failed("connection", "connection", "the connection is not there")],
    };
    report.push(circle(asked));
    report
}

/// The tables that a source would capture now: those that are named, and those that its patterns find.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn captured_now(
    address: &DatabaseAddress,
    source: &SourceDefinition,
) -> Result<Vec<CapturedTable>, ConnectorError> {
    if source.patterns.is_none() {
        return Ok(source.tables.clone());
    }
    Ok(choose(&client::connect(address).await?, &address.database, source).await?.tables)
}

/// A source with the conditions of its load as they go to the server; those that cannot be used are told, and left out.
async fn understood(address: &DatabaseAddress, source: &SourceDefinition) -> (SourceDefinition, Report) {
    let (mut source, mut refused) = (source.clone(), Report::new());
    if source.tables.iter().all(|table| table.load_where.is_none()) || !source.load.rows {
        return (source, refused);
    }
    // a server that does not answer is told by the checks that follow
    let Ok(client) = client::connect(address).await else { return (source, refused) };
    for table in &mut source.tables {
        match checked(&client, &address.database, table).await {
            Ok(known) => *table = known,
            Err(ConnectorError::Settings { finding, remedy, .. }) => {
                table.load_where = None;
                let label = format!("rows of {} to load", table.qualified());
                refused.push(Check::failed(label, "tables", finding).remedy(remedy));
            }
            Err(_) => {}
        }
    }
    (source, refused)
}

fn circle(asked: &Asked<'_>) -> Check {
    let (name, address) = ("source and target", asked.address);
    let system = address.map(|a| loops::system_of(&a.host, a.port, &a.database)).unwrap_or_default();
    let others: Vec<Carrier<'_>> =
        asked.others.iter().map(|(name, system, definition)| Carrier { name, system, definition }).collect();
    let Some(circle) = loops::circle(Carrier { name, system: &system, definition: asked.definition }, &others) else {
        return Check::passed(name, "no change comes back to where it came from");
    };
    let places: Vec<String> = circle.iter().map(ToString::to_string).collect();
    let field = if asked.definition.kind() == "source" { "tables" } else { "topics" };
    Check::failed(name, field, format!("changes would go in a circle: {}", places.join(" → ")))
        .means("each would come back as a new one, for ever")
        .remedy("write to another table, or leave this one out")
}

/// Checks that certificates to trust can be read.
///
/// # Errors
/// [`ConnectorError::Settings`] at the field `ca`.
pub fn check_ca(pem: &str) -> Result<(), ConnectorError> {
    tls::check_ca(pem)
}

/// Runs the statement of a check that the connection's own login may run.
///
/// # Errors
/// [`ConnectorError`] if the server refuses it.
pub async fn mend(address: &DatabaseAddress, statement: &str) -> Result<(), ConnectorError> {
    preflight::mend(address, statement).await
}

/// Where a source's place in its server's log is.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn source_place(address: &DatabaseAddress, connector: ConnectorId) -> Result<slot::Place, ConnectorError> {
    slot::place(address, connector).await
}

/// Where a sink stands, by partition, with the records that it knows the log by. Empty if it never began.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn sink_stands(
    address: &DatabaseAddress,
    connector: ConnectorId,
) -> Result<HashMap<TopicPartition, Stand>, ConnectorError> {
    sink_positions::stands(address, connector).await
}

/// Where a sink stands, by partition: the offset to deliver next. Empty if it never began.
///
/// # Errors
/// [`ConnectorError`] if the server does not answer.
pub async fn sink_positions(
    address: &DatabaseAddress,
    connector: ConnectorId,
) -> Result<HashMap<TopicPartition, i64>, ConnectorError> {
    Ok(sink_stands(address, connector).await?.into_iter().map(|(at, stand)| (at, stand.delivered.next)).collect())
}

/// Where a lane stands that reads topics and whose position Gonvel keeps: the offset to read next of each partition.
#[must_use]
pub fn kept_positions(position: &serde_json::Value) -> HashMap<TopicPartition, i64> {
    crate::stands::positions(position)
}

/// The stored position of such a lane with partitions moved from where they stand to other offsets; none if one
/// stands elsewhere.
#[must_use]
pub fn kept_moved(position: &serde_json::Value, moves: &[(TopicPartition, i64, i64)]) -> Option<serde_json::Value> {
    crate::stands::moved(position, moves)
}

/// Moves a sink that does not run; see [`sink_positions::reposition`].
///
/// # Errors
/// [`ConnectorError`].
pub async fn move_sink(
    address: &DatabaseAddress,
    connector: ConnectorId,
    moves: &[(TopicPartition, i64, i64)],
    agreed: bool,
) -> Result<(), ConnectorError> {
    sink_positions::reposition(address, connector, moves, agreed).await
}

/// The tables a system has.
///
/// # Errors
/// [`ConnectorError`] if it does not answer.
pub async fn list_tables(address: &DatabaseAddress) -> Result<Vec<TableSummary>, ConnectorError> {
    let client = client::connect(address).await?;
    tables::list(&client).await
}

/// The shape of a table's rows, as they would be captured.
///
/// # Errors
/// [`ConnectorError`] if the table is not there.
pub async fn table_shape(address: &DatabaseAddress, table: &CapturedTable) -> Result<TableSchema, ConnectorError> {
    tables::describe(&client::connect(address).await?, &address.database, table).await
}

/// Rows of a table as they are now, as those of an initial load.
///
/// # Errors
/// [`ConnectorError`] if the table cannot be read as asked.
pub async fn rows(address: &DatabaseAddress, table: &CapturedTable, most: usize) -> Result<ChangeBatch, ConnectorError> {
    let table = checked(&client::connect(address).await?, &address.database, table).await?;
    sample::rows(address, &table, most).await
}

/// Rows of a table as they are now, by their key columns' values as the server writes them; those that are gone are left out.
///
/// # Errors
/// [`ConnectorError`] if the table cannot be read.
pub async fn rows_by_key(
    address: &DatabaseAddress,
    table: &CapturedTable,
    keys: &[BTreeMap<String, String>],
) -> Result<ChangeBatch, ConnectorError> {
    sample::rows_by_key(&client::connect(address).await?, &address.database, table, keys).await
}

/// A few rows of a table, and the records they would become.
///
/// # Errors
/// [`ConnectorError`] if the table cannot be read as asked.
pub async fn sample(address: &DatabaseAddress, table: &CapturedTable, values: Values) -> Result<Sample, ConnectorError> {
    let table = checked(&client::connect(address).await?, &address.database, table).await?;
    sample::sample(address, &table, values).await
}
