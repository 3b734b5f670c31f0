//! What a connection's settings say of the way to its system.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use gonvel_core::kinds::reaching::{CONNECT_SECONDS, HTTP_PROXY, JUMP_HOST, KEEPALIVE_SECONDS, ONLY_WHERE, SOCKS5_PROXY};
use gonvel_core::planning::{Labels, labels_text, read_label};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, TlsMode};
use gonvel_core::secret::Secret;
use gonvel_wire::{ClientConfig, Shown};
use serde_json::Value;

use super::keys::{HostKey, check_key};

/// A certificate that this side shows, with its key, both PEM.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Own {
    /// The certificate, and those between it and its authority.
    pub certificate: String,
    /// Its key.
    pub key: Secret<String>,
}

/// What leads to a system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// A proxy that is asked by `CONNECT` (RFC 9110, 9.3.6).
    HttpProxy,
    /// A SOCKS proxy of version 5 (RFC 1928, 1929).
    Socks5Proxy,
    /// A host that is logged in to over SSH (RFC 4254, 7.2).
    JumpHost,
}

/// What stands between.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Through {
    /// What it is.
    pub way: Way,
    /// Its host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// Who logs in there, if anyone does.
    pub user: Option<String>,
    /// The password there, or that of the key.
    pub password: Option<Secret<String>>,
    /// The private key of who logs in to a jump host.
    pub key: Option<Secret<String>>,
    /// The key that a jump host has to show.
    pub host_key: Option<String>,
}

/// How a system on a network is reached.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reaching {
    /// Whether sessions are encrypted.
    pub tls: TlsMode,
    /// Certificates that the server's may be signed by, as PEM text; none means those this machine trusts.
    pub ca: Option<String>,
    /// What this side shows of itself.
    pub own: Option<Own>,
    /// What stands between, if anything does.
    pub through: Option<Through>,
    /// After so long without a word, the other end is asked for a sign of life.
    pub keepalive: Duration,
    /// How long opening a session may take.
    pub patience: Duration,
    /// Labels of the runners that reach it; none for all.
    pub only_where: Labels,
}

impl Default for Reaching {
    fn default() -> Self {
        Self {
            tls: TlsMode::default(),
            ca: None,
            own: None,
            through: None,
            keepalive: Duration::from_secs(KEEPALIVE_SECONDS.into()),
            patience: Duration::from_secs(CONNECT_SECONDS.into()),
            only_where: Labels::new(),
        }
    }
}

impl Way {
    const ALL: [Self; 3] = [Self::HttpProxy, Self::Socks5Proxy, Self::JumpHost];

    /// Its value of the setting `through`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::HttpProxy => HTTP_PROXY,
            Self::Socks5Proxy => SOCKS5_PROXY,
            Self::JumpHost => JUMP_HOST,
        }
    }

    fn usual_port(self) -> u16 {
        match self {
            Self::HttpProxy => 8080,
            Self::Socks5Proxy => 1080,
            Self::JumpHost => 22,
        }
    }
}

impl fmt::Display for Way {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::HttpProxy => "HTTP proxy",
            Self::Socks5Proxy => "SOCKS5 proxy",
            Self::JumpHost => "jump host",
        })
    }
}

impl Through {
    /// How it is called in sentences, as in `jump host gate.orchard.example:22`.
    #[must_use]
    pub fn named(&self) -> String {
        format!("{} {}:{}", self.way, self.host, self.port)
    }
}

impl Reaching {
    /// What a connection's settings say.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the setting that is missing.
    pub fn read(address: &Address) -> Result<Self, ConnectorError> {
        let text = |name: &str| address.settings.get(name).and_then(Value::as_str).map(str::to_owned);
        let number = |name: &str| address.settings.get(name).and_then(Value::as_u64);
        let secret = |name: &str| address.secrets.get(name).filter(|secret| !secret.expose().is_empty()).cloned();
        let usual = Self::default();
        let word = text("through").unwrap_or_default();
        let through = match Way::ALL.into_iter().find(|way| way.word() == word) {
            None => None,
            Some(way) => {
                let asked = format!("the {way}'s host is not set");
                let host = text("through_host").filter(|host| !host.is_empty());
                let port = number("through_port").and_then(|port| u16::try_from(port).ok());
                Some(Through {
                    way,
                    host: host.ok_or_else(|| ConnectorError::settings(Some("through_host"), asked, "set it"))?,
                    port: port.unwrap_or(way.usual_port()),
                    user: text("through_user").filter(|user| !user.is_empty()),
                    password: secret("through_password"),
                    key: secret("through_key").filter(|_| way == Way::JumpHost),
                    host_key: text("through_host_key").filter(|_| way == Way::JumpHost),
                })
            }
        };
        let own = text("certificate").map(|certificate| Own {
            certificate,
            key: secret("certificate_key").unwrap_or_else(|| Secret::new(String::new())),
        });
        let seconds = |name: &str, usual| number(name).map_or(usual, Duration::from_secs);
        let tls = address.settings.get("tls").cloned().unwrap_or_default();
        Ok(Self {
            tls: serde_json::from_value(tls).unwrap_or_default(),
            ca: text("ca"),
            own,
            through,
            keepalive: seconds("keepalive_seconds", usual.keepalive),
            patience: seconds("connect_seconds", usual.patience),
            only_where: address.only_where(),
        })
    }

    /// An address with these settings.
    #[must_use]
    pub fn write(&self, mut address: Address) -> Address {
        let usual = Self::default();
        address = address.with("tls", self.tls.word());
        let mut set = |name: &str, value: Option<Value>| {
            address.settings.extend(value.map(|value| (name.to_owned(), value)));
        };
        set("ca", self.ca.clone().map(Value::from));
        set("certificate", self.own.as_ref().map(|own| own.certificate.clone().into()));
        if let Some(through) = &self.through {
            set("through", Some(through.way.word().into()));
            set("through_host", Some(through.host.clone().into()));
            set("through_port", (through.port != through.way.usual_port()).then(|| through.port.into()));
            set("through_user", through.user.clone().map(Value::from));
            set("through_host_key", through.host_key.clone().map(Value::from));
        }
        let seconds = |now: Duration, usual: Duration| (now != usual).then(|| now.as_secs().into());
        let only_where = self.only_where.iter().map(|(name, value)| (name.clone(), value.as_str().into()));
        set(ONLY_WHERE, (!self.only_where.is_empty()).then(|| Value::Object(only_where.collect())));
        set("keepalive_seconds", seconds(self.keepalive, usual.keepalive));
        set("connect_seconds", seconds(self.patience, usual.patience));
        let secrets = [
            ("certificate_key", self.own.as_ref().map(|own| &own.key)),
            ("through_password", self.through.as_ref().and_then(|through| through.password.as_ref())),
            ("through_key", self.through.as_ref().and_then(|through| through.key.as_ref())),
        ];
        secrets
            .into_iter()
            .filter_map(|(name, secret)| Some((name, secret?)))
            .fold(address, |address, (name, secret)| address.with_secret(name, secret.expose()))
    }

    /// Looks whether what is given can be used, without reaching anything. A secret that is not there may still come.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the field.
    pub fn check(&self) -> Result<(), ConnectorError> {
        for (name, value) in &self.only_where {
            read_label(&format!("{name}={value}"))
                .map_err(|finding| ConnectorError::settings(Some(ONLY_WHERE), finding, "give it as runners have it"))?;
        }
        if let Some(ca) = &self.ca {
            gonvel_wire::check_ca(ca).map_err(unusable)?;
        }
        if self.own.as_ref().is_some_and(|own| !own.key.expose().is_empty()) {
            self.client_config().map_err(unusable)?;
        }
        let Some(through) = &self.through else { return Ok(()) };
        check_host("through_host", &through.host)?;
        let without_user = match through.way {
            Way::JumpHost => true,
            Way::HttpProxy | Way::Socks5Proxy => through.password.is_some(),
        };
        if through.user.is_none() && without_user {
            let finding = format!("the user of the {} is not set", through.way);
            return Err(ConnectorError::settings(Some("through_user"), finding, "set it"));
        }
        if let Some(key) = &through.key {
            check_key(key, through.password.as_ref())?;
        }
        through.host_key.as_deref().map_or(Ok(()), |key| HostKey::read(key).map(|_| ()))
    }

    /// Looks whether the secrets that it takes to get there are given.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the field.
    pub fn check_secrets(&self) -> Result<(), ConnectorError> {
        if self.own.as_ref().is_some_and(|own| own.key.expose().is_empty()) {
            return Err(ConnectorError::settings(
                Some("certificate_key"),
                "the client certificate has no key",
                "give its key as PEM text, or take the certificate out",
            ));
        }
        match &self.through {
            Some(Through { way: Way::JumpHost, key: None, password: None, .. }) => Err(ConnectorError::settings(
                Some("through_key"),
                "nothing is given that logs in to the jump host",
                "give the user's private key, or the password",
            )),
            _ => Ok(()),
        }
    }

    /// Which machine a host is, however it is written; that of this machine is another one behind a jump host or a proxy.
    #[must_use]
    pub fn machine(&self, host: &str) -> String {
        let host = host.to_lowercase();
        let own = matches!(host.as_str(), "localhost" | "::1") || host.starts_with("127.");
        match &self.through {
            Some(through) if own => format!("{}>127.0.0.1", through.host.to_lowercase()),
            None if own && !self.only_where.is_empty() => format!("{}>127.0.0.1", labels_text(&self.only_where)),
            None if matches!(host.as_str(), "localhost" | "::1") => "127.0.0.1".into(),
            _ => host,
        }
    }

    /// What of a changed way guards secrets less than before; none if nothing does.
    #[must_use]
    pub fn guards_less(&self, now: &Self) -> Option<&'static str> {
        let strength = |tls: TlsMode| match tls {
            TlsMode::Off => 0,
            TlsMode::Prefer => 1,
            TlsMode::Require => 2,
            TlsMode::Verify => 3,
        };
        // whoever stands between sees what is not encrypted, and the login there
        let leads = |reaching: &Self| {
            reaching.through.as_ref().map(|t| (t.way, t.host.clone(), t.port, t.user.clone(), t.host_key.clone()))
        };
        if strength(now.tls) < strength(self.tls) {
            return Some("the encryption became weaker");
        }
        if self.tls == TlsMode::Verify && self.ca != now.ca {
            return Some("other certificates are trusted");
        }
        if self.only_where != now.only_where {
            return Some("it is reached from elsewhere");
        }
        (leads(self) != leads(now)).then_some("the way there changed")
    }

    /// This side of an encrypted session.
    pub(crate) fn client_config(&self) -> Result<Arc<ClientConfig>, gonvel_wire::Unusable> {
        let shown = self.own.as_ref().map(|own| Shown { certificate: &own.certificate, key: own.key.expose() });
        gonvel_wire::client_config(self.tls, self.ca.as_deref(), shown).map(Arc::new)
    }
}

/// What certificates that cannot be used mean.
pub(crate) fn unusable(unusable: gonvel_wire::Unusable) -> ConnectorError {
    use gonvel_wire::Unusable;
    match unusable {
        Unusable::Trust(finding) => ConnectorError::settings(
            Some("ca"),
            finding,
            "paste the certificate authority's certificate as PEM text, with its BEGIN and END lines",
        ),
        Unusable::Own(finding) => ConnectorError::settings(
            Some("certificate"),
            finding,
            "paste the client certificate and its key as PEM text, each with its BEGIN and END lines",
        ),
        Unusable::Defect(finding) => ConnectorError::Defect(finding),
    }
}

/// Looks whether a name can be that of a host: a path would be a socket of this machine, and some signs begin another setting.
///
/// # Errors
/// [`ConnectorError::Settings`] at the field.
pub fn check_host(field: &'static str, host: &str) -> Result<(), ConnectorError> {
    let of_a_host = |c: char| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | ':' | '%');
    host.chars().find(|c| !of_a_host(*c)).map_or(Ok(()), |other| {
        let finding = format!("{other:?} stands in no host name or address");
        Err(ConnectorError::settings(Some(field), finding, "give one like db.orchard.example or 10.0.0.7"))
    })
}
