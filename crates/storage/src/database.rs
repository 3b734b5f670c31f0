//! The pool of connections to Gonvel's own database, and its migrations.

use std::sync::Arc;
use std::time::{Duration, Instant};

use diesel::migration::MigrationSource;
use diesel::sql_types::{Bool, Int8};
use diesel::{ConnectionError, QueryDsl, QueryableByName};
use diesel_async::pooled_connection::bb8::{Pool, PooledConnection};
use diesel_async::pooled_connection::{AsyncDieselConnectionManager, ManagerConfig, PoolableConnection, RecyclingMethod};
use diesel_async::{AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use gonvel_core::ports::PortError;
use tokio::sync::watch;

use crate::catalog::schemas::note_fields;
use crate::failing::failed;
use crate::ground::Ground;
use crate::once::Once;
use crate::reaching::{Address, reach};
use crate::schema::connections;
use crate::sealing::Sealer;
use crate::topic_log::appender::Appender;
use crate::topic_log::cold::ColdStore;
use crate::topic_log::ends::Ends;

pub use crate::open_error::OpenError;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();
/// The lock that lets one process after the other bring the tables up to date.
const MIGRATING: i64 = 0x676f_6e76_656c_0003;
/// How often it is asked for.
const ASK: Duration = Duration::from_millis(100);

/// Gonvel's own database: the topic log and the catalog. Cheap to clone.
#[derive(Clone)]
pub struct Database {
    pub(crate) pool: Pool<AsyncPgConnection>,
    pub(crate) sealer: Arc<Sealer>,
    pub(crate) appender: Appender,
    pub(crate) ends: Arc<Ends>,
    pub(crate) ground: Ground,
    pub(crate) cold: ColdStore,
    /// For what needs a connection of its own.
    pub(crate) address: Arc<Address>,
    /// Tells the keeper of this process that what it is to keep has changed.
    pub(crate) settings_changed: Arc<watch::Sender<u64>>,
    /// The request that makes something, where a retry of it is to be known.
    pub(crate) once: Option<Once>,
}

impl Database {
    /// Brings the tables up to date and opens a pool.
    ///
    /// # Errors
    /// [`OpenError`].
    pub async fn open(url: &str, sealer: Sealer) -> Result<Self, OpenError> {
        Self::open_at(Address::parse(url)?, sealer).await
    }

    /// The same at an address.
    ///
    /// # Errors
    /// [`OpenError`].
    pub async fn open_at(address: Address, sealer: Sealer) -> Result<Self, OpenError> {
        crate::provide_tls();
        migrate(reach(&address.endless()).await?, address.migration()).await?;
        let address = Arc::new(address);
        let mut config = ManagerConfig::default();
        // a closed connection is seen without asking the database first, which would double the time of a small query
        config.recycling_method = RecyclingMethod::CustomFunction(Box::new(|connection: &mut AsyncPgConnection| {
            let broken = connection.is_broken();
            Box::pin(async move { if broken { Err(diesel::result::Error::BrokenTransactionManager) } else { Ok(()) } })
        }));
        // the server takes what is asked of many topics for worth compiling, which takes longer than asking it
        let ground = Ground::default();
        let reaches = ground.clone();
        let to = address.clone();
        config.custom_setup = Box::new(move |_| {
            let (to, reaches) = (to.clone(), reaches.clone());
            Box::pin(async move {
                let mut connection = reach(&to).await?;
                reaches.reached(&mut connection).await.map_err(ConnectionError::CouldntSetupConfiguration)?;
                connection.batch_execute("SET jit = off").await.map_err(ConnectionError::CouldntSetupConfiguration)?;
                Ok(connection)
            })
        });
        let manager = AsyncDieselConnectionManager::new_with_config("", config);
        let pool = Pool::builder()
            .max_size(16)
            .connection_timeout(Duration::from_secs(5))
            .build(manager)
            .await
            .map_err(|e| OpenError::Pool(e.to_string()))?;
        let mut connection = pool.get().await.map_err(|e| OpenError::Pool(e.to_string()))?;
        note_fields(&mut connection).await.map_err(|e| OpenError::Migrate(e.to_string()))?;
        if let Some(file) = sealer.fresh() {
            let any: i64 = connections::table
                .count()
                .get_result(&mut connection)
                .await
                .map_err(|e| OpenError::Migrate(e.to_string()))?;
            if any > 0 {
                return Err(OpenError::KeyMissing(file.display().to_string()));
            }
        }
        drop(connection);
        let sealer = sealer.kept()?;
        let ends = Ends::start(pool.clone(), ground.clone());
        let appender = Appender::start(address.clone(), ends.clone(), ground.clone());
        Ok(Self {
            pool,
            sealer: Arc::new(sealer),
            appender,
            ends,
            ground,
            cold: ColdStore::default(),
            address,
            settings_changed: Arc::new(watch::channel(0).0),
            once: None,
        })
    }

    /// Keeps cold files at a place given by its URL: `file:///folder`, or `s3://bucket/prefix` with options such as
    /// `AWS_ACCESS_KEY_ID` and `AWS_ENDPOINT`.
    ///
    /// # Errors
    /// [`OpenError::ColdStore`].
    pub fn with_cold_store(
        mut self,
        url: &str,
        options: impl IntoIterator<Item = (String, String)>,
    ) -> Result<Self, OpenError> {
        self.cold = ColdStore::open(url, options)?;
        Ok(self)
    }

    pub(crate) async fn connection(&self) -> Result<PooledConnection<'_, AsyncPgConnection>, PortError> {
        self.pool.get().await.map_err(|cause| PortError::TryAgain { during: "taking a connection", cause: Box::new(cause) })
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn ping(&self) -> Result<(), PortError> {
        let mut connection = self.connection().await?;
        diesel::sql_query("SELECT 1").execute(&mut connection).await.map_err(failed("asking whether it is there"))?;
        Ok(())
    }
}

/// Brings the tables up to date: one process at a time, and never below what is there.
async fn migrate(mut connection: AsyncPgConnection, patience: Duration) -> Result<(), OpenError> {
    let failed = |e: &dyn std::fmt::Display| OpenError::Migrate(e.to_string());
    // held until the connection ends
    let start = Instant::now();
    loop {
        #[derive(QueryableByName)]
        struct Got {
            #[diesel(sql_type = Bool)]
            got: bool,
        }
        let ask = diesel::sql_query("SELECT pg_try_advisory_lock($1) AS got").bind::<Int8, _>(MIGRATING);
        let got: Got = ask.get_result(&mut connection).await.map_err(|e| failed(&e))?;
        if got.got {
            break;
        }
        if start.elapsed() > patience {
            return Err(OpenError::Waited(patience.as_secs()));
        }
        tokio::time::sleep(ASK).await;
    }
    let migrated = tokio::task::spawn_blocking(move || {
        let known =
            MigrationSource::<diesel::pg::Pg>::migrations(&MIGRATIONS).map_err(|e| OpenError::Migrate(e.to_string()))?;
        let known: Vec<String> = known.iter().map(|m| m.name().version().to_string()).collect();
        let mut harness = AsyncMigrationHarness::new(connection);
        let applied = harness.applied_migrations().map_err(|e| OpenError::Migrate(e.to_string()))?;
        if let Some(newer) = applied.iter().map(ToString::to_string).find(|version| !known.contains(version)) {
            return Err(OpenError::Newer(newer));
        }
        harness.run_pending_migrations(MIGRATIONS).map(|_| ()).map_err(|e| OpenError::Migrate(e.to_string()))
    });
    migrated.await.map_err(|e| failed(&e))?
}
