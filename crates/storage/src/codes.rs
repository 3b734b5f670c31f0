//! What the server's refusals mean. Diesel tells the kinds of a few and the text of all, so the code that came with each text
//! (SQLSTATE, SQL:2016 and PostgreSQL's appendix A) is kept beside: the texts themselves are in the server's own language.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

use diesel::result::{DatabaseErrorKind, Error};

/// Refusals that are remembered.
const KEPT: usize = 64;

static SAID: Mutex<VecDeque<(String, String)>> = Mutex::new(VecDeque::new());

/// Notes a refusal as the server sent it: fields of a letter and a text each, with a zero byte after each and one after all
/// (`ErrorResponse`, PostgreSQL's documentation, chapter "Message Formats").
pub(crate) fn note(body: &[u8]) {
    let field = |letter: u8| {
        let found = body.split(|byte| *byte == 0).find(|field| field.first() == Some(&letter))?;
        std::str::from_utf8(&found[1..]).ok().map(str::to_owned)
    };
    let (Some(code), Some(text)) = (field(b'C'), field(b'M')) else { return };
    let mut said = SAID.lock().unwrap_or_else(PoisonError::into_inner);
    said.retain(|(known, _)| *known != text);
    if said.len() == KEPT {
        said.pop_front();
    }
    said.push_back((text, code));
}

fn code_of(text: &str) -> Option<String> {
    let said = SAID.lock().unwrap_or_else(PoisonError::into_inner);
    said.iter().rev().find(|(known, _)| known == text).map(|(_, code)| code.clone())
}

/// What helps against a refusal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Helps {
    /// Trying again: the server does not answer, is full, gives way to others, or is not known to be of another mind.
    TryingAgain,
    /// Another value.
    AnotherValue,
    /// Nothing that whoever asked can do.
    Nothing,
}

/// What helps against an error.
pub(crate) fn helps(error: &Error) -> Helps {
    use DatabaseErrorKind as Kind;
    match error {
        Error::DatabaseError(kind, told) => match kind {
            // the others of their sort hang on rows of others, which may be gone the next time
            Kind::NotNullViolation | Kind::CheckViolation => Helps::Nothing,
            Kind::Unknown => code_of(told.message()).map_or(Helps::TryingAgain, |code| by_code(&code)),
            _ => Helps::TryingAgain,
        },
        Error::DeserializationError(_) | Error::SerializationError(_) | Error::QueryBuilderError(_) => Helps::Nothing,
        _ => Helps::TryingAgain,
    }
}

/// Whether the server ended a transaction so that another one could go on: the same again is all that is needed.
pub(crate) fn gave_way(error: &Error) -> bool {
    let Error::DatabaseError(_, told) = error else { return false };
    code_of(told.message()).is_some_and(|code| code == "40P01" || code == "40001")
}

fn by_code(code: &str) -> Helps {
    match code.get(..2) {
        // data exceptions; limits of the program
        Some("22" | "54") => Helps::AnotherValue,
        // cardinality; syntax, names and rights
        Some("21" | "42") => Helps::Nothing,
        _ => Helps::TryingAgain,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refusal(code: &str, text: &str) -> Error {
        note(format!("SERROR\0VERROR\0C{code}\0M{text}\0Fwchar.c\0\0").as_bytes());
        Error::DatabaseError(DatabaseErrorKind::Unknown, Box::new(text.to_owned()))
    }

    #[test]
    fn a_refusal_is_known_by_the_code_that_came_with_its_text_in_whatever_language() {
        let cases = [
            ("22021", "ungültige Byte-Sequenz für Kodierung »UTF8«: 0x00", Helps::AnotherValue),
            ("54000", "Indexzeile zu groß", Helps::AnotherValue),
            ("42P01", "Relation »blocks« existiert nicht", Helps::Nothing),
            ("53100", "konnte Datei nicht erweitern", Helps::TryingAgain),
            ("57014", "storniere Anfrage wegen Zeitüberschreitung der Anfrage", Helps::TryingAgain),
            ("40P01", "Verklemmung entdeckt", Helps::TryingAgain),
            // after an upgrade of the tables a session's own plans are void: the next session has others
            ("0A000", "gecachter Plan darf den Ergebnistyp nicht ändern", Helps::TryingAgain),
        ];
        for (code, text, wanted) in cases {
            assert_eq!(helps(&refusal(code, text)), wanted, "{code}");
        }
        let unknown = Error::DatabaseError(DatabaseErrorKind::Unknown, Box::new("never said".to_owned()));
        assert_eq!(helps(&unknown), Helps::TryingAgain);
        // only the newest are remembered
        for number in 0..2 * KEPT {
            let _ = refusal("42P01", &format!("text {number}"));
        }
        assert_eq!(SAID.lock().unwrap().len(), KEPT);
    }
}
