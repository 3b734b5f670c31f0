//! Whether names are such as patterns look for. One pattern is asked for again and again while schemas are compared, and takes long to be
//! read.

use std::cell::RefCell;
use std::collections::HashMap;

use regex::Regex;

/// Patterns that are kept ready at most: one may take some MiB.
const MOST: usize = 32;

thread_local! {
    static READY: RefCell<HashMap<String, Option<Regex>>> = RefCell::default();
}

/// Whether a name is one that a pattern looks for.
pub(super) fn is_like(pattern: &str, name: &str) -> bool {
    READY.with_borrow_mut(|ready| {
        if ready.len() == MOST && !ready.contains_key(pattern) {
            ready.clear();
        }
        if !ready.contains_key(pattern) {
            ready.insert(pattern.to_owned(), Regex::new(pattern).ok());
        }
        ready.get(pattern).and_then(Option::as_ref).is_some_and(|pattern| pattern.is_match(name))
    })
}

/// Lets go of all patterns: the thread may not compare schemas again for long.
pub(super) fn forget() {
    READY.take();
}
