//! Checking everything a connector needs in a PostgreSQL server before it starts.

mod sink;
mod source;

use std::time::{SystemTime, UNIX_EPOCH};

use gonvel_core::kinds::reaching;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::preflight::{Check, Report};
use tokio_postgres::Client;

use super::client::{connect, explain};
use crate::postgres::address::DatabaseAddress;

pub use sink::sink;
pub use source::source;

/// The oldest version whose log can hold marks within transactions and stream them.
const OLDEST: i32 = 140_000;
/// Clocks further apart than this are told, in microseconds.
const CLOCKS_APART_US: i64 = 2_000_000;

/// A check that failed with an error.
fn from_error(name: &str, error: &ConnectorError) -> Check {
    error.as_check(name, "host")
}

/// Checks that a server can be reached and logged in to, by both logins where there are two.
pub async fn connection(address: &DatabaseAddress) -> Report {
    match open(address).await {
        Ok((_, mut report)) => {
            report.extend(log_login(address).await);
            report
        }
        Err(report) => report,
    }
}

/// Whether the login that reads the log is taken, where it is another one.
async fn log_login(address: &DatabaseAddress) -> Option<Check> {
    let name = "login for the log";
    let login = address.log_login.as_ref()?;
    Some(match connect(&address.for_log()).await {
        Ok(_) => Check::passed(name, format!("the server takes user {}", login.user)),
        Err(error) => {
            let check = from_error(name, &error);
            match check.field.as_deref() {
                Some("password") => Check { field: Some("log_password".into()), ..check },
                Some(way) if reaching::way().iter().any(|setting| setting.name == way) => check,
                _ => Check { field: Some("log_user".into()), ..check },
            }
        }
    })
}

/// Runs the statement of a check in a report made just now.
///
/// # Errors
/// [`ConnectorError`] if the server refuses it.
pub async fn mend(address: &DatabaseAddress, statement: &str) -> Result<(), ConnectorError> {
    connect(address).await?.batch_execute(statement).await.map_err(|e| explain(&e, "the remedy"))
}

/// A session, with what was found so far.
struct Asked<'a> {
    client: Client,
    address: &'a DatabaseAddress,
    report: Report,
}

impl<'a> Asked<'a> {
    async fn open(address: &'a DatabaseAddress) -> Result<Self, Report> {
        let (client, report) = open(address).await?;
        Ok(Self { client, address, report })
    }

    fn push(&mut self, check: Check) {
        self.report.push(check);
    }

    /// The report, with what kept the rest from being asked.
    fn end(mut self, outcome: Result<(), ConnectorError>) -> Report {
        if let Err(error) = outcome {
            self.report.push(from_error("asking the server", &error));
        }
        self.report
    }

    /// Rows of a query that the preflight asks.
    async fn rows(
        &self,
        query: &str,
        parameters: &[&(dyn tokio_postgres::types::ToSql + Sync)],
    ) -> Result<Vec<tokio_postgres::Row>, ConnectorError> {
        self.client.query(query, parameters).await.map_err(|e| explain(&e, "the preflight"))
    }

    /// Whether the server takes one statement; else what it says of it.
    async fn try_out(&self, statement: &str) -> Result<(), String> {
        match self.client.query(statement, &[]).await {
            Ok(_) => Ok(()),
            Err(error) => Err(error.as_db_error().map_or_else(|| error.to_string(), |e| e.message().to_owned())),
        }
    }

    fn client(&self) -> &Client {
        &self.client
    }
}

async fn open(address: &DatabaseAddress) -> Result<(Client, Report), Report> {
    let client = connect(address).await.map_err(|e| vec![from_error("reach and log in", &e)])?;
    let before = now_us();
    let row = client
        .query_one(
            "SELECT current_setting('server_version_num')::int, (extract(epoch FROM clock_timestamp()) * 1000000)::bigint,
                coalesce((SELECT version FROM pg_stat_ssl WHERE pid = pg_backend_pid() AND ssl), ''),
                coalesce(inet_server_addr() <<= '127.0.0.0/8' OR inet_server_addr() = '::1', true)",
            &[],
        )
        .await
        .map_err(|e| vec![from_error("version", &explain(&e, "asking its version"))])?;
    let (number, clock): (i32, i64) = (row.get(0), row.get(1));
    let (encrypted, nearby): (String, bool) = (row.get(2), row.get(3));
    let report = vec![
        Check::passed(
            "reach and log in",
            format!("{}:{} takes user {} into {}", address.host, address.port, address.user, address.database),
        ),
        tls(&encrypted, nearby),
        version(number),
        clocks(clock, before, now_us()),
    ];
    Ok((client, report))
}

/// `encrypted` is the protocol, empty for none; `nearby` whether the session does not leave this machine.
fn tls(encrypted: &str, nearby: bool) -> Check {
    if !encrypted.is_empty() {
        return Check::passed("TLS", format!("the session is encrypted ({encrypted})"));
    }
    if nearby {
        return Check::passed("TLS", "the session is not encrypted, and does not leave this machine");
    }
    Check::warning("TLS", "the session is not encrypted")
        .means("who is on the way can read the rows")
        .remedy("let the server use TLS, and choose require or verify in the connection")
}

fn version(number: i32) -> Check {
    let major = number / 10_000;
    if number >= OLDEST {
        return Check::passed("version", format!("PostgreSQL {major}"));
    }
    Check::failed("version", "host", format!("PostgreSQL {major} is too old"))
        .means("its log cannot hold the marks that an initial load is bracketed with")
        .remedy("upgrade the server to 14 or later")
}

/// The server's clock was read between two readings of our own.
fn clocks(server_us: i64, before_us: i64, after_us: i64) -> Check {
    let apart = if server_us < before_us { server_us - before_us } else { (server_us - after_us).max(0) };
    let seconds = apart.abs() / 1_000_000;
    if apart.abs() < CLOCKS_APART_US {
        return Check::passed("clocks", "the server's clock and this machine's agree");
    }
    let way = if apart < 0 { "behind" } else { "ahead of" };
    Check::warning("clocks", format!("the server's clock is {seconds} s {way} this machine's"))
        .means("lag and latency are shown wrong by as much; no record is")
        .remedy("let both machines take their time from the same place")
}

fn now_us() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_micros()).unwrap_or(i64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;
    use gonvel_core::preflight::Outcome;

    #[test]
    fn clocks_are_compared_within_the_time_it_takes_to_ask() {
        let (before, after) = (10_000_000, 14_000_000);
        let cases = [
            (10_000_000, ""),
            (14_000_000, ""),
            (8_500_000, ""),
            (15_900_000, ""),
            (7_000_000, "3 s behind"),
            (19_000_000, "5 s ahead of"),
        ];
        for (server, words) in cases {
            let check = clocks(server, before, after);
            assert_eq!(check.outcome == Outcome::Passed, words.is_empty(), "{server}: {}", check.finding);
            assert!(check.finding.contains(words), "{server}: {}", check.finding);
        }
        assert_eq!(version(130_011).outcome, Outcome::Failed);
        assert_eq!(version(140_000).outcome, Outcome::Passed);
    }
}
