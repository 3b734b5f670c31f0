//! Sessions with a PostgreSQL server, and what its refusals mean.

use std::time::Duration;

use gonvel_core::ports::{DatabaseAddress, TlsMode};
pub use tokio_postgres::Client;
use tokio_postgres::Config;
use tokio_postgres::config::SslMode;
use tokio_postgres::error::SqlState;
use tokio_postgres_rustls::MakeRustlsConnect;

use super::tls;
use crate::error::ConnectorError;

/// How long a server may take to answer a new session.
pub const PATIENCE: Duration = Duration::from_secs(8);

/// Settings of every session, so that values are written in the one form [`super::values`] reads, and what is asked of the catalog
/// of thousands of tables is not compiled first, which takes longer than asking it.
pub const SESSION: &str = "SET datestyle = 'ISO, YMD'; SET timezone = 'UTC'; SET bytea_output = 'hex'; SET intervalstyle = 'postgres'; \
     SET extra_float_digits = 1; SET client_encoding = 'UTF8'; SET statement_timeout = 0; \
     SET idle_in_transaction_session_timeout = 0; SET lock_timeout = 0; SET jit = off";

/// Opens a session.
///
/// # Errors
/// [`ConnectorError`] naming the field, the finding and the remedy.
pub async fn connect(address: &DatabaseAddress) -> Result<Client, ConnectorError> {
    let mut config = Config::new();
    config
        .host(&address.host)
        .port(address.port)
        .dbname(&address.database)
        .user(&address.user)
        .password(address.password.expose())
        .application_name("gonvel")
        .connect_timeout(PATIENCE)
        .keepalives_idle(Duration::from_secs(30))
        .options(start_options(address))
        .ssl_mode(match address.tls {
            TlsMode::Off => SslMode::Disable,
            TlsMode::Prefer => SslMode::Prefer,
            TlsMode::Require | TlsMode::Verify => SslMode::Require,
        });
    let connector = MakeRustlsConnect::new(tls::client_config(address)?);
    let opened = tokio::time::timeout(PATIENCE, config.connect(connector)).await;
    let (client, connection) = match opened {
        Err(_) => return Err(no_answer(address)),
        Ok(Err(error)) => return Err(explain_connect(address, &error)),
        Ok(Ok(pair)) => pair,
    };
    tokio::spawn(async move {
        if let Err(error) = connection.await {
            tracing::debug!(%error, "a session with a database ended");
        }
    });
    client.batch_execute(SESSION).await.map_err(|e| explain(&e, "preparing the session"))?;
    Ok(client)
}

/// The settings of an address as a session takes them when it starts.
pub(super) fn start_options(address: &DatabaseAddress) -> String {
    let escape = |text: &str| text.replace('\\', "\\\\").replace(' ', "\\ ");
    address.settings.iter().map(|(name, value)| format!("-c {}={} ", escape(name), escape(value))).collect()
}

fn place(address: &DatabaseAddress) -> String {
    format!("{}:{}", address.host, address.port)
}

fn no_answer(address: &DatabaseAddress) -> ConnectorError {
    ConnectorError::try_again(
        format!("{} did not answer within {} s", place(address), PATIENCE.as_secs()),
        "check the host and port, that the server runs, and that no firewall stands between",
    )
}

/// What a failed opening means.
pub(super) fn explain_connect(address: &DatabaseAddress, error: &tokio_postgres::Error) -> ConnectorError {
    let Some(refusal) = error.as_db_error() else {
        let cause = std::error::Error::source(error).map(ToString::to_string).unwrap_or_default();
        if cause.contains("does not support TLS") {
            return tls::without_tls(address);
        }
        if error.to_string().contains("TLS") {
            return tls::explain(address, &cause);
        }
        if cause.contains("timed out") || error.to_string().contains("timed out") {
            return no_answer(address);
        }
        if cause.contains("lookup") || cause.contains("Name or service") || cause.contains("resolve") {
            return ConnectorError::settings(
                Some("host"),
                format!("no machine is known by the name {:?}", address.host),
                "check the host's spelling, or give its address",
            );
        }
        return ConnectorError::try_again(
            format!(
                "{} refused the connection ({error}{})",
                place(address),
                if cause.is_empty() { cause } else { format!(": {cause}") }
            ),
            "check the host and port, and that the server runs and listens there",
        );
    };
    refusal_to_connect(address, refusal.code().code(), refusal.message())
}

/// What a server's refusal of a session means, from its SQLSTATE.
pub(super) fn refusal_to_connect(address: &DatabaseAddress, code: &str, message: &str) -> ConnectorError {
    match code {
        "28P01" => ConnectorError::settings(
            Some("password"),
            format!("the server refuses user {:?} with this password", address.user),
            "enter the password again, or set a new one in the server",
        )
        .with_statement(format!("ALTER ROLE {} PASSWORD '…';", super::names::ident(&address.user))),
        "28000" => ConnectorError::settings(
            Some("user"),
            format!("the server does not let user {:?} in from here ({message})", address.user),
            "check the user's name, that it may log in, and that pg_hba.conf has a line for it from this machine",
        )
        .with_statement(format!("host {} {} samenet scram-sha-256", address.database, address.user)),
        "42501" if message.contains("database") => ConnectorError::settings(
            Some("user"),
            format!("user {:?} may not connect to the database {:?}", address.user, address.database),
            "let the database's owner grant it",
        )
        .with_statement(format!(
            "GRANT CONNECT ON DATABASE {} TO {};",
            super::names::ident(&address.database),
            super::names::ident(&address.user)
        )),
        "42501" if message.contains("replication") || message.contains("walsender") => ConnectorError::settings(
            Some("user"),
            format!("user {:?} may not replicate", address.user),
            "let a superuser grant it",
        )
        .with_statement(format!("ALTER ROLE {} REPLICATION;", super::names::ident(&address.user))),
        "22023" | "42704" | "42501" | "55P02" | "08P01" => ConnectorError::settings(
            Some("settings"),
            format!("the server refuses a setting of the session: {message} ({code})"),
            "correct the setting, or take it out",
        ),
        "3D000" => ConnectorError::settings(
            Some("database"),
            format!("the server has no database {:?}", address.database),
            "check its spelling, or create it",
        ),
        "53300" => ConnectorError::try_again(
            "the server has no connection left".to_owned(),
            "close sessions that are not needed, or raise max_connections",
        ),
        _ => {
            ConnectorError::try_again(format!("the server refused the session: {message} ({code})"), "see the server's log")
        }
    }
}

/// What a failed statement means.
#[must_use]
pub fn explain(error: &tokio_postgres::Error, during: &str) -> ConnectorError {
    let Some(refusal) = error.as_db_error() else {
        let cause = std::error::Error::source(error).map(|c| format!(": {c}")).unwrap_or_default();
        return ConnectorError::try_again(
            format!("the session with the database ended while {during} ({error}{cause})"),
            "Gonvel connects again by itself; if it stays so, see the server's log",
        );
    };
    let code = refusal.code();
    let finding = format!("the database refused {during}: {} ({})", refusal.message(), code.code());
    let busy = *code == SqlState::T_R_DEADLOCK_DETECTED
        || *code == SqlState::T_R_SERIALIZATION_FAILURE
        || *code == SqlState::LOCK_NOT_AVAILABLE
        || *code == SqlState::OBJECT_IN_USE;
    match code.code().get(..2) {
        _ if busy => return ConnectorError::busy(finding, "Gonvel tries again by itself"),
        Some("53") => {
            return ConnectorError::full(finding, "make room (disk, memory, sessions); Gonvel tries again by itself");
        }
        Some("08" | "57" | "58") => return ConnectorError::try_again(finding, "Gonvel tries again by itself"),
        _ => {}
    }
    let remedy = match code.code() {
        "42501" => "grant the right to the connection's user",
        "42P01" => "the table is not there: create it, or take it out of the connector",
        "42703" => "a column is not there: compare the two tables",
        _ => "mend it in the database, then resume the connector",
    };
    ConnectorError::settings(None, finding, remedy)
}

/// What the refusal of a written row means: some are about the row, others about the table, the login or the system.
#[must_use]
pub fn explain_write(error: &tokio_postgres::Error, table: &str) -> ConnectorError {
    let during = format!("changes of {table}");
    let Some(refusal) = error.as_db_error() else { return explain(error, &during) };
    let code = refusal.code().code();
    let remedy = match code {
        "22003" => "give the column a wider type, or mend the record",
        "22001" => "give the column more characters, or mend the record",
        "22P02" | "22007" | "22008" | "22P03" | "42804" => "give the column a type that holds it, or mend the record",
        "22021" | "22P05" => "store the target's text as UTF8, or mend the record",
        "23502" => "let the column be null or give it a default, or mend the record",
        "23503" => "deliver the row that it refers to first, then try this one again",
        "23505" | "23P01" => "remove the other row or the constraint, or mend the record",
        "23514" => "change the check, or mend the record",
        "P0001" => "a trigger of the table refuses it: change the trigger, or mend the record",
        "54000" => "the row is too large for the target: leave columns out, or mend the record",
        _ if matches!(code.get(..2), Some("22" | "23")) => "mend it in the target, or mend the record",
        _ => return explain(error, &during),
    };
    let table = table.replace('"', "");
    let column = refusal.column().map(|c| format!(", column {c}")).unwrap_or_default();
    let constraint = refusal.constraint().map(|c| format!(", constraint {c}")).unwrap_or_default();
    // "COPY bins, line 7: …"
    let line = refusal.where_().and_then(|w| w.strip_prefix("COPY ")?.split_once(", line ")?.1.split([':', ',']).next());
    ConnectorError::BadRecord {
        finding: format!("{table}{column}{constraint}: {} ({code}): {remedy}", refusal.message()),
        copied_line: line.and_then(|l| l.trim().parse().ok()),
    }
}
