//! What is wrong with a row.

use std::borrow::Cow;

/// What a function finds wrong with a row: without the values, which may have to stay hidden.
pub type Fault = Cow<'static, str>;
