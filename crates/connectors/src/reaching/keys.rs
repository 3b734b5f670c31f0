//! Keys of SSH: those that hosts have to show, and those that log in.

use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::secret::Secret;
use russh::keys::ssh_key::Fingerprint;
use russh::keys::{PrivateKey, PublicKey, decode_secret_key};

/// The key that a host has to show.
#[derive(Debug)]
pub(super) enum HostKey {
    /// All of it.
    Whole(PublicKey),
    /// Its fingerprint.
    Print(Fingerprint),
}

impl HostKey {
    /// Reads a line as it stands in a `.pub` file or among known hosts, or a fingerprint.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] at its field.
    pub(super) fn read(text: &str) -> Result<Self, ConnectorError> {
        let words: Vec<&str> = text.split_whitespace().collect();
        if let Some(print) = words.iter().find(|word| word.starts_with("SHA256:"))
            && let Ok(print) = print.parse()
        {
            return Ok(Self::Print(print));
        }
        let keys = words.windows(2).filter_map(|pair| PublicKey::from_openssh(&pair.join(" ")).ok());
        keys.into_iter().next().map(Self::Whole).ok_or_else(|| {
            ConnectorError::settings(
                Some("through_host_key"),
                "the host key is neither a public key nor a fingerprint",
                "give it as in ssh-ed25519 AAAA…, or its fingerprint as in SHA256:…; leave it empty and test, to see which it shows",
            )
        })
    }

    /// Whether a shown key is the one.
    pub(super) fn is(&self, shown: &PublicKey) -> bool {
        match self {
            Self::Whole(key) => key.key_data() == shown.key_data(),
            Self::Print(print) => *print == shown.fingerprint(print.algorithm()),
        }
    }
}

/// Checks that a private key can be read, with the password where it has one.
///
/// # Errors
/// [`ConnectorError::Settings`] at its field, or at that of the password.
pub(super) fn check_key(key: &Secret<String>, password: Option<&Secret<String>>) -> Result<(), ConnectorError> {
    decode(key, password).map(|_| ())
}

/// Reads a private key.
///
/// # Errors
/// [`ConnectorError::Settings`] at its field, or at that of the password.
pub(super) fn decode(key: &Secret<String>, password: Option<&Secret<String>>) -> Result<PrivateKey, ConnectorError> {
    decode_secret_key(key.expose(), password.map(|password| password.expose().as_str())).map_err(|error| {
        let encrypted = matches!(error, russh::keys::Error::KeyIsEncrypted)
            || (password.is_some()
                && decode_secret_key(key.expose(), None).is_err_and(|e| matches!(e, russh::keys::Error::KeyIsEncrypted)));
        match (encrypted, password) {
            (true, None) => ConnectorError::settings(
                Some("through_password"),
                "the private key is locked with a password",
                "give it, or a key without one",
            ),
            (true, Some(_)) => ConnectorError::settings(
                Some("through_password"),
                "the private key is not unlocked by this password",
                "enter the password of the key again",
            ),
            // what was found could repeat of the key
            (false, _) => ConnectorError::settings(
                Some("through_key"),
                "the private key cannot be read",
                "paste it as OpenSSH writes it, with its BEGIN and END lines",
            ),
        }
    })
}
