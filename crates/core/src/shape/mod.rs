//! What a connector does to rows on their way: steps and table rules, as a person gives them. What they come to for a table
//! is worked out in the shape crate.

mod facts;
mod fields;
mod lookups;
mod shapes;

pub use facts::{Fact, FactColumn};
pub use lookups::{Added, LookedInto, LookedUpTable, Match, Miss};
use serde::{Deserialize, Serialize};
pub use shapes::{Shapes, TableRule};
use utoipa::ToSchema;

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
