//! Numbers written and read by templates, as `to_char` and `to_number` have them. Signs, points and groups are those of the C
//! locale, whatever the locale of a database is.

mod reading;
mod template;
mod writing;

pub(super) use reading::{read, read_type};
pub(super) use writing::shown;
