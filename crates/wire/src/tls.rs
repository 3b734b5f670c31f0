//! Encrypted sessions with PostgreSQL servers: what each mode asks of the server and of its certificate.

use std::sync::Arc;

use bytes::BytesMut;
use gonvel_core::ports::TlsMode;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio_rustls::TlsConnector;

use crate::stream::Wire;

/// Certificates or keys that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unusable {
    /// Those of whom to trust.
    #[error("{0}")]
    Trust(String),
    /// What this side shows of itself.
    #[error("{0}")]
    Own(String),
    /// Our own mistake.
    #[error("{0}")]
    Defect(String),
}

/// Why no session was opened.
#[derive(Debug, thiserror::Error)]
pub enum NotOpened {
    /// The server does not encrypt, and must.
    #[error("the server does not encrypt sessions")]
    WithoutTls,
    /// The host's name cannot stand in a certificate.
    #[error("certificate: {0}")]
    Name(String),
    /// It broke off, or its certificate is not trusted.
    #[error(transparent)]
    Failed(#[from] std::io::Error),
    /// Certificates of this side.
    #[error(transparent)]
    Unusable(#[from] Unusable),
}

/// A certificate with its key, both PEM (RFC 7468), that this side shows of itself.
#[derive(Debug, Clone, Copy)]
pub struct Shown<'s> {
    /// The certificate, and those that lead to who signed it.
    pub certificate: &'s str,
    /// Its private key.
    pub key: &'s str,
}

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

/// The client's side of an encrypted session: `ca` is PEM text of whom to trust, none for those whom this machine trusts.
///
/// # Errors
/// [`Unusable`].
pub fn client_config(mode: TlsMode, ca: Option<&str>, shown: Option<Shown<'_>>) -> Result<ClientConfig, Unusable> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|e| Unusable::Defect(e.to_string()))?;
    let builder = if mode == TlsMode::Verify {
        builder.with_root_certificates(roots(ca)?)
    } else {
        builder.dangerous().with_custom_certificate_verifier(Arc::new(AnyCertificate(provider)))
    };
    let Some(shown) = shown else { return Ok(builder.with_no_client_auth()) };
    let certificates = CertificateDer::pem_slice_iter(shown.certificate.as_bytes())
        .collect::<Result<Vec<_>, _>>()
        .map_err(|e| Unusable::Own(format!("the own certificate cannot be read: {e}")))?;
    let key = PrivateKeyDer::from_pem_slice(shown.key.as_bytes())
        .map_err(|e| Unusable::Own(format!("the key of the own certificate cannot be read: {e}")))?;
    builder
        .with_client_auth_cert(certificates, key)
        .map_err(|e| Unusable::Own(format!("the own certificate and its key cannot be used: {e}")))
}

fn roots(ca: Option<&str>) -> Result<RootCertStore, Unusable> {
    let mut roots = RootCertStore::empty();
    match ca {
        Some(pem) => {
            for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
                let certificate =
                    certificate.map_err(|e| Unusable::Trust(format!("the certificate to trust cannot be read: {e}")))?;
                let added = roots.add(certificate);
                added.map_err(|e| Unusable::Trust(format!("the certificate to trust cannot be used: {e}")))?;
            }
        }
        None => {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
    }
    if roots.is_empty() {
        return Err(Unusable::Trust("there is no certificate to trust".into()));
    }
    Ok(roots)
}

/// Checks that certificates to trust can be read.
///
/// # Errors
/// [`Unusable::Trust`].
pub fn check_ca(pem: &str) -> Result<(), Unusable> {
    roots(Some(pem)).map(|_| ())
}

/// Asks the server for encryption as the mode says, before anything else is said.
///
/// # Errors
/// [`NotOpened`].
pub async fn open<S: AsyncRead + AsyncWrite + Unpin>(
    mut stream: S,
    host: &str,
    mode: TlsMode,
    config: impl FnOnce() -> Result<Arc<ClientConfig>, Unusable>,
) -> Result<Wire<S>, NotOpened> {
    if mode == TlsMode::Off {
        return Ok(Wire::Plain(stream));
    }
    let mut out = BytesMut::new();
    postgres_protocol::message::frontend::ssl_request(&mut out);
    stream.write_all(&out).await?;
    if stream.read_u8().await? != b'S' {
        return if mode == TlsMode::Prefer { Ok(Wire::Plain(stream)) } else { Err(NotOpened::WithoutTls) };
    }
    let name = ServerName::try_from(host.to_owned()).map_err(|e| NotOpened::Name(e.to_string()))?;
    let stream = TlsConnector::from(config()?).connect(name, stream).await?;
    Ok(Wire::Encrypted(Box::new(stream)))
}
