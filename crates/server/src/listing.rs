//! Lists, a page at a time. A cursor says after which item the page begins, so that items which come or go meanwhile neither repeat nor
//! hide others.

use std::hash::{DefaultHasher, Hash, Hasher};

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gonvel_http_api::{LARGEST_PAGE, Page, PagingQuery, ProblemType, USUAL_PAGE};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::problems::{Query, Refusal};

/// What a list is asked for: which of it, and which page.
pub(crate) struct Listed<Q, const MOST: usize = LARGEST_PAGE> {
    pub(crate) which: Q,
    pub(crate) paging: Paging,
}

/// Which page of a list.
pub(crate) struct Paging {
    /// Items at most.
    pub(crate) limit: usize,
    after: Option<serde_json::Value>,
    /// What list it is of: the same address with the same filter and order.
    of: u64,
}

/// What an item is found again by: what the list is in order of, and what is the item's own.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub(crate) struct Place(By, String);

/// What a list is in order of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(untagged)]
enum By {
    Nothing,
    Number(i64),
    Text(String),
}

impl Place {
    /// Of a list by name.
    pub(crate) fn named(name: &str) -> Self {
        Self(By::Nothing, name.to_owned())
    }

    /// Of a list by a number, and by name where that is the same.
    pub(crate) fn numbered(number: i64, name: &str) -> Self {
        Self(By::Number(number), name.to_owned())
    }

    /// Of a list by a measure that not all have, to a thousandth; those without it come first.
    pub(crate) fn measured(measure: Option<f64>, name: &str) -> Self {
        #[expect(clippy::cast_possible_truncation, reason = "it stays at the largest")]
        let number = measure.map_or(i64::MIN, |measure| (measure * 1000.0) as i64);
        Self::numbered(number, name)
    }

    /// Of a list by a text, and by name where that is the same.
    pub(crate) fn told(text: &str, name: &str) -> Self {
        Self(By::Text(text.to_owned()), name.to_owned())
    }
}

impl Paging {
    /// After which item the page begins; none for the first page.
    pub(crate) fn after<T: DeserializeOwned>(&self) -> Result<Option<T>, Refusal> {
        let read = |after: &serde_json::Value| T::deserialize(after).map_err(|_| unknown_cursor());
        self.after.as_ref().map(read).transpose()
    }

    /// The cursor of the page that begins after an item.
    pub(crate) fn cursor(&self, after: &impl Serialize) -> String {
        let text = serde_json::to_vec(&(self.of, after)).unwrap_or_default();
        URL_SAFE_NO_PAD.encode(text)
    }

    /// The page of a list that is there as a whole.
    pub(crate) fn page<T>(
        &self,
        items: impl IntoIterator<Item = T>,
        descending: bool,
        place: impl Fn(&T) -> Place,
    ) -> Result<Page<T>, Refusal> {
        let after: Option<Place> = self.after()?;
        let comes = |at: &Place| after.as_ref().is_none_or(|after| if descending { at < after } else { at > after });
        let mut placed: Vec<(Place, T)> =
            items.into_iter().map(|item| (place(&item), item)).filter(|(at, _)| comes(at)).collect();
        placed.sort_by(|(a, _), (b, _)| if descending { b.cmp(a) } else { a.cmp(b) });
        let more = placed.len() > self.limit;
        placed.truncate(self.limit);
        let next = placed.last().filter(|_| more).map(|(at, _)| self.cursor(at));
        Ok(Page { items: placed.into_iter().map(|(_, item)| item).collect(), next })
    }

    /// The page of a list in an order that moves by itself, such as by age: after so many items, since what an item was found by
    /// another time is not what it is found by now.
    pub(crate) fn page_moving<T>(
        &self,
        items: impl IntoIterator<Item = T>,
        descending: bool,
        place: impl Fn(&T) -> Place,
    ) -> Result<Page<T>, Refusal> {
        let passed: usize = self.after()?.unwrap_or(0);
        let mut items: Vec<T> = items.into_iter().collect();
        items.sort_by_cached_key(|item| place(item));
        if descending {
            items.reverse();
        }
        let end = passed.saturating_add(self.limit);
        let next = (items.len() > end).then(|| self.cursor(&end));
        Ok(Page { items: items.into_iter().skip(passed).take(self.limit).collect(), next })
    }

    /// The page of a list that stays as it is, in its own order.
    pub(crate) fn page_in_order<T>(&self, items: impl IntoIterator<Item = T>) -> Result<Page<T>, Refusal> {
        let numbered = (0..).zip(items);
        Ok(self.page(numbered, false, |(number, _)| Place::numbered(*number, ""))?.map(|(_, item)| item))
    }

    /// The page of a list that was read from after the cursor on, one item further than the limit.
    pub(crate) fn page_of_read<T, K: Serialize>(&self, mut items: Vec<T>, key: impl Fn(&T) -> K) -> Page<T> {
        let more = items.len() > self.limit;
        items.truncate(self.limit);
        let next = items.last().filter(|_| more).map(|last| self.cursor(&key(last)));
        Page { items, next }
    }

    /// Items to read from after the cursor on.
    pub(crate) fn to_read(&self) -> i64 {
        i64::try_from(self.limit).unwrap_or(i64::MAX).saturating_add(1)
    }
}

fn unknown_cursor() -> Refusal {
    let detail = "the cursor is not of this list with this filter and order";
    Refusal::new(ProblemType::Malformed, detail).at("cursor").remedied("begin again without a cursor")
}

impl<Q: DeserializeOwned + Send, S: Send + Sync, const MOST: usize> FromRequestParts<S> for Listed<Q, MOST> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let Query(which) = Query::<Q>::from_request_parts(parts, state).await?;
        let Query(PagingQuery { limit, cursor }) = Query::from_request_parts(parts, state).await?;
        let limit = limit.unwrap_or(USUAL_PAGE);
        if !(1..=MOST).contains(&limit) {
            return Err(Refusal::invalid("limit", format!("a page of {limit} items: ask for 1 to {MOST}")));
        }
        let Query(mut all) = Query::<Vec<(String, String)>>::from_request_parts(parts, state).await?;
        all.retain(|(name, _)| name != "limit" && name != "cursor");
        all.sort();
        let mut hasher = DefaultHasher::new();
        (parts.uri.path(), all).hash(&mut hasher);
        let of = hasher.finish();
        let read = |cursor: String| {
            let bytes = URL_SAFE_NO_PAD.decode(cursor).ok()?;
            let (at, after): (u64, serde_json::Value) = serde_json::from_slice(&bytes).ok()?;
            (at == of).then_some(after)
        };
        let after = cursor.map(|cursor| read(cursor).ok_or_else(unknown_cursor)).transpose()?;
        Ok(Self { which, paging: Paging { limit, after, of } })
    }
}

/// A list that is not asked for by anything.
#[derive(Deserialize)]
pub(crate) struct Unfiltered {}

/// Whether a name has the text that is searched for in it, in capitals or not.
pub(crate) fn has(name: &str, search: Option<&String>) -> bool {
    search.is_none_or(|search| name.to_lowercase().contains(&search.trim().to_lowercase()))
}
