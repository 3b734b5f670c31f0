//! Requests that lose something: shown first, and carried out as they were shown.

use std::io::{self, Write};

use gonvel_http_api::{Move, Plan};
use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;

use crate::client::Client;
use crate::context::Output;
use crate::error::CommandError;
use crate::table::{Table, bytes};

/// No body.
pub(crate) const NOTHING: Option<&()> = None;

/// What a request would do.
pub(crate) async fn plan(
    client: &Client,
    method: Method,
    path: &str,
    with: impl FnOnce(RequestBuilder) -> RequestBuilder,
) -> Result<Plan, CommandError> {
    plan_with((client, method, path), &[], with).await
}

async fn plan_with(
    (client, method, path): (&Client, Method, &str),
    query: &[(&str, &str)],
    with: impl FnOnce(RequestBuilder) -> RequestBuilder,
) -> Result<Plan, CommandError> {
    let answer = client.send(method, path, &asked(query, ("dry_run", "true".to_owned())), with).await?;
    client.parsed(answer).await
}

fn asked<'q>(query: &[(&'q str, &str)], last: (&'q str, String)) -> Vec<(&'q str, String)> {
    query.iter().map(|(name, value)| (*name, (*value).to_owned())).chain([last]).collect()
}

/// Shows what a request does; told to, has exactly that carried out and gives the answer.
pub(crate) async fn after_a_look(
    client: &Client,
    method: Method,
    path: &str,
    revision: Option<i32>,
    body: Option<&impl Serialize>,
    yes: bool,
) -> Result<Option<Response>, CommandError> {
    after_a_look_with(client, (method, path, &[]), revision, body, yes).await
}

/// The same, with parameters in the address.
pub(crate) async fn after_a_look_with(
    client: &Client,
    (method, path, query): (Method, &str, &[(&str, &str)]),
    revision: Option<i32>,
    body: Option<&impl Serialize>,
    yes: bool,
) -> Result<Option<Response>, CommandError> {
    let with = |request: RequestBuilder| {
        let request = match revision {
            Some(revision) => request.header("if-match", format!("\"{revision}\"")),
            None => request,
        };
        match body {
            Some(body) => request.json(body),
            None => request,
        }
    };
    let plan = plan_with((client, method.clone(), path), query, with).await?;
    if yes {
        return client.send(method, path, &asked(query, ("confirm", plan.tag)), with).await.map(Some);
    }
    print_plan(client, &plan)?;
    client.done("Nothing was done: say --yes to do it.")?;
    Ok(None)
}

fn print_plan(client: &Client, plan: &Plan) -> Result<(), CommandError> {
    if client.output == Output::Json {
        return client.print_json(plan);
    }
    let mut out = io::stdout().lock();
    if !plan.moves.is_empty() {
        write!(out, "{}", moves_table(&plan.moves))?;
    }
    let size = (plan.bytes > 0).then(|| format!("That is {} as stored.", bytes(plan.bytes)));
    let touched = plan.touched.iter().map(|touched| format!("{} {}", touched.name, touched.says));
    let against = plan.against.iter().map(|against| format!("{against} stands against it"));
    for line in plan.says.iter().cloned().chain(size).chain(touched).chain(against) {
        writeln!(out, "{line}")?;
    }
    Ok(())
}

pub(crate) fn moves_table(moves: &[Move]) -> Table {
    let mut table = Table::new(&["topic", "#partition", "#from", "#to", "#skipped", "#read again"], "no partition");
    for one in moves {
        table.row([
            one.topic.clone(),
            one.partition.to_string(),
            one.from.to_string(),
            one.to.to_string(),
            one.skipped.to_string(),
            one.repeated.to_string(),
        ]);
    }
    table
}
