//! Jump hosts: a login over SSH that hands on to one host.

use std::collections::HashMap;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::time::Duration;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_wire::dial;
use russh::Preferred;
use russh::client::{AuthResult, Config, Handle, Handler, connect_stream};
use russh::keys::{Algorithm, HashAlg, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use super::ends::{End, not_reached};
use super::given::Through;
use super::keys::{HostKey, decode};
use super::road::Road;

/// Logins under way at a host at a time: a server refuses those that come while too many have not logged in yet.
const AT_A_TIME: usize = 2;

/// Turns by host and port.
type Turns = HashMap<(String, u16), Arc<Semaphore>>;

/// Hosts that are logged in to.
static HOSTS: LazyLock<Mutex<Turns>> = LazyLock::new(Mutex::default);

/// Waits until a login may begin; it ends with what is given.
pub(super) async fn turn(through: &Through) -> Option<OwnedSemaphorePermit> {
    let place = {
        let mut hosts = HOSTS.lock().unwrap_or_else(PoisonError::into_inner);
        let host = hosts.entry((through.host.clone(), through.port));
        host.or_insert_with(|| Arc::new(Semaphore::new(AT_A_TIME))).clone()
    };
    place.acquire_owned().await.ok()
}

/// What it means that its turn did not come.
pub(super) fn others_first(through: &Through, patience: Duration) -> ConnectorError {
    ConnectorError::try_again(
        format!(
            "others log in to the {}, and this one's turn did not come within {} s",
            through.named(),
            patience.as_secs()
        ),
        "Gonvel tries again by itself; if it stays so, see whether the host answers slowly, or allow more time to connect",
    )
    .at("through_host")
}

/// Opens a channel through a jump host to a host that it reaches. Each has a login of its own: those of one login wait for each other where
/// one is not read.
///
/// # Errors
/// [`ConnectorError`] at a field of the way there, or at the field `host`.
pub(super) async fn open(
    through: &Through,
    end: &End<'_>,
    keepalive: Duration,
    (host, port): (&str, u16),
) -> Result<Road, ConnectorError> {
    let login = log_in(through, end, keepalive).await?;
    // where it comes from is said for the other end's log alone
    match login.channel_open_direct_tcpip(host, port.into(), "127.0.0.1", 0).await {
        Ok(channel) => Ok(Road::through_jump_host(channel.into_stream(), Arc::new(login))),
        Err(russh::Error::ChannelOpenFailure(why)) => Err(refused(through, (host, port), &format!("{why:?}"))),
        Err(error) => Err(broke_off(through, &error.to_string())),
    }
}

fn refused(through: &Through, (host, port): (&str, u16), why: &str) -> ConnectorError {
    ConnectorError::try_again(
        format!("the {} does not lead to {host}:{port} ({why})", through.named()),
        "check the host and port as the jump host knows them, that it reaches them, and that it allows TCP forwarding",
    )
}

fn broke_off(through: &Through, why: &str) -> ConnectorError {
    ConnectorError::try_again(
        format!("the {} broke off while logging in ({why})", through.named()),
        "Gonvel tries again by itself; if it stays so, see its log",
    )
    .at("through_host")
}

/// What a jump host shows of itself, and whether it is what was expected.
struct Host {
    expected: Option<HostKey>,
    shown: Arc<Mutex<Option<PublicKey>>>,
}

impl Handler for Host {
    type Error = russh::Error;

    async fn check_server_key(&mut self, shown: &PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = shown else { return Ok(false) };
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(key.clone());
        Ok(self.expected.as_ref().is_some_and(|expected| expected.is(key)))
    }
}

async fn log_in(through: &Through, end: &End<'_>, keepalive: Duration) -> Result<Handle<Host>, ConnectorError> {
    let expected = through.host_key.as_deref().map(HostKey::read).transpose()?;
    let mut preferred = Preferred::DEFAULT;
    if let Some(HostKey::Whole(key)) = &expected {
        // a host has several, and shows the one that is asked for; those of RSA sign in several ways
        let of_rsa = |way: &Algorithm| matches!(way, Algorithm::Rsa { .. });
        let same = |way: &&Algorithm| **way == key.algorithm() || (of_rsa(way) && of_rsa(&key.algorithm()));
        preferred.key = preferred.key.iter().filter(same).cloned().collect();
    }
    let config = Config {
        preferred,
        keepalive_interval: Some(keepalive),
        // the rows of a load come faster than a smaller window is opened again over a long way
        window_size: 8 << 20,
        nodelay: true,
        ..Config::default()
    };
    let stream = dial(end.host, end.port, keepalive).await.map_err(|e| not_reached(end, &e))?;
    let shown = Arc::<Mutex<Option<PublicKey>>>::default();
    let host = Host { expected, shown: Arc::clone(&shown) };
    let session = connect_stream(Arc::new(config), stream, host).await;
    let mut session = session.map_err(|error| {
        let shown = shown.lock().unwrap_or_else(PoisonError::into_inner).take();
        not_opened(through, shown.as_ref(), &error)
    })?;
    let user = through.user.clone().unwrap_or_default();
    let broke = |error: russh::Error| broke_off(through, &error.to_string());
    let (logged_in, field) = match (&through.key, &through.password) {
        (Some(key), password) => {
            let key = PrivateKeyWithHashAlg::new(Arc::new(decode(key, password.as_ref())?), Some(HashAlg::Sha256));
            (session.authenticate_publickey(user, key).await.map_err(broke)?, "through_key")
        }
        (None, password) => {
            let password = password.as_ref().map_or("", |password| password.expose().as_str());
            (session.authenticate_password(user, password).await.map_err(broke)?, "through_password")
        }
    };
    match &logged_in {
        AuthResult::Success => return Ok(session),
        // a server that refuses says what it would take instead: this one said nothing any more
        AuthResult::Failure { remaining_methods, .. } if remaining_methods.is_empty() => {
            return Err(broke_off(through, "it went away"));
        }
        AuthResult::Failure { .. } => {}
    }
    let with = if field == "through_key" { "key" } else { "password" };
    let remedy = match field {
        "through_key" => "check the user's name, and that its authorized_keys there has the public part of this key",
        _ => "check the user's name and password, and that the host takes passwords",
    };
    let user = through.user.as_deref().unwrap_or_default();
    Err(ConnectorError::settings(
        Some(field),
        format!("the {} refuses user {user:?} with this {with}", through.named()),
        remedy,
    ))
}

/// Why no session was opened: mostly that the host showed another key than it has to, or that none is known yet.
fn not_opened(through: &Through, shown: Option<&PublicKey>, error: &russh::Error) -> ConnectorError {
    let named = through.named();
    let Some(shown) = shown.filter(|_| matches!(error, russh::Error::UnknownKey)) else {
        return match error {
            russh::Error::NoCommonAlgo { .. } if through.host_key.is_some() => ConnectorError::settings(
                Some("through_host_key"),
                format!("the {named} has no key of the kind that it has to show ({error})"),
                "ask who runs it for its public key, and give that",
            ),
            error => ConnectorError::try_again(
                format!("the {named} does not answer as SSH does ({error})"),
                "check the host and port, and that its SSH server runs",
            )
            .at("through_host"),
        };
    };
    let line = shown.to_openssh().unwrap_or_default();
    let print = shown.fingerprint(HashAlg::Sha256);
    match through.host_key {
        None => ConnectorError::settings(
            Some("through_host_key"),
            format!("it is not known which key the {named} has to show; it shows {print}"),
            "compare this with whoever runs it, and give the key",
        )
        .with_statement(line),
        Some(_) => ConnectorError::settings(
            Some("through_host_key"),
            format!("the {named} shows another key than it has to, {print}: it was set up anew, or someone stands between"),
            "ask who runs it; give the new key only if they confirm it",
        ),
    }
}
