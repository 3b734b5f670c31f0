//! Whether data written with one schema can be read with another ("Schema Resolution" in the specification), told field by
//! field.

use std::collections::HashMap;

use super::json::collect;
use super::schema::{Field, Logical, Names, Schema};
use crate::schemas::Misfit;

/// All that keeps a reader from reading whatever a writer may write; empty if nothing does.
#[must_use]
pub fn misfits(reader: &Schema, writer: &Schema) -> Vec<Misfit> {
    let mut check = Check { readers: HashMap::new(), writers: HashMap::new(), pairs: HashMap::new(), found: Vec::new() };
    collect(reader, &mut check.readers);
    collect(writer, &mut check.writers);
    check.reads(reader, writer, "$");
    check.found
}

struct Check<'s> {
    readers: HashMap<&'s str, &'s Schema>,
    writers: HashMap<&'s str, &'s Schema>,
    /// Pairs of named types, and whether one reads the other; none while that is being found out.
    pairs: HashMap<(&'s str, &'s str), Option<bool>>,
    found: Vec<Misfit>,
}

/// A schema itself, or the one that a name within its own definition stands for.
pub(super) fn of<'s>(schema: &'s Schema, named: &HashMap<&'s str, &'s Schema>) -> &'s Schema {
    match schema {
        Schema::Recursive(name) => named.get(name.as_str()).copied().unwrap_or(schema),
        _ => schema,
    }
}

/// Whether a reader's named type stands for a writer's: by the name without its namespace, or by an alias.
pub(super) fn same_name(reader: &Names, writer: &Names) -> bool {
    reader.short() == writer.short() || reader.aliases.contains(&writer.full)
}

/// The writer's field that a reader's field is filled from.
pub(super) fn writers_field<'w>(reader: &Field, writer: &'w [Field]) -> Option<(usize, &'w Field)> {
    let by = |name: &str| writer.iter().enumerate().find(|(_, field)| field.name == name);
    by(&reader.name).or_else(|| reader.aliases.iter().find_map(|alias| by(alias)))
}

/// Whether types match, not looking into them: named types by their names, others by their kind.
pub(super) fn matches(reader: &Schema, writer: &Schema) -> bool {
    match (reader, writer) {
        (Schema::Record { names: r, .. }, Schema::Record { names: w, .. })
        | (Schema::Enum { names: r, .. }, Schema::Enum { names: w, .. })
        | (Schema::Fixed { names: r, .. }, Schema::Fixed { names: w, .. }) => same_name(r, w),
        (reader, writer) => std::mem::discriminant(reader) == std::mem::discriminant(writer),
    }
}

/// Whether a number or text of one primitive type may be read as another.
pub(super) fn promotes(reader: &Schema, writer: &Schema) -> bool {
    matches!(
        (reader, writer),
        (Schema::Long(_), Schema::Int(_))
            | (Schema::Float, Schema::Int(_) | Schema::Long(_))
            | (Schema::Double, Schema::Int(_) | Schema::Long(_) | Schema::Float)
            | (Schema::Bytes(_), Schema::String(_))
            | (Schema::String(_), Schema::Bytes(_))
    )
}

/// Whether data of one logical type keeps its value when it is read as another.
pub(super) fn means_the_same(reader: Logical, writer: Logical) -> bool {
    match (reader, writer) {
        (Logical::Decimal { precision: r, scale }, Logical::Decimal { precision: w, scale: written }) => {
            scale == written && r >= w
        }
        _ => reader == writer,
    }
}

/// What the values of a type mean beyond their type.
pub(super) fn logical(schema: &Schema) -> Option<Logical> {
    match schema {
        Schema::Int(l) | Schema::Long(l) | Schema::Bytes(l) | Schema::String(l) | Schema::Fixed { logical: l, .. } => *l,
        _ => None,
    }
}

/// Whether a value that is promoted still means what it did: a number of days is no number of microseconds, and the bytes of a decimal
/// are no text.
pub(super) fn promotion_keeps_meaning(reader: &Schema, writer: &Schema) -> bool {
    let decimal = |schema: &Schema| matches!(logical(schema), Some(Logical::Decimal { .. }));
    match (reader, writer) {
        (Schema::Long(Some(reader)), Schema::Int(Some(writer))) => means_the_same(*reader, *writer),
        (Schema::Bytes(_), Schema::String(_)) | (Schema::String(_), Schema::Bytes(_)) => {
            !decimal(reader) && !decimal(writer)
        }
        _ => true,
    }
}

/// A type as people say it, with what its values mean.
pub(super) fn said(schema: &Schema) -> String {
    let logical = match schema {
        Schema::Int(l) | Schema::Long(l) | Schema::Bytes(l) | Schema::String(l) => *l,
        Schema::Fixed { logical, .. } => *logical,
        _ => None,
    };
    match (schema, logical) {
        (_, Some(logical)) => logical_said(logical),
        (Schema::Array(inner), _) => format!("array of {}", said(inner)),
        (Schema::Map(inner), _) => format!("map of {}", said(inner)),
        (Schema::Union(branches), _) => branches.iter().map(said).collect::<Vec<_>>().join(" or "),
        (Schema::Enum { names, .. }, _) => format!("enum {}", names.short()),
        (Schema::Record { names, .. }, _) => format!("record {}", names.short()),
        (Schema::Fixed { size, .. }, _) => format!("fixed of {size} bytes"),
        _ => super::schema::short(schema.type_name()).to_owned(),
    }
}

fn logical_said(logical: Logical) -> String {
    match logical {
        Logical::Decimal { precision, scale } => format!("decimal({precision},{scale})"),
        Logical::Date => "date".to_owned(),
        Logical::TimeMillis => "time in milliseconds".to_owned(),
        Logical::TimeMicros => "time in microseconds".to_owned(),
        Logical::TimestampMillis => "timestamp in milliseconds".to_owned(),
        Logical::TimestampMicros => "timestamp in microseconds".to_owned(),
        Logical::TimestampNanos => "timestamp in nanoseconds".to_owned(),
        Logical::LocalTimestampMillis => "local timestamp in milliseconds".to_owned(),
        Logical::LocalTimestampMicros => "local timestamp in microseconds".to_owned(),
        Logical::LocalTimestampNanos => "local timestamp in nanoseconds".to_owned(),
        Logical::Duration => "duration".to_owned(),
        Logical::Uuid => "uuid".to_owned(),
    }
}

const MEANING: &str = "logical types: decimals match by scale and precision, others by what they mean";

impl<'s> Check<'s> {
    fn misfit(&mut self, path: &str, rule: &'static str, finding: String, remedy: String) -> bool {
        self.found.push(Misfit { path: path.to_owned(), rule, finding, remedy, unknown: false });
        false
    }

    /// Tries without telling.
    fn would_read(&mut self, reader: &'s Schema, writer: &'s Schema, path: &str) -> bool {
        let told = self.found.len();
        let reads = self.reads(reader, writer, path);
        self.found.truncate(told);
        reads
    }

    fn reads(&mut self, reader: &'s Schema, writer: &'s Schema, path: &str) -> bool {
        let (reader, writer) = (of(reader, &self.readers), of(writer, &self.writers));
        match (reader, writer) {
            (_, Schema::Union(branches)) => self.all_branches(reader, branches, path),
            (Schema::Union(branches), _) => self.some_branch(branches, writer, path),
            (Schema::Array(r), Schema::Array(w)) => self.reads(r, w, &format!("{path}[]")),
            (Schema::Map(r), Schema::Map(w)) => self.reads(r, w, &format!("{path}{{}}")),
            (Schema::Fixed { names: r, size, logical }, Schema::Fixed { names: w, size: written, logical: written_as }) => {
                let named = self.named(r, w, path);
                if size != written {
                    let finding = format!("{} has {size} bytes, data has {written}", r.short());
                    return self.misfit(
                        path,
                        "fixed: both sizes match",
                        finding,
                        format!("keep {written} bytes, or take a new type for the new size"),
                    );
                }
                named && self.meaning(*logical, *written_as, path)
            }
            (Schema::Enum { names: r, symbols, default }, Schema::Enum { names: w, symbols: written, .. }) => {
                let named = self.named(r, w, path);
                let lacking: Vec<&str> = written.iter().filter(|s| !symbols.contains(s)).map(String::as_str).collect();
                if lacking.is_empty() || default.is_some() {
                    return named;
                }
                let finding = format!("{} may be written and is not known", lacking.join(", "));
                let remedy =
                    format!("keep {}, or give the enum a \"default\" that stands for what is not known", lacking.join(", "));
                self.misfit(
                    path,
                    "enum: a writer's symbol is among the reader's, or the reader's enum has a default",
                    finding,
                    remedy,
                )
            }
            (Schema::Record { names: r, fields }, Schema::Record { names: w, fields: written }) => {
                self.record((r, fields), (w, written), path)
            }
            (Schema::Int(r), Schema::Int(w))
            | (Schema::Long(r), Schema::Long(w))
            | (Schema::Bytes(r), Schema::Bytes(w))
            | (Schema::String(r), Schema::String(w)) => self.meaning(*r, *w, path),
            _ if reader == writer => true,
            _ if promotes(reader, writer) => {
                if promotion_keeps_meaning(reader, writer) {
                    return true;
                }
                let finding = format!(
                    "data is {}, {} is expected: by the letter it can be read, and it would be taken for another value",
                    said(writer),
                    said(reader)
                );
                let remedy = format!("keep {}, or add the new type as another field", said(writer));
                self.misfit(path, MEANING, finding, remedy)
            }
            _ => {
                let finding = format!("data is {}, {} is expected", said(writer), said(reader));
                let remedy = format!("keep {}, or add the new type as another field", said(writer));
                self.misfit(path, "both types match, or the writer's promotes to the reader's", finding, remedy)
            }
        }
    }

    /// Whether values keep what they mean where both sides say it.
    fn meaning(&mut self, reader: Option<Logical>, writer: Option<Logical>, path: &str) -> bool {
        let (Some(reader), Some(writer)) = (reader, writer) else { return true };
        if means_the_same(reader, writer) {
            return true;
        }
        let finding = format!(
            "data is {}, {} is expected: the same bytes would be taken for another value",
            logical_said(writer),
            logical_said(reader)
        );
        let remedy = format!("keep {}, or add the new type as another field", logical_said(writer));
        self.misfit(path, MEANING, finding, remedy)
    }

    fn named(&mut self, reader: &Names, writer: &Names, path: &str) -> bool {
        if same_name(reader, writer) {
            return true;
        }
        let finding = format!("data is of the type {}, {} is expected", writer.full, reader.full);
        self.misfit(
            path,
            "named types: both names match",
            finding,
            format!("keep the name, or add {} to the \"aliases\" of {}", writer.full, reader.full),
        )
    }

    fn all_branches(&mut self, reader: &'s Schema, branches: &'s [Schema], path: &str) -> bool {
        let mut all = true;
        for branch in branches {
            all &= self.reads(reader, branch, path);
        }
        all
    }

    fn some_branch(&mut self, branches: &'s [Schema], writer: &'s Schema, path: &str) -> bool {
        let readers: Vec<&'s Schema> = branches.iter().map(|branch| of(branch, &self.readers)).collect();
        // those of the same type take the data, also where another one could take its bytes for something else
        let own: Vec<&'s Schema> = readers.iter().copied().filter(|branch| matches(branch, writer)).collect();
        if own.iter().any(|branch| self.would_read(branch, writer, path)) {
            return true;
        }
        if let Some(near) = own.first() {
            if let (Some(a), Some(b)) = (name_of(near), name_of(writer)) {
                self.pairs.remove(&(a, b));
            }
            return self.reads(near, writer, path);
        }
        let near: Vec<&'s Schema> = readers.iter().copied().filter(|branch| promotes(branch, writer)).collect();
        if near.iter().any(|branch| promotion_keeps_meaning(branch, writer)) {
            return true;
        }
        if let Some(near) = near.first() {
            return self.reads(near, writer, path);
        }
        let all = branches.iter().map(said).collect::<Vec<_>>().join(", ");
        let finding = format!("data may be {}, which is none of {all}", said(writer));
        let remedy = format!("keep {} among the union's branches", said(writer));
        self.misfit(path, "unions: some branch of the reader's matches", finding, remedy)
    }

    fn record(
        &mut self,
        (names, fields): (&'s Names, &'s [Field]),
        (written_names, written): (&'s Names, &'s [Field]),
        path: &str,
    ) -> bool {
        let pair = (names.full.as_str(), written_names.full.as_str());
        match self.pairs.get(&pair) {
            // within itself: as good as the rest of it
            Some(None) => return true,
            Some(Some(reads)) => return *reads,
            None => {}
        }
        self.pairs.insert(pair, None);
        let mut reads = self.named(names, written_names, path);
        for field in fields {
            let at = format!("{path}.{}", field.name);
            match writers_field(field, written) {
                Some((_, writer)) => reads &= self.reads(&field.schema, &writer.schema, &at),
                None if field.default.is_some() => {}
                None => {
                    let finding = format!("data has no field {}, and it has no default", field.name);
                    let remedy = format!(
                        "give {} a \"default\"{}",
                        field.name,
                        if nullable(&field.schema) {
                            ", for example null"
                        } else {
                            ", or make it optional (null or its type, default null)"
                        }
                    );
                    reads = self.misfit(
                        &at,
                        "records: a reader's field that the writer does not have has a default",
                        finding,
                        remedy,
                    );
                }
            }
        }
        if !reads {
            // what was taken to be readable within this pair was so only if this pair is
            self.pairs.retain(|_, known| *known != Some(true));
        }
        self.pairs.insert(pair, Some(reads));
        reads
    }
}

fn name_of(schema: &Schema) -> Option<&str> {
    if let Schema::Record { names, .. } = schema { Some(&names.full) } else { None }
}

fn nullable(schema: &Schema) -> bool {
    matches!(schema, Schema::Union(branches) if branches.contains(&Schema::Null))
}

/// The paths of all fields, each named type once.
pub(crate) fn field_paths(schema: &Schema) -> Vec<String> {
    fn walk<'s>(schema: &'s Schema, path: &str, seen: &mut Vec<&'s str>, out: &mut Vec<String>) {
        match schema {
            Schema::Array(inner) | Schema::Map(inner) => walk(inner, path, seen, out),
            Schema::Union(branches) => branches.iter().for_each(|b| walk(b, path, seen, out)),
            Schema::Record { names, fields } if !seen.contains(&names.full.as_str()) => {
                seen.push(&names.full);
                for field in fields.iter() {
                    let at = if path.is_empty() { field.name.clone() } else { format!("{path}.{}", field.name) };
                    walk(&field.schema, &at, seen, out);
                    out.push(at);
                }
            }
            _ => {}
        }
    }
    let mut out = Vec::new();
    walk(schema, "", &mut Vec::new(), &mut out);
    out
}
