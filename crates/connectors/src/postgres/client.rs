//! Sessions with a PostgreSQL server, and what its refusals mean.

use std::pin::Pin;
use std::time::Duration;

use gonvel_wire::{Heard, Listening, Owed};

use crate::postgres::address::DatabaseAddress;

pub use tokio_postgres::Client;
use tokio_postgres::config::SslMode;
use tokio_postgres::error::SqlState;
use tokio_postgres::{Config, NoTls, SimpleQueryMessage};

use super::tls;
use gonvel_core::ports::systems::ConnectorError;

/// Settings of every session, so that values are written in the one form [`super::values`] reads, and what is asked of the catalog
/// of thousands of tables is not compiled first, which takes longer than asking it.
pub const SESSION: &str = "SET datestyle = 'ISO, YMD'; SET timezone = 'UTC'; SET bytea_output = 'hex'; SET intervalstyle = 'postgres'; \
     SET extra_float_digits = 1; SET client_encoding = 'UTF8'; SET statement_timeout = 0; \
     SET idle_in_transaction_session_timeout = 0; SET lock_timeout = 0; SET jit = off";

/// How long an answer may be owed and nothing come, before it is looked whether the server is at work on it.
const SILENCE: Duration = Duration::from_secs(10);
/// Looks in vain, one after the other, after which a silent session is given up.
const IN_VAIN: u32 = 3;

/// Opens a session. One whose server is silent though it has nothing to do is given up.
///
/// # Errors
/// [`ConnectorError`] naming the field, the finding and the remedy.
pub async fn connect(address: &DatabaseAddress) -> Result<Client, ConnectorError> {
    let mut config = Config::new();
    config
        .dbname(&address.database)
        .user(&address.user)
        .password(address.password.expose())
        .application_name("gonvel")
        .options(start_options(address))
        // what encrypts is before the session, which then finds it as it is
        .ssl_mode(SslMode::Disable);
    let stream = address.reaching.dial(&address.host, address.port).await?;
    let opening = async {
        let heard = Heard::of(tls::open(stream, address).await?, Listening { silence: None, refused: |_| {} });
        let owed = heard.owed();
        let pair = config.connect_raw(heard, NoTls).await.map_err(|e| explain_connect(address, &e))?;
        Ok::<_, ConnectorError>((pair, owed))
    };
    let opened = tokio::time::timeout(address.reaching.patience, opening).await;
    let ((client, connection), owed) = opened.map_err(|_| address.reaching.no_answer(&address.host, address.port))??;
    let (known, session) = tokio::sync::oneshot::channel();
    let silent = until_silent(address.clone(), session, owed);
    tokio::spawn(async move {
        tokio::select! {
            ended = connection => {
                if let Err(error) = ended {
                    tracing::debug!(%error, "a session with a database ended");
                }
            }
            () = silent => tracing::debug!("a session with a database was given up: nothing came of it"),
        }
    });
    let prepare = format!("{SESSION}; SELECT pg_backend_pid()");
    let prepared = client.simple_query(&prepare).await.map_err(|e| explain(&e, "preparing the session"))?;
    let session = prepared.iter().find_map(|message| match message {
        SimpleQueryMessage::Row(row) => row.get(0)?.parse().ok(),
        _ => None,
    });
    if let Some(session) = session {
        let _ = known.send(session);
    }
    Ok(client)
}

/// Ends when a session is silent and its server not at work on it. A boxed future: looking needs a session of its own.
fn until_silent(
    address: DatabaseAddress,
    session: tokio::sync::oneshot::Receiver<i32>,
    owed: Owed,
) -> Pin<Box<dyn Future<Output = ()> + Send>> {
    Box::pin(async move {
        let Ok(session) = session.await else { return std::future::pending().await };
        let mut in_vain = 0;
        loop {
            tokio::time::sleep(SILENCE / 2).await;
            if owed.lasts().is_none_or(|lasts| lasts < SILENCE) {
                in_vain = 0;
                continue;
            }
            match is_at_work(&address, session).await {
                Ok(true) => in_vain = 0,
                // while it was looked for, something may have come
                Ok(false) if owed.lasts().is_some_and(|lasts| lasts >= SILENCE) => return,
                Ok(false) => {}
                Err(_) => in_vain += 1,
            }
            if in_vain == IN_VAIN {
                return;
            }
        }
    })
}

/// Whether a session is there and has something to do; one that waits for its client does not.
async fn is_at_work(address: &DatabaseAddress, session: i32) -> Result<bool, ConnectorError> {
    let works = connect(address)
        .await?
        .query_opt(
            "SELECT state = 'active' AND coalesce(wait_event_type, '') <> 'Client' FROM pg_stat_activity WHERE pid = $1",
            &[&session],
        )
        .await
        .map_err(|e| explain(&e, "looking after a session"))?;
    Ok(works.is_some_and(|row| row.get::<_, Option<bool>>(0) == Some(true)))
}

/// The settings of an address as a session takes them when it starts.
pub(super) fn start_options(address: &DatabaseAddress) -> String {
    let escape = |text: &str| text.replace('\\', "\\\\").replace(' ', "\\ ");
    address.settings.iter().map(|(name, value)| format!("-c {}={} ", escape(name), escape(value))).collect()
}

fn place(address: &DatabaseAddress) -> String {
    format!("{}:{}", address.host, address.port)
}

/// What a failed opening means.
fn explain_connect(address: &DatabaseAddress, error: &tokio_postgres::Error) -> ConnectorError {
    let Some(refusal) = error.as_db_error() else {
        let cause = std::error::Error::source(error).map(|c| format!(": {c}")).unwrap_or_default();
        if let Some(refused) = tls::refused(address, &cause) {
            return refused;
        }
        return ConnectorError::try_again(
            format!("{} broke off ({error}{cause})", place(address)),
            "check that a PostgreSQL server listens there, and see its log",
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
        "28000" if message.contains("certificate") => tls::certificate_refused(address, message),
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
