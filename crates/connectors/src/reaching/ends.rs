//! What is dialled, and what it means that it is not reached.

use gonvel_core::ports::systems::ConnectorError;

/// What is dialled, and the field at which it is told that it is not reached.
pub(super) struct End<'a> {
    pub(super) host: &'a str,
    pub(super) port: u16,
    pub(super) field: &'static str,
}

/// What it means that a host was not reached.
pub(super) fn not_reached(end: &End<'_>, error: &std::io::Error) -> ConnectorError {
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
