//! Schemas by which values of events are read.

use std::collections::HashMap;

use gonvel_core::avro::schema::Schema;
use gonvel_core::schemas::protobuf::ProtoSchema;
use gonvel_core::schemas::{Language, Parsed, TextFault, parse_standalone};

/// A schema version by which values are read.
#[derive(Debug, Clone)]
pub enum EventSchema {
    /// Avro, with its named types.
    Avro {
        /// The schema.
        schema: Schema,
        /// Its records by their full names.
        named: HashMap<String, Schema>,
    },
    /// JSON: the text says all there is to read, the schema of which types its fields are.
    Json(serde_json::Value),
    /// Protocol Buffers.
    Protobuf(ProtoSchema),
}

impl EventSchema {
    /// From the text by which values are read.
    ///
    /// # Errors
    /// [`TextFault`].
    pub fn new(language: Language, standalone: &str) -> Result<Self, TextFault> {
        Ok(match parse_standalone(language, standalone)? {
            Parsed::Avro(schema) => {
                let mut named = HashMap::new();
                collect(&schema, &mut named);
                Self::Avro { schema, named }
            }
            Parsed::JsonSchema(_) => Self::Json(serde_json::from_str(standalone).unwrap_or_default()),
            Parsed::Protobuf(schema) => Self::Protobuf(schema),
        })
    }
}

fn collect(schema: &Schema, named: &mut HashMap<String, Schema>) {
    match schema {
        Schema::Array(inner) | Schema::Map(inner) => collect(inner, named),
        Schema::Union(branches) => branches.iter().for_each(|branch| collect(branch, named)),
        Schema::Record { names, fields } if named.insert(names.full.clone(), schema.clone()).is_none() => {
            fields.iter().for_each(|field| collect(&field.schema, named));
        }
        _ => {}
    }
}
