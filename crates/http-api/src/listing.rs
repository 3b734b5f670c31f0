//! Lists, a page at a time.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// One page of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Page<T> {
    /// What is in it, in the order asked for.
    pub items: Vec<T>,
    /// Where the next page begins, to be sent back as `cursor` with the same filter and order; none with the last page.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
}

impl<T> Page<T> {
    /// The same page of what is made of each item.
    pub fn map<U>(self, into: impl FnMut(T) -> U) -> Page<U> {
        Page { items: self.items.into_iter().map(into).collect(), next: self.next }
    }
}

/// Items of a page where it is not said how many.
pub const USUAL_PAGE: usize = 100;

macro_rules! pagings {
    ($($of:literal $name:ident $largest_name:ident $largest:tt;)*) => {
        $(
            #[doc = concat!("Items of a page at most, of ", $of, ".")]
            pub const $largest_name: usize = $largest;

            #[doc = concat!("Which page of ", $of, ".")]
            #[derive(Debug, Clone, Deserialize, IntoParams)]
            #[into_params(parameter_in = Query)]
            pub struct $name {
                /// Items at most; 100 without it.
                #[param(minimum = 1, maximum = $largest)]
                pub limit: Option<usize>,
                /// Where the page begins: `next` of the one before.
                pub cursor: Option<String>,
            }
        )*
    };
}

pagings! {
    "a list" PagingQuery LARGEST_PAGE 10_000;
    "a list without an end" LongPagingQuery LARGEST_LONG_PAGE 1_000;
    "a list of records" RecordPagingQuery LARGEST_RECORD_PAGE 500;
}

/// Which of a list of things with names.
#[derive(Debug, Clone, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct NamedQuery {
    /// Only those with this text in their names, in capitals or not.
    pub search: Option<String>,
    /// From the last name to the first.
    pub descending: bool,
}
