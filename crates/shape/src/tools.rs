//! What functions keep at hand: patterns that were read once, the secret of keyed functions, and functions of one's own.

use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use hmac::{Hmac, KeyInit, Mac};
use regex::{Regex, RegexBuilder};
use sha2::Sha256;

use crate::fault::Fault;
use crate::own::Own;

/// Patterns kept at a time.
const PATTERNS: usize = 64;
/// Bytes a pattern may take when it is ready to be used.
const PATTERN_SIZE: usize = 1 << 20;

/// The secret that keyed hashes and tokens are made with. It is not shown.
#[derive(Clone)]
pub struct MaskKey(Hmac<Sha256>);

impl std::fmt::Debug for MaskKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("***")
    }
}

impl MaskKey {
    /// From the bytes of a secret.
    ///
    /// # Panics
    /// Never: HMAC takes keys of any length.
    #[must_use]
    pub fn of(secret: &[u8]) -> Self {
        Self(Hmac::new_from_slice(secret).expect("HMAC takes keys of any length"))
    }

    /// HMAC-SHA-256 of the parts one after another (RFC 2104).
    #[must_use]
    pub fn sign(&self, parts: &[&[u8]]) -> [u8; 32] {
        let mut mac = self.0.clone();
        parts.iter().for_each(|part| mac.update(part));
        mac.finalize().into_bytes().into()
    }
}

/// What functions keep at hand.
#[derive(Debug)]
pub struct Tools {
    /// By their texts: those that tell capitals apart, those that do not.
    patterns: Mutex<[HashMap<String, Regex>; 2]>,
    key: MaskKey,
    /// Whether something was made with the secret.
    key_asked: AtomicBool,
    own: Own,
    /// The time that `now()` is, where it may be asked.
    clock: Option<i64>,
}

impl Tools {
    /// With the secret of keyed functions.
    #[must_use]
    pub fn new(key: MaskKey) -> Self {
        Self { patterns: Mutex::default(), key, key_asked: AtomicBool::new(false), own: Own::default(), clock: None }
    }

    /// The same with functions of one's own.
    #[must_use]
    pub fn with(mut self, own: Own) -> Self {
        self.own = own;
        self
    }

    /// The same with a time that `now()` and its like are, in microseconds since 1970-01-01 UTC: for what is asked once, and never again
    /// of the same record.
    #[must_use]
    pub fn with_clock(mut self, now_us: i64) -> Self {
        self.clock = Some(now_us);
        self
    }

    /// The time that `now()` is; none where it may not be asked.
    #[must_use]
    pub fn clock(&self) -> Option<i64> {
        self.clock
    }

    /// Functions of one's own.
    #[must_use]
    pub fn own(&self) -> &Own {
        &self.own
    }

    /// The secret.
    #[must_use]
    pub fn key(&self) -> &MaskKey {
        self.key_asked.store(true, Ordering::Relaxed);
        &self.key
    }

    /// Whether something was made with the secret since these were made.
    #[must_use]
    pub fn key_was_asked(&self) -> bool {
        self.key_asked.load(Ordering::Relaxed)
    }

    /// A pattern, read once.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn pattern(&self, pattern: &str, any_case: bool) -> Result<Regex, Fault> {
        let mut patterns = self.patterns.lock().unwrap_or_else(PoisonError::into_inner);
        let patterns = &mut patterns[usize::from(any_case)];
        if let Some(known) = patterns.get(pattern) {
            return Ok(known.clone());
        }
        let read = RegexBuilder::new(pattern)
            .case_insensitive(any_case)
            .dot_matches_new_line(true)
            .size_limit(PATTERN_SIZE)
            .build()
            .map_err(|e| match e {
                regex::Error::CompiledTooBig(_) => Fault::from("the regular expression is too large"),
                other => {
                    let text = other.to_string();
                    let last = text.lines().last().unwrap_or("").trim_start_matches("error: ").to_owned();
                    format!("the regular expression cannot be read: {last}").into()
                }
            })?;
        if patterns.len() >= PATTERNS {
            patterns.clear();
        }
        patterns.insert(pattern.to_owned(), read.clone());
        Ok(read)
    }
}
