//! Statements that failed.

use gonvel_core::ports::PortError;

use crate::codes::{self, Helps};

/// A failed statement by what helps against it.
pub(crate) fn failed(during: &'static str) -> impl FnOnce(diesel::result::Error) -> PortError {
    move |cause| match codes::helps(&cause) {
        Helps::TryingAgain => PortError::TryAgain { during, cause: Box::new(cause) },
        Helps::AnotherValue => PortError::Unfit { during, finding: cause.to_string() },
        Helps::Nothing => PortError::Failed { during, cause: Box::new(cause) },
    }
}

/// What ends a transaction: the database, or a refusal that undoes it.
pub(crate) enum Stop {
    Database(diesel::result::Error),
    Refused(PortError),
}

impl From<diesel::result::Error> for Stop {
    fn from(error: diesel::result::Error) -> Self {
        Self::Database(error)
    }
}

pub(crate) fn stopped(during: &'static str) -> impl FnOnce(Stop) -> PortError {
    move |stop| match stop {
        Stop::Database(error) => failed(during)(error),
        Stop::Refused(error) => error,
    }
}
