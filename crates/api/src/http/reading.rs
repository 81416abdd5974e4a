//! How calls are read: what is wrong with an address or its parameters is told as a problem, the same for all calls.

use axum::{
    extract::{FromRequestParts, Path as AxumPath, Query as AxumQuery},
    http::{HeaderValue, StatusCode, header, request::Parts},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Deserializer, Serialize, de::DeserializeOwned};
use utoipa::IntoParams;

use crate::http::problem::Fault;

/// Parts of the path.
pub struct Path<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Path<T> {
    type Rejection = Fault;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Fault> {
        let read = AxumPath::<T>::from_request_parts(parts, state).await;
        read.map(|AxumPath(read)| Self(read)).map_err(|rejection| unreadable("address", &rejection.body_text()))
    }
}

/// What stands behind the question mark.
pub struct Query<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Query<T> {
    type Rejection = Fault;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Fault> {
        let read = AxumQuery::<T>::from_request_parts(parts, state).await;
        read.map(|AxumQuery(read)| Self(read)).map_err(|rejection| unreadable("parameters", &rejection.body_text()))
    }
}

fn unreadable(what: &str, explanation: &str) -> Fault {
    // What the library puts before the colon names its own call.
    let explanation = explanation.split_once(": ").map_or(explanation, |(_, rest)| rest);
    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, &format!("Invalid {what}"), explanation)
}

/// How many of a list are asked for: `USUAL` if nothing is said, and `MOST` at most.
#[derive(Clone, Copy, Debug)]
pub struct Limit<const USUAL: usize, const MOST: usize>(pub usize);

impl<const USUAL: usize, const MOST: usize> Default for Limit<USUAL, MOST> {
    fn default() -> Self {
        Self(USUAL)
    }
}

impl<'de, const USUAL: usize, const MOST: usize> Deserialize<'de> for Limit<USUAL, MOST> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let limit = usize::deserialize(deserializer)?;
        if (1..=MOST).contains(&limit) {
            return Ok(Self(limit));
        }
        Err(serde::de::Error::custom(format!("`limit` is {limit}; it must be from 1 to {MOST}")))
    }
}

/// Bytes of JSON in one page of a list, about.
const PAGE_BYTES: usize = 4 * 1024 * 1024;

/// A page of a list: as many as were asked for, and no more bytes than a page has. Where more follow, the header `Link`
/// leads to them (RFC 8288).
pub struct Page {
    json: Vec<u8>,
    next: Option<String>,
}

impl Page {
    /// Of these, up to `limit`; `next` makes the parameters of the next page from how many are in this one, and the last
    /// of them.
    pub fn of<T: Serialize>(
        items: impl IntoIterator<Item = T>,
        limit: usize,
        next: impl FnOnce(usize, &T) -> String,
    ) -> Self {
        let mut items = items.into_iter().peekable();
        let mut json = vec![b'['];
        let (mut count, mut last) = (0, None);
        while count < limit
            && json.len() < PAGE_BYTES
            && let Some(item) = items.next()
        {
            if count > 0 {
                json.push(b',');
            }
            let before = json.len();
            if serde_json::to_writer(&mut json, &item).is_err() {
                json.truncate(before);
                json.extend_from_slice(b"null");
            }
            (count, last) = (count + 1, Some(item));
        }
        json.push(b']');
        let next = last.filter(|_| items.peek().is_some()).map(|last| next(count, &last));
        Self { json, next }
    }
}

impl IntoResponse for Page {
    fn into_response(self) -> Response {
        let mut response = ([(header::CONTENT_TYPE, "application/json")], self.json).into_response();
        if let Some(link) = self.next.and_then(|next| HeaderValue::try_from(format!("<?{next}>; rel=\"next\"")).ok()) {
            response.headers_mut().insert(header::LINK, link);
        }
        response
    }
}

/// A text as it stands in the parameters of an address.
pub fn encoded(text: &str) -> String {
    percent_encoding::utf8_percent_encode(text, percent_encoding::NON_ALPHANUMERIC).to_string()
}

/// Which part of a list is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Part {
    /// Without so many at the beginning.
    #[serde(default)]
    #[param(default = 0)]
    pub skip: usize,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 1_000, minimum = 1, maximum = 10_000)]
    pub limit: Limit<1_000, 10_000>,
}

impl Part {
    /// Of a whole list.
    pub fn page<T: Serialize>(&self, all: Vec<T>) -> Page {
        let Self { skip, limit } = self;
        Page::of(all.into_iter().skip(*skip), limit.0, |count, _| format!("skip={}&limit={}", skip + count, limit.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_ends_where_it_is_full_and_leads_on() {
        let part = Part { skip: 2, limit: Limit(3) };
        let page = part.page((0..9).collect());
        assert_eq!((page.json.as_slice(), page.next.as_deref()), (&b"[2,3,4]"[..], Some("skip=5&limit=3")));
        let last = Part { skip: 5, limit: Limit(9) }.page((0..9).collect::<Vec<_>>());
        assert_eq!((last.json.as_slice(), last.next), (&b"[5,6,7,8]"[..], None));
        let large = Page::of((0..100).map(|_| "x".repeat(1_000_000)), 100, |count, _| count.to_string());
        assert!(large.json.len() < 6_000_000 && large.next.as_deref() == Some("5"));
        assert_eq!(encoded("a b&c/ü"), "a%20b%26c%2F%C3%BC");
    }
}
