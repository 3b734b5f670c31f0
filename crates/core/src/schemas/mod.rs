//! Schemas of any language: parsed texts, what changed between two of them, and whether a new version keeps the rule.

mod findings;
pub mod infer;
pub mod json_schema;
pub mod protobuf;
pub mod values;

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use utoipa::ToSchema;

use crate::avro;

pub use findings::{Misfit, Reference, SchemaChange, TextFault};

/// The language a schema is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Language {
    /// Avro, specification 1.12.
    Avro,
    /// JSON Schema, draft 2020-12 or draft-07.
    #[serde(alias = "json-schema")]
    JsonSchema,
    /// Protocol Buffers, proto2 or proto3.
    Protobuf,
}

impl Language {
    /// Its word in the database and in sentences.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Avro => "avro",
            Self::JsonSchema => "json-schema",
            Self::Protobuf => "protobuf",
        }
    }

    /// The language of a word of the database, or of the API.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        let word = word.replace('_', "-");
        [Self::Avro, Self::JsonSchema, Self::Protobuf].into_iter().find(|l| l.word() == word)
    }
}

/// Which earlier versions one half of the rule looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Half {
    /// None.
    #[default]
    Off,
    /// The latest one.
    Latest,
    /// All of them.
    All,
}

/// A schema's compatibility rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub struct Rule {
    /// The new version must be able to read data written with earlier ones.
    #[serde(default, alias = "reads-past")]
    pub reads_past: Half,
    /// Earlier versions must be able to read data written with the new one.
    #[serde(default, alias = "past-reads")]
    pub past_reads: Half,
}

/// A version that another one names types of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SchemaReference {
    /// The schema's name; in Protocol Buffers also the path that is imported.
    pub name: String,
    /// Its version.
    pub version: i32,
}

/// A parsed schema.
#[derive(Debug, Clone)]
pub enum Parsed {
    /// Avro.
    Avro(avro::schema::Schema),
    /// JSON Schema.
    JsonSchema(json_schema::JsonSchema),
    /// Protocol Buffers.
    Protobuf(protobuf::ProtoSchema),
}

impl Parsed {
    /// The language it is written in.
    #[must_use]
    pub fn language(&self) -> Language {
        match self {
            Self::Avro(_) => Language::Avro,
            Self::JsonSchema(_) => Language::JsonSchema,
            Self::Protobuf(_) => Language::Protobuf,
        }
    }
}

/// A schema's text with all it needs to stand by itself, and its fingerprint.
#[derive(Debug, Clone)]
pub struct Standalone {
    /// The text by which values are read: in Avro and JSON Schema with its references written out, in Protocol Buffers a list of
    /// files.
    pub text: String,
    /// Parsed.
    pub parsed: Parsed,
    /// CRC-64-AVRO of an Avro schema's canonical form; of another's text the first eight bytes of its SHA-256.
    pub fingerprint: u64,
}

/// Parses a text that may name types of other schemas.
///
/// # Errors
/// [`TextFault`] with line and column.
pub fn parse(language: Language, text: &str, references: &[Reference]) -> Result<Standalone, TextFault> {
    let texts: Vec<&str> = references.iter().map(|r| r.text.as_str()).collect();
    match language {
        Language::Avro => {
            let whole = avro::references::standalone(text, &texts)?;
            // a text without references is looked at as it was written, so that lines are those of its writer
            let schema = avro::schema::Schema::parse(&whole)?;
            let fingerprint = avro::fingerprint::fingerprint(&whole)?;
            Ok(Standalone { text: whole, parsed: Parsed::Avro(schema), fingerprint })
        }
        Language::JsonSchema => {
            let whole = json_schema::standalone(text, references)?;
            let parsed = json_schema::JsonSchema::parse(&whole)?;
            Ok(Standalone { fingerprint: digest(&whole), text: whole, parsed: Parsed::JsonSchema(parsed) })
        }
        Language::Protobuf => {
            let whole = protobuf::standalone(text, references);
            let parsed = protobuf::ProtoSchema::parse(&whole)?;
            Ok(Standalone { fingerprint: digest(&whole), text: whole, parsed: Parsed::Protobuf(parsed) })
        }
    }
}

/// Parses what [`Standalone::text`] holds.
///
/// # Errors
/// [`TextFault`].
pub fn parse_standalone(language: Language, text: &str) -> Result<Parsed, TextFault> {
    Ok(match language {
        Language::Avro => Parsed::Avro(avro::schema::Schema::parse(text)?),
        Language::JsonSchema => Parsed::JsonSchema(json_schema::JsonSchema::parse(text)?),
        Language::Protobuf => Parsed::Protobuf(protobuf::ProtoSchema::parse(text)?),
    })
}

fn digest(text: &str) -> u64 {
    let sum = Sha256::digest(text.as_bytes());
    u64::from_le_bytes(sum[..8].try_into().expect("eight bytes"))
}

/// All that keeps a reader from reading whatever a writer may write. Schemas of two languages never read each other.
#[must_use]
pub fn misfits(reader: &Parsed, writer: &Parsed) -> Vec<Misfit> {
    match (reader, writer) {
        (Parsed::Avro(reader), Parsed::Avro(writer)) => avro::resolution::misfits(reader, writer),
        (Parsed::JsonSchema(reader), Parsed::JsonSchema(writer)) => json_schema::misfits(reader, writer),
        (Parsed::Protobuf(reader), Parsed::Protobuf(writer)) => protobuf::misfits(reader, writer),
        _ => vec![Misfit {
            unknown: false,
            path: "$".to_owned(),
            rule: "both schemas are of one language",
            finding: "they are of different languages".to_owned(),
            remedy: "register it as a schema of its own".to_owned(),
        }],
    }
}

/// A change between two versions, and what it breaks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The change.
    pub change: SchemaChange,
    /// What keeps the earlier version from reading data of the later one there.
    pub past_reads: Vec<Misfit>,
    /// What keeps the later version from reading data of the earlier one there.
    pub reads_past: Vec<Misfit>,
}

impl Difference {
    /// What it breaks, in a few words; none if nothing.
    #[must_use]
    pub fn breaks(&self) -> Option<&'static str> {
        let known = |misfits: &[Misfit]| misfits.iter().any(|misfit| !misfit.unknown);
        match (self.past_reads.is_empty(), self.reads_past.is_empty()) {
            (true, true) => None,
            _ if !known(&self.past_reads) && !known(&self.reads_past) => {
                Some("whether data can be read across it cannot be judged")
            }
            (false, true) => Some("earlier readers cannot read it"),
            (true, false) => Some("earlier data cannot be read by it"),
            (false, false) => Some("neither side can read the other"),
        }
    }
}

/// What changed from an earlier version to a later one, in words, with what each change breaks.
#[must_use]
pub fn differences(earlier: &Parsed, later: &Parsed) -> Vec<Difference> {
    let changes = match (earlier, later) {
        (Parsed::Avro(a), Parsed::Avro(b)) => avro::difference::changes(a, b),
        (Parsed::JsonSchema(a), Parsed::JsonSchema(b)) => json_schema::changes(a, b),
        (Parsed::Protobuf(a), Parsed::Protobuf(b)) => protobuf::changes(a, b),
        _ => vec![SchemaChange { path: "$".to_owned(), words: "it is written in another language".to_owned() }],
    };
    let mut past_reads = misfits(earlier, later);
    let mut reads_past = misfits(later, earlier);
    let mut out: Vec<Difference> = changes
        .into_iter()
        .map(|change| {
            let take = |from: &mut Vec<Misfit>| {
                let (here, rest): (Vec<_>, Vec<_>) = std::mem::take(from).into_iter().partition(|m| m.path == change.path);
                *from = rest;
                here
            };
            let (past, read) = (take(&mut past_reads), take(&mut reads_past));
            Difference { change, past_reads: past, reads_past: read }
        })
        .collect();
    // what no change was told of stands by itself
    for (misfit, past) in past_reads.into_iter().map(|m| (m, true)).chain(reads_past.into_iter().map(|m| (m, false))) {
        let change = SchemaChange { path: misfit.path.clone(), words: misfit.finding.clone() };
        let found = (vec![misfit], Vec::new());
        let (past_reads, reads_past) = if past { found } else { (found.1, found.0) };
        out.push(Difference { change, past_reads, reads_past });
    }
    out
}

/// Where a new version does not keep the rule.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Breach {
    /// `reads_past` or `past_reads`.
    pub half: &'static str,
    /// The earlier version.
    pub version: i32,
    /// What does not fit.
    pub misfits: Vec<Misfit>,
}

impl Breach {
    /// The first misfit in a sentence.
    #[must_use]
    pub fn said(&self) -> String {
        let first = self.misfits.first();
        let first = first.map(|m| format!("at {} {} ({}); to pass, {}", m.path, m.finding, m.rule, m.remedy));
        let (reader, writer) = if self.half == "reads_past" {
            ("it".to_owned(), format!("data of version {}", self.version))
        } else {
            (format!("version {}", self.version), "its data".to_owned())
        };
        let first = first.unwrap_or_default();
        if self.misfits.iter().all(|misfit| misfit.unknown) {
            return format!("whether {reader} can read {writer} cannot be judged: {first}");
        }
        format!("{reader} cannot read {writer}: {first}")
    }
}

/// Checks a new version by a rule against the earlier ones, the oldest first. Empty if it keeps the rule.
#[must_use]
pub fn breaches(rule: Rule, new: &Parsed, earlier: &[(i32, &Parsed)]) -> Vec<Breach> {
    let looked_at = |half: Half| match half {
        Half::Off => &earlier[earlier.len()..],
        Half::Latest => &earlier[earlier.len().saturating_sub(1)..],
        Half::All => earlier,
    };
    let reads = looked_at(rule.reads_past).iter().map(|(version, past)| ("reads_past", *version, misfits(new, past)));
    let read_by = looked_at(rule.past_reads).iter().map(|(version, past)| ("past_reads", *version, misfits(past, new)));
    let found = reads.chain(read_by).map(|(half, version, misfits)| Breach { half, version, misfits });
    found.filter(|breach| !breach.misfits.is_empty()).collect()
}

/// The names of a schema's fields, each with its path, to search by.
#[must_use]
pub fn field_paths(parsed: &Parsed) -> Vec<String> {
    match parsed {
        Parsed::Avro(schema) => avro::resolution::field_paths(schema),
        Parsed::JsonSchema(schema) => json_schema::field_paths(schema),
        Parsed::Protobuf(schema) => protobuf::field_paths(schema),
    }
}
