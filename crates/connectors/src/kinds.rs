//! The kinds of systems that Gonvel knows: each is a folder here and a line below.

use gonvel_core::kinds::About;

/// All kinds, in the order in which they are offered.
#[must_use]
pub fn kinds() -> Vec<About> {
    vec![crate::postgres::about::about()]
}
