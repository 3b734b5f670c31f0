//! What can go wrong with a command.

use std::io;

use gonvel_http_api::Problem;

/// Why a command failed.
#[derive(Debug, thiserror::Error)]
pub enum CommandError {
    /// The arguments or the file of contexts are wrong.
    #[error("{0}")]
    Usage(String),
    /// The server refused.
    #[error("{}", .0.told())]
    Problem(Box<Problem>),
    /// The server does not answer.
    #[error("{server} does not answer ({cause}): start it, or name another with --server or GONVEL_SERVER")]
    Unreachable {
        /// Its address.
        server: String,
        /// What the client said.
        cause: String,
        /// Whether the request may have come there all the same.
        sent: bool,
    },
    /// A stream broke off.
    #[error("the stream broke off: {0}")]
    Broken(String),
    /// A file cannot be read or written.
    #[error("{path}: {cause}")]
    File {
        /// Its path.
        path: String,
        /// What was found.
        cause: String,
    },
    /// Nothing more can be printed.
    #[error("the output cannot be written: {0}")]
    Output(#[from] io::Error),
    /// Something that was named is not there.
    #[error("{0}")]
    Missing(String),
    /// What was looked at does not pass.
    #[error("{0}")]
    Refused(String),
    /// There is something to do, and it was only to be told.
    #[error("nothing was done: it was only to be told")]
    Differs,
    /// Something that cannot go on as it is.
    #[error("{0}")]
    Failed(String),
}

impl CommandError {
    /// Whether it may have been done, or may be done soon, though this is all that is known.
    pub(crate) fn may_be_done(&self) -> bool {
        match self {
            Self::Unreachable { sent, .. } => *sent,
            Self::Problem(problem) => problem.status == 503,
            _ => false,
        }
    }

    /// The code that the program ends with.
    #[must_use]
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Usage(_) => 2,
            Self::Problem(problem) if problem.status == 404 => 3,
            Self::Problem(problem) if problem.status < 500 => 4,
            Self::Missing(_) => 3,
            Self::Refused(_) => 4,
            Self::Differs => 6,
            Self::Problem(_) | Self::Unreachable { .. } | Self::Broken(_) => 5,
            Self::File { .. } | Self::Output(_) | Self::Failed(_) => 1,
        }
    }
}
