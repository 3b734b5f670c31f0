//! A connector's shape at work: worked out for every table as its columns come, and carried out over batches.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_connectors::error::ConnectorError;
use gonvel_core::change::ChangeBatch;
use gonvel_core::shape::Shapes;
use gonvel_core::table::TableSchema;
use gonvel_shape::plan::{Plan, Shape};
use gonvel_shape::run::{Context, Shaped};
use gonvel_shape::tools::{MaskKey, Tools};
use tokio::sync::Mutex;

use crate::fleet::Services;
use crate::lane::Failure;
use crate::references::{self, References};

/// A connector's shape.
pub(crate) struct Shaping {
    shapes: Shapes,
    /// What the steps of each place are given by: a topic, or `schema.table`.
    names: Vec<String>,
    context: Context,
    references: References,
    plans: HashMap<(usize, Arc<TableSchema>), Option<Arc<Plan>>>,
}

/// A shape that the reading of a lane and its trying again have in common: what references hold is in memory once.
pub(crate) type Shared = Arc<Mutex<Shaping>>;

/// Whether rows come for the first time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pass {
    First,
    /// They came before and are tried again: none is a repeat of itself.
    Again,
}

/// What becomes of a batch.
pub(crate) enum Came {
    /// It goes as it came.
    AsItWas,
    /// It was shaped by a plan.
    Otherwise(Shaped, Arc<Plan>),
}

impl Shaping {
    /// Of a connector; none if its rows go as they come.
    ///
    /// # Errors
    /// [`ConnectorError::TryAgain`] if a reference is not there yet.
    pub(crate) async fn of(services: &Services, shapes: &Shapes, names: Vec<String>) -> Result<Option<Self>, Failure> {
        if shapes.is_nothing() {
            return Ok(None);
        }
        let secret = services.fleet.mask_secret();
        let mut context = Context::new(Tools::new(MaskKey::of(secret.expose())));
        let (log, schemas) = (services.log.clone(), services.schemas.clone());
        let references = References::read(log, schemas, shapes, &mut context.references).await?;
        Ok(Some(Self { shapes: shapes.clone(), names, context, references, plans: HashMap::new() }))
    }

    /// The same, for those that have it in common.
    pub(crate) fn shared(self) -> Shared {
        Arc::new(Mutex::new(self))
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, name: String) {
        self.names.push(name);
    }

    /// Brings the references up to date. Where one has other columns now, what the shape comes to is worked out anew.
    pub(crate) async fn catch_up(&mut self) -> Result<(), Failure> {
        if self.references.catch_up(&self.shapes, &mut self.context.references).await? {
            self.plans.clear();
        }
        Ok(())
    }

    /// Carries the shape out over a batch of the table or topic at a place.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if the shape does not fit the batch's columns.
    pub(crate) fn shape(&mut self, place: usize, batch: &ChangeBatch, pass: Pass) -> Result<Came, Failure> {
        let Some(plan) = self.plan(place, &batch.table)? else { return Ok(Came::AsItWas) };
        let shaped = match pass {
            Pass::First => plan.apply(batch, &mut self.context),
            Pass::Again => plan.apply_again(batch, &mut self.context),
        };
        Ok(Came::Otherwise(shaped, plan))
    }

    fn plan(&mut self, place: usize, table: &Arc<TableSchema>) -> Result<Option<Arc<Plan>>, Failure> {
        if let Some(known) = self.plans.get(&(place, table.clone())) {
            return Ok(known.clone());
        }
        let name = &self.names[place];
        let shape = Shape { rules: &self.shapes.rules, steps: self.shapes.of(name) };
        let plan = if shape.is_nothing(table) {
            None
        } else {
            let compiled = Plan::compile(table, shape, &references::tables(&self.context.references), &self.context.tools);
            let Some(plan) = compiled.plan else {
                let first = compiled.findings.first().map(ToString::to_string).unwrap_or_default();
                let finding = format!("the shape of {name} does not fit its columns: {first}");
                return Err(ConnectorError::settings(
                    Some("shape"),
                    finding,
                    "change the shape; it goes on where it stands",
                )
                .into());
            };
            Some(Arc::new(plan))
        };
        self.plans.insert((place, table.clone()), plan.clone());
        Ok(plan)
    }
}
