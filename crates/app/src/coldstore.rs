//! The demo's cold store sends its events over HTTP, as an application would.

use std::net::SocketAddr;
use std::time::Duration;

use chrono::Utc;
use gonvel_core::naming::TopicName;
use gonvel_core::ports::{PortError, TopicLog};
use gonvel_core::topic_settings::{DAY_MS, TopicSettings};
use gonvel_stand_ins::coldstore::Coldstore;
use gonvel_storage::Database;

use crate::demo_schemas;

pub(crate) const TOPIC: &str = "coldstore.readings";
const EVERY: Duration = Duration::from_secs(5);
const HOUR_MS: i64 = 3_600_000;

/// Makes the topic that the cold store appends to, unless it is there.
pub(crate) async fn prepare(database: &Database) -> Result<(), Box<dyn std::error::Error>> {
    let settings =
        TopicSettings { forget_after_ms: Some(7 * DAY_MS), hot_span_ms: Some(HOUR_MS), ..TopicSettings::default() };
    let topic = TopicName::parse(TOPIC)?;
    match database.create_topic(&topic, 3, &settings).await {
        Ok(_) | Err(PortError::Exists { .. }) => {}
        Err(error) => return Err(error.into()),
    }
    Ok(demo_schemas::prepare(database, &topic).await?)
}

/// Sends what the rooms tell, every few seconds, until dropped. What is refused is told once and left out.
pub(crate) async fn send(server: SocketAddr) {
    let client = reqwest::Client::new();
    let address = format!("http://{server}/api/v1/topics/{TOPIC}/records");
    let mut coldstore = Coldstore::default();
    let mut told = false;
    loop {
        let events = serde_json::to_vec(&coldstore.tell(Utc::now())).unwrap_or_default();
        let request = client
            .post(&address)
            .header("content-type", "application/cloudevents-batch+json")
            .header("producer-name", "coldstore")
            .body(events);
        match request.send().await.and_then(reqwest::Response::error_for_status) {
            Ok(_) => told = false,
            Err(error) if !told => {
                tracing::warn!(%error, "the cold store's events were not taken; it goes on with the next");
                told = true;
            }
            Err(_) => {}
        }
        tokio::time::sleep(EVERY).await;
    }
}
