//! Creations that are carried out once, however often the same request comes.

use diesel::prelude::*;
use diesel::sql_types::{Binary, Nullable, Text};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::digest::sha256;
use gonvel_core::ports::PortError;

use crate::Database;
use crate::failing::failed;
use crate::once::Once;

#[derive(QueryableByName)]
struct Stored {
    #[diesel(sql_type = Binary)]
    digest: Vec<u8>,
    #[diesel(sql_type = Nullable<Binary>)]
    told: Option<Vec<u8>>,
}

impl Database {
    /// What a request asks for, in parts. The digest that is kept says nothing of secrets in them to who lacks the key of this installation.
    #[must_use]
    pub fn asked_once(&self, key: &str, parts: &[&[u8]]) -> Once {
        let secret = self.sealer.derived("requests that make something");
        let digest = sha256(&[secret.expose(), &sha256(parts)[..]]).to_vec();
        Once { key: key.to_owned(), digest }
    }

    /// The same database, which notes with the next thing that it makes that this request made it, in the same transaction.
    #[must_use]
    pub fn once(&self, once: Option<Once>) -> Self {
        Self { once, ..self.clone() }
    }

    /// What a request made, by its id or its name, if it has; for a day.
    ///
    /// # Errors
    /// [`PortError::KeyReused`] if another request came with its key.
    pub async fn made_by(&self, once: &Once) -> Result<Option<String>, PortError> {
        let mut connection = self.connection().await?;
        let stored: Option<Stored> = diesel::sql_query("SELECT digest, told FROM idempotency_keys WHERE key = $1")
            .bind::<Text, _>(&once.key)
            .get_result(&mut connection)
            .await
            .optional()
            .map_err(failed("looking for what a request made"))?;
        let Some(stored) = stored else { return Ok(None) };
        if stored.digest != once.digest {
            return Err(PortError::KeyReused { key: once.key.clone() });
        }
        Ok(Some(String::from_utf8_lossy(&stored.told.unwrap_or_default()).into_owned()))
    }

    /// Notes in the transaction that makes something what is made. It fails where another one has noted it already.
    pub(crate) async fn note_made(&self, connection: &mut AsyncPgConnection, made: &str) -> QueryResult<()> {
        let Some(once) = &self.once else { return Ok(()) };
        diesel::sql_query("INSERT INTO idempotency_keys (key, digest, landed, told) VALUES ($1, $2, '[]', $3)")
            .bind::<Text, _>(&once.key)
            .bind::<Binary, _>(&once.digest)
            .bind::<Binary, _>(made.as_bytes())
            .execute(connection)
            .await
            .map(|_| ())
    }
}
