//! What a server may ask of outside systems on a person's behalf.

use std::collections::{HashMap, HashSet};

use gonvel_core::connector::{Definition, DeliveredTopic};
use gonvel_core::delivered::Nulls;
use gonvel_core::kinds::Unable;
use gonvel_core::loops::{self, Carrier, System};
use gonvel_core::naming::ConnectorId;
use gonvel_core::ports::systems::Expected;
use gonvel_core::ports::{Address, Errand, Errands};
use gonvel_core::preflight::{Check, Report};
use gonvel_core::table::TableSchema;

pub use gonvel_connectors::kinds::{first_kind, kind, kinds};
pub use gonvel_core::ports::systems::ConnectorError;

/// What of a definition a system of this kind cannot do, each as [`ConnectorError::Settings`] with its field. Nothing is asked of the
/// system.
#[must_use]
pub fn unable(word: &str, definition: &Definition) -> Vec<ConnectorError> {
    let kind = match kind(word) {
        Ok(kind) => kind,
        Err(error) => return vec![error],
    };
    let about = kind.about();
    let told = |unable: Unable| {
        ConnectorError::settings(
            Some(unable.field),
            format!("a system of the kind {} {}", about.name, unable.cannot),
            unable.remedy,
        )
    };
    let mut all: Vec<ConnectorError> = about.unable(definition).into_iter().map(told).collect();
    if let (Definition::Source(source), Some(kind)) = (definition, kind.source()) {
        all.extend(kind.check(source).err());
    }
    all
}

/// A definition as a system of this kind carries it.
#[must_use]
pub fn settled(word: &str, definition: &Definition) -> Definition {
    kind(word).map_or_else(|_| definition.clone(), |kind| kind.about().settled(definition))
}

/// What a connector left in its system, each in a few words; nothing is asked of the system.
///
/// # Errors
/// [`ConnectorError`] if its kind is not known any more.
pub fn remains(definition: &Definition, address: &Address, connector: ConnectorId) -> Result<Vec<String>, ConnectorError> {
    Ok(match definition {
        Definition::Source(_) => gonvel_connectors::kinds::source(address)?.remains(connector),
        Definition::Sink(_) => gonvel_connectors::kinds::sink(address)?.remains(connector),
        Definition::Topics(_) => Vec::new(),
    })
}

/// What a preflight is about.
pub struct Asked<'a> {
    /// Who asks the system.
    pub errands: &'a dyn Errands,
    /// What the connector is to do.
    pub definition: &'a Definition,
    /// Its id, if it is saved already.
    pub connector: Option<ConnectorId>,
    /// How its system is reached.
    pub address: Option<&'a Address>,
    /// The shapes of topics that hold captured rows, by topic.
    pub shapes: HashMap<String, TableSchema>,
    /// Topics that a sink delivers already, whose tables' rows are its own.
    pub begun: HashSet<String>,
    /// What is null in the newest records of topics that are delivered as they are, by topic.
    pub nulls: HashMap<String, Nulls>,
    /// All other connectors: name, system, definition.
    pub others: Vec<(String, System, Definition)>,
}

/// Checks what a connector needs of its system, and that it does not carry changes in a circle.
pub async fn preflight(asked: &Asked<'_>) -> Report {
    let unable = asked.address.map(|address| unable(&address.kind, asked.definition)).unwrap_or_default();
    if !unable.is_empty() {
        // what cannot be done there need not be asked of it
        let told =
            |(number, error): (usize, &ConnectorError)| error.as_check(&format!("ability {}", number + 1), "connection");
        let mut report: Report = unable.iter().enumerate().map(told).collect();
        report.push(circle(asked));
        return report;
    }
    let mut report = match (asked.definition, asked.address) {
        (Definition::Source(definition), Some(address)) => {
            let errand = Errand::OfSource(Box::new(definition.clone()), asked.connector);
            asked.errands.report(address, errand).await
        }
        (Definition::Sink(definition), Some(address)) => {
            let expected = |topic: &DeliveredTopic| Expected {
                topic: topic.clone(),
                shape: asked.shapes.get(&topic.name()).cloned(),
                nulls: asked.nulls.get(&topic.name()).cloned(),
                begun: asked.begun.contains(&topic.topic),
                existing: definition.existing_rows,
            };
            let expected: Vec<Expected> = definition.topics.iter().map(expected).collect();
            asked.errands.report(address, Errand::OfSink(expected, definition.writes)).await
        }
        (Definition::Topics(topics), _) => {
            let carried = topics.carries.len();
            vec![Check::passed("topics", format!("{carried} carried within Gonvel: no system is needed"))]
        }
        (_, None) => vec![Check::failed("connection", "connection", "the connection is not there")],
    };
    report.push(circle(asked));
    report
}

/// Which system a connection reaches.
#[must_use]
pub fn place(address: &Address) -> System {
    kind(&address.kind).map_or_else(
        |_| System::default(),
        |kind| System {
            identity: kind.identity(address),
            name: kind.system(address),
            usual_schema: kind.about().usual_schema.unwrap_or_default().into_owned(),
        },
    )
}

fn circle(asked: &Asked<'_>) -> Check {
    let (name, address) = ("source and target", asked.address);
    let system = address.map(place).unwrap_or_default();
    let others: Vec<Carrier<'_>> =
        asked.others.iter().map(|(name, system, definition)| Carrier { name, system, definition }).collect();
    let Some(circle) = loops::circle(Carrier { name, system: &system, definition: asked.definition }, &others) else {
        return Check::passed(name, "no change comes back to where it came from");
    };
    let places: Vec<String> = circle.iter().map(ToString::to_string).collect();
    let field = if asked.definition.kind() == "source" { "tables" } else { "topics" };
    Check::failed(name, field, format!("changes would go in a circle: {}", places.join(" → ")))
        .means("each would come back as a new one, for ever")
        .remedy("write to another table, or leave this one out")
}
