//! Made-up records into a topic as fast as they go, against batches that are appended as fast as they go.

use std::sync::Arc;
use std::time::{Duration, Instant};

use gonvel_core::connector::{CapturedTable, SourceDefinition};
use gonvel_core::naming::{ConnectionName, TopicName};
use gonvel_core::ports::{Address, TopicLog};
use gonvel_core::record::Record;
use gonvel_storage::catalog::connections::ConnectionInput;

use crate::append::{appended, record};
use crate::report::{Measured, median};
use crate::world::{Outcome, World};

const ROWS: usize = 1_000_000;
const ROUNDS: usize = 3;

/// The readings of the cold rooms, as many as there are records in the other round.
fn recipe(round: usize) -> String {
    format!(
        "
- table: readings-{round}
  rows: {ROWS}
  columns:
  - {{name: id, is: number}}
  - {{name: room_id, is: whole, from: 1, to: 60}}
  - {{name: measured_at, is: time}}
  - {{name: temperature_c, is: decimal, from: -1.5, to: 9, scale: 2, spread: low}}
  - {{name: humidity, is: decimal, from: 78, to: 99, scale: 1, spread: middle}}
  - {{name: door, is: choice, of: {{open: 1, closed: 36}}}}
"
    )
}

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&[]).await?;
    let records: Arc<Vec<Record>> = Arc::new((0..ROWS).map(record).collect());
    let address = Address::new("generator").with("recipes", (0..ROUNDS).map(recipe).collect::<String>());
    let input = ConnectionInput { name: ConnectionName::parse("coldstore")?, address };
    let connection = world.database.create_connection(&input).await?.id;
    let fleet = world.fleet();
    let (mut ours, mut theirs, mut starts) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        theirs.push(appended(&world, &records, round).await?);
        let topic = format!("made.{round}");
        let table = CapturedTable::whole("recipes", &format!("readings-{round}"), &topic);
        let asked = Instant::now();
        world.connector(&format!("made-{round}"), SourceDefinition::of(connection, vec![table], 1).into()).await?;
        fleet.nudge().notify_one();
        let name = TopicName::parse(topic)?;
        let there = async || {
            let Ok(topic) = world.database.topic(&name).await else { return Ok::<_, gonvel_core::ports::PortError>(0) };
            Ok(world.database.bounds(topic.id).await?.iter().map(|bounds| bounds.next.0).sum::<i64>())
        };
        // from the first rows on: until then runners share out who makes them
        let mut first: Option<(Instant, i64)> = None;
        let rate = loop {
            let rows = there().await?;
            match first {
                None if rows > 0 => first = Some((Instant::now(), rows)),
                Some((began, before)) if rows >= ROWS as i64 => {
                    starts.push((began - asked).as_secs_f64());
                    break (rows - before) as f64 / began.elapsed().as_secs_f64();
                }
                _ => {}
            }
            tokio::time::sleep(Duration::from_millis(2)).await;
        };
        ours.push(rate);
    }
    fleet.stop().await;
    let rates = |all: &[f64]| all.iter().map(|r| format!("{r:.0}")).collect::<Vec<_>>().join(", ");
    Ok(Measured {
        name: "made-up",
        what: "1,000,000 made-up readings of six columns into a topic, from the first on, against 1,000,000 records appended in batches of 1,000",
        ratio: median(ours.iter().zip(&theirs).map(|(a, b)| a / b).collect()),
        goal: 0.7,
        detail: format!(
            "{} rows/s against {} records/s, median ratio of {ROUNDS} rounds; {:.2} s from the connector's making to its first rows",
            rates(&ours),
            rates(&theirs),
            median(starts)
        ),
    })
}
