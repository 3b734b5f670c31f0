//! How a PostgreSQL database is reached.

use std::collections::BTreeMap;

use gonvel_core::ports::Address;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::secret::Secret;
use serde_json::Value;

use crate::reaching::Reaching;

/// The word of this kind of system.
pub const KIND: &str = "postgresql";

/// A user with a password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Login {
    /// User.
    pub user: String,
    /// Password.
    pub password: Secret<String>,
}

/// How a database is reached. The passwords never leave this type but through [`Secret::expose`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseAddress {
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database.
    pub database: String,
    /// User.
    pub user: String,
    /// Password.
    pub password: Secret<String>,
    /// How it is reached over the network, and how what goes over it is encrypted.
    pub reaching: Reaching,
    /// Who reads the server's log, where that is another login.
    pub log_login: Option<Login>,
    /// Settings of every session, by name.
    pub settings: BTreeMap<String, String>,
}

impl DatabaseAddress {
    /// A database with one login, encrypted if the server offers it.
    #[must_use]
    pub fn new(host: &str, port: u16, database: &str, user: &str, password: &str) -> Self {
        Self {
            host: host.into(),
            port,
            database: database.into(),
            user: user.into(),
            password: Secret::new(password.into()),
            reaching: Reaching::default(),
            log_login: None,
            settings: BTreeMap::new(),
        }
    }

    /// The same with the login that reads the server's log.
    #[must_use]
    pub fn for_log(&self) -> Self {
        match &self.log_login {
            None => self.clone(),
            Some(login) => Self { user: login.user.clone(), password: login.password.clone(), ..self.clone() },
        }
    }

    /// What a connection's settings say.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the setting that is missing or is none such.
    pub fn read(address: &Address) -> Result<Self, ConnectorError> {
        let given = |name: &'static str| address.settings.get(name);
        let missing = |name: &'static str| {
            ConnectorError::settings(Some(name), format!("the connection's {name} is not set"), "set it")
        };
        let text = |name: &'static str| given(name).and_then(Value::as_str).map(str::to_owned);
        let needed = |name: &'static str| text(name).ok_or_else(|| missing(name));
        let secret = |name: &str| address.secrets.get(name).cloned().unwrap_or_else(|| Secret::new(String::new()));
        let port = given("port").and_then(Value::as_u64).and_then(|port| u16::try_from(port).ok());
        let log_login = text("log_user").map(|user| Login { user, password: secret("log_password") });
        let read = |name: &'static str| given(name).cloned().unwrap_or_default();
        Ok(Self {
            host: needed("host")?,
            port: port.ok_or_else(|| missing("port"))?,
            database: needed("database")?,
            user: needed("user")?,
            password: secret("password"),
            reaching: Reaching::read(address)?,
            log_login,
            settings: serde_json::from_value(read("settings")).unwrap_or_default(),
        })
    }
}

impl From<&DatabaseAddress> for Address {
    fn from(database: &DatabaseAddress) -> Self {
        let address = Self::new(KIND)
            .with("host", database.host.as_str())
            .with("port", database.port)
            .with("database", database.database.as_str())
            .with("user", database.user.as_str())
            .with_secret("password", database.password.expose());
        let address = database.reaching.write(address);
        let address = match &database.log_login {
            Some(login) => {
                address.with("log_user", login.user.as_str()).with_secret("log_password", login.password.expose())
            }
            None => address,
        };
        let settings = database.settings.iter().map(|(name, value)| (name.clone(), value.as_str().into()));
        match database.settings.is_empty() {
            true => address,
            false => address.with("settings", Value::Object(settings.collect())),
        }
    }
}

impl From<DatabaseAddress> for Address {
    fn from(database: DatabaseAddress) -> Self {
        Self::from(&database)
    }
}
