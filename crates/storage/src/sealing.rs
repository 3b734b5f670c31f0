//! Secrets at rest: sealed with XChaCha20-Poly1305 under a key from a file or the environment, each bound to the place where it stands.
//!
//! A key has an id, so that keys can follow each other: the first of those given seals, all of them open. What is derived for other ends
//! hangs on the last, the oldest, and stays the same.

use std::fs;
use std::io::{ErrorKind, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::{PoisonError, RwLock};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, Generate, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use gonvel_core::secret::Secret;
use hmac::{Hmac, Mac};
use sha2::Sha256;

const NONCE: usize = 24;
const KEY: usize = 32;
/// What a sealed secret begins with that names its key and is bound to its place; those of earlier versions are neither.
const BOUND: &[u8] = b"gonvel2:";
const ID: usize = 8;

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
    /// The key does not fit the secret, or it was sealed for another place.
    #[error("a stored secret does not open with the present key: bring the former key back, or enter the secret again")]
    WrongKey,
    /// It was sealed with a key that is not here.
    #[error(
        "a stored secret was sealed with the key {0}, which is not here: copy the key file from the machine where the key was rotated, or bring \
         the former key back"
    )]
    UnknownKey(String),
}

/// Where a secret stands: it opens nowhere else.
#[derive(Debug, Clone, Copy)]
pub struct Place<'p> {
    /// The connection.
    pub connection: uuid::Uuid,
    /// The field of it.
    pub field: &'p str,
}

impl Place<'_> {
    fn bytes(&self) -> Vec<u8> {
        [self.connection.as_bytes(), self.field.as_bytes()].concat()
    }
}

struct OneKey {
    id: [u8; ID],
    cipher: XChaCha20Poly1305,
}

impl OneKey {
    fn new(key: &[u8; KEY]) -> Self {
        let told = mac(key, "id of a key");
        let mut id = [0; ID];
        id.copy_from_slice(&told[..ID]);
        Self { id, cipher: XChaCha20Poly1305::new(key.into()) }
    }
}

/// HMAC-SHA-256 of an end's name, as HKDF's expansion (RFC 5869).
fn mac(key: &[u8; KEY], end: &str) -> Vec<u8> {
    let mut mac = <Hmac<Sha256> as KeyInit>::new_from_slice(key).expect("HMAC takes keys of any length");
    mac.update(end.as_bytes());
    mac.finalize().into_bytes().to_vec()
}

/// Seals and opens secrets.
pub struct Sealer {
    /// The first one seals.
    keys: RwLock<Vec<OneKey>>,
    /// The oldest key, which secrets for other ends are derived from.
    root: Secret<[u8; KEY]>,
    /// The file that they came from.
    file: Option<PathBuf>,
    /// Whether they are not in it yet: they were made just now.
    fresh: Option<Secret<Vec<u8>>>,
}

impl Sealer {
    /// A sealer from 32 bytes of key.
    #[must_use]
    pub fn new(key: &[u8; KEY]) -> Self {
        Self::of(&[*key], None)
    }

    fn of(keys: &[[u8; KEY]], file: Option<PathBuf>) -> Self {
        let root = Secret::new(keys.last().copied().unwrap_or_default());
        Self { keys: RwLock::new(keys.iter().map(OneKey::new).collect()), root, file, fresh: None }
    }

    /// Reads the keys from a file, 32 bytes each, the newest first. Where there is none a new key is made, which [`Self::kept`] writes
    /// there.
    ///
    /// # Errors
    /// [`SealError::Key`].
    pub fn from_file(path: &Path) -> Result<Self, SealError> {
        if !path.exists() {
            let key: [u8; KEY] = Key::generate().into();
            return Ok(Self { fresh: Some(Secret::new(key.to_vec())), ..Self::of(&[key], Some(path.to_owned())) });
        }
        Ok(Self::of(&in_file(path)?, Some(path.to_owned())))
    }

    /// The file that a key was made for just now; none if the key was there.
    #[must_use]
    pub fn fresh(&self) -> Option<&Path> {
        self.file.as_deref().filter(|_| self.fresh.is_some())
    }

    /// Writes a key that was made just now into its file, which only its owner can read, and makes it last. Where another process was
    /// faster its key is taken.
    ///
    /// # Errors
    /// [`SealError::Key`].
    pub fn kept(self) -> Result<Self, SealError> {
        let (Some(path), Some(key)) = (&self.file, &self.fresh) else { return Ok(self) };
        match write(path, key.expose()) {
            Ok(()) => Ok(Self { fresh: None, ..self }),
            Err(e) if e.kind() == ErrorKind::AlreadyExists => Self::from_file(path),
            Err(e) => Err(SealError::Key { path: path.display().to_string(), finding: e.to_string() }),
        }
    }

    /// Takes the keys from an environment variable's text: 32 bytes in base64 each, the newest first, with commas between.
    ///
    /// # Errors
    /// [`SealError::Text`].
    pub fn from_text(variable: &'static str, text: &str) -> Result<Self, SealError> {
        let wrong = |finding: String| SealError::Text { variable, finding };
        let keys = text.split(',').map(|text| {
            // what is no base64 may be half a key: it is not repeated
            let key = STANDARD.decode(text.trim()).map_err(|_| wrong("it is not base64".into()))?;
            key.try_into().map_err(|k: Vec<u8>| wrong(format!("it has {} bytes, a key has {KEY}", k.len())))
        });
        Ok(Self::of(&keys.collect::<Result<Vec<_>, _>>()?, None))
    }

    /// Puts a new key before those of a file, which then hold all of them.
    ///
    /// # Errors
    /// [`SealError::Key`]; the file is then as it was.
    pub fn add_key(path: &Path) -> Result<Self, SealError> {
        let wrong = |e: std::io::Error| SealError::Key { path: path.display().to_string(), finding: e.to_string() };
        let mut keys = in_file(path)?;
        keys.insert(0, Key::generate().into());
        let beside = path.with_extension("new");
        let _ = fs::remove_file(&beside);
        write(&beside, &keys.concat()).map_err(wrong)?;
        fs::rename(&beside, path).map_err(wrong)?;
        sync_folder(path).map_err(wrong)?;
        Ok(Self::of(&keys, Some(path.to_owned())))
    }

    /// The id of the key that seals, as people see it.
    #[must_use]
    pub fn key_id(&self) -> String {
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        keys.first().map_or_else(String::new, |key| hex(&key.id))
    }

    /// A secret for another end, always the same however often keys follow each other.
    #[must_use]
    pub fn derived(&self, end: &str) -> Secret<Vec<u8>> {
        Secret::new(mac(self.root.expose(), end))
    }

    /// Seals a secret for its place; each sealing differs.
    ///
    /// # Panics
    /// If the secret is longer than the cipher allows (256 GiB).
    #[must_use]
    pub fn seal(&self, secret: &Secret<String>, place: Place<'_>) -> Vec<u8> {
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let key = keys.first().expect("there is a key");
        let nonce = XNonce::generate();
        let payload = Payload { msg: secret.expose().as_bytes(), aad: &place.bytes() };
        let text = key.cipher.encrypt(&nonce, payload).expect("far below the cipher's limit");
        [BOUND, &key.id, &nonce, &text].concat()
    }

    /// Opens a secret that was sealed for this place. One that was sealed with a key which came into the file since is opened too.
    ///
    /// # Errors
    /// [`SealError`].
    pub fn open(&self, sealed: &[u8], place: Place<'_>) -> Result<Secret<String>, SealError> {
        let Some(rest) = sealed.strip_prefix(BOUND) else { return self.open_unbound(sealed) };
        let (id, rest) = rest.split_at_checked(ID).ok_or(SealError::WrongKey)?;
        let (nonce, text) = rest.split_at_checked(NONCE).ok_or(SealError::WrongKey)?;
        let nonce = XNonce::try_from(nonce).map_err(|_| SealError::WrongKey)?;
        let open = || {
            let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
            let key = keys.iter().find(|key| key.id == id)?;
            Some(key.cipher.decrypt(&nonce, Payload { msg: text, aad: &place.bytes() }))
        };
        let opened = match open() {
            Some(opened) => Some(opened),
            None => {
                self.look_again()?;
                open()
            }
        };
        let text = opened.ok_or_else(|| SealError::UnknownKey(hex(id)))?.map_err(|_| SealError::WrongKey)?;
        String::from_utf8(text).map(Secret::new).map_err(|_| SealError::WrongKey)
    }

    /// Opens a secret of an earlier version, which names no key and is bound to no place.
    fn open_unbound(&self, sealed: &[u8]) -> Result<Secret<String>, SealError> {
        let (nonce, text) = sealed.split_at_checked(NONCE).ok_or(SealError::WrongKey)?;
        let nonce = XNonce::try_from(nonce).map_err(|_| SealError::WrongKey)?;
        let keys = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let text = keys.iter().find_map(|key| key.cipher.decrypt(&nonce, text).ok()).ok_or(SealError::WrongKey)?;
        String::from_utf8(text).map(Secret::new).map_err(|_| SealError::WrongKey)
    }

    /// Reads the file again.
    fn look_again(&self) -> Result<(), SealError> {
        let Some(path) = &self.file else { return Ok(()) };
        let keys = in_file(path)?.iter().map(OneKey::new).collect();
        *self.keys.write().unwrap_or_else(PoisonError::into_inner) = keys;
        Ok(())
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

fn in_file(path: &Path) -> Result<Vec<[u8; KEY]>, SealError> {
    let wrong = |finding: String| SealError::Key { path: path.display().to_string(), finding };
    let bytes = fs::read(path).map_err(|e| wrong(e.to_string()))?;
    let (keys, rest) = bytes.as_chunks::<KEY>();
    if keys.is_empty() || !rest.is_empty() {
        return Err(wrong(format!("it has {} bytes, a key has {KEY}", bytes.len())));
    }
    Ok(keys.to_vec())
}

/// Writes a new file that only its owner can read, and makes it last.
fn write(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    sync_folder(path)
}

fn sync_folder(path: &Path) -> std::io::Result<()> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    fs::File::open(folder.unwrap_or(Path::new(".")))?.sync_all()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    const ELSEWHERE: uuid::Uuid = uuid::Uuid::max();

    fn place(field: &str) -> Place<'_> {
        Place { connection: uuid::Uuid::nil(), field }
    }

    #[test]
    fn a_sealed_secret_opens_only_with_its_key_and_in_its_place() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secret.key");
        let sealer = Sealer::from_file(&path).unwrap();
        assert!(!path.exists() && sealer.fresh() == Some(&*path), "a key is kept once it is known that it is the first");
        let slower = Sealer::from_file(&path).unwrap();
        let sealer = sealer.kept().unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let secret = Secret::new("russet".to_owned());
        let at = place("password");
        let sealed = sealer.seal(&secret, at);
        assert_eq!(
            slower.kept().unwrap().open(&sealed, at).unwrap(),
            secret,
            "of two that start at once the first one's key holds"
        );
        assert_ne!(sealed, sealer.seal(&secret, at), "equal secrets must not look equal");
        assert!(!sealed.windows(6).any(|w| w == b"russet"));
        assert_eq!(Sealer::from_file(&path).unwrap().open(&sealed, at).unwrap(), secret);
        // put into another connection, or another field of this one, it stays closed
        for elsewhere in [place("log_password"), Place { connection: ELSEWHERE, ..at }] {
            assert!(matches!(sealer.open(&sealed, elsewhere), Err(SealError::WrongKey)));
        }
        assert!(matches!(Sealer::new(&[1; 32]).open(&sealed, at), Err(SealError::UnknownKey(id)) if id == sealer.key_id()));
        assert!(matches!(sealer.open(b"short", at), Err(SealError::WrongKey)));
        // the same key may come from the environment; what is wrong with one is said without showing it
        let text = STANDARD.encode(fs::read(&path).unwrap());
        assert_eq!(Sealer::from_text("GONVEL_KEY", &format!("{text}\n")).unwrap().open(&sealed, at).unwrap(), secret);
        for (wrong, finding) in [("pippin", "has 4 bytes"), ("p\u{e4}pp", "not base64"), ("", "has 0 bytes")] {
            let error = Sealer::from_text("GONVEL_KEY", wrong).err().unwrap().to_string();
            assert!(error.contains(finding) || error.contains("not base64"), "{error}");
            assert!(wrong.is_empty() || !error.contains(wrong), "{error}");
        }
    }

    #[test]
    fn keys_follow_each_other_under_processes_that_run_and_what_is_derived_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("secret.key");
        let running = Sealer::from_file(&path).unwrap().kept().unwrap();
        let (secret, at) = (Secret::new("pippin".to_owned()), place("password"));
        let before = running.seal(&secret, at);
        let masks = running.derived("masks");
        let rotated = Sealer::add_key(&path).unwrap();
        assert_ne!(rotated.key_id(), running.key_id());
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let after = rotated.seal(&secret, at);
        // both open both: the one that runs looks into the file again
        for sealer in [&rotated, &running] {
            assert_eq!(sealer.open(&before, at).unwrap(), secret);
            assert_eq!(sealer.open(&after, at).unwrap(), secret);
            assert_eq!(sealer.derived("masks"), masks, "a masked value is to stay the same");
        }
        let keys: Vec<String> = fs::read(&path).unwrap().chunks(32).map(|key| STANDARD.encode(key)).collect();
        assert_eq!(Sealer::from_text("GONVEL_KEY", &keys.join(",")).unwrap().open(&before, at).unwrap(), secret);
        let only_new = Sealer::from_text("GONVEL_KEY", &keys[0]).unwrap();
        assert!(matches!(only_new.open(&before, at), Err(SealError::UnknownKey(_))));
        // what an earlier version sealed opens as well
        let key: [u8; 32] = fs::read(&path).unwrap()[32..].try_into().unwrap();
        let nonce = XNonce::generate();
        let text = XChaCha20Poly1305::new(&key.into()).encrypt(&nonce, &b"pippin"[..]).unwrap();
        assert_eq!(rotated.open(&[&nonce[..], &text].concat(), at).unwrap(), secret);
        fs::write(&path, [0; 33]).unwrap();
        assert!(matches!(Sealer::from_file(&path), Err(SealError::Key { .. })));
    }
}
