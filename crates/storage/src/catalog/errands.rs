//! Errands: what servers ask of systems that runners of a place reach. Both ways they are sealed: an address has secrets, an answer rows.

use std::collections::BTreeMap;

use async_trait::async_trait;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Jsonb, Nullable, Text, Uuid as SqlUuid};
use diesel_async::RunQueryDsl;
use gonvel_core::naming::RunnerName;
use gonvel_core::planning::Labels;
use gonvel_core::ports::systems::ToldError;
use gonvel_core::ports::{Address, Errand, ErrandState, ErrandStore, Outcome, PortError, TakenErrand};
use gonvel_core::secret::Secret;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::Database;
use crate::failing::failed;
use crate::sealing::Place;

/// After which an errand is forgotten that nobody waits for any more.
const FORGOTTEN: &str = "10 minutes";

/// How many a runner takes on at a time.
const AT_A_TIME: usize = 8;

/// What is sealed: the one place besides a connection's own where secrets are written, and read.
#[derive(Serialize, Deserialize)]
struct Asked {
    kind: String,
    settings: Map<String, Value>,
    secrets: BTreeMap<String, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    keys: BTreeMap<String, Vec<Value>>,
    errand: Errand,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    asked: String,
}

#[derive(QueryableByName)]
struct State {
    #[diesel(sql_type = Bool)]
    taken: bool,
    #[diesel(sql_type = Nullable<Text>)]
    outcome: Option<String>,
}

impl Database {
    fn seal_errand(&self, id: Uuid, field: &str, said: &impl Serialize) -> Result<String, PortError> {
        let text = serde_json::to_string(said).map_err(|e| PortError::Refused(e.to_string()))?;
        Ok(STANDARD.encode(self.sealer.seal(&Secret::new(text), Place { connection: id, field })))
    }

    fn open_errand<T: DeserializeOwned>(&self, id: Uuid, field: &str, sealed: &str) -> Result<T, PortError> {
        let opened = self.sealer.open(&STANDARD.decode(sealed).unwrap_or_default(), Place { connection: id, field });
        let text = opened.map_err(|e| PortError::Refused(e.to_string()))?;
        serde_json::from_str(text.expose()).map_err(|_| {
            PortError::Refused(
                "a runner and a server of different versions do not understand each other: bring both to one".into(),
            )
        })
    }
}

#[async_trait]
impl ErrandStore for Database {
    async fn ask_runners(&self, only_where: &Labels, address: &Address, errand: &Errand) -> Result<Uuid, PortError> {
        let id = Uuid::now_v7();
        let asked = Asked {
            kind: address.kind.clone(),
            settings: address.settings.clone(),
            secrets: address.secrets.iter().map(|(name, secret)| (name.clone(), secret.expose().clone())).collect(),
            keys: address.keys.clone(),
            errand: errand.clone(),
        };
        let sealed = self.seal_errand(id, "asked", &asked)?;
        let labels = serde_json::to_value(only_where).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        diesel::sql_query(format!("DELETE FROM errands WHERE asked_at < clock_timestamp() - interval '{FORGOTTEN}'"))
            .execute(&mut connection)
            .await
            .map_err(failed("forgetting errands"))?;
        diesel::sql_query("INSERT INTO errands (id, only_where, asked) VALUES ($1, $2, $3)")
            .bind::<SqlUuid, _>(id)
            .bind::<Jsonb, _>(labels)
            .bind::<Text, _>(sealed)
            .execute(&mut connection)
            .await
            .map_err(failed("asking a runner"))?;
        Ok(id)
    }

    async fn errand(&self, id: Uuid) -> Result<ErrandState, PortError> {
        let mut connection = self.connection().await?;
        let state: Option<State> =
            diesel::sql_query("SELECT taken_by IS NOT NULL AS taken, outcome FROM errands WHERE id = $1")
                .bind::<SqlUuid, _>(id)
                .get_result(&mut connection)
                .await
                .optional()
                .map_err(failed("waiting for a runner's answer"))?;
        drop(connection);
        match state {
            None => Ok(ErrandState::Gone),
            Some(State { outcome: Some(sealed), .. }) => {
                self.withdraw(id).await?;
                self.open_errand(id, "outcome", &sealed).map(ErrandState::Done)
            }
            Some(State { taken: true, .. }) => Ok(ErrandState::Taken),
            Some(_) => Ok(ErrandState::Waiting),
        }
    }

    async fn withdraw(&self, id: Uuid) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query("DELETE FROM errands WHERE id = $1")
            .bind::<SqlUuid, _>(id)
            .execute(&mut connection)
            .await
            .map_err(failed("withdrawing an errand"))?;
        Ok(())
    }

    async fn take_errands(&self, runner: &RunnerName, labels: &Labels) -> Result<Vec<TakenErrand>, PortError> {
        let labels = serde_json::to_value(labels).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        let rows: Vec<Row> = diesel::sql_query(format!(
            "UPDATE errands SET taken_by = $1 WHERE id IN (SELECT id FROM errands WHERE taken_by IS NULL AND only_where <@ $2 \
             ORDER BY id LIMIT {AT_A_TIME} FOR UPDATE SKIP LOCKED) RETURNING id, asked"
        ))
        .bind::<Text, _>(runner.as_str())
        .bind::<Jsonb, _>(labels)
        .get_results(&mut connection)
        .await
        .map_err(failed("taking on errands"))?;
        drop(connection);
        let mut taken = Vec::with_capacity(rows.len());
        for Row { id, asked } in rows {
            match self.open_errand(id, "asked", &asked) {
                Ok(Asked { kind, settings, secrets, keys, errand }) => {
                    let secrets = secrets.into_iter().map(|(name, secret)| (name, Secret::new(secret))).collect();
                    taken.push(TakenErrand { id, address: Address { kind, settings, secrets, keys }, errand });
                }
                // whoever asked learns of it, and the others are carried out
                Err(error) => self.answer_errand(id, &Outcome::Failed(ToldError::Other(error.to_string()))).await?,
            }
        }
        Ok(taken)
    }

    async fn answer_errand(&self, id: Uuid, outcome: &Outcome) -> Result<(), PortError> {
        let sealed = self.seal_errand(id, "outcome", outcome)?;
        let mut connection = self.connection().await?;
        diesel::sql_query("UPDATE errands SET outcome = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(id)
            .bind::<Text, _>(sealed)
            .execute(&mut connection)
            .await
            .map_err(failed("answering an errand"))?;
        Ok(())
    }
}
