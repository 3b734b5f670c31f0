//! The pool of connections to Gonvel's own database, and its migrations.

use std::sync::Arc;
use std::time::Duration;

use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::bb8::{Pool, PooledConnection};
use diesel_async::{AsyncConnection, AsyncMigrationHarness, AsyncPgConnection};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};
use gonvel_core::ports::PortError;

use crate::sealing::Sealer;
use crate::topic_log::appender::Appender;
use crate::topic_log::ends::Ends;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// Why the database could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// It does not answer.
    #[error("Gonvel's own database does not take a connection: {0}")]
    Connect(#[from] diesel::ConnectionError),
    /// Its tables could not be brought up to date.
    #[error("the migrations of Gonvel's own database failed: {0}")]
    Migrate(String),
    /// The pool could not be made.
    #[error("no pool of connections to Gonvel's own database: {0}")]
    Pool(String),
}

/// Gonvel's own database: the topic log and the catalog. Cheap to clone.
#[derive(Clone)]
pub struct Database {
    pub(crate) pool: Pool<AsyncPgConnection>,
    pub(crate) sealer: Arc<Sealer>,
    pub(crate) appender: Appender,
    pub(crate) ends: Arc<Ends>,
}

impl Database {
    /// Brings the tables up to date and opens a pool.
    ///
    /// # Errors
    /// [`OpenError`].
    pub async fn open(url: &str, sealer: Sealer) -> Result<Self, OpenError> {
        let connection = AsyncPgConnection::establish(url).await?;
        let migrated = tokio::task::spawn_blocking(move || {
            let mut harness = AsyncMigrationHarness::new(connection);
            harness.run_pending_migrations(MIGRATIONS).map(|_| ()).map_err(|e| e.to_string())
        });
        migrated.await.map_err(|e| OpenError::Migrate(e.to_string()))?.map_err(OpenError::Migrate)?;
        let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new(url);
        let pool = Pool::builder()
            .max_size(16)
            .connection_timeout(Duration::from_secs(5))
            .build(manager)
            .await
            .map_err(|e| OpenError::Pool(e.to_string()))?;
        let ends = Arc::new(Ends::default());
        let appender = Appender::start(pool.clone(), ends.clone());
        Ok(Self { pool, sealer: Arc::new(sealer), appender, ends })
    }

    pub(crate) async fn connection(&self) -> Result<PooledConnection<'_, AsyncPgConnection>, PortError> {
        self.pool.get().await.map_err(|cause| PortError::TryAgain { during: "taking a connection", cause: Box::new(cause) })
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// [`PortError::TryAgain`].
    pub async fn ping(&self) -> Result<(), PortError> {
        use diesel_async::RunQueryDsl;
        let mut connection = self.connection().await?;
        diesel::sql_query("SELECT 1").execute(&mut connection).await.map_err(failed("asking whether it is there"))?;
        Ok(())
    }
}

/// Wraps a failed statement as something to try again.
pub(crate) fn failed(during: &'static str) -> impl FnOnce(diesel::result::Error) -> PortError {
    move |cause| PortError::TryAgain { during, cause: Box::new(cause) }
}
