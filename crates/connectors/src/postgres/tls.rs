//! Encrypted sessions: what a refusal means for a connection.

use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::{NotOpened, Wire};

use crate::postgres::address::DatabaseAddress;
use crate::reaching::{Road, unusable};

/// Asks the server for encryption as the mode says, before anything else is said.
///
/// # Errors
/// [`ConnectorError::Settings`] if it has none and must, or if its certificate is not trusted.
pub(super) async fn open(stream: Road, address: &DatabaseAddress) -> Result<Wire<Road>, ConnectorError> {
    let reaching = &address.reaching;
    let opened = gonvel_wire::open(stream, &address.host, reaching.tls, || reaching.client_config()).await;
    opened.map_err(|error| match error {
        NotOpened::WithoutTls => without_tls(address),
        NotOpened::Unusable(error) => unusable(error),
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

/// What it means that the server broke off once it saw what this side shows of itself, from the alert that it sent.
pub(super) fn refused(address: &DatabaseAddress, cause: &str) -> Option<ConnectorError> {
    let alert = cause.split_once("fatal alert: ")?.1;
    let of_a_certificate = ["Certificate", "UnknownCA", "AccessDenied", "DecryptError"];
    of_a_certificate.iter().any(|part| alert.contains(part)).then(|| certificate_refused(address, alert))
}

/// The refusal of what this side shows of itself, or that it shows nothing.
pub(super) fn certificate_refused(address: &DatabaseAddress, message: &str) -> ConnectorError {
    let place = format!("{}:{}", address.host, address.port);
    match address.reaching.own {
        Some(_) => ConnectorError::settings(
            Some("certificate"),
            format!("the server at {place} does not take this client certificate for user {:?} ({message})", address.user),
            "give one that the server's authority signed, and that names the user, or another that pg_ident.conf maps to it",
        ),
        None => ConnectorError::settings(
            Some("certificate"),
            format!("the server at {place} asks for a client certificate ({message})"),
            "give one that the server's authority signed, with its key, and an encryption other than off",
        ),
    }
}
