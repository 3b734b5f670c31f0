//! Protocol Buffers, proto2 and proto3: parsing, values as JSON, and what changed between two files ("Updating A Message Type" in
//! the language guide). A value is one message of the first type that the file defines.

mod compare;
mod floats;

use crate::fitting::{FieldKind, TargetField};
use miette::Diagnostic;
use prost_reflect::prost::Message;
use prost_reflect::{
    DescriptorPool, DeserializeOptions, DynamicMessage, MessageDescriptor, ReflectMessage, SerializeOptions, Value,
};
use protox::file::{ChainFileResolver, File, FileResolver, GoogleFileResolver};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::{Reference, TextFault};
use crate::avro::schema::LONGEST;
use crate::json_place::Place;

pub use compare::{changes, field_paths, misfits};

/// The name of the file itself among those it imports.
const MAIN: &str = "schema.proto";
/// Deepest nesting of braces in a file.
const DEEPEST: usize = 64;

/// A parsed file.
#[derive(Debug, Clone)]
pub struct ProtoSchema {
    message: MessageDescriptor,
}

/// A file with the files it imports.
#[derive(Serialize, Deserialize)]
struct WithImports {
    main: String,
    imports: Vec<Reference>,
}

/// The file together with what it imports, as one text. Without imports it is the text itself.
#[must_use]
pub fn standalone(text: &str, references: &[Reference]) -> String {
    if references.is_empty() {
        return text.to_owned();
    }
    // what a reference itself imports comes along with it
    let mut imports: Vec<Reference> = Vec::new();
    for reference in references {
        let (main, inner) = taken_apart(&reference.text);
        imports.push(Reference { name: reference.name.clone(), text: main });
        imports.extend(inner);
    }
    let mut seen = std::collections::HashSet::new();
    imports.retain(|i| seen.insert(i.name.clone()));
    serde_json::to_string(&WithImports { main: text.to_owned(), imports }).unwrap_or_else(|_| text.to_owned())
}

fn taken_apart(text: &str) -> (String, Vec<Reference>) {
    match serde_json::from_str::<WithImports>(text) {
        Ok(all) => (all.main, all.imports),
        Err(_) => (text.to_owned(), Vec::new()),
    }
}

struct Imports(Vec<Reference>);

impl FileResolver for Imports {
    fn open_file(&self, name: &str) -> Result<File, protox::Error> {
        match self.0.iter().find(|i| i.name == name || name.strip_suffix(".proto") == Some(&i.name)) {
            Some(import) => File::from_source(name, &import.text),
            None => Err(protox::Error::file_not_found(name)),
        }
    }
}

impl ProtoSchema {
    /// Parses a file's text, or what [`standalone`] makes of it.
    ///
    /// # Errors
    /// [`TextFault`] with line and column.
    pub fn parse(text: &str) -> Result<Self, TextFault> {
        let (main, mut imports) = taken_apart(text);
        let start = Place { line: 1, column: 1 };
        if text.len() > LONGEST {
            let finding = format!("the schema has {} bytes; at most {LONGEST} are taken", text.len());
            return Err(TextFault::at(start, finding));
        }
        // the parser goes down one call for each brace
        let deep = main.char_indices().try_fold(0_usize, |depth, (at, c)| match c {
            '{' | '[' | '<' | '(' if depth >= DEEPEST => Err(at),
            '{' | '[' | '<' | '(' => Ok(depth + 1),
            '}' | ']' | '>' | ')' => Ok(depth.saturating_sub(1)),
            _ => Ok(depth),
        });
        if let Err(at) = deep {
            return Err(TextFault::at(Place::of_byte(&main, at), format!("the schema nests deeper than {DEEPEST} levels")));
        }
        imports.push(Reference { name: MAIN.to_owned(), text: main.clone() });
        let mut files = ChainFileResolver::new();
        files.add(Imports(imports));
        files.add(GoogleFileResolver::new());
        let mut compiler = protox::Compiler::with_file_resolver(files);
        compiler.include_imports(true);
        compiler.open_file(MAIN).map_err(|error| {
            let finding = finding(&error);
            let own = error.file().is_none_or(|file| file == MAIN);
            // of two that conflict the later one is at fault
            let span = error.labels().and_then(Iterator::last).filter(|_| own);
            let place = span.map_or(start, |label| Place::of_byte(&main, label.offset()));
            TextFault::at(place, if own { finding } else { format!("in {}: {finding}", error.file().unwrap_or_default()) })
        })?;
        Self::of(&compiler.descriptor_pool()).ok_or_else(|| TextFault::at(start, "the file defines no message"))
    }

    fn of(pool: &DescriptorPool) -> Option<Self> {
        Some(Self { message: pool.get_file_by_name(MAIN)?.messages().next()? })
    }

    /// The message that values are of, by its full name.
    #[must_use]
    pub fn message(&self) -> &str {
        self.message.full_name()
    }

    /// The fields that columns can fill, down to a depth, and so many at most. None of them is needed: a message has no such fields.
    pub(crate) fn target_fields(&self, deepest: usize, most: usize) -> Vec<TargetField> {
        let mut out = Vec::new();
        target_fields(&self.message, (deepest, most), &mut Vec::new(), &mut out);
        out
    }

    /// Reads a value as JSON, as the JSON mapping of the language has it, with the file's own field names.
    ///
    /// # Errors
    /// What the decoder says.
    pub fn to_json(&self, value: &[u8]) -> Result<Json, String> {
        self.json(value, true)
    }

    fn json(&self, value: &[u8], skip_defaults: bool) -> Result<Json, String> {
        let message = DynamicMessage::decode(self.message.clone(), value).map_err(|e| e.to_string())?;
        let options = SerializeOptions::new()
            .use_proto_field_name(true)
            .stringify_64_bit_integers(false)
            .skip_default_fields(skip_defaults);
        message.serialize_with_options(serde_json::value::Serializer, &options).map_err(|e| e.to_string())
    }

    /// The same, with the defaults of fields that have no presence: a reader takes those for what was not sent.
    ///
    /// # Errors
    /// What the decoder says.
    pub fn to_json_whole(&self, value: &[u8]) -> Result<Json, String> {
        self.json(value, false)
    }

    /// Writes JSON as a value.
    ///
    /// # Errors
    /// What does not fit.
    pub fn from_json(&self, value: &Json) -> Result<Vec<u8>, String> {
        floats::check(&self.message, value, "$")?;
        let options = DeserializeOptions::new().deny_unknown_fields(true);
        let message =
            DynamicMessage::deserialize_with_options(self.message.clone(), value, &options).map_err(|e| e.to_string())?;
        Ok(message.encode_to_vec())
    }

    /// Whether bytes are a value, without fields that the file does not know.
    ///
    /// # Errors
    /// What does not fit, with its path.
    pub fn check(&self, value: &[u8]) -> Result<(), String> {
        let message = DynamicMessage::decode(self.message.clone(), value).map_err(|e| e.to_string())?;
        check_message(&message, "$")
    }
}

fn target_fields(
    message: &MessageDescriptor,
    (deepest, most): (usize, usize),
    path: &mut Vec<String>,
    out: &mut Vec<TargetField>,
) {
    use prost_reflect::Kind as P;
    for field in message.fields() {
        // a message may come back to itself in many ways
        if out.len() == most {
            return;
        }
        path.push(field.name().to_owned());
        let single = !field.is_list() && !field.is_map();
        let kind = match field.kind() {
            _ if !single => FieldKind::Nested,
            P::Bool => FieldKind::Boolean,
            P::Int32 | P::Sint32 | P::Sfixed32 => FieldKind::Whole(32),
            P::Int64 | P::Sint64 | P::Sfixed64 | P::Uint32 | P::Uint64 | P::Fixed32 | P::Fixed64 => FieldKind::Whole(64),
            P::Float | P::Double => FieldKind::Floating,
            P::String => FieldKind::Text,
            P::Bytes => FieldKind::Bytes,
            P::Enum(of) => FieldKind::OneOf(of.values().map(|v| v.name().to_owned()).collect()),
            P::Message(of) if of.full_name() == "google.protobuf.Timestamp" => FieldKind::Moment,
            P::Message(of) if of.full_name().starts_with("google.protobuf.") => FieldKind::Any,
            P::Message(of) if path.len() < deepest => {
                target_fields(&of, (deepest, most), path, out);
                path.pop();
                continue;
            }
            P::Message(_) => FieldKind::Nested,
        };
        let (needed, nullable) = (field.is_required(), false);
        let aliases = Some(field.json_name().to_owned()).filter(|name| name != field.name()).into_iter().collect();
        out.push(TargetField { path: path.clone(), kind, needed, nullable, aliases });
        path.pop();
    }
}

/// Checks a message and those in it: the decoder keeps what it does not know, and misses nothing that is required.
fn check_message(message: &DynamicMessage, path: &str) -> Result<(), String> {
    let descriptor = message.descriptor();
    if let Some(unknown) = message.unknown_fields().next() {
        return Err(format!(
            "at {path}: the message {} has no field of number {}",
            descriptor.full_name(),
            unknown.number()
        ));
    }
    if let Some(lacking) = descriptor.fields().find(|f| f.is_required() && !message.has_field(f)) {
        return Err(format!("at {path}: the required field {} is missing", lacking.name()));
    }
    message.fields().try_for_each(|(field, value)| check_value(value, &format!("{path}.{}", field.name())))
}

fn check_value(value: &Value, path: &str) -> Result<(), String> {
    match value {
        Value::Message(inner) => check_message(inner, path),
        Value::List(items) => {
            (0..).zip(items).try_for_each(|(n, item): (usize, _)| check_value(item, &format!("{path}[{n}]")))
        }
        Value::Map(items) => items.values().try_for_each(|item| check_value(item, &format!("{path}{{}}"))),
        _ => Ok(()),
    }
}

/// What is wrong, without the file's name and the picture of the line.
fn finding(error: &protox::Error) -> String {
    let text = error.to_string();
    let text = text.strip_prefix(MAIN).map_or(text.as_str(), |rest| {
        let digits_or_colon = |c: char| c.is_ascii_digit() || c == ':';
        rest.trim_start_matches(digits_or_colon).trim_start()
    });
    let label = error.labels().and_then(|labels| labels.last()?.label().map(str::to_owned));
    match label.filter(|label| !text.contains(label.as_str())) {
        Some(label) => format!("{text} ({label})"),
        None => text.to_owned(),
    }
}
