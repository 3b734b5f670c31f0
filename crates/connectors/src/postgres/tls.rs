//! Encrypted sessions: what a refusal means for a connection.

use std::sync::Arc;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::{NotOpened, Unusable, Wire};
use tokio::net::TcpStream;

use crate::postgres::address::DatabaseAddress;

fn told(unusable: Unusable) -> ConnectorError {
    match unusable {
        Unusable::Trust(finding) | Unusable::Own(finding) => ConnectorError::settings(
            Some("ca"),
            finding,
            "paste the certificate authority's certificate as PEM text, with its BEGIN and END lines",
        ),
        Unusable::Defect(finding) => ConnectorError::Defect(finding),
    }
}

/// Checks that certificates to trust can be read.
///
/// # Errors
/// [`ConnectorError::Settings`] at the field `ca`.
pub fn check_ca(pem: &str) -> Result<(), ConnectorError> {
    gonvel_wire::check_ca(pem).map_err(told)
}

/// Asks the server for encryption as the mode says, before anything else is said.
///
/// # Errors
/// [`ConnectorError::Settings`] if it has none and must, or if its certificate is not trusted.
pub(super) async fn open(stream: TcpStream, address: &DatabaseAddress) -> Result<Wire, ConnectorError> {
    let config = || gonvel_wire::client_config(address.tls, address.ca.as_deref(), None).map(Arc::new);
    let opened = gonvel_wire::open(stream, &address.host, address.tls, config).await;
    opened.map_err(|error| match error {
        NotOpened::WithoutTls => without_tls(address),
        NotOpened::Unusable(unusable) => told(unusable),
        error => explain(address, &error.to_string()),
    })
}

/// The refusal of a server that does not encrypt.
fn without_tls(address: &DatabaseAddress) -> ConnectorError {
    ConnectorError::settings(
        Some("tls"),
        format!("the server at {}:{} does not encrypt sessions", address.host, address.port),
        "let it use TLS (ssl = on, with a certificate and its key), or choose prefer or off",
    )
    .with_statement("ALTER SYSTEM SET ssl = on;")
}

/// What a failed handshake means.
fn explain(address: &DatabaseAddress, cause: &str) -> ConnectorError {
    let place = format!("{}:{}", address.host, address.port);
    if cause.contains("certificate") || cause.contains("Certificate") {
        return ConnectorError::settings(
            Some(if cause.contains("UnknownIssuer") || cause.contains("BadSignature") { "ca" } else { "tls" }),
            format!("the certificate of the server at {place} is not trusted ({cause})"),
            "give the certificate authority that signed it, connect by a name that the certificate has, or choose require to encrypt without checking",
        );
    }
    ConnectorError::try_again(format!("{place} broke off while encryption was agreed on ({cause})"), "see the server's log")
}
