//! How systems on a network are reached, whatever their kind: directly, through a proxy, or through a jump host.

mod given;
mod jump_host;
mod proxy;
mod road;

use std::time::Duration;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::dial;

pub(crate) use given::unusable;
pub use given::{Own, Reaching, Through, Way, check_host};
pub use road::Road;

impl Reaching {
    /// Reaches a host, within [`Reaching::patience`].
    ///
    /// # Errors
    /// [`ConnectorError`] at the field `host`, or at one of the way there.
    pub async fn dial(&self, host: &str, port: u16) -> Result<Road, ConnectorError> {
        let reached = async {
            let Some(through) = &self.through else {
                let stream = dial(host, port, self.keepalive).await;
                return stream.map(Road::Direct).map_err(|e| not_reached(&End { host, port, field: "host" }, &e));
            };
            let end = End { host: &through.host, port: through.port, field: "through_host" };
            if let Way::JumpHost { .. } = through.way {
                return jump_host::open(through, &end, self.keepalive, (host, port)).await;
            }
            let stream = dial(&through.host, through.port, self.keepalive).await.map_err(|e| not_reached(&end, &e))?;
            proxy::open(stream, through, (host, port)).await
        };
        tokio::time::timeout(self.patience, reached).await.map_err(|_| self.no_answer(host, port))?
    }

    /// What it means that nothing answered in time.
    #[must_use]
    pub fn no_answer(&self, host: &str, port: u16) -> ConnectorError {
        let after = said(self.patience);
        match &self.through {
            None => no_answer(&format!("{host}:{port}"), &after),
            Some(through) => ConnectorError::try_again(
                format!("{host}:{port} did not answer within {after} through the {}", through.named()),
                "check the host and port, that the server runs and may be reached from there, and that the time to connect is enough",
            ),
        }
    }
}

/// What is dialled, and the field at which it is told that it is not reached.
struct End<'a> {
    host: &'a str,
    port: u16,
    field: &'static str,
}

fn said(patience: Duration) -> String {
    format!("{} s", patience.as_secs())
}

fn no_answer(place: &str, after: &str) -> ConnectorError {
    ConnectorError::try_again(
        format!("{place} did not answer within {after}"),
        "check the host and port, that the server runs, and that no firewall stands between",
    )
}

/// What it means that a host was not reached.
fn not_reached(end: &End<'_>, error: &std::io::Error) -> ConnectorError {
    let End { host, port, field } = end;
    let cause = error.to_string();
    if cause.contains("lookup") || cause.contains("Name or service") || cause.contains("resolve") {
        return ConnectorError::settings(
            Some(field),
            format!("no machine is known by the name {host:?}"),
            "check the host's spelling, or give its address",
        );
    }
    let finding = match error.kind() {
        std::io::ErrorKind::TimedOut => format!("{host}:{port} did not answer"),
        _ => format!("{host}:{port} refused the connection ({cause})"),
    };
    ConnectorError::try_again(finding, "check the host and port, and that the server runs and listens there").at(field)
}
