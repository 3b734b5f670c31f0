//! The kinds of systems that Gonvel knows: each is a folder here and a line below.

use gonvel_core::kinds::About;
use gonvel_core::nearest::perhaps;
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, Holds, Kind, SinkKind, SourceKind, Tables};

/// All kinds, in the order in which they are offered.
static KINDS: [&dyn Kind; 2] = [&crate::postgres::kind::Postgres, &crate::generator::kind::Generator];

/// What all kinds say of themselves, in the order in which they are offered.
#[must_use]
pub fn kinds() -> Vec<About> {
    KINDS.iter().map(|kind| kind.about()).collect()
}

/// A kind by its word.
///
/// # Errors
/// [`ConnectorError::Settings`] if there is none such.
pub fn kind(word: &str) -> Result<&'static dyn Kind, ConnectorError> {
    KINDS.iter().find(|kind| kind.about().kind == word).copied().ok_or_else(|| {
        let known: Vec<String> = kinds().into_iter().map(|about| about.kind.into_owned()).collect();
        let perhaps = perhaps(word, known.iter().map(String::as_str));
        let finding = format!("there is no kind of system {word:?}{perhaps}");
        ConnectorError::settings(Some("kind"), finding, format!("give one of {}", known.join(", ")))
    })
}

/// The kind that is meant where none is said.
#[must_use]
pub fn first_kind() -> &'static dyn Kind {
    KINDS[0]
}

fn cannot(address: &Address, what: &str) -> ConnectorError {
    let finding = format!("a system of the kind {} {what}", address.kind);
    ConnectorError::settings(Some("connection"), finding, "take a connection to a system of another kind")
}

/// What sources do in a system.
///
/// # Errors
/// [`ConnectorError::Settings`] if none reads it.
pub fn source(address: &Address) -> Result<&'static dyn SourceKind, ConnectorError> {
    kind(&address.kind)?.source().ok_or_else(|| cannot(address, "is not read by sources"))
}

/// What sinks do in a system.
///
/// # Errors
/// [`ConnectorError::Settings`] if none writes it.
pub fn sink(address: &Address) -> Result<&'static dyn SinkKind, ConnectorError> {
    kind(&address.kind)?.sink().ok_or_else(|| cannot(address, "is not written by sinks"))
}

/// How a system holds the positions of sinks.
///
/// # Errors
/// [`ConnectorError::Settings`] if it cannot.
pub fn holds(address: &Address) -> Result<&'static dyn Holds, ConnectorError> {
    sink(address)?.holds().ok_or_else(|| cannot(address, "cannot hold positions, so it delivers at least once at best"))
}

/// The tables of a system.
///
/// # Errors
/// [`ConnectorError::Settings`] if it has none that can be looked at.
pub fn tables(address: &Address) -> Result<&'static dyn Tables, ConnectorError> {
    kind(&address.kind)?.tables().ok_or_else(|| cannot(address, "has no tables that can be listed"))
}
