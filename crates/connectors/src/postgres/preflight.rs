//! Checking everything a connector needs in a PostgreSQL server before it starts.

use gonvel_core::connector::{CapturedTable, DeliveredTopic};
use gonvel_core::ports::DatabaseAddress;
use serde::{Deserialize, Serialize};
use tokio_postgres::Client;

use super::client::{connect, explain};
use super::names::{ident, qualified};
use super::tables;
use crate::error::ConnectorError;

/// How a check came out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// As it should be.
    Passed,
    /// Works, with a cost.
    Warning,
    /// Must be mended before the connector can start.
    Failed,
}

/// One check with its finding and remedy.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Check {
    /// What was checked.
    pub name: String,
    /// How it came out.
    pub outcome: Outcome,
    /// What was found.
    pub finding: String,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// The statement or setting to copy.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The field of the form it belongs to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}

impl Check {
    fn passed(name: &str, finding: impl Into<String>) -> Self {
        let (outcome, finding) = (Outcome::Passed, finding.into());
        Self { name: name.into(), outcome, finding, remedy: None, statement: None, field: None }
    }

    fn failed(name: &str, field: &str, finding: impl Into<String>, remedy: &str, statement: Option<String>) -> Self {
        Self {
            name: name.into(),
            outcome: Outcome::Failed,
            finding: finding.into(),
            remedy: Some(remedy.into()),
            statement,
            field: Some(field.into()),
        }
    }

    /// A check that failed with an error.
    #[must_use]
    pub fn from_error(name: &str, error: &ConnectorError) -> Self {
        match error {
            ConnectorError::Settings { field, finding, remedy, statement } => {
                Self::failed(name, field.unwrap_or("connection"), finding.clone(), remedy, statement.clone())
            }
            ConnectorError::TryAgain { finding, remedy } => Self::failed(name, "host", finding.clone(), remedy, None),
            other => Self::failed(name, "connection", other.to_string(), "see the log", None),
        }
    }
}

/// A report of checks, in the order they were made.
pub type Report = Vec<Check>;

/// Whether a connector with this report may start.
#[must_use]
pub fn may_start(report: &Report) -> bool {
    report.iter().all(|check| check.outcome != Outcome::Failed)
}

/// Checks that a server can be reached and logged in to.
pub async fn connection(address: &DatabaseAddress) -> Report {
    match open(address).await {
        Ok((_, report)) | Err(report) => report,
    }
}

async fn open(address: &DatabaseAddress) -> Result<(Client, Report), Report> {
    let client = connect(address).await.map_err(|e| vec![Check::from_error("reach and log in", &e)])?;
    let version = client.query_one("SELECT current_setting('server_version_num')::int, version()", &[]).await;
    let version = version.map_err(|e| vec![Check::from_error("version", &explain(&e, "asking its version"))])?;
    let (number, _): (i32, String) = (version.get(0), version.get(1));
    let mut report = vec![Check::passed(
        "reach and log in",
        format!("{}:{} takes user {} into {}", address.host, address.port, address.user, address.database),
    )];
    report.push(if number >= 140_000 {
        Check::passed("version", format!("PostgreSQL {}", number / 10_000))
    } else {
        let finding = format!("PostgreSQL {} is too old for marks in the log", number / 10_000);
        Check::failed("version", "host", finding, "upgrade the server to 14 or later", None)
    });
    Ok((client, report))
}

/// Checks what a source connector needs.
pub async fn source(address: &DatabaseAddress, chosen: &[CapturedTable]) -> Report {
    let (client, mut report) = match open(address).await {
        Ok(opened) => opened,
        Err(report) => return report,
    };
    match source_checks(&client, address, chosen, &mut report).await {
        Ok(()) => {}
        Err(error) => report.push(Check::from_error("asking the server", &error)),
    }
    report
}

async fn source_checks(
    client: &Client,
    address: &DatabaseAddress,
    chosen: &[CapturedTable],
    report: &mut Report,
) -> Result<(), ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "the preflight");
    let row = client
        .query_one(
            "SELECT current_setting('wal_level'),
                current_setting('max_replication_slots')::bigint - (SELECT count(*) FROM pg_replication_slots),
                current_setting('max_wal_senders')::bigint - (SELECT count(*) FROM pg_stat_replication),
                (SELECT rolsuper OR rolreplication FROM pg_roles WHERE rolname = current_user),
                has_database_privilege(current_database(), 'CREATE'),
                (SELECT rolsuper FROM pg_roles WHERE rolname = current_user)",
            &[],
        )
        .await
        .map_err(during)?;
    let (level, slots, senders): (String, i64, i64) = (row.get(0), row.get(1), row.get(2));
    let (replicate, create, superuser): (bool, bool, bool) = (row.get(3), row.get(4), row.get(5));
    report.push(if level == "logical" {
        Check::passed("wal_level", "wal_level is logical")
    } else {
        Check::failed(
            "wal_level",
            "connection",
            format!("wal_level is {level}, so the server's log does not hold what changes need"),
            "set it and restart the server",
            Some("ALTER SYSTEM SET wal_level = 'logical';".into()),
        )
    });
    for (name, free, setting) in
        [("free slots", slots, "max_replication_slots"), ("free senders", senders, "max_wal_senders")]
    {
        report.push(if free > 0 {
            Check::passed(name, format!("{free} free"))
        } else {
            let finding = format!("all of {setting} are in use");
            Check::failed(
                name,
                "connection",
                finding,
                "raise it and restart the server, or remove what is not needed",
                Some(format!("ALTER SYSTEM SET {setting} = 20;")),
            )
        });
    }
    let user = ident(&address.user);
    report.push(if replicate {
        Check::passed("replication right", format!("{} may replicate", address.user))
    } else {
        let finding = format!("user {} may not replicate", address.user);
        Check::failed(
            "replication right",
            "user",
            finding,
            "let a superuser grant it",
            Some(format!("ALTER ROLE {user} REPLICATION;")),
        )
    });
    report.push(if create {
        Check::passed("publication right", format!("{} may create a publication", address.user))
    } else {
        let finding = format!("user {} may not create a publication in {}", address.user, address.database);
        let grant = format!("GRANT CREATE ON DATABASE {} TO {user};", ident(&address.database));
        Check::failed("publication right", "user", finding, "let the database's owner grant it", Some(grant))
    });
    for table in chosen {
        report.push(captured_table(client, address, table, superuser).await?);
    }
    Ok(())
}

async fn captured_table(
    client: &Client,
    address: &DatabaseAddress,
    table: &CapturedTable,
    superuser: bool,
) -> Result<Check, ConnectorError> {
    let label = format!("table {}.{}", table.schema, table.table);
    if let Err(error) = tables::describe(client, &address.database, &table.schema, &table.table).await {
        return if error.may_pass() { Err(error) } else { Ok(Check::from_error(&label, &error)) };
    }
    let name = qualified(&table.schema, &table.table);
    let row = client
        .query_one(
            "SELECT has_table_privilege(c.oid, 'SELECT'), pg_has_role(c.relowner, 'USAGE'), c.relowner::regrole::text, c.relreplident::text
             FROM pg_class c WHERE c.oid = $1::text::regclass",
            &[&name],
        )
        .await
        .map_err(|e| explain(&e, "the preflight"))?;
    let (select, owns, owner, identity): (bool, bool, String, String) = (row.get(0), row.get(1), row.get(2), row.get(3));
    let user = ident(&address.user);
    if !select {
        let finding = format!("user {} may not read {name}", address.user);
        return Ok(Check::failed(&label, "tables", finding, "grant it", Some(format!("GRANT SELECT ON {name} TO {user};"))));
    }
    if !owns && !superuser {
        let finding = format!("{name} belongs to {owner}; only its owner may put it in a publication");
        let grant = format!("GRANT {owner} TO {user};");
        return Ok(Check::failed(
            &label,
            "tables",
            finding,
            "make the user a member of the owner, or connect as the owner",
            Some(grant),
        ));
    }
    if identity == "n" {
        let finding = format!("{name} has replica identity nothing, so updates and deletes would be refused in the source");
        let mend = format!("ALTER TABLE {name} REPLICA IDENTITY DEFAULT;");
        return Ok(Check::failed(&label, "tables", finding, "set its replica identity", Some(mend)));
    }
    Ok(Check::passed(&label, "readable, with a key"))
}

/// Checks what a sink connector needs.
pub async fn sink(address: &DatabaseAddress, topics: &[DeliveredTopic]) -> Report {
    let (client, mut report) = match open(address).await {
        Ok(opened) => opened,
        Err(report) => return report,
    };
    if let Err(error) = sink_checks(&client, address, topics, &mut report).await {
        report.push(Check::from_error("asking the server", &error));
    }
    report
}

async fn sink_checks(
    client: &Client,
    address: &DatabaseAddress,
    topics: &[DeliveredTopic],
    report: &mut Report,
) -> Result<(), ConnectorError> {
    let during = |e: tokio_postgres::Error| explain(&e, "the preflight");
    let user = ident(&address.user);
    let own = client
        .query_one(
            "SELECT CASE WHEN to_regnamespace('gonvel') IS NULL THEN has_database_privilege(current_database(), 'CREATE')
                    ELSE has_schema_privilege('gonvel', 'CREATE') END",
            &[],
        )
        .await
        .map_err(during)?;
    report.push(if own.get(0) {
        Check::passed("room for the position", "the position is kept beside the data, in schema gonvel")
    } else {
        let finding =
            format!("user {} may not make the schema gonvel, where the position is kept beside the data", address.user);
        let grant = format!("GRANT CREATE ON DATABASE {} TO {user};", ident(&address.database));
        Check::failed("room for the position", "user", finding, "grant it", Some(grant))
    });
    for topic in topics {
        let label = format!("table {}.{}", topic.schema, topic.table);
        let name = qualified(&topic.schema, &topic.table);
        let row = client
            .query_one(
                "SELECT to_regclass($1) IS NOT NULL,
                    CASE WHEN to_regclass($1) IS NOT NULL THEN has_table_privilege(to_regclass($1), 'SELECT, INSERT, UPDATE, DELETE')
                         WHEN to_regnamespace($2) IS NULL THEN has_database_privilege(current_database(), 'CREATE')
                         ELSE has_schema_privilege(to_regnamespace($2), 'CREATE') END",
                &[&name, &ident(&topic.schema)],
            )
            .await
            .map_err(during)?;
        let (there, may): (bool, bool) = (row.get(0), row.get(1));
        report.push(match (there, may) {
            (true, true) => Check::passed(&label, "is there and may be written"),
            (false, true) => Check::passed(&label, "is not there: Gonvel makes it like the source's"),
            (true, false) => Check::failed(
                &label,
                "topics",
                format!("user {} may not write {name}", address.user),
                "grant it",
                Some(format!("GRANT SELECT, INSERT, UPDATE, DELETE ON {name} TO {user};")),
            ),
            (false, false) => Check::failed(
                &label,
                "topics",
                format!("{name} is not there and user {} may not make it", address.user),
                "grant it, or make the table",
                Some(format!("GRANT CREATE ON SCHEMA {} TO {user};", ident(&topic.schema))),
            ),
        });
    }
    Ok(())
}
