//! Connections: saved, reusable ways to reach a system. Secrets are sealed; they leave only towards the system.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::naming::ConnectionName;
use gonvel_core::ports::{Address, PortError};
use gonvel_core::secret::Secret;
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::Database;
use crate::failing::{Stop, failed, stopped};
use crate::schema::{connections, connectors};
use crate::sealing::{Place, SealError};

/// A connection as people see it: without its secrets.
#[derive(Debug, Clone, Queryable, Selectable)]
#[diesel(table_name = connections)]
pub struct Connection {
    /// Its id.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// The kind of system.
    pub kind: String,
    /// Its settings, as the kind takes them.
    pub given: Value,
    /// Its secrets, by setting.
    sealed: Value,
    /// Counts its changes.
    pub revision: i32,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last changed.
    pub updated_at: DateTime<Utc>,
}

impl Connection {
    /// The settings of which a secret is kept, in order.
    #[must_use]
    pub fn kept_secrets(&self) -> Vec<String> {
        sealed(&self.sealed).into_keys().collect()
    }

    /// How it is reached, as far as that is no secret.
    #[must_use]
    pub fn address(&self) -> Address {
        let settings = self.given.as_object().cloned().unwrap_or_default();
        Address { settings, ..Address::new(&self.kind) }
    }
}

/// What a person gives for a connection.
#[derive(Debug, Clone)]
pub struct ConnectionInput {
    /// Its name.
    pub name: ConnectionName,
    /// How it is reached.
    pub address: Address,
}

fn named(name: &ConnectionName) -> impl FnOnce(Error) -> PortError {
    let what = format!("the connection {name}");
    move |error| match error {
        Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => PortError::Exists { what },
        error => failed("saving a connection")(error),
    }
}

/// Sealed secrets as they are stored, by setting.
type Sealed = BTreeMap<String, String>;

fn sealed(stored: &Value) -> Sealed {
    serde_json::from_value(stored.clone()).unwrap_or_default()
}

impl Database {
    /// The secrets of an address, sealed.
    fn seal(&self, id: Uuid, address: &Address) -> Value {
        let seal = |(field, secret): (&String, &Secret<String>)| {
            let sealed = self.sealer.seal(secret, Place { connection: id, field });
            (field.clone(), Value::from(STANDARD.encode(sealed)))
        };
        Value::Object(address.secrets.iter().map(seal).collect())
    }

    /// A sealed secret of a connection.
    fn unsealed(&self, connection: Uuid, field: &str, sealed: &str) -> Result<Secret<String>, SealError> {
        // what is no base64 is none that was sealed
        self.sealer.open(&STANDARD.decode(sealed).unwrap_or_default(), Place { connection, field })
    }

    /// Saves a new connection.
    ///
    /// # Errors
    /// [`PortError::Exists`] if the name is taken.
    pub async fn create_connection(&self, input: &ConnectionInput) -> Result<Connection, PortError> {
        let mut connection = self.connection().await?;
        let (id, address) = (Uuid::now_v7(), &input.address);
        let made = connection.transaction(async |c| {
            let made: Connection = diesel::insert_into(connections::table)
                .values((
                    connections::id.eq(id),
                    connections::name.eq(input.name.as_str()),
                    connections::kind.eq(&address.kind),
                    connections::given.eq(Value::Object(address.settings.clone())),
                    connections::sealed.eq(self.seal(id, address)),
                ))
                .returning(Connection::as_returning())
                .get_result(c)
                .await?;
            self.note_made(c, &id.to_string()).await?;
            Ok(made)
        });
        made.await.map_err(named(&input.name))
    }

    /// Replaces what a connection says, with its secrets, if it is at this revision.
    ///
    /// # Errors
    /// [`PortError::NotFound`], [`PortError::Changed`] if it is at another one, or [`PortError::Exists`] if the new name is taken.
    pub async fn replace_connection(
        &self,
        id: Uuid,
        revision: i32,
        input: &ConnectionInput,
    ) -> Result<Connection, PortError> {
        let mut connection = self.connection().await?;
        let address = &input.address;
        let made = diesel::update(connections::table.find(id).filter(connections::revision.eq(revision)))
            .set((
                connections::name.eq(input.name.as_str()),
                connections::given.eq(Value::Object(address.settings.clone())),
                connections::sealed.eq(self.seal(id, address)),
                connections::revision.eq(connections::revision + 1),
                connections::updated_at.eq(diesel::dsl::now),
            ))
            .returning(Connection::as_returning())
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(named(&input.name))?;
        drop(connection);
        match made {
            Some(made) => Ok(made),
            None => {
                let now = self.find_connection(id).await?;
                Err(PortError::Changed { what: format!("the connection {}", now.name) })
            }
        }
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

    /// The connection of a name.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn connection_named(&self, name: &str) -> Result<Uuid, PortError> {
        let mut connection = self.connection().await?;
        let found = connections::table.filter(connections::name.eq(name)).select(connections::id).first(&mut connection);
        let found: Option<Uuid> = found.await.optional().map_err(failed("finding a connection by its name"))?;
        found.ok_or_else(|| PortError::NotFound { what: format!("connection {name}") })
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
            let all: Vec<(Uuid, String, Value)> = connections::table
                .select((connections::id, connections::name, connections::sealed))
                .order(connections::id)
                .for_update()
                .load(c)
                .await?;
            for (id, name, stored) in &all {
                let mut anew = Map::new();
                for (field, secret) in sealed(stored) {
                    let open = self.unsealed(*id, &field, &secret);
                    let open = open.map_err(|e| Stop::Refused(PortError::Refused(format!("the connection {name}: {e}"))))?;
                    let sealed = self.sealer.seal(&open, Place { connection: *id, field: &field });
                    anew.insert(field, STANDARD.encode(sealed).into());
                }
                diesel::update(connections::table.find(id))
                    .set(connections::sealed.eq(Value::Object(anew)))
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

pub(super) async fn address(database: &Database, id: Uuid) -> Result<Address, PortError> {
    let found = database.find_connection(id).await?;
    let mut connection = database.connection().await?;
    let stored: Value = connections::table
        .find(id)
        .select(connections::sealed)
        .first(&mut connection)
        .await
        .map_err(failed("reading a connection"))?;
    let mut address = found.address();
    for (field, secret) in sealed(&stored) {
        let open = database.unsealed(id, &field, &secret).map_err(|e| PortError::Refused(e.to_string()))?;
        address.secrets.insert(field, open);
    }
    Ok(address)
}
