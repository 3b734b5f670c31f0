//! Requests to the server, and what can go wrong with them.

use std::io::{self, Write};
use std::time::Duration;

use gonvel_http_api::{LARGEST_PAGE, Page, Problem};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Method, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::context::{Output, Resolved};
use crate::error::CommandError;
use crate::table::Table;

/// A server, and how its answers are printed.
pub(crate) struct Client {
    http: reqwest::Client,
    server: String,
    /// Who asks, for histories: `GONVEL_WHO`, or the user's login name.
    who: Option<String>,
    pub(crate) output: Output,
}

/// Everything that has a meaning in an address.
const ESCAPED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A part of a path or of a query.
pub(crate) fn segment(text: &str) -> String {
    utf8_percent_encode(text, ESCAPED).to_string()
}

impl Client {
    pub(crate) fn new(resolved: &Resolved) -> Result<Self, CommandError> {
        let http = reqwest::Client::builder()
            .connect_timeout(Duration::from_secs(5))
            .build()
            .map_err(|e| CommandError::Failed(e.to_string()))?;
        let named = |variable| std::env::var(variable).ok().filter(|name| !name.trim().is_empty());
        let who = named("GONVEL_WHO").or_else(|| named("USER"));
        Ok(Self { http, server: resolved.server.clone(), who, output: resolved.output })
    }

    fn unreachable(&self, error: &reqwest::Error) -> CommandError {
        let sent = !error.is_connect();
        let mut cause: &dyn std::error::Error = error;
        while let Some(inner) = cause.source() {
            cause = inner;
        }
        CommandError::Unreachable { server: self.server.clone(), cause: cause.to_string(), sent }
    }

    pub(crate) async fn send(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, String)],
        with: impl FnOnce(reqwest::RequestBuilder) -> reqwest::RequestBuilder,
    ) -> Result<Response, CommandError> {
        let pairs: Vec<String> = query.iter().map(|(name, value)| format!("{name}={}", segment(value))).collect();
        let question = if pairs.is_empty() { String::new() } else { format!("?{}", pairs.join("&")) };
        let reads = method == Method::GET;
        let request = self.http.request(method, format!("{}/api/v1{path}{question}", self.server));
        let request = match (reads, &self.who) {
            (false, Some(who)) => request.header("gonvel-who", segment(who)),
            _ => request,
        };
        let answer = with(request).send().await.map_err(|e| self.unreachable(&e))?;
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let text = answer.text().await.unwrap_or_default();
        Err(match serde_json::from_str::<Problem>(&text) {
            Ok(problem) => CommandError::Problem(Box::new(problem)),
            Err(_) => CommandError::Failed(format!("{} answered {status}: {text}", self.server)),
        })
    }

    /// What an answer says.
    pub(crate) async fn parsed<T: DeserializeOwned>(&self, answer: Response) -> Result<T, CommandError> {
        let text = answer.text().await.map_err(|e| self.unreachable(&e))?;
        serde_json::from_str(&text).map_err(|e| {
            CommandError::Failed(format!("{} answered what this version does not understand: {e}", self.server))
        })
    }

    pub(crate) async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T, CommandError> {
        let answer = self.send(Method::GET, path, query, |r| r).await?;
        self.parsed(answer).await
    }

    /// All of a list, page by page.
    pub(crate) async fn all<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
    ) -> Result<Vec<T>, CommandError> {
        self.some(path, query, usize::MAX, LARGEST_PAGE).await
    }

    /// So many items of a list at most, in pages of at most so many.
    pub(crate) async fn some<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
        limit: usize,
        largest: usize,
    ) -> Result<Vec<T>, CommandError> {
        let (mut items, mut cursor) = (Vec::new(), None);
        loop {
            let mut asked = query.to_vec();
            asked.push(("limit", (limit - items.len()).min(largest).to_string()));
            asked.extend(cursor.map(|cursor| ("cursor", cursor)));
            let page: Page<T> = self.get(path, &asked).await?;
            items.extend(page.items);
            cursor = page.next;
            if cursor.is_none() || items.len() >= limit {
                return Ok(items);
            }
        }
    }

    pub(crate) async fn text(&self, path: &str, query: &[(&str, String)]) -> Result<String, CommandError> {
        let answer = self.send(Method::GET, path, query, |r| r).await?;
        answer.text().await.map_err(|e| self.unreachable(&e))
    }

    pub(crate) async fn post<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, CommandError> {
        let answer = self.send(Method::POST, path, &[], |r| r.json(body)).await?;
        self.parsed(answer).await
    }

    /// Makes something once: where the answer is lost, or the server says to try again, the same request is sent again with the same key.
    pub(crate) async fn create<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, CommandError> {
        let key = uuid::Uuid::new_v4().to_string();
        let mut waits = [500, 1_000, 2_000].map(Duration::from_millis).into_iter();
        let mut sent = false;
        loop {
            let made = self.send(Method::POST, path, &[], |r| r.header("idempotency-key", &key).json(body)).await;
            let Err(error) = &made else { return self.parsed(made?).await };
            // a server that is not there at first is no reason to wait
            sent |= error.may_be_done();
            match waits.next() {
                Some(wait) if sent && error.exit_code() == 5 => tokio::time::sleep(wait).await,
                _ => return self.parsed(made?).await,
            }
        }
    }

    pub(crate) async fn put<B: Serialize, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, CommandError> {
        let answer = self.send(Method::PUT, path, &[], |r| r.json(body)).await?;
        self.parsed(answer).await
    }

    pub(crate) async fn delete(&self, path: &str, query: &[(&str, String)]) -> Result<(), CommandError> {
        self.send(Method::DELETE, path, query, |r| r).await.map(drop)
    }

    pub(crate) async fn post_body<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, String)],
        media_type: &str,
        body: reqwest::Body,
        headers: &[(&str, String)],
    ) -> Result<T, CommandError> {
        let with = |mut request: reqwest::RequestBuilder| {
            for (name, value) in headers {
                request = request.header(*name, value);
            }
            request.header("content-type", media_type).body(body)
        };
        let answer = self.send(Method::POST, path, query, with).await?;
        self.parsed(answer).await
    }

    /// Prints a result as JSON, or as the table made of it.
    pub(crate) fn print<T: Serialize>(&self, result: &T, table: impl FnOnce(&T) -> Table) -> Result<(), CommandError> {
        match self.output {
            Output::Json => self.print_json(result),
            Output::Table => Ok(write!(io::stdout().lock(), "{}", table(result))?),
        }
    }

    pub(crate) fn print_json<T: Serialize>(&self, result: &T) -> Result<(), CommandError> {
        let text = serde_json::to_string_pretty(result).map_err(|e| CommandError::Failed(e.to_string()))?;
        Ok(writeln!(io::stdout().lock(), "{text}")?)
    }

    /// Says that something was done; scripts see it by the exit code.
    pub(crate) fn print_text(&self, text: &str) -> Result<(), CommandError> {
        Ok(write!(io::stdout().lock(), "{text}")?)
    }

    pub(crate) fn done(&self, text: &str) -> Result<(), CommandError> {
        if self.output == Output::Table {
            writeln!(io::stdout().lock(), "{text}")?;
        }
        Ok(())
    }
}
