//! Jump hosts: one login over SSH carries all sessions through it, and lasts as long as one of them.

use std::sync::{Arc, LazyLock, Mutex, PoisonError, Weak};
use std::time::Duration;

use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::secret::Secret;
use gonvel_wire::dial;
use russh::client::{Config, Handle, Handler, Msg, connect_stream};
use russh::keys::{
    HashAlg, PrivateKey, PrivateKeyWithHashAlg, PublicKey, PublicKeyOrCertificate, decode_secret_key, ssh_key::Fingerprint,
};
use russh::{ChannelStream, Preferred};

use super::{End, Road, Through, not_reached};

/// A channel to a host behind a jump host.
pub struct Channel {
    pub(super) stream: ChannelStream<Msg>,
    /// The login lasts as long as one channel of it.
    _login: Arc<Handle<Host>>,
}

/// Who logs in where, and the session of it. The lock is held while it is opened, so that a fleet logs in once.
type Login = (Through, Arc<tokio::sync::Mutex<Weak<Handle<Host>>>>);

/// Logins that are there; those that ended go when the next is looked for.
static LOGINS: LazyLock<Mutex<Vec<Login>>> = LazyLock::new(Mutex::default);

/// Opens a channel through a jump host to a host that it reaches.
///
/// # Errors
/// [`ConnectorError`] at a field of the way there, or at the field `host`.
pub(super) async fn open(
    through: &Through,
    end: &End<'_>,
    keepalive: Duration,
    (host, port): (&str, u16),
) -> Result<Road, ConnectorError> {
    let place = login(through);
    let mut place = place.lock().await;
    let known = place.upgrade().filter(|login| !login.is_closed());
    let (login, fresh) = match known {
        Some(login) => (login, false),
        None => (Arc::new(log_in(through, end, keepalive).await?), true),
    };
    *place = Arc::downgrade(&login);
    drop(place);
    match channel(&login, (host, port)).await {
        Ok(stream) => Ok(Road::Jump(Box::new(Channel { stream, _login: login }))),
        Err(russh::Error::ChannelOpenFailure(why)) => Err(refused(through, (host, port), &format!("{why:?}"))),
        // it had ended without a word
        Err(_) if !fresh => {
            let again = Arc::new(log_in(through, end, keepalive).await?);
            let opened = channel(&again, (host, port)).await.map_err(|e| refused(through, (host, port), &e.to_string()))?;
            Ok(Road::Jump(Box::new(Channel { stream: opened, _login: again })))
        }
        Err(error) => Err(refused(through, (host, port), &error.to_string())),
    }
}

async fn channel(login: &Handle<Host>, (host, port): (&str, u16)) -> Result<ChannelStream<Msg>, russh::Error> {
    // where it comes from is said for the other end's log alone
    Ok(login.channel_open_direct_tcpip(host, port.into(), "127.0.0.1", 0).await?.into_stream())
}

fn refused(through: &Through, (host, port): (&str, u16), why: &str) -> ConnectorError {
    ConnectorError::try_again(
        format!("the {} does not lead to {host}:{port} ({why})", through.named()),
        "check the host and port as the jump host knows them, that it reaches them, and that it allows TCP forwarding",
    )
}

/// The place of a login.
fn login(through: &Through) -> Arc<tokio::sync::Mutex<Weak<Handle<Host>>>> {
    let mut logins = LOGINS.lock().unwrap_or_else(PoisonError::into_inner);
    logins.retain(|(_, place)| {
        Arc::strong_count(place) > 1 || place.try_lock().is_ok_and(|session| session.strong_count() > 0)
    });
    if let Some((_, place)) = logins.iter().find(|(known, _)| known == through) {
        return Arc::clone(place);
    }
    let place = Arc::default();
    logins.push((through.clone(), Arc::clone(&place)));
    place
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
        // a host has several, and shows the one that is asked for
        preferred.key = vec![key.algorithm()].into();
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
    let broke = |error: russh::Error| {
        ConnectorError::try_again(
            format!("the {} broke off while logging in ({error})", through.named()),
            "see its log; Gonvel tries again by itself",
        )
        .at("through_host")
    };
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
    if logged_in.success() {
        return Ok(session);
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

/// The key that a host has to show.
#[derive(Debug)]
pub(super) enum HostKey {
    /// All of it.
    Whole(PublicKey),
    /// Its fingerprint.
    Print(Fingerprint),
}

impl HostKey {
    /// Reads a line as it stands in a `.pub` file or among known hosts, or a fingerprint.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] at its field.
    pub(super) fn read(text: &str) -> Result<Self, ConnectorError> {
        let words: Vec<&str> = text.split_whitespace().collect();
        if let Some(print) = words.iter().find(|word| word.starts_with("SHA256:"))
            && let Ok(print) = print.parse()
        {
            return Ok(Self::Print(print));
        }
        let keys = words.windows(2).filter_map(|pair| PublicKey::from_openssh(&pair.join(" ")).ok());
        keys.into_iter().next().map(Self::Whole).ok_or_else(|| {
            ConnectorError::settings(
                Some("through_host_key"),
                "the host key is neither a public key nor a fingerprint",
                "give it as in ssh-ed25519 AAAA…, or its fingerprint as in SHA256:…; leave it empty and test, to see which it shows",
            )
        })
    }

    fn is(&self, shown: &PublicKey) -> bool {
        match self {
            Self::Whole(key) => key.key_data() == shown.key_data(),
            Self::Print(print) => *print == shown.fingerprint(print.algorithm()),
        }
    }
}

/// Checks that a private key can be read, with the password where it has one.
///
/// # Errors
/// [`ConnectorError::Settings`] at its field, or at that of the password.
pub(super) fn check_key(key: &Secret<String>, password: Option<&Secret<String>>) -> Result<(), ConnectorError> {
    decode(key, password).map(|_| ())
}

fn decode(key: &Secret<String>, password: Option<&Secret<String>>) -> Result<PrivateKey, ConnectorError> {
    decode_secret_key(key.expose(), password.map(|password| password.expose().as_str())).map_err(|error| {
        let encrypted = matches!(error, russh::keys::Error::KeyIsEncrypted)
            || (password.is_some()
                && decode_secret_key(key.expose(), None).is_err_and(|e| matches!(e, russh::keys::Error::KeyIsEncrypted)));
        match (encrypted, password) {
            (true, None) => ConnectorError::settings(
                Some("through_password"),
                "the private key is locked with a password",
                "give it, or a key without one",
            ),
            (true, Some(_)) => ConnectorError::settings(
                Some("through_password"),
                "the private key is not unlocked by this password",
                "enter the password of the key again",
            ),
            // what was found could repeat of the key
            (false, _) => ConnectorError::settings(
                Some("through_key"),
                "the private key cannot be read",
                "paste it as OpenSSH writes it, with its BEGIN and END lines",
            ),
        }
    })
}
