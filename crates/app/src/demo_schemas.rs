//! The demo's hand-written schemas: what the cold store sends, and what a lot is to whoever recalls one.

use gonvel_core::naming::{SchemaName, TopicName};
use gonvel_core::ports::PortError;
use gonvel_core::schemas::{Half, Language, Rule, parse};
use gonvel_storage::Database;
use gonvel_storage::catalog::schemas::{About, NewText};

const EVENT_1: &str = r#"{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "What a cold room tells",
  "type": "object",
  "properties": {
    "room": { "type": "integer", "minimum": 1 },
    "celsius": { "type": "number" },
    "humidity": { "type": "number", "minimum": 0, "maximum": 100 },
    "open": { "type": "boolean" }
  },
  "required": ["room"]
}
"#;

const EVENT_2: &str = r#"{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "What a cold room tells",
  "type": "object",
  "properties": {
    "room": { "type": "integer", "minimum": 1 },
    "celsius": { "type": "number" },
    "humidity": { "type": "number", "minimum": 0, "maximum": 100 },
    "open": { "type": "boolean" },
    "limit": { "type": "number", "description": "The temperature that was passed, with an alarm." }
  },
  "required": ["room"]
}
"#;

const LOT: &str = r#"syntax = "proto3";
package averling.recall;

// A lot as the recall search knows it.
message Lot {
  int64 bin_id = 1;
  string variety = 2;
  string grade = 3;
  double weight_kg = 4;
  repeated int32 rooms = 5;
  Fate fate = 6;
}

enum Fate {
  STORED = 0;
  SHIPPED = 1;
  VOIDED = 2;
}
"#;

/// Makes the schemas and binds the cold store's topic to its own.
pub(crate) async fn prepare(database: &Database, topic: &TopicName) -> Result<(), PortError> {
    let named = |text: &str| SchemaName::parse(text).map_err(|e| PortError::Refused(e.to_string()));
    let event = named("coldstore.event")?;
    let about = About {
        description: "Readings, doors and alarms of the cold rooms.".into(),
        owner: "coldstore".into(),
        labels: vec!["rooms".into()],
        rule: Rule { reads_past: Half::All, past_reads: Half::Off },
        retired: false,
    };
    let parsed = |language, text: &str| parse(language, text, &[]).map_err(|e| PortError::Refused(e.to_string()));
    let (first, second) = (parsed(Language::JsonSchema, EVENT_1)?, parsed(Language::JsonSchema, EVENT_2)?);
    let new = NewText { text: EVENT_1, parsed: &first, refers: &[], author: "coldstore", why: "readings and doors" };
    there(database.create_schema(&event, Language::JsonSchema, &about, &new).await)?;
    let why = "alarms say the limit that was passed";
    database.add_version(&event, &NewText { text: EVENT_2, parsed: &second, why, ..new }).await?;
    database.bind_schema(topic, "value", Some((&event, true))).await?;
    let about = About {
        description: "Lots by any field, for recalls.".into(),
        owner: "tracefinder".into(),
        labels: vec!["recall".into()],
        ..About::default()
    };
    let lot = parsed(Language::Protobuf, LOT)?;
    let new = NewText { text: LOT, parsed: &lot, refers: &[], author: "tracefinder", why: "" };
    there(database.create_schema(&named("lot")?, Language::Protobuf, &about, &new).await)
}

fn there(made: Result<(), PortError>) -> Result<(), PortError> {
    match made {
        Err(PortError::Exists { .. }) => Ok(()),
        made => made,
    }
}
