//! From a commit in the source to the row being visible in the target, at a light load.

use std::time::{Duration, Instant};

use gonvel_core::connector::State;
use gonvel_stand_ins::packhouse::seed::seed;
use gonvel_stand_ins::packhouse::workload::Day;
use hdrhistogram::Histogram;

use crate::report::Measured;
use crate::world::{Outcome, World};

const PROBES: u32 = 400;
const LIMIT_MS: f64 = 250.0;
const RATE: u32 = 50;

pub async fn run() -> Outcome<Measured> {
    let world = World::start(&["packhouse", "settlement"]).await?;
    let mut packhouse = world.connect("packhouse").await?;
    seed(&mut packhouse).await?;
    packhouse.batch_execute("INSERT INTO growers (id, name) VALUES (100000, 'probe')").await?;
    let tables = ["growers", "blocks", "bins"];
    let source = world.source("packhouse", &tables, 3).await?;
    let sink = world.sink("packhouse", &tables, "settlement").await?;
    let fleet = world.fleet();
    world.until(source, State::Following).await?;
    world.until(sink, State::Following).await?;
    world.until_true("settlement", "SELECT count(*) >= 120000 FROM bins").await?;
    let day = Day::begin(&world.url("packhouse"), RATE).await?;
    let settlement = world.connect("settlement").await?;
    let look = settlement.prepare("SELECT district FROM growers WHERE id = 100000").await?;
    let mut found = Histogram::<u64>::new(3)?;
    for probe in 0..PROBES + 20 {
        let mark = probe.to_string();
        packhouse.execute("UPDATE growers SET district = $1 WHERE id = 100000", &[&mark]).await?;
        let committed = Instant::now();
        while settlement.query_one(&look, &[]).await?.get::<_, Option<String>>(0).as_deref() != Some(mark.as_str()) {
            if committed.elapsed() > Duration::from_secs(20) {
                return Err("a probe never arrived".into());
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        // the first ones warm up plans and caches
        if probe >= 20 {
            found.record(u64::try_from(committed.elapsed().as_micros())?)?;
        }
        tokio::time::sleep(Duration::from_millis(u64::from(7 + probe * 13 % 50))).await;
    }
    day.end();
    fleet.stop().await;
    let ms = |quantile: f64| found.value_at_quantile(quantile) as f64 / 1000.0;
    let (p50, p99) = (ms(0.5), ms(0.99));
    Ok(Measured {
        name: "latency",
        what: "commit in the source to visible in the target at 50 transactions/s, p99 against a limit of 250 ms",
        ratio: LIMIT_MS / p99,
        goal: 1.0,
        detail: format!("p50 {p50:.1} ms, p99 {p99:.1} ms, most {:.1} ms over {PROBES} probes", found.max() as f64 / 1000.0),
    })
}
