//! Connectors: their definitions, what is asked of them, and how their lanes say they are.

use chrono::{DateTime, Utc};
use diesel::prelude::*;
use diesel::result::{DatabaseErrorKind, Error};
use diesel::sql_types::{Bool, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use gonvel_core::connector::{Definition, ExistingRows, State, ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName};
use gonvel_core::ports::{Deed, LaneStatus, PortError, Reload, TableProgress};
use gonvel_core::preflight::KeptReport;
use uuid::Uuid;

use super::history;
use crate::Database;
use crate::failing::failed;
use crate::operations::{NewOperation, begin_on};
use crate::schema::{connector_versions, connectors, drafts, lanes, reloads};

#[derive(Queryable, Selectable)]
#[diesel(table_name = connectors)]
struct Row {
    id: Uuid,
    name: String,
    definition: serde_json::Value,
    wish: String,
    version: i32,
    created_at: DateTime<Utc>,
    passed_over: i64,
}

/// A connector with what its lanes last said.
#[derive(Debug, Clone)]
pub struct Connector {
    /// Its id.
    pub id: ConnectorId,
    /// Its name.
    pub name: String,
    /// What it does.
    pub definition: Definition,
    /// What is asked of it.
    pub wish: Wish,
    /// Its configuration's version.
    pub version: i32,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// Records that were forgotten before it delivered them, and that it passed over.
    pub passed_over: i64,
    /// Its lanes, in order.
    pub lanes: Vec<CarriedLane>,
}

/// A lane and who carries it.
#[derive(Debug, Clone)]
pub struct CarriedLane {
    /// Its number.
    pub lane: i32,
    /// The runner that it is planned for.
    pub runner: Option<String>,
    /// Why it has none.
    pub waits: Option<String>,
    /// What it last said; none before it first ran.
    pub status: Option<LaneStatus>,
}

impl Connector {
    /// What its lanes last said, in order.
    pub fn said(&self) -> impl Iterator<Item = &LaneStatus> {
        self.lanes.iter().filter_map(|l| l.status.as_ref())
    }

    /// Tables that it captures because of their names: only its lanes know them. What they last said may be of an earlier
    /// version, whose tables are not among these.
    pub fn found(&self) -> impl Iterator<Item = (&String, &TableProgress)> {
        let finds = |name: &String| matches!(&self.definition, Definition::Source(source) if source.finds(name));
        self.said().flat_map(|lane| &lane.tables).filter(move |(name, _)| finds(name))
    }

    /// Whether it writes a topic: by its definition, or for a table that it found by its name.
    #[must_use]
    pub fn writes(&self, topic: &str) -> bool {
        self.definition.writes(topic) || self.found().any(|(_, table)| table.other_end == topic)
    }
}

pub(super) fn wish_of(word: &str) -> Wish {
    match word {
        "run" => Wish::Run,
        "pause" => Wish::Pause,
        "stop" => Wish::Stop,
        "delete" => Wish::Delete,
        _ => Wish::Draft,
    }
}

impl Row {
    fn definition(&self) -> Result<Definition, PortError> {
        serde_json::from_value(self.definition.clone())
            .map_err(|e| PortError::Refused(format!("the stored definition of {} cannot be read: {e}", self.name)))
    }

    fn with_lanes(self, lanes: Vec<CarriedLane>) -> Result<Connector, PortError> {
        let definition = self.definition()?;
        Ok(Connector {
            id: ConnectorId(self.id),
            definition,
            wish: wish_of(&self.wish),
            name: self.name,
            version: self.version,
            created_at: self.created_at,
            passed_over: self.passed_over,
            lanes,
        })
    }
}

type LaneColumns = (Uuid, i32, Option<String>, Option<String>, Option<serde_json::Value>);

fn carried((_, lane, runner, waits, status): LaneColumns) -> CarriedLane {
    CarriedLane { lane, runner, waits, status: status.and_then(|s| serde_json::from_value(s).ok()) }
}

/// Makes the lanes that a connector is to have, and removes others. What a removed lane still has under way is refused.
pub(super) async fn keep_lanes(
    connection: &mut diesel_async::AsyncPgConnection,
    connector: &ValidConnector,
) -> diesel::QueryResult<()> {
    let lanes = i32::try_from(connector.definition().placing().lanes).unwrap_or(1);
    diesel::sql_query("INSERT INTO lanes (connector_id, lane) SELECT $1, generate_series(0, $2 - 1) ON CONFLICT DO NOTHING")
        .bind::<diesel::sql_types::Uuid, _>(connector.id().0)
        .bind::<diesel::sql_types::Int4, _>(lanes)
        .execute(connection)
        .await?;
    diesel::delete(lanes::table.filter(lanes::connector_id.eq(connector.id().0)).filter(lanes::lane.ge(lanes)))
        .execute(connection)
        .await?;
    Ok(())
}

impl Database {
    /// Saves a new connector and its lanes. `who` made it; empty if that is not known.
    ///
    /// # Errors
    /// [`PortError::Exists`] if the name is taken; [`PortError::NotFound`] if the connection is not there.
    pub async fn create_connector(&self, connector: &ValidConnector, wish: Wish, who: &str) -> Result<(), PortError> {
        self.create_from_draft(connector, wish, who, None).await
    }

    /// Saves a new connector, and removes the unfinished draft that it was, if it was one, in the same transaction.
    ///
    /// # Errors
    /// As [`Database::create_connector`].
    pub async fn create_from_draft(
        &self,
        connector: &ValidConnector,
        wish: Wish,
        who: &str,
        draft: Option<Uuid>,
    ) -> Result<(), PortError> {
        let definition = serde_json::to_value(connector.definition()).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        let made = connection
            .transaction::<(), Error, _>(async |c| {
                diesel::insert_into(connectors::table)
                    .values((
                        connectors::id.eq(connector.id().0),
                        connectors::name.eq(connector.name().as_str()),
                        connectors::connection_id.eq(connector.definition().connection()),
                        connectors::definition.eq(&definition),
                        connectors::wish.eq(wish.word()),
                    ))
                    .execute(c)
                    .await?;
                diesel::insert_into(connector_versions::table)
                    .values((
                        connector_versions::connector_id.eq(connector.id().0),
                        connector_versions::version.eq(1),
                        connector_versions::definition.eq(&definition),
                    ))
                    .execute(c)
                    .await?;
                keep_lanes(c, connector).await?;
                if let Some(draft) = draft {
                    diesel::delete(drafts::table.find(draft)).execute(c).await?;
                }
                self.note_made(c, &connector.id().to_string()).await?;
                let what = if wish == Wish::Draft { "made as a draft" } else { "made and started" };
                history::note_on(c, Deed { connector: connector.id(), who, what, detail: None }).await
            })
            .await;
        made.map_err(|error| match error {
            Error::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => {
                PortError::Exists { what: format!("the connector {}", connector.name()) }
            }
            Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => {
                PortError::NotFound { what: "such connection".into() }
            }
            error => failed("saving a connector")(error),
        })
    }

    /// All connectors by name, with what their lanes last said.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn connectors(&self) -> Result<Vec<Connector>, PortError> {
        self.connectors_among(None).await
    }

    /// Those of the given connectors that are there, by name; all where none are given.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn connectors_among(&self, ids: Option<&[ConnectorId]>) -> Result<Vec<Connector>, PortError> {
        let ids: Option<Vec<Uuid>> = ids.map(|ids| ids.iter().map(|id| id.0).collect());
        let mut connection = self.connection().await?;
        let mut of_them = connectors::table.select(Row::as_select()).order(connectors::name).into_boxed();
        let mut their_lanes = lanes::table.into_boxed();
        if let Some(ids) = &ids {
            of_them = of_them.filter(connectors::id.eq_any(ids));
            their_lanes = their_lanes.filter(lanes::connector_id.eq_any(ids));
        }
        let rows: Vec<Row> = of_them.load(&mut connection).await.map_err(failed("listing connectors"))?;
        let said: Vec<LaneColumns> = their_lanes
            .select((lanes::connector_id, lanes::lane, lanes::runner, lanes::waits, lanes::status))
            .order((lanes::connector_id, lanes::lane))
            .load(&mut connection)
            .await
            .map_err(failed("reading lanes"))?;
        let mut by_connector = std::collections::HashMap::<Uuid, Vec<CarriedLane>>::new();
        for lane in said {
            by_connector.entry(lane.0).or_default().push(carried(lane));
        }
        rows.into_iter()
            .map(|row| {
                let lanes = by_connector.remove(&row.id).unwrap_or_default();
                row.with_lanes(lanes)
            })
            .collect()
    }

    /// The connector of a name.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn connector_named(&self, name: &str) -> Result<ConnectorId, PortError> {
        let mut connection = self.connection().await?;
        let found = connectors::table.filter(connectors::name.eq(name)).select(connectors::id).first(&mut connection);
        let found: Option<Uuid> = found.await.optional().map_err(failed("finding a connector by its name"))?;
        found.map(ConnectorId).ok_or_else(|| PortError::NotFound { what: format!("connector {name}") })
    }

    /// One connector.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn find_connector(&self, id: ConnectorId) -> Result<Connector, PortError> {
        let row = find_row(self, id).await?;
        let mut connection = self.connection().await?;
        let said: Vec<LaneColumns> = lanes::table
            .filter(lanes::connector_id.eq(id.0))
            .select((lanes::connector_id, lanes::lane, lanes::runner, lanes::waits, lanes::status))
            .order(lanes::lane)
            .load(&mut connection)
            .await
            .map_err(failed("reading lanes"))?;
        let lanes = said.into_iter().map(carried).collect();
        row.ok_or_else(|| PortError::NotFound { what: format!("connector {id}") })?.with_lanes(lanes)
    }

    /// Starts one lane of a connector anew, or all of them.
    ///
    /// # Errors
    /// [`PortError::NotFound`] if the connector or the lane is not there.
    pub async fn restart(&self, id: ConnectorId, lane: Option<i32>, who: &str) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let restarted = connection.transaction::<bool, Error, _>(async |c| {
            let of = lanes::table.filter(lanes::connector_id.eq(id.0));
            let set = lanes::asked.eq(lanes::asked + 1);
            let changed = match lane {
                None => diesel::update(of).set(set).execute(c).await?,
                Some(lane) => diesel::update(of.filter(lanes::lane.eq(lane))).set(set).execute(c).await?,
            };
            if changed == 0 {
                return Ok(false);
            }
            let detail = lane.map(|l| format!("lane {l}"));
            history::note_on(c, Deed { connector: id, who, what: "started anew", detail: detail.as_deref() }).await?;
            Ok(true)
        });
        if restarted.await.map_err(failed("starting lanes anew"))? {
            return Ok(());
        }
        let lane = lane.map(|l| format!("lane {l} of ")).unwrap_or_default();
        Err(PortError::NotFound { what: format!("{lane}connector {id}") })
    }

    /// Lets a source begin anew: with a new place in its system's log, and every table loaded again. Its lane must not be at
    /// work. Given is what becomes of the rows that are in its topics.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn begin_anew(&self, id: ConnectorId, existing: ExistingRows, who: &str) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        let begun = connection.transaction::<usize, Error, _>(async |c| {
            let changed = diesel::update(connectors::table.find(id.0).filter(connectors::wish.ne("delete")))
                .set((connectors::wish.eq(Wish::Run.word()), connectors::asked.eq(connectors::asked + 1)))
                .execute(c)
                .await?;
            if changed == 0 {
                return Ok(0);
            }
            diesel::sql_query("SELECT FROM lanes WHERE connector_id = $1 ORDER BY lane FOR NO KEY UPDATE")
                .bind::<diesel::sql_types::Uuid, _>(id.0)
                .execute(c)
                .await?;
            // a later epoch: what the lane may still have under way is refused
            diesel::sql_query(
                "UPDATE lanes SET epoch = nextval('lane_epochs'), holder = NULL, \
                   position = (CASE jsonb_typeof(position) WHEN 'object' THEN position ELSE '{}' END) \
                     || jsonb_build_object('anew', true, 'existing_rows', $2) WHERE connector_id = $1",
            )
            .bind::<diesel::sql_types::Uuid, _>(id.0)
            .bind::<diesel::sql_types::Text, _>(existing.word())
            .execute(c)
            .await?;
            history::note_on(c, Deed { connector: id, who, what: "begun anew", detail: Some(existing.told()) }).await?;
            Ok(changed)
        });
        if begun.await.map_err(failed("letting a source begin anew"))? == 1 {
            return Ok(());
        }
        Err(PortError::NotFound { what: format!("connector {id}") })
    }

    /// Puts another position in place of the one that a lane has, which must not be at work.
    ///
    /// # Errors
    /// [`PortError::Refused`] if it has another one by now.
    pub async fn move_lane(
        &self,
        (id, lane): (ConnectorId, i32),
        from: &serde_json::Value,
        to: &serde_json::Value,
    ) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        // a later epoch: what the lane may still have under way is refused
        let moved = diesel::sql_query(
            "UPDATE lanes SET epoch = nextval('lane_epochs'), holder = NULL, position = $4 \
             WHERE connector_id = $1 AND lane = $2 AND position = $3",
        )
        .bind::<diesel::sql_types::Uuid, _>(id.0)
        .bind::<diesel::sql_types::Integer, _>(lane)
        .bind::<diesel::sql_types::Jsonb, _>(from)
        .bind::<diesel::sql_types::Jsonb, _>(to)
        .execute(&mut connection)
        .await
        .map_err(failed("moving a lane"))?;
        if moved == 1 {
            return Ok(());
        }
        Err(PortError::Refused("it does not stand there any more: look again, and decide anew".into()))
    }

    /// Starts the lanes of connectors anew, whatever is wished of them.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn start_anew(&self, ids: &[ConnectorId]) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::update(connectors::table.filter(connectors::id.eq_any(ids.iter().map(|id| id.0))))
            .set(connectors::asked.eq(connectors::asked + 1))
            .execute(&mut connection)
            .await
            .map_err(failed("starting connectors anew"))?;
        Ok(())
    }

    /// Keeps the report of a connector's preflight in place of the one before.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn keep_report(&self, id: ConnectorId, report: &KeptReport) -> Result<(), PortError> {
        let report = serde_json::to_value(report).map_err(|e| PortError::Refused(e.to_string()))?;
        let mut connection = self.connection().await?;
        diesel::update(connectors::table.find(id.0))
            .set(connectors::preflight.eq(report))
            .execute(&mut connection)
            .await
            .map_err(failed("keeping a preflight's report"))?;
        Ok(())
    }

    /// The report of a connector's last preflight, if it had one.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn report(&self, id: ConnectorId) -> Result<Option<KeptReport>, PortError> {
        let mut connection = self.connection().await?;
        let found: Option<Option<serde_json::Value>> = connectors::table
            .find(id.0)
            .select(connectors::preflight)
            .first(&mut connection)
            .await
            .optional()
            .map_err(failed("reading a preflight's report"))?;
        let kept = found.ok_or_else(|| PortError::NotFound { what: format!("connector {id}") })?;
        Ok(kept.and_then(|report| serde_json::from_value(report).ok()))
    }

    /// The kept reports with a check that found this.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn reports_with(&self, finding: &str) -> Result<Vec<(ConnectorId, KeptReport)>, PortError> {
        let mut connection = self.connection().await?;
        let found: Vec<(Uuid, Option<serde_json::Value>)> = connectors::table
            .filter(connectors::preflight.contains(serde_json::json!({"checks": [{"finding": finding}]})))
            .select((connectors::id, connectors::preflight))
            .load(&mut connection)
            .await
            .map_err(failed("looking through the preflights' reports"))?;
        let read =
            |(id, report): (Uuid, Option<serde_json::Value>)| Some((ConnectorId(id), serde_json::from_value(report?).ok()?));
        Ok(found.into_iter().filter_map(read).collect())
    }

    /// Asks a source's lane to load tables, as `schema.table`, again from their start; it takes that up when it starts anew.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn ask_to_load_again(
        &self,
        id: ConnectorId,
        tables: &[String],
        existing: ExistingRows,
    ) -> Result<(), PortError> {
        self.ask_to_load_again_as(id, tables, existing, None).await.map(|_| ())
    }

    /// The same as an operation; gives its id.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn ask_to_load_again_as(
        &self,
        id: ConnectorId,
        tables: &[String],
        existing: ExistingRows,
        as_operation: Option<&NewOperation<'_>>,
    ) -> Result<Option<Uuid>, PortError> {
        let mut connection = self.connection().await?;
        let asked = connection.transaction::<_, Error, _>(async |c| {
            let number: i64 = diesel::insert_into(reloads::table)
                .values((
                    reloads::connector_id.eq(id.0),
                    reloads::tables.eq(tables),
                    reloads::existing_rows.eq(existing.word()),
                ))
                .returning(reloads::number)
                .get_result(c)
                .await?;
            let Some(new) = as_operation else { return Ok(None) };
            begin_on(self, c, new, &serde_json::json!({"number": number, "tables": tables})).await.map(Some)
        });
        asked.await.map_err(|error| match error {
            Error::DatabaseError(DatabaseErrorKind::ForeignKeyViolation, _) => {
                PortError::NotFound { what: format!("connector {id}") }
            }
            error => failed("asking for a load")(error),
        })
    }

    /// Asks something of a connector. One that is being deleted takes no other wish. `who` asks it; empty if that is not known.
    ///
    /// # Errors
    /// [`PortError::NotFound`]; [`PortError::Refused`] if it is being deleted.
    pub async fn ask(&self, id: ConnectorId, wish: Wish, who: &str) -> Result<(), PortError> {
        self.ask_as(id, wish, who, None).await.map(|_| ())
    }

    /// Asks that a connector be deleted, as an operation; gives its id. One that `leaves_remains` is not removed from its system. Asked
    /// once more it is another operation.
    ///
    /// # Errors
    /// [`PortError::NotFound`].
    pub async fn ask_to_delete(
        &self,
        id: ConnectorId,
        leaves_remains: bool,
        new: &NewOperation<'_>,
    ) -> Result<Uuid, PortError> {
        let begun = self.ask_as(id, Wish::Delete, new.who, Some((new, leaves_remains))).await?;
        begun.ok_or_else(|| PortError::NotFound { what: format!("connector {id}") })
    }

    async fn ask_as(
        &self,
        id: ConnectorId,
        wish: Wish,
        who: &str,
        delete: Option<(&NewOperation<'_>, bool)>,
    ) -> Result<Option<Uuid>, PortError> {
        let mut connection = self.connection().await?;
        let asked = connection.transaction::<_, Error, _>(async |c| {
            let changed = diesel::update(connectors::table.find(id.0).filter(connectors::wish.ne("delete")))
                .set((
                    connectors::wish.eq(wish.word()),
                    connectors::asked.eq(connectors::asked + 1),
                    connectors::updated_at.eq(diesel::dsl::now),
                ))
                .execute(c)
                .await?;
            if changed > 0 {
                history::note_on(c, Deed { connector: id, who, what: wish.done(), detail: None }).await?;
                if wish == Wish::Stop {
                    // whoever carries a lane says so when it ends; one that nobody carries says nothing more
                    let idle = lanes::table.filter(lanes::connector_id.eq(id.0)).filter(lanes::holder.is_null());
                    diesel::update(idle).set(lanes::status.eq(stopped_status())).execute(c).await?;
                }
            }
            let mut begun = None;
            if let Some((new, leaves_remains)) = delete {
                // who says once that the system is gone has said it: a delete after that does not take it back
                let said = "UPDATE connectors SET leaves_remains = leaves_remains OR $2 WHERE id = $1 AND wish = 'delete'";
                let said = diesel::sql_query(said).bind::<SqlUuid, _>(id.0).bind::<Bool, _>(leaves_remains);
                if said.execute(c).await? > 0 {
                    begun = Some(begin_on(self, c, new, &serde_json::Value::Null).await?);
                }
            }
            Ok((changed, begun))
        });
        let (changed, begun) = asked.await.map_err(failed("asking something of a connector"))?;
        if changed == 0 {
            drop(connection);
            self.find_connector(id).await?;
            if wish != Wish::Delete {
                return Err(PortError::Refused("the connector is being deleted: make a new one".into()));
            }
        }
        Ok(begun)
    }
}

impl Row {
    fn checked(&self) -> Result<ValidConnector, String> {
        let name = ConnectorName::parse(self.name.clone()).map_err(|e| e.to_string())?;
        let definition = self.definition().map_err(|e| e.to_string())?;
        ValidConnector::check(ConnectorId(self.id), name, definition).map_err(|e| e.to_string())
    }
}

/// What a lane says that is stopped.
fn stopped_status() -> serde_json::Value {
    let status = LaneStatus::entering(State::Stopped, Utc::now().timestamp_micros());
    serde_json::to_value(status).unwrap_or_default()
}

pub(super) async fn leaves_remains(database: &Database, id: ConnectorId) -> Result<bool, PortError> {
    let mut connection = database.connection().await?;
    let leaves = connectors::table.find(id.0).select(connectors::leaves_remains).first(&mut connection).await;
    Ok(leaves.optional().map_err(failed("reading what a connector leaves"))?.unwrap_or(false))
}

async fn find_row(database: &Database, id: ConnectorId) -> Result<Option<Row>, PortError> {
    let mut connection = database.connection().await?;
    let row = connectors::table.find(id.0).select(Row::as_select()).first(&mut connection).await;
    row.optional().map_err(failed("finding a connector"))
}

pub(super) async fn connector(database: &Database, id: ConnectorId) -> Result<Option<ValidConnector>, PortError> {
    find_row(database, id).await?.map(|row| row.checked().map_err(PortError::Refused)).transpose()
}

/// The source that writes a topic: by its definition, or, where its tables are found by their names, by what its lane says.
pub(super) async fn source_of(database: &Database, topic: &str) -> Result<Option<ConnectorId>, PortError> {
    let writes = |connector: &&Connector| matches!(connector.definition, Definition::Source(_)) && connector.writes(topic);
    Ok(database.connectors().await?.iter().find(writes).map(|c| c.id))
}

pub(super) async fn reloads(database: &Database, id: ConnectorId, after: i64) -> Result<Vec<Reload>, PortError> {
    let mut connection = database.connection().await?;
    let asked: Vec<(i64, Vec<String>, String)> = reloads::table
        .filter(reloads::connector_id.eq(id.0).and(reloads::number.gt(after)))
        .order(reloads::number)
        .select((reloads::number, reloads::tables, reloads::existing_rows))
        .load(&mut connection)
        .await
        .map_err(failed("reading what is to be loaded again"))?;
    let reload =
        |(number, tables, word): (_, _, String)| Reload { number, tables, existing_rows: ExistingRows::of_word(&word) };
    Ok(asked.into_iter().map(reload).collect())
}

pub(super) async fn remove(database: &Database, id: ConnectorId) -> Result<(), PortError> {
    let mut connection = database.connection().await?;
    diesel::delete(connectors::table.find(id.0)).execute(&mut connection).await.map_err(failed("deleting a connector"))?;
    Ok(())
}
