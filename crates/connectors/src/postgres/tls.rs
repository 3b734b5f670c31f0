//! Encrypted sessions: what each TLS mode asks of the server and of its certificate.

use std::sync::Arc;

use bytes::BytesMut;
use gonvel_core::ports::{DatabaseAddress, TlsMode};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

use crate::error::ConnectorError;

/// The two halves of a session's bytes, encrypted or not.
pub(super) type Halves = (Box<dyn AsyncRead + Send + Unpin>, Box<dyn AsyncWrite + Send + Unpin>);

/// Encrypts without asking who the other end is: the modes `prefer` and `require`.
#[derive(Debug)]
struct AnyCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _end: &CertificateDer<'_>,
        _between: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, cert, signed, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, cert, signed, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}

/// The client's side of an encrypted session by an address's mode.
///
/// # Errors
/// [`ConnectorError::Settings`] if the certificates to trust cannot be read.
pub(super) fn client_config(address: &DatabaseAddress) -> Result<ClientConfig, ConnectorError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| ConnectorError::Defect(e.to_string()))?;
    if address.tls != TlsMode::Verify {
        return Ok(builder
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(AnyCertificate(provider)))
            .with_no_client_auth());
    }
    Ok(builder.with_root_certificates(roots(address.ca.as_deref())?).with_no_client_auth())
}

fn roots(ca: Option<&str>) -> Result<RootCertStore, ConnectorError> {
    let wrong = |finding: String| {
        ConnectorError::settings(
            Some("ca"),
            finding,
            "paste the certificate authority's certificate as PEM text, with its BEGIN and END lines",
        )
    };
    let mut roots = RootCertStore::empty();
    match ca {
        Some(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate = certificate.map_err(|e| wrong(format!("the certificate to trust cannot be read: {e}")))?;
                roots.add(certificate).map_err(|e| wrong(format!("the certificate to trust cannot be used: {e}")))?;
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    if roots.is_empty() {
        return Err(wrong("there is no certificate to trust".into()));
    }
    Ok(roots)
}

/// Checks that certificates to trust can be read.
///
/// # Errors
/// [`ConnectorError::Settings`] at the field `ca`.
pub fn check_ca(pem: &str) -> Result<(), ConnectorError> {
    roots(Some(pem)).map(|_| ())
}

/// Asks the server for encryption as the mode says, before anything else is said.
///
/// # Errors
/// [`ConnectorError::Settings`] if it has none and must, or if its certificate is not trusted.
pub(super) async fn open(mut stream: TcpStream, address: &DatabaseAddress) -> Result<Halves, ConnectorError> {
    if address.tls != TlsMode::Off {
        let failed = |e: std::io::Error| explain(address, &e.to_string());
        let mut out = BytesMut::new();
        postgres_protocol::message::frontend::ssl_request(&mut out);
        stream.write_all(&out).await.map_err(failed)?;
        if stream.read_u8().await.map_err(failed)? == b'S' {
            let name =
                ServerName::try_from(address.host.clone()).map_err(|e| explain(address, &format!("certificate: {e}")))?;
            let connector = TlsConnector::from(Arc::new(client_config(address)?));
            let stream = connector.connect(name, stream).await.map_err(failed)?;
            let (read, write) = tokio::io::split(stream);
            return Ok((Box::new(read), Box::new(write)));
        }
        if address.tls != TlsMode::Prefer {
            return Err(without_tls(address));
        }
    }
    let (read, write) = stream.into_split();
    Ok((Box::new(read), Box::new(write)))
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
