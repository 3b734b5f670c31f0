//! A shape worked out for one table: stages over its columns, checked against its real schema before anything runs.

use std::sync::Arc;

use gonvel_core::shape::{Miss, ShapeStep, TableRule};
use gonvel_core::table::TableSchema;

use crate::building::Builder;
use crate::columns::Columns;
use crate::finding::{Finding, Weight};
use crate::hidden::mark_secrets;
use crate::rules;
use crate::stages::{Kind, Stage};
use crate::tools::Tools;

pub use crate::building::References;

/// A shape for one table.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The table that comes.
    pub table: Arc<TableSchema>,
    /// The stages in order.
    pub stages: Vec<Stage>,
    /// The table that goes on.
    pub output: Arc<TableSchema>,
    /// What may go wrong.
    pub warnings: Vec<Finding>,
}

/// Steps with the rules before them.
#[derive(Debug, Clone, Copy)]
pub struct Shape<'s> {
    /// Rules for many tables.
    pub rules: &'s [TableRule],
    /// The table's own steps.
    pub steps: &'s [ShapeStep],
}

impl Shape<'_> {
    /// Whether it does nothing to a table.
    #[must_use]
    pub fn is_nothing(&self, table: &TableSchema) -> bool {
        self.steps.iter().all(|s| s.off) && rules::covering(self.rules, &table.schema, &table.table).next().is_none()
    }
}

/// What compiling gives besides a plan: how far it came, and everything that was found.
#[derive(Debug, Clone)]
pub struct Compiled {
    /// The plan; none if something is wrong.
    pub plan: Option<Plan>,
    /// Everything that was found, errors first.
    pub findings: Vec<Finding>,
    /// The columns before each step, as far as they are known: for completion in the editor.
    pub before: Vec<Columns>,
}

impl Plan {
    /// Works a shape out for a table.
    #[must_use]
    pub fn compile(table: &Arc<TableSchema>, shape: Shape<'_>, references: &References, tools: &Tools) -> Compiled {
        let mut builder = Builder {
            references,
            tools,
            columns: Columns::of(table),
            stages: Vec::new(),
            findings: Vec::new(),
            failed: false,
        };
        for rule in rules::covering(shape.rules, &table.schema, &table.table) {
            match rules::steps(rule, &builder.columns) {
                Ok(steps) => steps.iter().for_each(|step| builder.step(None, step)),
                Err(finding) => builder.found(None, finding),
            }
        }
        let mut before = Vec::with_capacity(shape.steps.len() + 1);
        for (number, step) in shape.steps.iter().enumerate() {
            before.push(builder.columns.clone());
            if !step.off {
                builder.step(Some(number), &step.step);
            }
        }
        before.push(builder.columns.clone());
        builder.check_routed_once();
        builder.check_repeats();
        let Builder { columns, mut stages, mut findings, failed, .. } = builder;
        mark_secrets(&mut stages, &mut findings);
        findings.sort_by_key(|f| f.weight);
        let plan = (!failed && findings.iter().all(|f| f.weight == Weight::Warning)).then(|| Plan {
            table: table.clone(),
            output: Arc::new(columns.table(table)),
            stages,
            warnings: findings.clone(),
        });
        Compiled { plan, findings, before }
    }

    /// Whether it may leave a row out in one place: then a row may come to be there by an update.
    #[must_use]
    pub fn may_leave_out(&self) -> bool {
        self.stages.iter().any(|stage| match &stage.kind {
            Kind::Filter(..) | Kind::Route(_) => true,
            Kind::Lookup(lookup) => lookup.miss == Miss::Leave,
            _ => false,
        })
    }

    /// Whether it can be told of an old image where its row was before. What a reference says today need not be what it said then.
    #[must_use]
    pub fn recalls(&self) -> bool {
        let looks = self.stages.iter().position(|s| matches!(s.kind, Kind::Lookup(_)));
        looks.is_none_or(|first| {
            !self.stages[first..].iter().any(|stage| match &stage.kind {
                Kind::Filter(..) | Kind::Route(_) | Kind::Repeats(_) => true,
                Kind::Lookup(lookup) => lookup.miss == Miss::Leave,
                Kind::Project(_) => false,
            })
        })
    }

    /// Whether rows that say the same again go no further.
    #[must_use]
    pub fn drops_repeats(&self) -> bool {
        self.stages.iter().any(|s| matches!(s.kind, Kind::Repeats(_)))
    }

    /// Whether a key column is worked out anew, so that keys have to be written anew.
    #[must_use]
    pub fn changes_keys(&self) -> bool {
        let keys = |t: &TableSchema| t.columns.iter().filter(|c| c.key).cloned().collect::<Vec<_>>();
        let computed = |stage: &Stage| match &stage.kind {
            Kind::Project(outs) => outs.iter().zip(&stage.output.fields).any(|(o, f)| f.key && o.plain.is_none()),
            _ => false,
        };
        keys(&self.table) != keys(&self.output) || self.stages.iter().any(computed)
    }

    /// Whether a value of the key must not be seen.
    #[must_use]
    pub fn hides_keys(&self) -> bool {
        self.stages.first().is_some_and(|stage| stage.input.fields.iter().zip(&stage.secret).any(|(f, s)| f.key && *s))
    }

    /// The names of routes that are constants.
    #[must_use]
    pub fn ways(&self) -> Vec<String> {
        let of = |stage: &Stage| match &stage.kind {
            Kind::Route(ways) => ways.iter().filter_map(|(_, to)| to.constant()).collect(),
            _ => Vec::new(),
        };
        let mut out: Vec<String> = Vec::new();
        self.stages.iter().flat_map(of).for_each(|way| {
            if !out.contains(&way) {
                out.push(way);
            }
        });
        out
    }
}
