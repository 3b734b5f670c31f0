//! A value that must never be printed.

use std::fmt;

use serde::{Deserialize, Deserializer};

/// Holds a secret. Prints as `***`; can be read from a request but has no `Serialize`, so it never goes out again.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret<T>(T);

impl<T> Secret<T> {
    /// Wraps a secret.
    pub fn new(value: T) -> Self {
        Self(value)
    }

    /// The secret itself, for the one place that needs it.
    pub fn expose(&self) -> &T {
        &self.0
    }
}

impl<T> fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

impl<T> fmt::Display for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Secret<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        T::deserialize(deserializer).map(Self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_formatting_shows_the_secret() {
        let secret = Secret::new("pear-tree".to_owned());
        assert_eq!(format!("{secret} {secret:?} {:?}", Some(&secret)), "*** *** Some(***)");
    }
}
