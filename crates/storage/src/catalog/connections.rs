//! Connections: saved, reusable ways to reach a system. The password is sealed; it leaves only towards the system.

use chrono::{DateTime, Utc};
use diesel::dsl;
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::naming::ConnectionName;
use gonvel_core::ports::{DatabaseAddress, Login, PortError};
use gonvel_core::secret::Secret;
use uuid::Uuid;

use crate::Database;
use crate::failing::{Stop, failed, stopped};
use crate::schema::{connections, connectors};
use crate::sealing::Place;

const PASSWORD: &str = "password";
const LOG_PASSWORD: &str = "log_password";

/// A connection as people see it: without its secret.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = connections)]
pub struct Connection {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The kind of system.
    pub kind: String,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: i32,
    /// Database.
    pub database: String,
    /// User.
    pub username: String,
    /// Counts its changes.
    pub revision: i32,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last changed.
    pub updated_at: DateTime<Utc>,
    /// Whether sessions are encrypted, as a word.
    pub tls: String,
    /// Certificates to trust, as PEM text.
    pub ca: Option<String>,
    /// Who reads the server's log, where that is another login.
    pub log_username: Option<String>,
    /// Settings of every session.
    pub settings: serde_json::Value,
}

/// A connection's secrets.
#[derive(Queryable, Selectable)]
#[diesel(table_name = connections)]
struct Sealed {
    id: Uuid,
    name: String,
    sealed_password: Vec<u8>,
    sealed_log_password: Option<Vec<u8>>,
}

/// What a person gives for a connection.
#[derive(Debug, Clone)]
pub struct ConnectionInput {
    /// Its name.
    pub name: ConnectionName,
    /// How it is reached.
    pub address: DatabaseAddress,
}

fn named(name: &ConnectionName) -> impl FnOnce(Error) -> PortError {
    let what = format!("the connection {name}");
    move |error| match error {
        Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => PortError::Exists { what },
        error => failed("saving a connection")(error),
    }
}

type Further = (
    dsl::Eq<connections::tls, &'static str>,
    dsl::Eq<connections::ca, Option<String>>,
    dsl::Eq<connections::log_username, Option<String>>,
    dsl::Eq<connections::sealed_log_password, Option<Vec<u8>>>,
    dsl::Eq<connections::settings, serde_json::Value>,
);

impl Database {
    /// What an address says beyond its login.
    fn further(&self, id: Uuid, address: &DatabaseAddress) -> Further {
        let seal = |login: &Login| self.sealer.seal(&login.password, Place { connection: id, field: LOG_PASSWORD });
        (
            connections::tls.eq(address.tls.word()),
            connections::ca.eq(address.ca.clone()),
            connections::log_username.eq(address.log_login.as_ref().map(|l| l.user.clone())),
            connections::sealed_log_password.eq(address.log_login.as_ref().map(seal)),
            connections::settings.eq(serde_json::to_value(&address.settings).unwrap_or_default()),
        )
    }

    /// Saves a new connection.
    ///
    /// # Errors
    /// [`PortError::Exists`] if the name is taken.
    pub async fn create_connection(&self, input: &ConnectionInput) -> Result<Connection, PortError> {
        let mut connection = self.connection().await?;
        let (id, address) = (Uuid::now_v7(), &input.address);
        diesel::insert_into(connections::table)
            .values((
                connections::id.eq(id),
                connections::name.eq(input.name.as_str()),
                connections::kind.eq("postgresql"),
                connections::host.eq(&address.host),
                connections::port.eq(i32::from(address.port)),
                connections::database.eq(&address.database),
                connections::username.eq(&address.user),
                connections::sealed_password
                    .eq(self.sealer.seal(&address.password, Place { connection: id, field: PASSWORD })),
                self.further(id, address),
            ))
            .returning(Connection::as_returning())
            .get_result(&mut connection)
            .await
            .map_err(named(&input.name))
    }

    /// Replaces what a connection says; without a password the former one stays.
    ///
    /// # Errors
    /// [`PortError::NotFound`], or [`PortError::Exists`] if the new name is taken.
    pub async fn replace_connection(
        &self,
        id: Uuid,
        input: &ConnectionInput,
        keep_password: bool,
    ) -> Result<Connection, PortError> {
        let mut connection = self.connection().await?;
        let address = &input.address;
        let sealed =
            (!keep_password).then(|| self.sealer.seal(&address.password, Place { connection: id, field: PASSWORD }));
        diesel::update(connections::table.find(id))
            .set((
                connections::name.eq(input.name.as_str()),
                connections::host.eq(&address.host),
                connections::port.eq(i32::from(address.port)),
                connections::database.eq(&address.database),
                connections::username.eq(&address.user),
                sealed.map(|s| connections::sealed_password.eq(s)),
                self.further(id, address),
                connections::revision.eq(connections::revision + 1),
                connections::updated_at.eq(diesel::dsl::now),
            ))
            .returning(Connection::as_returning())
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(named(&input.name))?
            .ok_or_else(|| PortError::NotFound { what: "such connection".into() })
    }

    /// All connections by name.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn connections(&self) -> Result<Vec<Connection>, PortError> {
        let mut connection = self.connection().await?;
        connections::table
            .select(Connection::as_select())
            .order(connections::name)
            .load(&mut connection)
            .await
            .map_err(failed("listing connections"))
    }

    /// One connection.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn find_connection(&self, id: Uuid) -> Result<Connection, PortError> {
        let mut connection = self.connection().await?;
        connections::table
            .find(id)
            .select(Connection::as_select())
            .first(&mut connection)
            .await
            .optional()
            .map_err(failed("finding a connection"))?
            .ok_or_else(|| PortError::NotFound { what: format!("connection {id}") })
    }

    /// Seals every secret anew, with the key that is now the first, all or none; gives how many connections have secrets.
    ///
    /// # Errors
    /// [`PortError::Refused`] if one cannot be opened with the keys that are here.
    pub async fn seal_anew(&self) -> Result<usize, PortError> {
        let mut connection = self.connection().await?;
        let sealed = connection.transaction::<_, Stop, _>(async |c| {
            let all: Vec<Sealed> =
                connections::table.select(Sealed::as_select()).order(connections::id).for_update().load(c).await?;
            for Sealed { id, name, sealed_password, sealed_log_password } in &all {
                let anew = |sealed: &[u8], field| {
                    let place = Place { connection: *id, field };
                    let open = self.sealer.open(sealed, place);
                    let open = open.map_err(|e| Stop::Refused(PortError::Refused(format!("the connection {name}: {e}"))))?;
                    Ok::<_, Stop>(self.sealer.seal(&open, place))
                };
                let log_password = sealed_log_password.as_deref().map(|sealed| anew(sealed, LOG_PASSWORD)).transpose()?;
                diesel::update(connections::table.find(id))
                    .set((
                        connections::sealed_password.eq(anew(sealed_password, PASSWORD)?),
                        connections::sealed_log_password.eq(log_password),
                    ))
                    .execute(c)
                    .await?;
            }
            Ok(all.len())
        });
        sealed.await.map_err(stopped("sealing secrets anew"))
    }

    /// Deletes a connection that no connector uses.
    ///
    /// # Errors
    /// [`PortError::Refused`] with the names of those that do; [`PortError::NotFound`].
    pub async fn delete_connection(&self, id: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let users: Vec<String> = connectors::table
            .filter(connectors::connection_id.eq(id))
            .select(connectors::name)
            .order(connectors::name)
            .load(&mut connection)
            .await
            .map_err(failed("finding a connection's connectors"))?;
        if !users.is_empty() {
            return Err(PortError::Refused(format!("the connection is used by {}: delete those first", users.join(", "))));
        }
        match diesel::delete(connections::table.find(id)).execute(&mut connection).await {
            Ok(0) => Err(PortError::NotFound { what: format!("connection {id}") }),
            Ok(_) => Ok(()),
            Err(Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _)) => {
                Err(PortError::Refused("a connector began to use the connection just now: look again".into()))
            }
            Err(error) => Err(failed("deleting a connection")(error)),
        }
    }
}

pub(super) async fn address(database: &Database, id: Uuid) -> Result<DatabaseAddress, PortError> {
    let found = database.find_connection(id).await?;
    let mut connection = database.connection().await?;
    let (sealed, sealed_log): (Vec<u8>, Option<Vec<u8>>) = connections::table
        .find(id)
        .select((connections::sealed_password, connections::sealed_log_password))
        .first(&mut connection)
        .await
        .map_err(failed("reading a connection"))?;
    let open = |sealed: &[u8], field| -> Result<Secret<String>, PortError> {
        database.sealer.open(sealed, Place { connection: id, field }).map_err(|e| PortError::Refused(e.to_string()))
    };
    let log_login = match (found.log_username, sealed_log) {
        (Some(user), Some(sealed)) => Some(Login { user, password: open(&sealed, LOG_PASSWORD)? }),
        _ => None,
    };
    Ok(DatabaseAddress {
        host: found.host,
        port: u16::try_from(found.port).unwrap_or(0),
        database: found.database,
        user: found.username,
        password: open(&sealed, PASSWORD)?,
        tls: serde_json::from_value(found.tls.into()).unwrap_or_default(),
        ca: found.ca,
        log_login,
        settings: serde_json::from_value(found.settings).unwrap_or_default(),
    })
}
