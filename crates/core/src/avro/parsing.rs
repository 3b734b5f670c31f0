//! From a schema's JSON to its tree, as "Schema Declaration" and "Names" in the specification have it.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use serde_json::{Map, Value as Json};

use super::defaults;
use super::schema::{Field, LONGEST, Logical, Names, Schema, SchemaError, full_name, namespace_of};
use crate::json_place::{Place, Step, locate};

/// Deepest nesting of a schema's text.
const DEEPEST: usize = 64;
/// Types and fields a schema may unfold to, each use of a named type counted: what reads by it goes through as many.
const MOST: u64 = 100_000;

/// What is wrong, and the way to it.
#[derive(Debug)]
pub(super) struct Fault {
    pub(super) steps: Vec<Step>,
    pub(super) finding: String,
}

impl Fault {
    /// The way by names of fields, as people read it.
    pub(super) fn path(&self) -> String {
        let mut path = "$".to_owned();
        for step in &self.steps {
            match step {
                Step::Member(name) => path.push_str(&format!(".{name}")),
                Step::Element(place) => path.push_str(&format!("[{place}]")),
            }
        }
        path
    }
}

type Parsed<T> = Result<T, Fault>;

#[derive(Default)]
struct Parser {
    named: HashMap<String, Option<(Schema, u64)>>,
    steps: Vec<Step>,
}

impl Schema {
    /// Parses a schema's JSON text ("Schema Declaration" in the specification).
    ///
    /// # Errors
    /// [`SchemaError`] with the place.
    pub fn parse(text: &str) -> Result<Self, SchemaError> {
        let json = read_json(text)?;
        Parser::default().parse(&json).map_err(|fault| {
            let Place { line, column } = locate(text, &fault.steps);
            SchemaError::At { line, column, path: fault.path(), finding: fault.finding }
        })
    }
}

pub(super) fn read_json(text: &str) -> Result<Json, SchemaError> {
    if text.len() > LONGEST {
        let finding = format!("the schema has {} bytes; at most {LONGEST} are taken", text.len());
        return Err(SchemaError::At { line: 1, column: 1, path: "$".to_owned(), finding });
    }
    serde_json::from_str(text).map_err(|e| {
        let said = e.to_string();
        let finding = said.rfind(" at line ").map_or(said.as_str(), |end| &said[..end]).to_owned();
        SchemaError::Json { line: e.line().max(1), column: e.column().max(1), finding }
    })
}

/// A name as the specification has it: letters, digits and underscores, not beginning with a digit.
fn is_name(name: &str) -> bool {
    let mut letters = name.chars();
    letters.next().is_some_and(|c| c.is_ascii_alphabetic() || c == '_')
        && letters.all(|c| c.is_ascii_alphanumeric() || c == '_')
}

fn is_full_name(name: &str) -> bool {
    name.split('.').all(is_name)
}

const PRIMITIVES: [&str; 8] = ["null", "boolean", "int", "long", "float", "double", "bytes", "string"];

impl Parser {
    pub(super) fn parse(&mut self, json: &Json) -> Parsed<Schema> {
        let (schema, size) = self.schema(json, "", 0)?;
        if size > MOST {
            return self.fault(format!("the schema unfolds to more than {MOST} types and fields"));
        }
        defaults::check(&schema).map_err(|(path, finding)| Fault {
            steps: self.way_to_field(json, &path),
            finding: format!("the default of {}: {finding}", path.last().map_or("a field", String::as_str)),
        })?;
        Ok(schema)
    }

    fn fault<T>(&self, finding: impl Into<String>) -> Parsed<T> {
        Err(Fault { steps: self.steps.clone(), finding: finding.into() })
    }

    fn inside<T>(&mut self, step: Step, work: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        self.steps.push(step);
        let done = work(self);
        if done.is_ok() {
            self.steps.pop();
        }
        done
    }

    fn member<T>(&mut self, name: &str, work: impl FnOnce(&mut Self) -> Parsed<T>) -> Parsed<T> {
        self.inside(Step::Member(name.to_owned()), work)
    }

    /// A schema, and how many types and fields it unfolds to.
    fn schema(&mut self, json: &Json, namespace: &str, depth: usize) -> Parsed<(Schema, u64)> {
        if depth > DEEPEST {
            return self.fault(format!("the schema nests deeper than {DEEPEST} levels"));
        }
        match json {
            Json::String(name) => self.by_name(name, None, namespace),
            Json::Array(branches) => self.union(branches, namespace, depth),
            Json::Object(object) => self.object(object, namespace, depth),
            _ => self.fault("a schema is a name, an object or a list of branches"),
        }
    }

    fn union(&mut self, branches: &[Json], namespace: &str, depth: usize) -> Parsed<(Schema, u64)> {
        let mut seen = HashSet::new();
        let mut parsed = Vec::with_capacity(branches.len());
        let mut sum = 1_u64;
        for (place, branch) in branches.iter().enumerate() {
            let (branch, size) = self.inside(Step::Element(place), |p| {
                let (branch, size) = p.schema(branch, namespace, depth + 1)?;
                if matches!(branch, Schema::Union(_)) {
                    return p.fault("a union stands directly in a union: write its branches into the outer one");
                }
                if !seen.insert(branch.type_name().to_owned()) {
                    return p.fault(format!(
                        "the union has {} twice: only named types may come more than once",
                        branch.type_name()
                    ));
                }
                Ok((branch, size))
            })?;
            sum = sum.saturating_add(size);
            parsed.push(branch);
        }
        if parsed.is_empty() {
            return self.fault("a union needs at least one branch");
        }
        Ok((Schema::Union(Arc::new(parsed)), sum))
    }

    fn by_name(&self, name: &str, logical: Option<Logical>, namespace: &str) -> Parsed<(Schema, u64)> {
        let primitive = match name {
            "null" => Schema::Null,
            "boolean" => Schema::Boolean,
            "int" => Schema::Int(logical.filter(|l| matches!(l, Logical::Date | Logical::TimeMillis))),
            "long" => Schema::Long(logical.filter(|l| {
                !matches!(
                    l,
                    Logical::Date | Logical::TimeMillis | Logical::Decimal { .. } | Logical::Uuid | Logical::Duration
                )
            })),
            "float" => Schema::Float,
            "double" => Schema::Double,
            "bytes" => Schema::Bytes(logical.filter(|l| matches!(l, Logical::Decimal { .. }))),
            "string" => Schema::String(logical.filter(|l| matches!(l, Logical::Uuid))),
            _ => {
                let full = full_name(name, namespace);
                return match self.named.get(&full).or_else(|| self.named.get(name)) {
                    Some(Some((schema, size))) => Ok((schema.clone(), *size)),
                    Some(None) => Ok((Schema::Recursive(if self.named.contains_key(&full) { full } else { name.to_owned() }), 1)),
                    None => self.fault(format!("there is no type {full}: define it before its first use, or name the schema it stands in as a reference")),
                };
            }
        };
        Ok((primitive, 1))
    }

    fn object(&mut self, object: &Map<String, Json>, namespace: &str, depth: usize) -> Parsed<(Schema, u64)> {
        let Some(ty) = object.get("type") else { return self.fault("\"type\" is missing") };
        let Json::String(word) = ty else { return self.member("type", |p| p.schema(ty, namespace, depth + 1)) };
        match word.as_str() {
            "array" | "map" => {
                let key = if word == "array" { "items" } else { "values" };
                let Some(inner) = object.get(key) else { return self.fault(format!("{word} needs \"{key}\"")) };
                let (inner, size) = self.member(key, |p| p.schema(inner, namespace, depth + 1))?;
                let inner = Arc::new(inner);
                Ok((if word == "array" { Schema::Array(inner) } else { Schema::Map(inner) }, size.saturating_add(1)))
            }
            "record" | "error" | "enum" | "fixed" => self.named_type(word, object, namespace, depth),
            _ => self.member("type", |p| p.by_name(word, logical(object), namespace)),
        }
    }

    fn names(&mut self, word: &str, object: &Map<String, Json>, namespace: &str) -> Parsed<Names> {
        let Some(name) = object.get("name") else { return self.fault(format!("{word} needs \"name\"")) };
        let full = self.member("name", |p| {
            let Some(name) = name.as_str() else { return p.fault("\"name\" must be text") };
            let own = object.get("namespace").and_then(Json::as_str).unwrap_or(namespace);
            let full = full_name(name, own);
            if !is_full_name(&full) {
                return p.fault(format!(
                    "{full:?} is no name: letters, digits and underscores make one, and it does not begin with a digit"
                ));
            }
            if PRIMITIVES.contains(&full.as_str()) {
                return p.fault(format!("{full} is a type of the specification: take another name"));
            }
            Ok(full)
        })?;
        let aliases = self.aliases(object)?;
        let aliases = aliases.into_iter().map(|alias| full_name(&alias, namespace_of(&full))).collect();
        Ok(Names { full, aliases })
    }

    fn aliases(&mut self, object: &Map<String, Json>) -> Parsed<Vec<String>> {
        let Some(aliases) = object.get("aliases") else { return Ok(Vec::new()) };
        self.member("aliases", |p| {
            let Some(list) = aliases.as_array() else { return p.fault("\"aliases\" is a list of names") };
            let one = |(place, alias): (usize, &Json)| {
                p.inside(Step::Element(place), |p| match alias.as_str() {
                    Some(alias) if is_full_name(alias) => Ok(alias.to_owned()),
                    _ => p.fault(format!("{alias} is no name")),
                })
            };
            list.iter().enumerate().map(one).collect()
        })
    }

    fn named_type(
        &mut self,
        word: &str,
        object: &Map<String, Json>,
        namespace: &str,
        depth: usize,
    ) -> Parsed<(Schema, u64)> {
        let names = Arc::new(self.names(word, object, namespace)?);
        if self.named.insert(names.full.clone(), None).is_some() {
            return self.member("name", |p| p.fault(format!("{} is defined twice", names.full)));
        }
        let made = match word {
            "enum" => (self.enumeration(object, names.clone())?, 1),
            "fixed" => {
                let size = object.get("size").and_then(Json::as_u64).and_then(|n| usize::try_from(n).ok());
                let Some(size) = size.filter(|n| *n <= 1 << 24) else {
                    return self.fault("fixed needs \"size\", a number of bytes up to 16777216");
                };
                let logical = logical(object).filter(|l| match l {
                    Logical::Decimal { precision, .. } => f64::from(*precision) <= fixed_digits(size),
                    Logical::Duration => size == 12,
                    Logical::Uuid => size == 16,
                    _ => false,
                });
                (Schema::Fixed { names: names.clone(), size, logical }, 1)
            }
            _ => self.record(object, names.clone(), depth)?,
        };
        self.named.insert(names.full.clone(), Some(made.clone()));
        Ok(made)
    }

    fn enumeration(&mut self, object: &Map<String, Json>, names: Arc<Names>) -> Parsed<Schema> {
        let Some(list) = object.get("symbols").and_then(Json::as_array) else {
            return self.fault("enum needs a list \"symbols\"");
        };
        let mut symbols: Vec<String> = Vec::with_capacity(list.len());
        let mut seen = HashSet::new();
        self.member("symbols", |p| {
            for (place, symbol) in list.iter().enumerate() {
                p.inside(Step::Element(place), |p| match symbol.as_str() {
                    Some(text) if !is_name(text) => {
                        p.fault(format!("{text:?} is no symbol: letters, digits and underscores make one"))
                    }
                    Some(text) if !seen.insert(text.to_owned()) => p.fault(format!("the symbol {text} comes twice")),
                    Some(text) => {
                        symbols.push(text.to_owned());
                        Ok(())
                    }
                    None => p.fault("symbols must be text"),
                })?;
            }
            Ok(())
        })?;
        let default = match object.get("default") {
            None => None,
            Some(default) => {
                Some(self.member(
                    "default",
                    |p| match default.as_str().filter(|text| symbols.iter().any(|s| s == text)) {
                        Some(text) => Ok(text.to_owned()),
                        None => p.fault(format!("the default {default} is none of the symbols")),
                    },
                )?)
            }
        };
        Ok(Schema::Enum { names, symbols: Arc::new(symbols), default })
    }

    fn record(&mut self, object: &Map<String, Json>, names: Arc<Names>, depth: usize) -> Parsed<(Schema, u64)> {
        let Some(list) = object.get("fields").and_then(Json::as_array) else {
            return self.fault("record needs a list \"fields\"");
        };
        let mut fields: Vec<Field> = Vec::with_capacity(list.len());
        let mut seen = HashSet::new();
        let mut sum = 1_u64;
        self.member("fields", |p| {
            for (place, field) in list.iter().enumerate() {
                let (field, size) = p.inside(Step::Element(place), |p| {
                    let (field, size) = p.field(field, &names, depth)?;
                    if !seen.insert(field.name.clone()) {
                        return p.fault(format!("the field {} comes twice", field.name));
                    }
                    Ok((field, size))
                })?;
                sum = sum.saturating_add(size);
                fields.push(field);
            }
            Ok(())
        })?;
        Ok((Schema::Record { names, fields: Arc::new(fields) }, sum))
    }

    fn field(&mut self, field: &Json, names: &Names, depth: usize) -> Parsed<(Field, u64)> {
        let Some(object) = field.as_object() else { return self.fault("a field is an object with \"name\" and \"type\"") };
        let Some(name) = object.get("name").and_then(Json::as_str) else { return self.fault("a field needs \"name\"") };
        if !is_name(name) {
            return self
                .member("name", |p| p.fault(format!("{name:?} is no name: letters, digits and underscores make one")));
        }
        let Some(ty) = object.get("type") else { return self.fault(format!("the field {name} needs \"type\"")) };
        let (schema, size) = self.member("type", |p| p.schema(ty, namespace_of(&names.full), depth + 1))?;
        if let Some(order) =
            object.get("order").filter(|o| !["ascending", "descending", "ignore"].map(Json::from).contains(o))
        {
            return self.member("order", |p| p.fault(format!("the order {order} is none of ascending, descending, ignore")));
        }
        let aliases = self.aliases(object)?;
        let own = |key: &str| !matches!(key, "name" | "type" | "default" | "doc" | "order" | "aliases");
        let attributes = object.iter().filter(|(k, _)| own(k)).map(|(k, v)| (k.clone(), v.clone())).collect();
        let field = Field {
            name: name.to_owned(),
            schema,
            aliases,
            default: object.get("default").cloned(),
            doc: object.get("doc").and_then(Json::as_str).map(str::to_owned),
            attributes,
        };
        Ok((field, size.saturating_add(1)))
    }

    /// The steps to the default of a field that a path of field names leads to; a type that stands elsewhere ends the way early.
    fn way_to_field(&self, json: &Json, path: &[String]) -> Vec<Step> {
        let mut steps = Vec::new();
        let mut at = json;
        for name in path {
            while let Some(inner) = at.get("type").filter(|t| t.is_object()) {
                steps.push(Step::Member("type".to_owned()));
                at = inner;
            }
            let place = at
                .get("fields")
                .and_then(Json::as_array)
                .and_then(|l| l.iter().position(|f| f.get("name").and_then(Json::as_str) == Some(name)));
            let Some(place) = place else { return steps };
            steps.extend([Step::Member("fields".to_owned()), Step::Element(place)]);
            at = &at["fields"][place];
        }
        steps.push(Step::Member("default".to_owned()));
        steps
    }
}

/// Most decimal digits that a number of so many bytes always holds.
fn fixed_digits(size: usize) -> f64 {
    let bits = u32::try_from(size.saturating_mul(8)).unwrap_or(u32::MAX).saturating_sub(1);
    (f64::from(bits) * std::f64::consts::LOG10_2).floor()
}

/// The logical type of a declaration; one that is wrong counts as none, as the specification asks.
fn logical(object: &Map<String, Json>) -> Option<Logical> {
    let number = |key: &str| object.get(key).and_then(Json::as_u64).and_then(|n| u32::try_from(n).ok());
    match object.get("logicalType").and_then(Json::as_str)? {
        "decimal" => {
            let (precision, scale) = (number("precision")?, number("scale").unwrap_or(0));
            (precision > 0 && scale <= precision).then_some(Logical::Decimal { precision, scale })
        }
        "date" => Some(Logical::Date),
        "time-millis" => Some(Logical::TimeMillis),
        "time-micros" => Some(Logical::TimeMicros),
        "timestamp-millis" => Some(Logical::TimestampMillis),
        "timestamp-micros" => Some(Logical::TimestampMicros),
        "timestamp-nanos" => Some(Logical::TimestampNanos),
        "local-timestamp-millis" => Some(Logical::LocalTimestampMillis),
        "local-timestamp-micros" => Some(Logical::LocalTimestampMicros),
        "local-timestamp-nanos" => Some(Logical::LocalTimestampNanos),
        "duration" => Some(Logical::Duration),
        "uuid" => Some(Logical::Uuid),
        _ => None,
    }
}
