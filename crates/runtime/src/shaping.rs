//! A connector's shape at work: worked out for every table as its columns come, and carried out over batches.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, Origin};
use gonvel_core::naming::TopicPartition;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::shape::{Fact, Shapes};
use gonvel_core::table::TableSchema;
use gonvel_shape::own::Own;
use gonvel_shape::plan::{Plan, Shape};
use gonvel_shape::reference::{Changed, Reference};
use gonvel_shape::run::{Context, Shaped};
use gonvel_shape::tools::{MaskKey, Tools};
use tokio::sync::Mutex;

use crate::failing::Failure;
use crate::references::{self, ReadFrom, References};
use crate::services::Services;

/// Why a part of a row does not go where the row may not be.
pub(crate) const PART_OF_A_ROW: &str = "an update brings a part of its row only, and the row may come where it was not before: \
     what was not sent of it cannot be known; give the source's table REPLICA IDENTITY FULL, or write the topic in row form";

/// A connector's shape.
pub(crate) struct Shaping {
    shapes: Shapes,
    /// What the steps of each place are given by: a topic, or `schema.table`.
    names: Vec<String>,
    context: Context,
    references: References,
    plans: HashMap<(usize, Arc<TableSchema>), Option<Arc<Plan>>>,
    ways: Ways,
}

/// Where rows of what is read may be routed to. Each has a place after those of what is read.
#[derive(Debug, Default)]
pub(crate) struct Ways {
    /// By the place of what is read, and by name.
    places: HashMap<(usize, String), usize>,
    /// Whether there may be more than were known before, and how many places are taken.
    grow: Option<usize>,
    /// Those that were found, with the place of what they are of.
    found: Vec<(usize, String)>,
}

impl Ways {
    /// Those whose places are known before.
    pub(crate) fn known(places: HashMap<(usize, String), usize>) -> Self {
        Self { places, grow: None, found: Vec::new() }
    }

    /// Those that are found, with places from one on.
    pub(crate) fn growing(from: usize) -> Self {
        Self { grow: Some(from), ..Self::default() }
    }

    /// The place of a way.
    ///
    /// # Errors
    /// [`ConnectorError::Settings`] if it is none of those that are known.
    pub(crate) fn place(&mut self, of: usize, way: &str) -> Result<usize, Failure> {
        if let Some(known) = self.places.get(&(of, way.to_owned())) {
            return Ok(*known);
        }
        let Some(next) = self.grow.as_mut() else {
            let finding = format!("a row would go to {way}, which is named by a column");
            let remedy = "name the tables that rows go to without columns";
            return Err(ConnectorError::settings(Some("shape"), finding, remedy).into());
        };
        let place = *next;
        *next += 1;
        self.places.insert((of, way.to_owned()), place);
        self.found.push((of, way.to_owned()));
        Ok(place)
    }

    /// Those that were found since this was last asked, in the order of their places.
    pub(crate) fn found(&mut self) -> Vec<(usize, String)> {
        std::mem::take(&mut self.found)
    }
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
        Self::noting(services, shapes, names, &BTreeMap::new()).await
    }

    /// The same for a lane that carries rows again, of which it did so for what references held up to some offsets.
    pub(crate) async fn noting(
        services: &Services,
        shapes: &Shapes,
        names: Vec<String>,
        done: &BTreeMap<TopicPartition, i64>,
    ) -> Result<Option<Self>, Failure> {
        if shapes.is_nothing() {
            return Ok(None);
        }
        let secret = services.fleet.mask_secret();
        let own = Own::of(services.fleet.own_functions().await?);
        let mut context = Context::new(Tools::new(MaskKey::of(secret.expose())).with(own));
        let (log, schemas, fleet) = (services.log.clone(), services.schemas.clone(), services.fleet.clone());
        let from = ReadFrom { log, schemas, fleet, most_bytes: services.runner.lane_bytes };
        let references = References::read(from, shapes, done, &mut context.references).await?;
        Ok(Some(Self { shapes: shapes.clone(), names, context, references, plans: HashMap::new(), ways: Ways::default() }))
    }

    /// The same, for those that have it in common, with where rows are routed to.
    pub(crate) fn shared(self, ways: Ways) -> Shared {
        Arc::new(Mutex::new(Self { ways, ..self }))
    }

    /// The headers that records get of what is read at a place.
    pub(crate) fn headers(&self, place: usize) -> Vec<(String, Fact)> {
        self.names.get(place).map_or_else(Vec::new, |name| self.shapes.headers(name))
    }

    /// Where rows are routed to.
    pub(crate) fn ways(&mut self) -> &mut Ways {
        &mut self.ways
    }

    /// One more table, found in the stream.
    pub(crate) fn add(&mut self, name: String) {
        self.names.push(name);
    }

    /// The references.
    pub(crate) fn references(&mut self) -> &mut References {
        &mut self.references
    }

    /// Whether something changed that rows are to be carried again for.
    pub(crate) fn has_changed(&self) -> bool {
        self.context.references.values().any(Reference::has_changed)
    }

    /// Where references were read to, unless rows are still to be carried again for what they hold.
    pub(crate) fn note_followed(&mut self, followed: &mut BTreeMap<TopicPartition, i64>) {
        if !self.has_changed() {
            *followed = self.references.followed_to();
            self.references.done(followed);
        }
    }

    /// What changed, by the references' topics.
    pub(crate) fn take_changed(&mut self) -> Arc<HashMap<String, Changed>> {
        let changed = self.context.references.iter_mut().filter(|(_, reference)| reference.has_changed());
        Arc::new(changed.map(|(name, reference)| (name.clone(), reference.take_changed())).collect())
    }

    /// The rows of a batch that look up what changed, with what changed it.
    ///
    /// # Errors
    /// As for [`Self::shape`].
    pub(crate) fn touched(
        &mut self,
        place: usize,
        batch: &ChangeBatch,
        changed: &Arc<HashMap<String, Changed>>,
    ) -> Result<BTreeMap<usize, Origin>, Failure> {
        let Some(plan) = self.plan(place, &batch.table)? else { return Ok(BTreeMap::new()) };
        Ok(plan.touched(batch, &mut self.context, changed))
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
