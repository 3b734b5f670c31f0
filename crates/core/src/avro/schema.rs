//! Avro schemas as a tree with named types resolved.

use std::collections::HashMap;
use std::sync::Arc;

use serde_json::Value as Json;

/// Deepest nesting of a schema's text.
const DEEPEST: usize = 64;

/// Why a schema's text is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SchemaError {
    /// The text is not JSON.
    #[error("the schema is not JSON: {0}")]
    Json(String),
    /// Something is missing or wrong at a place.
    #[error("at {path}: {finding}")]
    At {
        /// Where in the schema, as a path of names.
        path: String,
        /// What is wrong and what would be right.
        finding: String,
    },
}

/// What a value of an underlying type means ("Logical Types" in the specification).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Logical {
    /// Fixed-point number.
    Decimal {
        /// Digits in all.
        precision: u32,
        /// Digits after the point.
        scale: u32,
    },
    /// Days since 1970-01-01.
    Date,
    /// Milliseconds of the day.
    TimeMillis,
    /// Microseconds of the day.
    TimeMicros,
    /// Milliseconds since 1970-01-01 UTC.
    TimestampMillis,
    /// Microseconds since 1970-01-01 UTC.
    TimestampMicros,
    /// Microseconds since 1970-01-01 in no zone.
    LocalTimestampMicros,
    /// RFC 4122 text.
    Uuid,
}

/// A field of a record.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its schema.
    pub schema: Schema,
    /// Attributes beyond those of the specification.
    pub attributes: serde_json::Map<String, Json>,
}

/// A schema. Named types are shared, so a type used twice is one.
#[derive(Debug, Clone, PartialEq)]
pub enum Schema {
    /// `null`
    Null,
    /// `boolean`
    Boolean,
    /// `int`
    Int(Option<Logical>),
    /// `long`
    Long(Option<Logical>),
    /// `float`
    Float,
    /// `double`
    Double,
    /// `bytes`
    Bytes(Option<Logical>),
    /// `string`
    String(Option<Logical>),
    /// `fixed`
    Fixed {
        /// Full name.
        name: String,
        /// Bytes.
        size: usize,
        /// Its meaning.
        logical: Option<Logical>,
    },
    /// `enum`
    Enum {
        /// Full name.
        name: String,
        /// Its symbols in order.
        symbols: Arc<Vec<String>>,
    },
    /// `array`
    Array(Arc<Schema>),
    /// `map`
    Map(Arc<Schema>),
    /// A union's branches.
    Union(Arc<Vec<Schema>>),
    /// `record`
    Record {
        /// Full name.
        name: String,
        /// Its fields in order.
        fields: Arc<Vec<Field>>,
    },
    /// A named type within its own definition.
    Recursive(String),
}

impl Schema {
    /// Parses a schema's JSON text.
    ///
    /// # Errors
    /// [`SchemaError`] with the place.
    pub fn parse(text: &str) -> Result<Self, SchemaError> {
        let json: Json = serde_json::from_str(text).map_err(|e| SchemaError::Json(e.to_string()))?;
        Parser::default().schema(&json, "", "$", 0)
    }
}

fn wrong(path: &str, finding: impl Into<String>) -> SchemaError {
    SchemaError::At { path: path.to_owned(), finding: finding.into() }
}

/// The full name of a type: a dotted name is full already, another takes the namespace in force.
pub(super) fn full_name(name: &str, namespace: &str) -> String {
    if name.contains('.') || namespace.is_empty() { name.to_owned() } else { format!("{namespace}.{name}") }
}

/// The namespace a named type's inner names take.
pub(super) fn namespace_of(full: &str) -> &str {
    full.rfind('.').map_or("", |dot| &full[..dot])
}

#[derive(Default)]
struct Parser {
    named: HashMap<String, Option<Schema>>,
}

impl Parser {
    fn schema(&mut self, json: &Json, namespace: &str, path: &str, depth: usize) -> Result<Schema, SchemaError> {
        if depth > DEEPEST {
            return Err(wrong(path, format!("the schema nests deeper than {DEEPEST} levels")));
        }
        match json {
            Json::String(name) => self.by_name(name, None, namespace, path),
            Json::Array(branches) => {
                let branches = branches
                    .iter()
                    .enumerate()
                    .map(|(i, b)| self.schema(b, namespace, &format!("{path}[{i}]"), depth + 1))
                    .collect::<Result<_, _>>()?;
                Ok(Schema::Union(Arc::new(branches)))
            }
            Json::Object(object) => self.object(object, namespace, path, depth),
            _ => Err(wrong(path, "a schema is a name, an object or a list of branches")),
        }
    }

    fn by_name(&self, name: &str, logical: Option<Logical>, namespace: &str, path: &str) -> Result<Schema, SchemaError> {
        Ok(match name {
            "null" => Schema::Null,
            "boolean" => Schema::Boolean,
            "int" => Schema::Int(logical),
            "long" => Schema::Long(logical),
            "float" => Schema::Float,
            "double" => Schema::Double,
            "bytes" => Schema::Bytes(logical),
            "string" => Schema::String(logical),
            _ => {
                let full = full_name(name, namespace);
                return match self.named.get(&full) {
                    Some(Some(schema)) => Ok(schema.clone()),
                    Some(None) => Ok(Schema::Recursive(full)),
                    None => Err(wrong(path, format!("there is no type {full}: define it before its first use"))),
                };
            }
        })
    }

    fn object(
        &mut self,
        object: &serde_json::Map<String, Json>,
        namespace: &str,
        path: &str,
        depth: usize,
    ) -> Result<Schema, SchemaError> {
        let ty = object.get("type").ok_or_else(|| wrong(path, "\"type\" is missing"))?;
        let Json::String(ty) = ty else { return self.schema(ty, namespace, path, depth + 1) };
        let inner = |key: &str| object.get(key).ok_or_else(|| wrong(path, format!("{ty} needs \"{key}\"")));
        match ty.as_str() {
            "array" => {
                Ok(Schema::Array(Arc::new(self.schema(inner("items")?, namespace, &format!("{path}[]"), depth + 1)?)))
            }
            "map" => {
                Ok(Schema::Map(Arc::new(self.schema(inner("values")?, namespace, &format!("{path}{{}}"), depth + 1)?)))
            }
            "record" | "enum" | "fixed" => {
                let name = inner("name")?.as_str().ok_or_else(|| wrong(path, "\"name\" must be text"))?;
                let own = object.get("namespace").and_then(Json::as_str).unwrap_or(namespace);
                let full = full_name(name, own);
                if self.named.insert(full.clone(), None).is_some() {
                    return Err(wrong(path, format!("{full} is defined twice")));
                }
                let made = self.named_type(ty, object, &full, path, depth)?;
                self.named.insert(full, Some(made.clone()));
                Ok(made)
            }
            _ => self.by_name(ty, logical(object), namespace, path),
        }
    }

    fn named_type(
        &mut self,
        ty: &str,
        object: &serde_json::Map<String, Json>,
        full: &str,
        path: &str,
        depth: usize,
    ) -> Result<Schema, SchemaError> {
        let list = |key: &str| {
            object.get(key).and_then(Json::as_array).ok_or_else(|| wrong(path, format!("{ty} needs a list \"{key}\"")))
        };
        let name = full.to_owned();
        match ty {
            "enum" => {
                let symbols = list("symbols")?
                    .iter()
                    .map(|s| s.as_str().map(str::to_owned).ok_or_else(|| wrong(path, "symbols must be text")))
                    .collect::<Result<_, _>>()?;
                Ok(Schema::Enum { name, symbols: Arc::new(symbols) })
            }
            "fixed" => {
                let size = object.get("size").and_then(Json::as_u64).and_then(|n| usize::try_from(n).ok());
                let size = size.ok_or_else(|| wrong(path, "fixed needs \"size\", a number of bytes"))?;
                Ok(Schema::Fixed { name, size, logical: logical(object) })
            }
            _ => {
                let mut fields = Vec::new();
                for field in list("fields")? {
                    let field_name =
                        field.get("name").and_then(Json::as_str).ok_or_else(|| wrong(path, "a field needs \"name\""))?;
                    let at = format!("{path}.{field_name}");
                    let ty = field.get("type").ok_or_else(|| wrong(&at, "the field needs \"type\""))?;
                    let schema = self.schema(ty, namespace_of(full), &at, depth + 1)?;
                    let attributes = field.as_object().map_or_else(serde_json::Map::new, |object| {
                        let own = |key: &str| !matches!(key, "name" | "type" | "default" | "doc" | "order" | "aliases");
                        object.iter().filter(|(k, _)| own(k)).map(|(k, v)| (k.clone(), v.clone())).collect()
                    });
                    fields.push(Field { name: field_name.to_owned(), schema, attributes });
                }
                Ok(Schema::Record { name, fields: Arc::new(fields) })
            }
        }
    }
}

fn logical(object: &serde_json::Map<String, Json>) -> Option<Logical> {
    let number = |key: &str| object.get(key).and_then(Json::as_u64).and_then(|n| u32::try_from(n).ok());
    match object.get("logicalType").and_then(Json::as_str)? {
        "decimal" => Some(Logical::Decimal { precision: number("precision")?, scale: number("scale").unwrap_or(0) }),
        "date" => Some(Logical::Date),
        "time-millis" => Some(Logical::TimeMillis),
        "time-micros" => Some(Logical::TimeMicros),
        "timestamp-millis" => Some(Logical::TimestampMillis),
        "timestamp-micros" => Some(Logical::TimestampMicros),
        "local-timestamp-micros" => Some(Logical::LocalTimestampMicros),
        "uuid" => Some(Logical::Uuid),
        _ => None,
    }
}
