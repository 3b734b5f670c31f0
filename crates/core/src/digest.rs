//! Digests of requests.

use sha2::{Digest as _, Sha256};

/// SHA-256 (FIPS 180-4) of several parts one after the other.
#[must_use]
pub fn sha256(parts: &[&[u8]]) -> [u8; 32] {
    let mut digest = Sha256::new();
    parts.iter().for_each(|part| digest.update(part));
    digest.finalize().into()
}
