//! Secrets at rest: sealed with XChaCha20-Poly1305 under a key from a file or the environment.

use std::fs;
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, Generate, KeyInit};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use gonvel_core::secret::Secret;
use hmac::{Hmac, Mac};
use sha2::Sha256;

const NONCE: usize = 24;

/// Why a secret could not be sealed or opened.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// The key file cannot be used.
    #[error("the key file {path} cannot be used: {finding}")]
    Key {
        /// Its path.
        path: String,
        /// What was found.
        finding: String,
    },
    /// The key from the environment cannot be used. It is not shown.
    #[error(
        "the key in {variable} cannot be used: {finding}; give 32 bytes in base64, as `openssl rand -base64 32` makes them"
    )]
    Text {
        /// The variable.
        variable: &'static str,
        /// What was found.
        finding: String,
    },
    /// The key does not fit the secret.
    #[error("a stored secret does not open with the present key: bring the former key back, or enter the secret again")]
    WrongKey,
}

/// Seals and opens secrets.
pub struct Sealer {
    cipher: XChaCha20Poly1305,
    /// What secrets for other ends are derived from.
    root: Hmac<Sha256>,
    /// Where a key that was made just now is to be kept, and the key.
    fresh: Option<(PathBuf, Secret<Vec<u8>>)>,
}

impl Sealer {
    /// A sealer from 32 bytes of key.
    #[must_use]
    pub fn new(key: &[u8; 32]) -> Self {
        let root = <Hmac<Sha256> as KeyInit>::new_from_slice(key).expect("HMAC takes keys of any length");
        Self { cipher: XChaCha20Poly1305::new(key.into()), root, fresh: None }
    }

    /// Reads the key from a file. Where there is none a new key is made, which [`Self::kept`] writes there.
    ///
    /// # Errors
    /// [`SealError::Key`].
    pub fn from_file(path: &Path) -> Result<Self, SealError> {
        let wrong = |finding: String| SealError::Key { path: path.display().to_string(), finding };
        if !path.exists() {
            let key = Key::generate();
            let fresh = Some((path.to_owned(), Secret::new(key.to_vec())));
            return Ok(Self { fresh, ..Self::new(&key.into()) });
        }
        let key = fs::read(path).map_err(|e| wrong(e.to_string()))?;
        let key: [u8; 32] = key.try_into().map_err(|k: Vec<u8>| wrong(format!("it has {} bytes, a key has 32", k.len())))?;
        Ok(Self::new(&key))
    }

    /// The file that a key was made for just now; none if the key was there.
    #[must_use]
    pub fn fresh(&self) -> Option<&Path> {
        self.fresh.as_ref().map(|(path, _)| path.as_path())
    }

    /// Writes a key that was made just now into its file, which only its owner can read, and makes it last. Where another process was
    /// faster its key is taken.
    ///
    /// # Errors
    /// [`SealError::Key`].
    pub fn kept(self) -> Result<Self, SealError> {
        let Some((path, key)) = &self.fresh else { return Ok(self) };
        let written = || -> std::io::Result<()> {
            let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
            file.write_all(key.expose())?;
            file.sync_all()?;
            match path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
                Some(folder) => fs::File::open(folder)?.sync_all(),
                None => fs::File::open(".")?.sync_all(),
            }
        };
        match written() {
            Ok(()) => Ok(Self { fresh: None, ..self }),
            Err(e) if e.kind() == ErrorKind::AlreadyExists => Self::from_file(path),
            Err(e) => Err(SealError::Key { path: path.display().to_string(), finding: e.to_string() }),
        }
    }

    /// Takes the key from an environment variable's text: 32 bytes in base64.
    ///
    /// # Errors
    /// [`SealError::Text`].
    pub fn from_text(variable: &'static str, text: &str) -> Result<Self, SealError> {
        let wrong = |finding: String| SealError::Text { variable, finding };
        // what is no base64 may be half a key: it is not repeated
        let key = STANDARD.decode(text.trim()).map_err(|_| wrong("it is not base64".into()))?;
        let key: [u8; 32] = key.try_into().map_err(|k: Vec<u8>| wrong(format!("it has {} bytes, a key has 32", k.len())))?;
        Ok(Self::new(&key))
    }

    /// A secret for another end, always the same for one key: HMAC-SHA-256 of the end's name (as HKDF's expansion, RFC 5869).
    #[must_use]
    pub fn derived(&self, end: &str) -> Secret<Vec<u8>> {
        let mut mac = self.root.clone();
        mac.update(end.as_bytes());
        Secret::new(mac.finalize().into_bytes().to_vec())
    }

    /// Seals a secret; each sealing differs.
    ///
    /// # Panics
    /// If the secret is longer than the cipher allows (256 GiB).
    #[must_use]
    pub fn seal(&self, secret: &Secret<String>) -> Vec<u8> {
        let nonce = XNonce::generate();
        let mut sealed = nonce.to_vec();
        sealed.extend(self.cipher.encrypt(&nonce, secret.expose().as_bytes()).expect("far below the cipher's limit"));
        sealed
    }

    /// Opens a sealed secret.
    ///
    /// # Errors
    /// [`SealError::WrongKey`].
    pub fn open(&self, sealed: &[u8]) -> Result<Secret<String>, SealError> {
        let (nonce, text) = sealed.split_at_checked(NONCE).ok_or(SealError::WrongKey)?;
        let nonce = XNonce::try_from(nonce).map_err(|_| SealError::WrongKey)?;
        let open = self.cipher.decrypt(&nonce, text).map_err(|_| SealError::WrongKey)?;
        String::from_utf8(open).map(Secret::new).map_err(|_| SealError::WrongKey)
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_sealed_secret_opens_only_with_its_key() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secret.key");
        let sealer = Sealer::from_file(&path).unwrap();
        assert!(!path.exists() && sealer.fresh() == Some(&*path), "a key is kept once it is known that it is the first");
        let slower = Sealer::from_file(&path).unwrap();
        let sealer = sealer.kept().unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let secret = Secret::new("russet".to_owned());
        let sealed = sealer.seal(&secret);
        assert_eq!(
            slower.kept().unwrap().open(&sealed).unwrap(),
            secret,
            "of two that start at once the first one's key holds"
        );
        assert_ne!(sealed, sealer.seal(&secret), "equal secrets must not look equal");
        assert!(!sealed.windows(6).any(|w| w == b"russet"));
        assert_eq!(Sealer::from_file(&path).unwrap().open(&sealed).unwrap(), secret);
        assert!(matches!(Sealer::new(&[1; 32]).open(&sealed), Err(SealError::WrongKey)));
        assert!(matches!(sealer.open(b"short"), Err(SealError::WrongKey)));
        // the same key may come from the environment; what is wrong with one is said without showing it
        let text = STANDARD.encode(fs::read(&path).unwrap());
        assert_eq!(Sealer::from_text("GONVEL_KEY", &format!("{text}\n")).unwrap().open(&sealed).unwrap(), secret);
        for (wrong, finding) in [("pippin", "has 4 bytes"), ("p\u{e4}pp", "not base64"), ("", "has 0 bytes")] {
            let error = Sealer::from_text("GONVEL_KEY", wrong).err().unwrap().to_string();
            assert!(error.contains(finding) || error.contains("not base64"), "{error}");
            assert!(wrong.is_empty() || !error.contains(wrong), "{error}");
        }
    }
}
