//! A kind of system.

use async_trait::async_trait;

use super::{Address, ConnectorError, SinkKind, SourceKind, Tables};
use crate::kinds::About;
use crate::preflight::Report;

/// A kind of system: what it says of itself, and what it can do.
#[async_trait]
pub trait Kind: Send + Sync {
    /// What it says of itself.
    fn about(&self) -> About;

    /// Looks whether settings can be used, beyond what their description says.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] with the field.
    fn check(&self, address: &Address) -> Result<(), ConnectorError>;

    /// Which system it is, however its connection is called and its address is written: what has the same is the same system.
    fn identity(&self, address: &Address) -> String;

    /// Where it is, as people read it.
    fn place(&self, address: &Address) -> String;

    /// What of a changed address guards a kept secret less than before, so that it is not sent on to what it was not given for; none if
    /// nothing does.
    fn guards_less(&self, before: &Address, now: &Address) -> Option<String> {
        (self.identity(before) != self.identity(now)).then(|| "the address changed".into())
    }

    /// The name that its rows carry as their system's.
    fn system(&self, address: &Address) -> String;

    /// Topics whose keys it picks from, as its settings say. They are read before it is asked for rows.
    fn picks_from(&self, _: &Address) -> Vec<String> {
        Vec::new()
    }

    /// Checks that it can be reached and used.
    async fn test(&self, address: &Address) -> Report;

    /// Carries out the statement of a check that the connection's own login may run.
    ///
    /// # Errors
    /// [`ConnectorError`] if the system refuses it.
    async fn mend(&self, address: &Address, statement: &str) -> Result<(), ConnectorError>;

    /// What sources read; none if none does.
    fn source(&self) -> Option<&dyn SourceKind> {
        None
    }

    /// What sinks write; none if none does.
    fn sink(&self) -> Option<&dyn SinkKind> {
        None
    }

    /// Its tables; none if there are none that can be looked at.
    fn tables(&self) -> Option<&dyn Tables> {
        None
    }
}
