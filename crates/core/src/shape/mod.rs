//! What a connector does to rows on their way: steps and table rules, as a person gives them. What they come to for a table
//! is worked out in the shape crate.

mod fields;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::change::{ChangeKind, Origin};
use crate::change_form::position_text;
use crate::civil::rfc3339;
use crate::table::TableSchema;

/// One step with its switch.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, ToSchema)]
pub struct ShapeStep {
    /// Whether it is passed over.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub off: bool,
    /// What it does.
    #[serde(flatten)]
    pub step: Step,
}

impl From<Step> for ShapeStep {
    fn from(step: Step) -> Self {
        Self { off: false, step }
    }
}

/// A column's new name.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Renaming {
    /// The column.
    pub column: String,
    /// What it is called from here on.
    pub to: String,
}

/// How a column's values are hidden.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "how", rename_all = "snake_case", deny_unknown_fields)]
pub enum Mask {
    /// One fixed value instead of all.
    Hide {
        /// The value; null where none is given.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        with: Option<String>,
    },
    /// Some characters at the ends stay.
    Partial {
        /// Characters that stay at the beginning.
        #[serde(default)]
        first: u32,
        /// Characters that stay at the end.
        #[serde(default)]
        last: u32,
    },
    /// HMAC-SHA-256 with the connector's secret, in hexadecimal digits.
    Hash,
    /// A token that keeps letters letters and digits digits; equal values get equal tokens.
    Token,
}

/// What is taken off at the ends of a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Ends {
    /// White space at both ends.
    #[default]
    Both,
    /// At the beginning.
    First,
    /// At the end.
    Last,
}

/// A way of writing letters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Letters {
    /// All small.
    Lower,
    /// All capital.
    Upper,
    /// The first of each word capital.
    Initial,
}

/// Characters that are substituted.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "which", rename_all = "snake_case", deny_unknown_fields)]
pub enum Characters {
    /// Control characters, also line breaks and tabs.
    Control,
    /// All that ISO 8859-1 does not have.
    NotLatin1,
    /// All that ASCII does not have.
    NotAscii,
    /// These.
    These {
        /// The characters, one after another.
        characters: String,
    },
}

/// A nested value that becomes a column.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Unpacked {
    /// Names and positions in the JSON value, outermost first.
    pub path: Vec<String>,
    /// The column's name.
    pub column: String,
    /// Its SQL type.
    #[serde(rename = "type")]
    pub ty: String,
}

/// Where rows go to.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Way {
    /// The condition; none for all rows that no way before took.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when: Option<String>,
    /// The topic or table; `{column}` stands for a column's value.
    pub to: String,
}

/// Something about a change's origin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Fact {
    /// What happened to the row.
    Kind,
    /// When it was committed in the source.
    CommittedAt,
    /// The position in the source's log.
    Position,
    /// The source's transaction.
    Transaction,
    /// The number within its transaction.
    Sequence,
    /// The system.
    System,
    /// The schema.
    Schema,
    /// The table.
    Table,
}

impl Fact {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Kind,
        Self::CommittedAt,
        Self::Position,
        Self::Transaction,
        Self::Sequence,
        Self::System,
        Self::Schema,
        Self::Table,
    ];

    /// What it is of a change, as a header says it.
    #[must_use]
    pub fn text(self, kind: ChangeKind, origin: &Origin, table: &TableSchema) -> String {
        match self {
            Self::Kind => kind.word().to_owned(),
            Self::CommittedAt => rfc3339(origin.commit_time_us),
            Self::Position => position_text(origin.position),
            Self::Transaction => origin.transaction.to_string(),
            Self::Sequence => origin.sequence.to_string(),
            Self::System => table.system.clone(),
            Self::Schema => table.schema.clone(),
            Self::Table => table.table.clone(),
        }
    }

    /// Its name in `origin.…`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Kind => "kind",
            Self::CommittedAt => "committed_at",
            Self::Position => "position",
            Self::Transaction => "transaction",
            Self::Sequence => "sequence",
            Self::System => "system",
            Self::Schema => "schema",
            Self::Table => "table",
        }
    }
}

/// A fact of the origin that becomes a column, or a header of the record.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FactColumn {
    /// The fact.
    pub fact: Fact,
    /// The column's name; empty where it becomes a header.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub column: String,
    /// The header's name; empty where it becomes a column.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub header: String,
}

/// A table of a database that is looked into. All of it is read, now and then anew.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LookedUpTable {
    /// The connection that it is read through: its id, in a manifest its name.
    pub connection: String,
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub table: String,
    /// Seconds after which it is read anew.
    #[serde(default = "a_minute", skip_serializing_if = "is_a_minute")]
    pub every_seconds: u32,
}

fn a_minute() -> u32 {
    60
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde calls it with a reference")]
fn is_a_minute(seconds: &u32) -> bool {
    *seconds == a_minute()
}

/// What a lookup looks into, by the name that its rows are kept by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LookedInto {
    /// The name.
    pub name: String,
    /// The table; none where the name is a topic's.
    pub table: Option<LookedUpTable>,
    /// The columns that are compared.
    pub keys: Vec<String>,
    /// The columns that are taken.
    pub columns: Vec<String>,
}

/// What a lookup does where the reference has no row.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Miss {
    /// Its columns are null.
    #[default]
    Empty,
    /// The row goes no further.
    Leave,
    /// The row is put aside as one that cannot be handled.
    Refuse,
}

/// A column that a lookup adds.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Added {
    /// The reference's column.
    pub from: String,
    /// What it is called here.
    pub column: String,
}

/// A column and the reference's key column that it is compared with.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Match {
    /// The column here.
    pub column: String,
    /// The key column there.
    pub key: String,
}

/// What a step does.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "step", rename_all = "snake_case")]
pub enum Step {
    /// Only these columns stay, in this order.
    Keep {
        /// The columns.
        columns: Vec<String>,
    },
    /// These columns go.
    Drop {
        /// The columns.
        columns: Vec<String>,
    },
    /// Columns get other names.
    Rename {
        /// Which.
        columns: Vec<Renaming>,
    },
    /// These columns come first, the others after them as they were.
    Reorder {
        /// The columns.
        columns: Vec<String>,
    },
    /// A column is added, or replaced, by what an expression gives.
    Compute {
        /// Its name.
        column: String,
        /// The SQL expression.
        value: String,
    },
    /// A column gets another type.
    Convert {
        /// The column.
        column: String,
        /// The SQL type.
        to: String,
    },
    /// Where a column is null, a value stands instead.
    Fill {
        /// The column.
        column: String,
        /// The SQL expression.
        value: String,
    },
    /// Values are hidden, in both images of a row.
    Mask {
        /// The columns.
        columns: Vec<String>,
        /// How.
        #[serde(flatten)]
        mask: Mask,
    },
    /// White space is taken off texts.
    Trim {
        /// The columns.
        columns: Vec<String>,
        /// Where.
        #[serde(default)]
        ends: Ends,
    },
    /// Letters of texts are changed.
    Letters {
        /// The columns.
        columns: Vec<String>,
        /// Into which.
        to: Letters,
    },
    /// Characters of texts are substituted.
    Substitute {
        /// The columns.
        columns: Vec<String>,
        /// Which characters.
        #[serde(flatten)]
        characters: Characters,
        /// What stands for each of them.
        #[serde(default)]
        with: String,
    },
    /// A text is split into columns; what is missing is null.
    Split {
        /// The column.
        column: String,
        /// What stands between the parts.
        by: String,
        /// The parts' columns in order.
        into: Vec<String>,
    },
    /// Nested values become columns of their own.
    Unpack {
        /// The column with a JSON value.
        column: String,
        /// What is taken out of it.
        fields: Vec<Unpacked>,
        /// Whether the column stays.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        keep: bool,
    },
    /// Only rows that fulfil a condition go on. A row that no longer does is deleted, one that does from now on is inserted.
    Filter {
        /// The SQL condition.
        only: String,
    },
    /// Rows go to topics or tables by conditions.
    Route {
        /// The ways, the first that fits is taken; a row that none fits goes where the table's rows go.
        ways: Vec<Way>,
    },
    /// Facts of the change's origin become columns.
    Origin {
        /// Which.
        facts: Vec<FactColumn>,
    },
    /// Columns are added from a reference by its key.
    Lookup {
        /// The reference topic: current rows by key. Empty where a table is looked into.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        topic: String,
        /// The database table that is looked into; none where it is a topic.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        table: Option<LookedUpTable>,
        /// What is compared: all key columns of the reference; of a table any columns that are no two rows' together.
        by: Vec<Match>,
        /// What is added.
        columns: Vec<Added>,
        /// What happens where the reference has no row.
        #[serde(default)]
        miss: Miss,
        /// Whether rows that were carried before are carried again when what they look up changes; between topics only.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        again: bool,
    },
    /// A row that says the same as the one before of its key goes no further.
    DropRepeats {
        /// The columns that are compared; none for all.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        by: Vec<String>,
    },
    /// Free SQL: `SELECT … FROM input WHERE …`.
    Sql {
        /// The statement.
        select: String,
    },
}

impl Step {
    /// What it is called.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::Keep { .. } => "keep",
            Self::Drop { .. } => "drop",
            Self::Rename { .. } => "rename",
            Self::Reorder { .. } => "reorder",
            Self::Compute { .. } => "compute",
            Self::Convert { .. } => "convert",
            Self::Fill { .. } => "fill",
            Self::Mask { .. } => "mask",
            Self::Trim { .. } => "trim",
            Self::Letters { .. } => "letters",
            Self::Substitute { .. } => "substitute",
            Self::Split { .. } => "split",
            Self::Unpack { .. } => "unpack",
            Self::Filter { .. } => "filter",
            Self::Route { .. } => "route",
            Self::Origin { .. } => "origin",
            Self::Lookup { .. } => "lookup",
            Self::DropRepeats { .. } => "drop repeats",
            Self::Sql { .. } => "SQL",
        }
    }
}

impl Step {
    /// The name that rows are kept by which a lookup looks into: the topic, or the table with its columns that are compared.
    #[must_use]
    pub fn looks_into(&self) -> Option<String> {
        let Self::Lookup { topic, table, by, .. } = self else { return None };
        let Some(table) = table else { return Some(topic.clone()) };
        let keys: Vec<&str> = by.iter().map(|pair| pair.key.as_str()).collect();
        Some(format!("{}.{}({}) of {}", table.schema, table.table, keys.join(", "), table.connection))
    }
}

/// What a table rule does to every table that it is for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(tag = "rule", rename_all = "snake_case")]
#[schema(as = ShapeRule)]
pub enum Rule {
    /// Names of columns in other letters.
    Letters {
        /// Which.
        to: Letters,
    },
    /// Something stands before the names of columns.
    Prefix {
        /// What.
        with: String,
    },
    /// Columns whose names match a pattern go; key columns stay.
    Drop {
        /// The patterns.
        columns: Vec<String>,
    },
    /// A column is added.
    Add {
        /// Its name.
        column: String,
        /// The SQL expression.
        value: String,
    },
    /// All columns of a type get another.
    Convert {
        /// The type they have: `numeric` stands for all numerics.
        from: String,
        /// The SQL type they get.
        to: String,
    },
    /// Characters of all texts are substituted.
    Substitute {
        /// Which characters.
        #[serde(flatten)]
        characters: Characters,
        /// What stands for each of them.
        #[serde(default)]
        with: String,
    },
    /// Columns whose names match a pattern are hidden.
    Mask {
        /// The patterns.
        columns: Vec<String>,
        /// How.
        #[serde(flatten)]
        mask: Mask,
    },
}

/// Rules for all tables whose names match a pattern. They come before a table's own steps.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TableRule {
    /// The pattern for `schema.table`: `*` stands for any characters, `?` for one.
    pub tables: String,
    /// What is done, in order.
    #[serde(deserialize_with = "fields::rules")]
    pub rules: Vec<Rule>,
}

impl TableRule {
    /// Whether a table is meant.
    #[must_use]
    pub fn covers(&self, schema: &str, table: &str) -> bool {
        crate::table_patterns::covers(&self.tables, schema, table)
    }
}

/// What a connector does to the rows of its tables or topics.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Shapes {
    /// Rules for many tables; they come before the steps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<TableRule>,
    /// The steps of each, by its name: `schema.table` at a source, the topic elsewhere.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub steps: BTreeMap<String, Vec<ShapeStep>>,
}

impl Shapes {
    /// The steps of a table or topic.
    #[must_use]
    pub fn of(&self, name: &str) -> &[ShapeStep] {
        self.steps.get(name).map_or(&[], Vec::as_slice)
    }

    /// Whether rows go as they come.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        self.rules.is_empty() && self.steps.values().flatten().all(|s| s.off)
    }

    /// What is looked into, each once with all columns that are taken of it.
    #[must_use]
    pub fn references(&self) -> Vec<LookedInto> {
        let mut out: Vec<LookedInto> = Vec::new();
        for step in self.steps.values().flatten().filter(|step| !step.off) {
            let (Some(name), Step::Lookup { table, by, columns, .. }) = (step.step.looks_into(), &step.step) else {
                continue;
            };
            let place = out.iter().position(|known| known.name == name).unwrap_or_else(|| {
                let keys = by.iter().map(|pair| pair.key.clone()).collect();
                out.push(LookedInto { name, table: table.clone(), keys, columns: Vec::new() });
                out.len() - 1
            });
            for column in columns {
                if !out[place].columns.contains(&column.from) {
                    out[place].columns.push(column.from.clone());
                }
            }
        }
        out.sort_by(|a, b| a.name.cmp(&b.name));
        out
    }

    /// The connections that are looked up through, where they are written: ids, in a manifest names.
    pub fn connections(&mut self) -> impl Iterator<Item = &mut String> {
        self.steps.values_mut().flatten().filter_map(|step| match &mut step.step {
            Step::Lookup { table: Some(table), .. } => Some(&mut table.connection),
            _ => None,
        })
    }

    /// The topics that are looked into so that rows are carried again when they change.
    #[must_use]
    pub fn followed(&self) -> Vec<&str> {
        let steps = self.steps.values().flatten().filter(|step| !step.off);
        let followed = steps.filter_map(|step| match &step.step {
            Step::Lookup { topic, again: true, .. } => Some(topic.as_str()),
            _ => None,
        });
        let mut out: Vec<&str> = followed.collect();
        out.sort_unstable();
        out.dedup();
        out
    }

    /// The headers that records of a table or topic get, in order.
    #[must_use]
    pub fn headers(&self, name: &str) -> Vec<(String, Fact)> {
        let steps = self.of(name).iter().filter(|step| !step.off);
        let facts = steps.filter_map(|step| if let Step::Origin { facts } = &step.step { Some(facts) } else { None });
        facts.flatten().filter(|f| !f.header.is_empty()).map(|f| (f.header.clone(), f.fact)).collect()
    }

    /// Where rows of a table or topic may be routed, each once; a name may have columns in it.
    #[must_use]
    pub fn routes(&self, name: &str) -> Vec<&str> {
        let mut out = Vec::new();
        for step in self.of(name).iter().filter(|s| !s.off) {
            if let Step::Route { ways } = &step.step {
                for way in ways {
                    if !out.contains(&way.to.as_str()) {
                        out.push(way.to.as_str());
                    }
                }
            }
        }
        out
    }

    /// The same, as far as no column decides the name.
    #[must_use]
    pub fn ways(&self, name: &str) -> Vec<&str> {
        let mut out = self.routes(name);
        out.retain(|to| !to.contains('{'));
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_come_back_from_their_text() {
        let text = r#"[{"step":"rename","columns":[{"column":"weight_kg","to":"kg"}]},
            {"off":true,"step":"mask","columns":["phone"],"how":"partial","first":0,"last":2},
            {"step":"substitute","columns":["remark"],"which":"control","with":" "},
            {"step":"lookup","topic":"packhouse.blocks","by":[{"column":"block_id","key":"id"}],
             "columns":[{"from":"variety","column":"variety"}],"miss":"refuse"},
            {"step":"drop_repeats"}]"#;
        let steps: Vec<ShapeStep> = serde_json::from_str(text).unwrap();
        assert!(steps[1].off && steps[1].step.word() == "mask");
        assert_eq!(serde_json::from_str::<Vec<ShapeStep>>(&serde_json::to_string(&steps).unwrap()).unwrap(), steps);
        let wrong = [
            (r#"{"step":"guess"}"#, "unknown variant `guess`"),
            (r#"{"step":"mask","columns":["phone"],"how":"partial","frist":2}"#, "step mask: unknown field `frist`"),
            (r#"{"step":"mask","columns":["phone"],"how":"hash","with":"x"}"#, "it has columns, how"),
            (r#"{"step":"compute","column":"a"}"#, "step compute: missing field `value`"),
            (r#"{"step":"drop_repeats","off":"no"}"#, "give true or false"),
            (r#"{"step":"substitute","columns":["a"],"which":"control","characters":"x"}"#, "no field characters"),
        ];
        for (text, part) in wrong {
            let error = serde_json::from_str::<ShapeStep>(text).unwrap_err().to_string();
            assert!(error.contains(part), "{error}");
        }
        let rule = r#"{"tables":"*","rules":[{"rule":"prefix","with":"G_","form":"x"}]}"#;
        assert!(serde_json::from_str::<TableRule>(rule).unwrap_err().to_string().contains("rule prefix has no field form"));
    }

    #[test]
    fn a_rule_is_for_the_tables_its_pattern_names() {
        let rule = |tables: &str| TableRule { tables: tables.into(), rules: vec![] };
        assert!(rule("public.*").covers("public", "bins") && rule("b?ns").covers("packing", "bins"));
        assert!(!rule("public.b").covers("public", "bins"));
    }
}
