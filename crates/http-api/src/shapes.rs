//! Shapes: checked against real columns, and tried on real rows, before anything runs.

use gonvel_core::event_rows::EventRows;
use gonvel_core::shape::Shapes;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::{CapturedTable, SchemaDifference, Values};

/// A function that expressions may use.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeFunction {
    /// Its name.
    pub name: String,
    /// What it is about.
    pub group: String,
    /// The ways to call it: `(text, integer) → text`.
    pub signatures: Vec<String>,
    /// What it does.
    pub line: String,
    /// An expression.
    pub example: String,
    /// What that gives.
    pub result: String,
}

/// Where rows are taken from.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "from", rename_all = "lowercase")]
pub enum RowsFrom {
    /// The newest records of a topic.
    Topic {
        /// The topic.
        topic: String,
        /// How its records become rows, where they are events and no changes of a table.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rows: Option<EventRows>,
    },
    /// A table's own rows.
    Table {
        /// The connection to its system.
        connection: Uuid,
        /// The table.
        table: CapturedTable,
    },
    /// Records that wait in quarantine, as they were mended if they were; a source's rows as they are in their table now.
    Quarantine {
        /// Their connector.
        connector: Uuid,
        /// What they failed of, as `GET /api/v1/quarantine/causes` names it.
        cause: String,
    },
}

/// A shape to be tried.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TryShape {
    /// Rules and steps.
    pub shape: Shapes,
    /// Where rows are taken from: their steps are those of this topic, or of this table's `schema.table`.
    pub rows: RowsFrom,
    /// Rows besides, as their columns' texts in SQL's form; null for null.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub made: Vec<std::collections::BTreeMap<String, Option<String>>>,
    /// The topic that a source writes: for the verdict on its next schema.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub topic: Option<String>,
    /// How a source writes its records.
    #[serde(default)]
    pub values: Values,
}

/// A column.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeColumn {
    /// Its name.
    pub name: String,
    /// Its type.
    #[serde(rename = "type")]
    pub ty: String,
    /// Whether it is part of the key.
    pub key: bool,
    /// Whether it may be null.
    pub nullable: bool,
}

/// Something wrong with a shape, or that may become so.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeFinding {
    /// Whether the shape cannot run because of it.
    pub wrong: bool,
    /// The step, from 0; none for a table rule.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<usize>,
    /// The step's field.
    pub field: String,
    /// The first character in the field's text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<usize>,
    /// The character after the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<usize>,
    /// What was found.
    pub message: String,
    /// What to write instead, or do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub suggestion: Option<String>,
}

/// A row at one place of its way.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeRow {
    /// The row after the change; before it, for a delete. Null for null.
    pub cells: Vec<Option<String>>,
    /// Whether it is still there.
    pub there: bool,
}

/// How rows look after a step.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeStage {
    /// The step, from 0; none for a table rule.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub step: Option<usize>,
    /// The columns.
    pub columns: Vec<ShapeColumn>,
    /// The rows, in the order of the sample.
    pub rows: Vec<ShapeRow>,
}

/// What became of a row in the end.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeOutcome {
    /// What happened to it: `insert`, `update`, `delete`, `load`, `truncate`.
    pub kind: String,
    /// What the shape makes of that: the same words; none if it goes no further.
    pub becomes: Vec<String>,
    /// Where it is routed to, if it is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Why it fails, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<String>,
}

/// What the next schema of a source's topic would be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeSchema {
    /// Its text.
    pub text: String,
    /// Whether it may become the topic's next version.
    pub passes: bool,
    /// What changes, and what that breaks.
    pub differences: Vec<SchemaDifference>,
}

/// What a shape does.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TriedShape {
    /// Everything that was found, what is wrong first.
    pub findings: Vec<ShapeFinding>,
    /// The columns before each step, and at last those that go on, as far as they are known.
    pub before: Vec<Vec<ShapeColumn>>,
    /// The whole as one statement of SQL.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// The columns that come.
    pub columns: Vec<ShapeColumn>,
    /// The rows that come.
    pub rows: Vec<ShapeRow>,
    /// How they look after each step.
    pub stages: Vec<ShapeStage>,
    /// What became of each.
    pub outcomes: Vec<ShapeOutcome>,
    /// The schema that is registered next.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schema: Option<ShapeSchema>,
    /// Why there is no sample, if there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_rows: Option<String>,
}

/// Two shapes to be compared over many rows.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CompareShapes {
    /// The shape that is in force.
    pub before: Shapes,
    /// The one that would be.
    pub after: Shapes,
    /// Where rows are taken from.
    pub rows: RowsFrom,
    /// How many, at most 100,000.
    pub most: usize,
}

/// A column of a row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ShapeCell {
    /// The column.
    pub column: String,
    /// Its value's text; null for null.
    pub value: Option<String>,
}

/// A row that comes out otherwise.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShapeDifference {
    /// `appears`, `disappears`, `changes`, `fails`.
    pub what: String,
    /// Its key as it comes.
    pub key: String,
    /// Its columns by the shape in force.
    pub before: Vec<ShapeCell>,
    /// Its columns by the other one.
    pub after: Vec<ShapeCell>,
    /// Why it fails, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<String>,
}

/// What another shape does to many rows.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ComparedShapes {
    /// What is wrong with the other shape; then nothing was compared.
    pub findings: Vec<ShapeFinding>,
    /// Rows looked at.
    pub rows: usize,
    /// Rows that come out the same.
    pub same: usize,
    /// Rows that the other shape lets through and the one in force does not.
    pub appear: usize,
    /// Rows that it lets through no more.
    pub disappear: usize,
    /// Rows that come out with other columns or values.
    pub change: usize,
    /// Rows that fail.
    pub fail: usize,
    /// Columns that are there only before.
    pub columns_gone: Vec<String>,
    /// Columns that are there only after.
    pub columns_new: Vec<String>,
    /// The first few of each kind.
    pub examples: Vec<ShapeDifference>,
}
