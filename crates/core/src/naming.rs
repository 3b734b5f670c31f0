//! Names as parsed types: what arrives at the edge is parsed once and carried as its own type inside.

use std::fmt;

use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Longest name of a topic, connector or connection, in characters.
pub const LONGEST_NAME: usize = 200;

/// Why a name was refused. The message names the finding and the remedy.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NameError {
    /// Nothing but white space was given.
    #[error("the name is empty: give it at least one letter or digit")]
    Empty,
    /// The name is over [`LONGEST_NAME`].
    #[error("the name has {length} characters: shorten it to {LONGEST_NAME} or fewer")]
    TooLong {
        /// Characters found.
        length: usize,
    },
    /// A character that names may not hold.
    #[error(
        "the name holds {found:?} at character {at}: use letters, digits, '.', '-' and '_', and begin with a letter or digit"
    )]
    Character {
        /// The character found.
        found: char,
        /// Its place, counted from 1.
        at: usize,
    },
}

fn check(text: &str) -> Result<(), NameError> {
    if text.trim().is_empty() {
        return Err(NameError::Empty);
    }
    let length = text.chars().count();
    if length > LONGEST_NAME {
        return Err(NameError::TooLong { length });
    }
    for (index, found) in text.chars().enumerate() {
        let fits = found.is_ascii_alphanumeric() || (index > 0 && matches!(found, '.' | '-' | '_'));
        if !fits {
            return Err(NameError::Character { found, at: index + 1 });
        }
    }
    Ok(())
}

macro_rules! name_type {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        #[serde(try_from = "String", into = "String")]
        pub struct $name(String);

        impl $name {
            /// Parses a name.
            ///
            /// # Errors
            /// [`NameError`] names the character and the remedy.
            pub fn parse(text: impl Into<String>) -> Result<Self, NameError> {
                let text = text.into();
                check(&text)?;
                Ok(Self(text))
            }

            /// The name as text.
            #[must_use]
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl TryFrom<String> for $name {
            type Error = NameError;
            fn try_from(text: String) -> Result<Self, NameError> {
                Self::parse(text)
            }
        }

        impl From<$name> for String {
            fn from(name: $name) -> String {
                name.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(&self.0)
            }
        }
    };
}

name_type!(
    /// The name of a topic.
    TopicName
);
name_type!(
    /// The name of a connector.
    ConnectorName
);
name_type!(
    /// The name of a connection.
    ConnectionName
);
name_type!(
    /// The name of a reader.
    ReaderName
);
name_type!(
    /// The name of a runner.
    RunnerName
);
name_type!(
    /// The name of a schema.
    SchemaName
);

/// Identifies a connector for its whole life, also when it is renamed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ConnectorId(pub Uuid);

impl ConnectorId {
    /// The id as 32 hexadecimal digits, fit for names in outside systems (slots, publications).
    #[must_use]
    pub fn simple(self) -> String {
        self.0.simple().to_string()
    }
}

impl fmt::Display for ConnectorId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Identifies a topic; offsets and blocks hang on it, so a deleted and re-created name is another topic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct TopicId(pub i64);

/// Identifies a registered schema version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SchemaId(pub i64);

/// The number of a partition within its topic, from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PartitionId(pub i32);

/// A record's position in its partition, from 0, without gaps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Offset(pub i64);

/// One partition of one topic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TopicPartition {
    /// The topic.
    pub topic: TopicId,
    /// The partition in it.
    pub partition: PartitionId,
}

/// The term of a lane's lease; each new holder gets a greater one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Epoch(pub i64);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_refused_with_the_place() {
        let long = "a".repeat(201);
        let cases: &[(&str, Option<NameError>)] = &[
            ("packhouse.bins", None),
            ("0-a_b.C", None),
            ("  ", Some(NameError::Empty)),
            ("a b", Some(NameError::Character { found: ' ', at: 2 })),
            (".a", Some(NameError::Character { found: '.', at: 1 })),
            ("bin\u{e9}", Some(NameError::Character { found: '\u{e9}', at: 4 })),
            (&long, Some(NameError::TooLong { length: 201 })),
            (&long[..200], None),
        ];
        for (text, refused) in cases {
            assert_eq!(TopicName::parse(*text).err(), *refused, "{text}");
        }
    }
}
