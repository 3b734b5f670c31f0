//! Which server, and which start of it, the connections of this process reach.
//!
//! Behind the same address there may be another server after a moment: a replica that took over, or a copy that was put back. What this
//! process remembers of the log may be more than that one has. Each new connection says whom it reaches, so whatever it reads or writes
//! comes after the change was noticed.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use diesel::QueryableByName;
use diesel::result::Error;
use diesel::sql_types::Text;
use diesel_async::{AsyncPgConnection, RunQueryDsl};

/// Counts the servers, and the starts of them, that were reached one after the other.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ground(Arc<Inner>);

#[derive(Debug, Default)]
struct Inner {
    number: AtomicU64,
    known: Mutex<Option<String>>,
}

#[derive(QueryableByName)]
struct Reached {
    #[diesel(sql_type = Text)]
    who: String,
}

impl Ground {
    /// The number of the present one.
    pub(crate) fn now(&self) -> u64 {
        AtomicU64::load(&self.0.number, Ordering::SeqCst)
    }

    /// Asks a new connection whom it reaches; gives the number.
    ///
    /// # Errors
    /// The database's own.
    pub(crate) async fn reached(&self, connection: &mut AsyncPgConnection) -> Result<u64, Error> {
        // no two servers start in the same microsecond; a database that was made anew has another number
        let reached: Reached = diesel::sql_query(
            "SELECT concat_ws(' ', extract(epoch FROM pg_postmaster_start_time()), oid) AS who \
             FROM pg_database WHERE datname = current_database()",
        )
        .get_result(connection)
        .await?;
        let mut known = self.0.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.as_ref().is_some_and(|known| *known != reached.who) {
            self.0.number.fetch_add(1, Ordering::SeqCst);
            tracing::info!("Gonvel's own database was started anew, or is another: lanes look again where they stand");
        }
        *known = Some(reached.who);
        Ok(self.now())
    }
}
