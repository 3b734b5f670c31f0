//! Fields are compared by their numbers, types by their names within the file.

use std::collections::HashSet;

use prost_reflect::{Cardinality, EnumDescriptor, FieldDescriptor, Kind, MessageDescriptor, Syntax};

use super::ProtoSchema;
use crate::schemas::{Misfit, SchemaChange};

/// How deep messages are looked into: messages can be chained without end, and what reads values goes no deeper either.
const DEEPEST: usize = 100;

/// All that keeps a reader from reading whatever a writer may write.
#[must_use]
pub fn misfits(reader: &ProtoSchema, writer: &ProtoSchema) -> Vec<Misfit> {
    let mut check = Check { depth: 0, seen: HashSet::new(), found: Vec::new() };
    check.messages(&reader.message, &writer.message, "$");
    check.found
}

/// The changes from an earlier file to a later one.
#[must_use]
pub fn changes(earlier: &ProtoSchema, later: &ProtoSchema) -> Vec<SchemaChange> {
    let mut walk = Walk { depth: 0, seen: HashSet::new(), found: Vec::new() };
    walk.messages(&earlier.message, &later.message, "$");
    walk.found
}

/// The paths of all fields, each message once.
#[must_use]
pub fn field_paths(schema: &ProtoSchema) -> Vec<String> {
    fn walk(message: &MessageDescriptor, path: &str, seen: &mut HashSet<String>, out: &mut Vec<String>) {
        if !seen.insert(message.full_name().to_owned()) {
            return;
        }
        for field in message.fields() {
            let at = if path.is_empty() { field.name().to_owned() } else { format!("{path}.{}", field.name()) };
            if let Some(inner) = inner(&field).filter(|_| path.matches('.').count() < DEEPEST) {
                walk(&inner, &at, seen, out);
            }
            out.push(at);
        }
    }
    let mut out = Vec::new();
    walk(&schema.message, "", &mut HashSet::new(), &mut out);
    out
}

/// The message a field holds; of a map, that of its values.
fn inner(field: &FieldDescriptor) -> Option<MessageDescriptor> {
    let kind = if field.is_map() { field.kind().as_message()?.map_entry_value_field().kind() } else { field.kind() };
    kind.as_message().cloned()
}

/// A type as it stands in a file.
fn said(field: &FieldDescriptor) -> String {
    let one = |kind: &Kind| match kind {
        Kind::Message(message) => message.name().to_owned(),
        Kind::Enum(kind) => kind.name().to_owned(),
        kind => format!("{kind:?}").to_lowercase(),
    };
    if field.is_map()
        && let Kind::Message(entry) = field.kind()
    {
        return format!("map<{}, {}>", one(&entry.map_entry_key_field().kind()), one(&entry.map_entry_value_field().kind()));
    }
    let repeated = if field.is_list() { "repeated " } else { "" };
    format!("{repeated}{}", one(&field.kind()))
}

/// Types whose values are written alike, so that one is read as another.
fn alike(reader: &Kind, writer: &Kind) -> bool {
    let group = |kind: &Kind| match kind {
        Kind::Int32 | Kind::Int64 | Kind::Uint32 | Kind::Uint64 | Kind::Bool | Kind::Enum(_) => 0,
        Kind::Sint32 | Kind::Sint64 => 1,
        Kind::String | Kind::Bytes => 2,
        Kind::Fixed32 | Kind::Sfixed32 => 3,
        Kind::Fixed64 | Kind::Sfixed64 => 4,
        Kind::Float => 5,
        Kind::Double => 6,
        Kind::Message(_) => 7,
    };
    group(reader) == group(writer)
}

fn width(kind: &Kind) -> u32 {
    match kind {
        Kind::Bool => 1,
        Kind::Int32 | Kind::Uint32 | Kind::Sint32 | Kind::Enum(_) | Kind::Fixed32 | Kind::Sfixed32 => 32,
        _ => 64,
    }
}

struct Check {
    depth: usize,
    seen: HashSet<(String, String)>,
    found: Vec<Misfit>,
}

impl Check {
    fn misfit(&mut self, path: &str, rule: &'static str, finding: String, remedy: String) {
        self.found.push(Misfit { path: path.to_owned(), rule, finding, remedy, unknown: false });
    }

    fn messages(&mut self, reader: &MessageDescriptor, writer: &MessageDescriptor, path: &str) {
        if !self.seen.insert((reader.full_name().to_owned(), writer.full_name().to_owned())) {
            return;
        }
        for field in reader.fields() {
            let at = format!("{path}.{}", field.name());
            let Some(written) = writer.get_field(field.number()) else {
                if field.is_required() {
                    let finding = format!("data may be without {}, which is required", field.name());
                    self.misfit(
                        &at,
                        "required: the field is in every message",
                        finding,
                        format!("make {} optional", field.name()),
                    );
                }
                continue;
            };
            self.fields(&field, &written, &at);
        }
        // two fields that were apart and are one choice now: only one of both is kept
        for choice in reader.oneofs().filter(|o| !o.is_synthetic()) {
            let written: Vec<FieldDescriptor> = choice.fields().filter_map(|f| writer.get_field(f.number())).collect();
            let apart =
                |f: &FieldDescriptor| f.containing_oneof().filter(|o| !o.is_synthetic()).map(|o| o.name().to_owned());
            let groups: HashSet<_> = written.iter().map(apart).collect();
            if written.len() > 1 && (groups.len() > 1 || groups.contains(&None)) {
                let finding = format!(
                    "{} may be written together, and only one of them is kept",
                    written.iter().map(FieldDescriptor::name).collect::<Vec<_>>().join(" and ")
                );
                self.misfit(
                    &format!("{path}.{}", choice.name()),
                    "oneof: at most one field of it is written",
                    finding,
                    "leave them as fields of their own".to_owned(),
                );
            }
        }
    }

    fn fields(&mut self, reader: &FieldDescriptor, writer: &FieldDescriptor, path: &str) {
        let (read, written) = (reader.kind(), writer.kind());
        if !alike(&read, &written) || reader.is_map() != writer.is_map() || reader.is_group() != writer.is_group() {
            let finding = format!(
                "the field of number {} is written as {}, {} is expected",
                reader.number(),
                said(writer),
                said(reader)
            );
            let remedy =
                format!("keep {}, or take a new number for the new type and reserve {}", said(writer), reader.number());
            return self.misfit(path, "a field's number keeps its type", finding, remedy);
        }
        if width(&read) < width(&written) && !matches!(read, Kind::Message(_) | Kind::String | Kind::Bytes) {
            let finding = format!("data may hold {} values that {} cuts off", said(writer), said(reader));
            self.misfit(path, "numbers are not cut off", finding, format!("keep {}", said(writer)));
        }
        if matches!((&read, &written), (Kind::String, Kind::Bytes)) {
            self.misfit(
                path,
                "text is valid UTF-8",
                "data may hold bytes that are no text".to_owned(),
                "keep bytes".to_owned(),
            );
        }
        if writer.is_list() && !reader.is_list() {
            let finding = "data may hold several values, and only the last is kept".to_owned();
            self.misfit(path, "repeated: several values stay several", finding, "keep it repeated".to_owned());
        }
        if reader.is_required() && !writer.is_required() {
            let finding = format!("data may be without {}, which is required", reader.name());
            self.misfit(
                path,
                "required: the field is in every message",
                finding,
                format!("make {} optional", reader.name()),
            );
        }
        match (&read, &written) {
            (Kind::Enum(reader), Kind::Enum(writer)) => self.enums(reader, writer, path),
            // an open enum keeps a number it does not know
            (Kind::Enum(reader), _) if reader.parent_file().syntax() == Syntax::Proto2 => {
                let finding = format!("data may hold numbers that {} does not know, which are dropped", reader.name());
                let rule = "a closed enum knows every value that is written";
                self.misfit(path, rule, finding, format!("keep {}", said(writer)));
            }
            (Kind::Message(reader), Kind::Message(writer)) if reader.is_map_entry() && writer.is_map_entry() => {
                self.fields(&reader.map_entry_key_field(), &writer.map_entry_key_field(), path);
                self.fields(&reader.map_entry_value_field(), &writer.map_entry_value_field(), path);
            }
            (Kind::Message(reader), Kind::Message(writer)) if self.depth < DEEPEST => {
                self.depth += 1;
                self.messages(reader, writer, path);
                self.depth -= 1;
            }
            (Kind::Message(_), Kind::Message(_)) => {
                let finding = format!("messages nest deeper than {DEEPEST}, and are not compared further");
                self.misfit(path, "messages: values nest up to a limit", finding, "nest them less deeply".to_owned());
            }
            _ => {}
        }
    }

    fn enums(&mut self, reader: &EnumDescriptor, writer: &EnumDescriptor, path: &str) {
        for value in writer.values() {
            match reader.get_value(value.number()) {
                // an open enum keeps a number it does not know
                None if reader.parent_file().syntax() == Syntax::Proto2 => {
                    let finding = format!("data may hold {}, which is not known and is dropped", value.name());
                    self.misfit(
                        path,
                        "a closed enum knows every value that is written",
                        finding,
                        format!("keep {}", value.name()),
                    );
                }
                Some(known)
                    if known.name() != value.name()
                        && !reader.values().any(|v| v.name() == value.name() && v.number() == value.number()) =>
                {
                    let finding =
                        format!("data means {} by {}, which is read as {}", value.name(), value.number(), known.name());
                    self.misfit(
                        path,
                        "a value's number keeps its name",
                        finding,
                        format!("keep {}, and give {} a new number", value.name(), known.name()),
                    );
                }
                _ => {}
            }
        }
    }
}

struct Walk {
    depth: usize,
    seen: HashSet<(String, String)>,
    found: Vec<SchemaChange>,
}

impl Walk {
    fn say(&mut self, path: &str, words: String) {
        self.found.push(SchemaChange { path: path.to_owned(), words });
    }

    fn messages(&mut self, earlier: &MessageDescriptor, later: &MessageDescriptor, path: &str) {
        if !self.seen.insert((earlier.full_name().to_owned(), later.full_name().to_owned())) {
            return;
        }
        if earlier.full_name() != later.full_name() {
            self.say(path, format!("the message {} is now called {}", earlier.full_name(), later.full_name()));
        }
        for field in later.fields() {
            let at = format!("{path}.{}", field.name());
            let Some(was) = earlier.get_field(field.number()) else {
                self.say(&at, format!("was added: {}, number {}", said(&field), field.number()));
                continue;
            };
            self.field(&was, &field, &at);
        }
        for field in earlier.fields().filter(|f| later.get_field(f.number()).is_none()) {
            let reserved = later.reserved_ranges().any(|range| range.contains(&field.number()));
            let kept = if reserved {
                "its number is reserved"
            } else {
                "its number is not reserved and may be taken again by mistake"
            };
            self.say(&format!("{path}.{}", field.name()), format!("was removed ({}); {kept}", said(&field)));
        }
    }

    fn field(&mut self, was: &FieldDescriptor, is: &FieldDescriptor, at: &str) {
        if was.name() != is.name() {
            self.say(at, format!("was called {}", was.name()));
        }
        if said(was) != said(is) {
            self.say(at, format!("changed from {} to {}", said(was), said(is)));
        }
        if was.cardinality() != is.cardinality() && was.is_list() == is.is_list() {
            let words = if is.cardinality() == Cardinality::Required { "became required" } else { "is no longer required" };
            self.say(at, words.to_owned());
        }
        let choice = |f: &FieldDescriptor| f.containing_oneof().filter(|o| !o.is_synthetic()).map(|o| o.name().to_owned());
        match (choice(was), choice(is)) {
            (None, Some(to)) => self.say(at, format!("became one of the choice {to}")),
            (Some(from), None) => self.say(at, format!("is no longer one of the choice {from}")),
            _ => {}
        }
        match (was.kind(), is.kind()) {
            (Kind::Enum(a), Kind::Enum(b)) => {
                for value in b.values().filter(|v| a.get_value_by_name(v.name()).is_none()) {
                    self.say(at, format!("the value {} was added", value.name()));
                }
                for value in a.values().filter(|v| b.get_value_by_name(v.name()).is_none()) {
                    self.say(at, format!("the value {} was removed", value.name()));
                }
            }
            _ => {
                if let (Some(a), Some(b), true) = (inner(was), inner(is), self.depth < DEEPEST) {
                    self.depth += 1;
                    self.messages(&a, &b, at);
                    self.depth -= 1;
                }
            }
        }
    }
}
