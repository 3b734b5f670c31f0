//! Proxies: what leads on is asked for once, and then the bytes go as they are.

use std::io::{Error, ErrorKind};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use gonvel_core::ports::systems::ConnectorError;
use http::header::{HOST, PROXY_AUTHORIZATION};
use http::{HeaderValue, Request, StatusCode, Uri};
use http_body_util::Empty;
use hyper::client::conn::http1;
use hyper::upgrade;
use hyper_util::client::legacy::connect::proxy::SocksV5;
use hyper_util::rt::TokioIo;
use tokio::net::TcpStream;
use tower::{Service, service_fn};

use super::given::{Through, Way};
use super::road::Road;

/// Asks a proxy that was reached for a host.
///
/// # Errors
/// [`ConnectorError`] at a field of the way there.
pub(super) async fn open(stream: TcpStream, through: &Through, (host, port): (&str, u16)) -> Result<Road, ConnectorError> {
    let bracketed = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    let to = format!("{bracketed}:{port}");
    match through.way {
        Way::HttpProxy => connect(stream, through, &to).await,
        _ => socks(stream, through, &to).await,
    }
}

fn defect(error: &dyn std::fmt::Display) -> ConnectorError {
    ConnectorError::Defect(format!("what is asked of a proxy: {error}"))
}

fn password(through: &Through) -> &str {
    through.password.as_ref().map_or("", |password| password.expose())
}

/// `CONNECT` (RFC 9110, 9.3.6): after a good answer the bytes are the host's.
async fn connect(stream: TcpStream, through: &Through, to: &str) -> Result<Road, ConnectorError> {
    let broke = |error: hyper::Error| leads_nowhere(through, to, &error.to_string());
    let mut request = Request::connect(to).header(HOST, to);
    if let Some(user) = &through.user {
        let login = format!("Basic {}", STANDARD.encode(format!("{user}:{}", password(through))));
        let mut login = HeaderValue::try_from(login).map_err(|e| defect(&e))?;
        login.set_sensitive(true);
        request = request.header(PROXY_AUTHORIZATION, login);
    }
    let request = request.body(Empty::<Bytes>::new()).map_err(|e| defect(&e))?;
    let (mut sender, session) = http1::handshake(TokioIo::new(stream)).await.map_err(broke)?;
    tokio::spawn(session.with_upgrades());
    let answer = sender.send_request(request).await.map_err(broke)?;
    match answer.status() {
        status if status.is_success() => {
            let opened = upgrade::on(answer).await.map_err(broke)?;
            Ok(Road::Proxied(Box::new(TokioIo::new(opened))))
        }
        // 401 is for the end, but some proxies mean themselves by it: nothing else answered
        StatusCode::PROXY_AUTHENTICATION_REQUIRED | StatusCode::UNAUTHORIZED => Err(not_let_in(through)),
        status => Err(leads_nowhere(through, to, &format!("it answers {status}"))),
    }
}

async fn socks(stream: TcpStream, through: &Through, to: &str) -> Result<Road, ConnectorError> {
    let to_uri: Uri = to.parse().map_err(|e| defect(&e))?;
    // it was reached before, so that it is known what was not
    let mut stream = Some(TokioIo::new(stream));
    let reached = service_fn(move |_: Uri| {
        let stream = stream.take();
        async move { stream.ok_or_else(|| Error::from(ErrorKind::NotConnected)) }
    });
    let mut socks = SocksV5::new(Uri::from_static("proxy"), reached);
    if let Some(user) = &through.user {
        socks = socks.with_auth(user.clone(), password(through).to_owned());
    }
    match socks.call(to_uri).await {
        Ok(stream) => Ok(Road::Direct(stream.into_inner())),
        Err(error) => {
            // the package tells its errors by their texts alone
            let told = error.to_string();
            let login = ["credentials", "authentication", "user/pass", "acceptable method"];
            if login.iter().any(|part| told.contains(part)) {
                return Err(not_let_in(through));
            }
            Err(leads_nowhere(through, to, told.trim_start_matches("SOCKS error: ")))
        }
    }
}

fn not_let_in(through: &Through) -> ConnectorError {
    let named = through.named();
    match &through.user {
        Some(user) => ConnectorError::settings(
            Some("through_password"),
            format!("the {named} refuses user {user:?} with this password"),
            "enter the user and the password again",
        ),
        None => ConnectorError::settings(
            Some("through_user"),
            format!("the {named} asks for a login"),
            "give a user of it with the password",
        ),
    }
}

fn leads_nowhere(through: &Through, to: &str, told: &str) -> ConnectorError {
    ConnectorError::try_again(
        format!("the {} does not lead to {to} ({told})", through.named()),
        "check the host and port, that the proxy can reach them, and that it may lead there",
    )
}
