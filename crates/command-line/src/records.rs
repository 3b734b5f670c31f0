//! `gonvel records …`

use std::io::{self, Write};
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use futures::StreamExt;
use gonvel_http_api::{LARGEST_RECORD_PAGE, Problem, Produced, Record, SearchProgress};
use reqwest::Method;
use serde::Deserialize;
use serde_json::value::{RawValue, to_raw_value};
use tokio_util::io::ReaderStream;

use crate::client::{Client, segment};
use crate::context::Output;
use crate::error::CommandError;
use crate::operations::Waiting;
use crate::table::Table;

/// After how long a stream that broke off is asked for again.
const AGAIN: std::time::Duration = std::time::Duration::from_secs(1);

/// What to do with records.
#[derive(Debug, Subcommand)]
pub enum RecordsCommand {
    /// Read records.
    Read(ReadArguments),
    /// Append records from a file or from standard input.
    Write(WriteArguments),
    /// Search back from the newest record for those a condition holds for.
    Search {
        /// The topic.
        topic: String,
        /// A condition in SQL over key, value, headers, partition, offset and timestamp.
        filter: String,
        /// Only this partition.
        #[arg(long, short)]
        partition: Option<i32>,
        /// Stop after so many.
        #[arg(long, short = 'n', default_value_t = 200)]
        limit: usize,
    },
    /// Write a range of a topic to a file or to standard output.
    Export(ExportArguments),
    /// Append the records of a file that was exported.
    Import {
        /// The topic.
        topic: String,
        /// The file; standard input without it.
        file: Option<PathBuf>,
        /// Its form; by the ending of its name without it.
        #[arg(long, value_enum)]
        form: Option<FormArgument>,
        /// Put records into partitions by their keys instead of those they came from.
        #[arg(long)]
        by_key: bool,
        /// Whether it is waited for.
        #[command(flatten)]
        waiting: Waiting,
    },
}

/// Forms of files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FormArgument {
    /// Avro object container file.
    Avro,
    /// Apache Parquet.
    Parquet,
    /// A JSON object on each line.
    Jsonl,
    /// Comma-separated values.
    Csv,
}

impl FormArgument {
    fn word(self) -> &'static str {
        match self {
            Self::Avro => "avro",
            Self::Parquet => "parquet",
            Self::Jsonl => "jsonl",
            Self::Csv => "csv",
        }
    }

    fn of(form: Option<Self>, file: Option<&PathBuf>) -> Result<Self, CommandError> {
        let ending = file.and_then(|f| f.extension()).and_then(|e| e.to_str());
        form.or_else(|| [Self::Avro, Self::Parquet, Self::Jsonl, Self::Csv].into_iter().find(|f| Some(f.word()) == ending))
            .ok_or_else(|| CommandError::Usage("say the file's form with --form avro, parquet, jsonl or csv".into()))
    }
}

/// Where to read.
#[derive(Debug, Args)]
pub struct ReadArguments {
    /// The topic.
    topic: String,
    /// Only this partition.
    #[arg(long, short)]
    partition: Option<i32>,
    /// Begin at this offset of the partition.
    #[arg(long)]
    offset: Option<i64>,
    /// Begin at this time (RFC 3339).
    #[arg(long)]
    time: Option<String>,
    /// Only records of this key.
    #[arg(long)]
    key: Option<String>,
    /// The oldest first, instead of the newest.
    #[arg(long)]
    oldest: bool,
    /// Records at most.
    #[arg(long, short = 'n', default_value_t = 20)]
    limit: usize,
    /// Go on with what is appended, until stopped.
    #[arg(long, short)]
    follow: bool,
}

/// What to append.
#[derive(Debug, Args)]
pub struct WriteArguments {
    /// The topic.
    topic: String,
    /// A value to append, instead of a file.
    #[arg(long, conflicts_with = "file")]
    value: Option<String>,
    /// The key of that value.
    #[arg(long, requires = "value")]
    key: Option<String>,
    /// The partition of that value.
    #[arg(long, short, requires = "value")]
    partition: Option<i32>,
    /// A file with one JSON record on each line, as {"key", "value", "headers", "timestamp", "partition"}; standard input
    /// without it.
    #[arg(long, short)]
    file: Option<PathBuf>,
    /// Write values by the topic's latest schema.
    #[arg(long)]
    latest_schema: bool,
    /// Make a retry of this request recognisable.
    #[arg(long)]
    idempotency_key: Option<String>,
    /// Append the records that can be, and say why the others are not; without it all of them or none.
    #[arg(long)]
    partial: bool,
    /// The name under which the records are seen among the topic's producers.
    #[arg(long, default_value = "command line")]
    producer: String,
}

/// What to export.
#[derive(Debug, Args)]
pub struct ExportArguments {
    /// The topic.
    topic: String,
    /// The file; standard output without it.
    file: Option<PathBuf>,
    /// The form; by the ending of the file's name without it.
    #[arg(long, value_enum)]
    form: Option<FormArgument>,
    /// Only this partition.
    #[arg(long, short)]
    partition: Option<i32>,
    /// From this offset of the partition on.
    #[arg(long)]
    from_offset: Option<i64>,
    /// Up to this offset of the partition, without it.
    #[arg(long)]
    to_offset: Option<i64>,
    /// From this time on (RFC 3339).
    #[arg(long)]
    from_time: Option<String>,
    /// Up to this time (RFC 3339), without it.
    #[arg(long)]
    to_time: Option<String>,
}

fn given<T: ToString>(name: &'static str, value: Option<&T>) -> Option<(&'static str, String)> {
    value.map(|v| (name, v.to_string()))
}

fn short(value: &RawValue) -> String {
    // a text without its quotes, anything else as it is
    let text = serde_json::from_str::<String>(value.get()).unwrap_or_else(|_| value.get().to_owned());
    if text.chars().count() <= 100 { text } else { text.chars().take(99).chain(['…']).collect() }
}

fn records_table(records: &Vec<Record>) -> Table {
    let mut table = Table::new(&["#partition", "#offset", "time", "key", "value"], "no record");
    for record in records {
        table.row([
            record.partition.to_string(),
            record.offset.to_string(),
            record.timestamp.clone(),
            short(&record.key),
            short(&record.value),
        ]);
    }
    table
}

fn line(client: &Client, record: &Record) -> Result<(), CommandError> {
    let mut out = io::stdout().lock();
    if client.output == Output::Json {
        let text = serde_json::to_string(record).map_err(|e| CommandError::Failed(e.to_string()))?;
        writeln!(out, "{text}")?;
    } else {
        let (key, value) = (short(&record.key), short(&record.value));
        writeln!(out, "{}/{}  {}  {key}  {value}", record.partition, record.offset, record.timestamp)?;
    }
    Ok(())
}

async fn read(client: &Client, asked: ReadArguments) -> Result<(), CommandError> {
    let path = format!("/topics/{}", segment(&asked.topic));
    let mut query: Vec<(&str, String)> = Vec::new();
    query.extend(given("partition", asked.partition.as_ref()));
    query.extend(given("offset", asked.offset.as_ref()));
    query.extend(given("time", asked.time.as_ref()));
    if asked.follow {
        if asked.key.is_some() {
            return Err(CommandError::Usage("--follow gives all records: leave out --key".into()));
        }
        query.push(("from", if asked.oldest { "oldest" } else { "newest" }.to_owned()));
        return follow(client, &format!("{path}/stream"), &query).await;
    }
    query.extend(given("key", asked.key.as_ref()));
    query.push(("order", if asked.oldest { "oldest" } else { "newest" }.to_owned()));
    let found: Vec<Record> = client.some(&format!("{path}/records"), &query, asked.limit, LARGEST_RECORD_PAGE).await?;
    client.print(&found, records_table)
}

/// What a line of a stream of records says beside the record.
#[derive(Deserialize)]
struct Beside {
    /// Where the stream is taken up after it.
    cursor: Option<String>,
    /// Why it ended.
    problem: Option<Problem>,
    /// Where it has a record.
    offset: Option<i64>,
}

/// Prints records as they come. A stream that broke off is taken up where it was, so that each comes once.
async fn follow(client: &Client, path: &str, query: &[(&str, String)]) -> Result<(), CommandError> {
    let mut cursor: Option<String> = None;
    loop {
        let mut asked = query.to_vec();
        if let Some(cursor) = &cursor {
            asked.retain(|(name, _)| *name == "partition");
            asked.push(("cursor", cursor.clone()));
        }
        let mut ended = None;
        let read = each_line(client, path, &asked, |text| {
            let unread = |e: serde_json::Error| CommandError::Failed(e.to_string());
            let beside: Beside = serde_json::from_str(text).map_err(unread)?;
            if beside.offset.is_some() {
                line(client, &serde_json::from_str(text).map_err(unread)?)?;
            }
            cursor = beside.cursor.or(cursor.take());
            ended = beside.problem;
            Ok(())
        })
        .await;
        match (read, ended) {
            (Ok(()), Some(problem)) if problem.status != 503 => return Err(CommandError::Problem(Box::new(problem))),
            (Err(CommandError::Broken(_) | CommandError::Unreachable { .. }), _) if cursor.is_some() => {}
            (Err(CommandError::Problem(problem)), _) if cursor.is_some() && problem.status == 503 => {}
            (Err(error), _) => return Err(error),
            (Ok(()), _) => {}
        }
        tokio::time::sleep(AGAIN).await;
    }
}

/// The lines of a stream as they come.
async fn each_line(
    client: &Client,
    path: &str,
    query: &[(&str, String)],
    mut one: impl FnMut(&str) -> Result<(), CommandError>,
) -> Result<(), CommandError> {
    let answer =
        client.send(Method::GET, path, query, |r| r.header("accept", "application/x-ndjson, text/event-stream")).await?;
    let mut pieces = answer.bytes_stream();
    let mut rest: Vec<u8> = Vec::new();
    while let Some(piece) = pieces.next().await {
        rest.extend_from_slice(&piece.map_err(|e| CommandError::Broken(e.to_string()))?);
        while let Some(end) = rest.iter().position(|b| *b == b'\n') {
            let text: Vec<u8> = rest.drain(..=end).collect();
            let text = String::from_utf8_lossy(&text);
            if !text.trim().is_empty() {
                one(text.trim_end())?;
            }
        }
    }
    Ok(())
}

#[derive(serde::Serialize)]
struct WrittenRecord {
    key: Option<String>,
    value: Box<RawValue>,
    partition: Option<i32>,
}

/// A value that is JSON is meant as such, to the last digit, on one line; anything else as text.
fn meant(value: String) -> Result<Box<RawValue>, CommandError> {
    let json = serde_json::from_str::<&RawValue>(&value).is_ok();
    // within texts JSON has no line breaks
    let one = if json { RawValue::from_string(value.replace(['\n', '\r'], " ")) } else { to_raw_value(&value) };
    one.map_err(|e| CommandError::Usage(format!("--value cannot be written as JSON: {e}")))
}

async fn write(client: &Client, asked: WriteArguments) -> Result<(), CommandError> {
    let path = format!("/topics/{}/records", segment(&asked.topic));
    let mut query: Vec<(&str, String)> = Vec::new();
    if asked.latest_schema {
        query.push(("schema", "latest".to_owned()));
    }
    let body = match asked.value {
        Some(value) => {
            let record = WrittenRecord { key: asked.key, value: meant(value)?, partition: asked.partition };
            serde_json::to_vec(&record).map_err(|e| CommandError::Usage(e.to_string()))?
        }
        None => input(asked.file.as_ref()).await?,
    };
    let headers: Vec<(&str, String)> = asked.idempotency_key.map(|key| ("idempotency-key", key)).into_iter().collect();
    query.push(("producer", asked.producer));
    if asked.partial {
        query.push(("partial", "true".to_owned()));
    }
    let done: Produced = client.post_body(&path, &query, "application/x-ndjson", body.into(), &headers).await?;
    client.print(&done, |done| {
        let mut table = Table::new(&["#partition", "#offset"], "no record");
        done.records.iter().for_each(|r| table.row([r.partition.to_string(), r.offset.to_string()]));
        table
    })?;
    if done.refused.is_empty() {
        return Ok(());
    }
    for refused in &done.refused {
        eprintln!("record {}: {}", refused.record, refused.finding);
    }
    Err(CommandError::Usage(format!("{} records were not appended", done.refused.len())))
}

async fn input(file: Option<&PathBuf>) -> Result<Vec<u8>, CommandError> {
    match file {
        Some(path) => tokio::fs::read(path)
            .await
            .map_err(|e| CommandError::File { path: path.display().to_string(), cause: e.to_string() }),
        None => {
            let mut out = Vec::new();
            tokio::io::AsyncReadExt::read_to_end(&mut tokio::io::stdin(), &mut out).await?;
            Ok(out)
        }
    }
}

async fn export(client: &Client, asked: ExportArguments) -> Result<(), CommandError> {
    let form = FormArgument::of(asked.form, asked.file.as_ref())?;
    let mut query = vec![("form", form.word().to_owned())];
    query.extend(given("partition", asked.partition.as_ref()));
    query.extend(given("from_offset", asked.from_offset.as_ref()));
    query.extend(given("to_offset", asked.to_offset.as_ref()));
    query.extend(given("from_time", asked.from_time.as_ref()));
    query.extend(given("to_time", asked.to_time.as_ref()));
    let path = format!("/topics/{}/export", segment(&asked.topic));
    let answer = client.send(Method::GET, &path, &query, |r| r).await?;
    let name = asked.file.as_ref().map_or_else(|| "standard output".to_owned(), |f| f.display().to_string());
    let failed = |e: io::Error| CommandError::File { path: name.clone(), cause: e.to_string() };
    let mut out: Box<dyn Write> = match &asked.file {
        Some(path) => Box::new(std::fs::File::create(path).map_err(failed)?),
        None => Box::new(io::stdout()),
    };
    let mut pieces = answer.bytes_stream();
    let mut bytes = 0;
    while let Some(piece) = pieces.next().await {
        let piece = piece.map_err(|e| CommandError::Failed(format!("the export broke off ({e}): {name} is not whole")))?;
        bytes += piece.len();
        out.write_all(&piece).map_err(failed)?;
    }
    out.flush().map_err(failed)?;
    if asked.file.is_some() {
        client.done(&format!("{bytes} bytes in {name}"))?;
    }
    Ok(())
}

pub(crate) async fn run(client: &Client, command: RecordsCommand) -> Result<(), CommandError> {
    match command {
        RecordsCommand::Read(asked) => read(client, asked).await,
        RecordsCommand::Write(asked) => write(client, asked).await,
        RecordsCommand::Export(asked) => export(client, asked).await,
        RecordsCommand::Search { topic, filter, partition, limit } => {
            let mut query = vec![("filter", filter), ("limit", limit.to_string())];
            query.extend(given("partition", partition.as_ref()));
            let mut event = String::new();
            each_line(client, &format!("/topics/{}/search", segment(&topic)), &query, |text| {
                let wrong = |e: serde_json::Error| CommandError::Failed(e.to_string());
                if let Some(name) = text.strip_prefix("event: ") {
                    name.clone_into(&mut event);
                } else if let Some(data) = text.strip_prefix("data: ") {
                    match event.as_str() {
                        "record" => line(client, &serde_json::from_str(data).map_err(wrong)?)?,
                        "progress" => {
                            let progress: SearchProgress = serde_json::from_str(data).map_err(wrong)?;
                            if progress.done {
                                eprintln!("{} found in {} records searched", progress.found, progress.searched);
                            }
                        }
                        _ => return Err(CommandError::Failed(data.to_owned())),
                    }
                }
                Ok(())
            })
            .await
        }
        RecordsCommand::Import { topic, file, form, by_key, waiting } => {
            let form = FormArgument::of(form, file.as_ref())?;
            let mut query = vec![("form", form.word().to_owned())];
            if by_key {
                query.push(("partitions", "by-key".to_owned()));
            }
            let body = match &file {
                Some(path) => {
                    let wrong = |e: io::Error| CommandError::File { path: path.display().to_string(), cause: e.to_string() };
                    reqwest::Body::wrap_stream(ReaderStream::new(tokio::fs::File::open(path).await.map_err(wrong)?))
                }
                None => reqwest::Body::wrap_stream(ReaderStream::new(tokio::io::stdin())),
            };
            let path = format!("/topics/{}/import", segment(&topic));
            let begun = client.post_body(&path, &query, "application/octet-stream", body, &[]).await?;
            waiting.to_the_end(client, begun).await
        }
    }
}
