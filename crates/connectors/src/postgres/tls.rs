//! Encrypted sessions: what a refusal means for a connection.

use gonvel_core::ports::DatabaseAddress;
use gonvel_tls::{NotOpened, Opened, Unusable};
use rustls::ClientConfig;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;

use crate::error::ConnectorError;

/// The two halves of a session's bytes, encrypted or not.
pub(super) type Halves = (Box<dyn AsyncRead + Send + Unpin>, Box<dyn AsyncWrite + Send + Unpin>);

impl From<Unusable> for ConnectorError {
    fn from(unusable: Unusable) -> Self {
        match unusable {
            Unusable::Trust(finding) | Unusable::Own(finding) => Self::settings(
                Some("ca"),
                finding,
                "paste the certificate authority's certificate as PEM text, with its BEGIN and END lines",
            ),
            Unusable::Defect(finding) => Self::Defect(finding),
        }
    }
}

/// The client's side of an encrypted session by an address's mode.
///
/// # Errors
/// [`ConnectorError::Settings`] if the certificates to trust cannot be read.
pub(super) fn client_config(address: &DatabaseAddress) -> Result<ClientConfig, ConnectorError> {
    Ok(gonvel_tls::client_config(address.tls, address.ca.as_deref(), None)?)
}

/// Checks that certificates to trust can be read.
///
/// # Errors
/// [`ConnectorError::Settings`] at the field `ca`.
pub fn check_ca(pem: &str) -> Result<(), ConnectorError> {
    Ok(gonvel_tls::check_ca(pem)?)
}

/// Asks the server for encryption as the mode says, before anything else is said.
///
/// # Errors
/// [`ConnectorError::Settings`] if it has none and must, or if its certificate is not trusted.
pub(super) async fn open(stream: TcpStream, address: &DatabaseAddress) -> Result<Halves, ConnectorError> {
    let config = || gonvel_tls::client_config(address.tls, address.ca.as_deref(), None);
    match gonvel_tls::open(stream, &address.host, address.tls, config).await {
        Ok(Opened::Plain(stream)) => {
            let (read, write) = stream.into_split();
            Ok((Box::new(read), Box::new(write)))
        }
        Ok(Opened::Encrypted(stream)) => {
            let (read, write) = tokio::io::split(*stream);
            Ok((Box::new(read), Box::new(write)))
        }
        Err(NotOpened::WithoutTls) => Err(without_tls(address)),
        Err(NotOpened::Unusable(unusable)) => Err(unusable.into()),
        Err(error) => Err(explain(address, &error.to_string())),
    }
}

/// The refusal of a server that does not encrypt.
pub(super) fn without_tls(address: &DatabaseAddress) -> ConnectorError {
    ConnectorError::settings(
        Some("tls"),
        format!("the server at {}:{} does not encrypt sessions", address.host, address.port),
        "let it use TLS (ssl = on, with a certificate and its key), or choose prefer or off",
    )
    .with_statement("ALTER SYSTEM SET ssl = on;")
}

/// What a failed handshake means.
pub(super) fn explain(address: &DatabaseAddress, cause: &str) -> ConnectorError {
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
