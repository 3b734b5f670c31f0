//! The rows the packhouse starts with: the same ones in every run.

use std::fmt::Write;

use bytes::Bytes;
use futures::SinkExt;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use tokio_postgres::{Client, Error};

use super::{BLOCKS, GRADES, ROOMS, TABLES};

const FIRST: [&str; 16] = [
    "Maren", "Tobin", "Ilsa", "Corvin", "Petra", "Anselm", "Wilma", "Jorren", "Hedda", "Ruben", "Sunniva", "Casper",
    "Odile", "Fenna", "Lambert", "Greta",
];
const LAST: [&str; 20] = [
    "Halloway",
    "Dunmere",
    "Pellard",
    "Quince",
    "Osterley",
    "Brackett",
    "Varnholt",
    "Thessaly",
    "Ridgewell",
    "Amberly",
    "Colt",
    "Marchbanks",
    "Fallow",
    "Ostrander",
    "Pippin",
    "Greaves",
    "Lindqvale",
    "Sorrel",
    "Wexcombe",
    "Yarrow",
];
const DISTRICTS: [&str; 7] =
    ["Upper Averling", "Nether Averling", "Stonebridge", "Lark Hill", "Mill Reach", "Eastmoor", "The Levels"];
const VARIETIES: [&str; 8] = [
    "Averling Russet",
    "Winter Gold",
    "Stonebridge Red",
    "Lark Pearmain",
    "Moor Pippin",
    "Early Amber",
    "Levels Conference",
    "Hill Quince",
];
const STATUSES: [&str; 4] = ["stored", "stored", "stored", "graded"];

/// Makes the tables and fills them: about 900 growers, 4,000 blocks, 60 rooms, 120,000 bins, 3,000 consignments with 40,000
/// lines.
///
/// # Errors
/// If the database refuses; nothing is then left behind.
pub async fn seed(client: &mut Client) -> Result<(), Error> {
    let transaction = client.transaction().await?;
    transaction.batch_execute(TABLES).await?;
    for (table, rows) in rows() {
        let sink = transaction.copy_in::<_, Bytes>(&format!("COPY {table} FROM STDIN")).await?;
        futures::pin_mut!(sink);
        sink.send(Bytes::from(rows)).await?;
        sink.finish().await?;
    }
    transaction.commit().await?;
    client.batch_execute("ANALYZE").await
}

const SEED: u64 = 0x0a5e_1109;

/// The temperature that each room is to have, in tenths of a degree Celsius, as the table `rooms` says.
#[must_use]
pub fn room_targets() -> Vec<i32> {
    let mut random = StdRng::seed_from_u64(SEED);
    let _before = (growers(&mut random), blocks(&mut random));
    let target = |line: &str| line.split('\t').nth(2).and_then(|celsius| celsius.replace('.', "").parse().ok());
    rooms(&mut random).lines().filter_map(target).collect()
}

fn rows() -> Vec<(&'static str, String)> {
    let mut random = StdRng::seed_from_u64(SEED);
    vec![
        ("growers", growers(&mut random)),
        ("blocks", blocks(&mut random)),
        ("rooms", rooms(&mut random)),
        ("bins", bins(&mut random)),
        ("consignments", consignments(&mut random)),
        ("consignment_lines", lines(&mut random)),
    ]
}

fn pick<'a>(from: &[&'a str], random: &mut StdRng) -> &'a str {
    from.choose(random).copied().unwrap_or_default()
}

fn growers(random: &mut StdRng) -> String {
    let mut out = String::new();
    for id in 1..=900 {
        let (first, last) = (pick(&FIRST, random), pick(&LAST, random));
        let email = format!("{}.{}{id}@averling.example", first.to_lowercase(), last.to_lowercase());
        let (phone, bank) = (random.random_range(0..1000), random.random_range(0..1_000_000));
        let (year, month, day) = (random.random_range(1998..2025), random.random_range(1..=12), random.random_range(1..=28));
        let district = pick(&DISTRICTS, random);
        let _ = writeln!(
            out,
            "{id}\t{first} {last}\t01632 960{phone:03}\t{email}\tAV-{bank:06}\t{district}\t{year}-{month:02}-{day:02}"
        );
    }
    out
}

fn blocks(random: &mut StdRng) -> String {
    let mut out = String::new();
    for id in 1..=BLOCKS {
        let (grower, variety) = (random.random_range(1..=900), pick(&VARIETIES, random));
        let (hectares, year) = (random.random_range(20..1900), random.random_range(1981..2023));
        let _ = writeln!(out, "{id}\t{grower}\t{variety}\t{}.{:02}\t{year}", hectares / 100, hectares % 100);
    }
    out
}

fn rooms(random: &mut StdRng) -> String {
    let mut out = String::new();
    for id in 1..=ROOMS {
        let (target, capacity) = (random.random_range(5..40), random.random_range(20..60) * 100);
        let _ = writeln!(out, "{id}\tRoom {id:02}\t{}.{}\t{capacity}", target / 10, target % 10);
    }
    out
}

fn bins(random: &mut StdRng) -> String {
    let mut out = String::with_capacity(120_000 * 80);
    for id in 1..=120_000 {
        let block = random.random_range(1..=BLOCKS);
        let second = id * 43;
        let (day, hour, minute) = (1 + second / 86_400, second / 3600 % 24, second / 60 % 60);
        let (month, day) = if day <= 30 { (9, day) } else { (10, day - 30) };
        let weight = random.random_range(2_400..4_200);
        let (grade, room, status) = (pick(&GRADES, random), random.random_range(1..=ROOMS), pick(&STATUSES, random));
        let _ = write!(out, "{id}\t{block}\t2026-{month:02}-{day:02} {hour:02}:{minute:02}:{:02}+00\t", second % 60);
        let _ = write!(out, "{}.{}\t{grade}\t{room}\t{status}\t", weight / 10, weight % 10);
        out.push_str(if random.random_ratio(1, 12) { "checked twice\n" } else { "\\N\n" });
    }
    out
}

fn consignments(random: &mut StdRng) -> String {
    let mut out = String::new();
    for id in 1..=3_000 {
        let (buyer, room) = (random.random_range(1..240), random.random_range(1..=ROOMS));
        let (day, hour) = (random.random_range(1..=31), random.random_range(4..20));
        let status = pick(&["planned", "loaded", "departed", "departed"], random);
        let _ = writeln!(out, "{id}\tBUY-{buyer:04}\t{room}\t2026-10-{day:02} {hour:02}:00:00+00\t{status}");
    }
    out
}

fn lines(random: &mut StdRng) -> String {
    let mut out = String::with_capacity(40_000 * 24);
    for n in 0..40_000 {
        let (consignment, line) = (n % 3_000 + 1, n / 3_000 + 1);
        let (bin, price) = (random.random_range(1..=120_000), random.random_range(180..1_900));
        let _ = writeln!(out, "{consignment}\t{line}\t{bin}\t{}.{:03}", price / 1000, price % 1000);
    }
    out
}
