//! Bodies that are nearly right, sent to whatever reads them, and settings of any size: the server stays up, its memory stays below a
//! gibibyte, and others are answered all the while. By `make fuzz`; in the tests a few seconds of it, which say nothing of speed.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::support::Gonvel;
use gonvel_core::avro::container::{Codec, header, pack, write_block};
use gonvel_stand_ins::dice::Dice;
use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use reqwest::Method;
use serde_json::{Value, json};

/// Most memory that the server may take, in MiB.
const ROOM: u64 = 1_024;
/// Longest that anyone else may wait, where it is looked at.
const PATIENCE: Duration = Duration::from_millis(300);

/// Something that is read: where it is sent to, as what, and a body that is right.
struct Decoder {
    name: &'static str,
    method: Method,
    path: String,
    media: &'static str,
    body: Vec<u8>,
}

fn avro_file(schema: &str, codec: Codec, data: &[u8], records: u32, blocks: usize) -> Vec<u8> {
    let mut file = header(schema, codec, &[7; 16]);
    let packed = if codec == Codec::Zstandard { pack(data).unwrap() } else { data.to_vec() };
    (0..blocks).for_each(|_| {
        write_block(records, &packed, &[7; 16], &mut file);
    });
    file
}

async fn decoders(gonvel: &Gonvel) -> Vec<Decoder> {
    let exported = async |form: &str| -> Vec<u8> {
        let answer = gonvel.client.get(format!("{}/topics/fuzz.bins/export?form={form}", gonvel.base)).send().await.unwrap();
        answer.bytes().await.unwrap().to_vec()
    };
    let records = "/topics/fuzz.bins/records".to_owned();
    let of =
        |name, path: &str, media, body: Vec<u8>| Decoder { name, method: Method::POST, path: path.to_owned(), media, body };
    let list = r#"{"type":"array","items":["null","long",{"type":"record","name":"R","fields":[{"name":"a","type":"null"},{"name":"b","type":"string"}]}]}"#;
    let items = [8, 0, 2, 4, 4, 6, b'r', b'e', b'd', 0, 0];
    let json = r#"{"key":"bin-1","value":{"kg":18.50,"by":[1,2,{"a":null}]},"headers":{"room":"3"},"timestamp":"2026-11-25T09:30:00Z"}"#;
    let schema = json!({"name": "fuzz.schema", "language": "json_schema", "text": r##"{"$defs":{"a":{"anyOf":[{"$ref":"#/$defs/a"},{"type":"object","properties":{"x":{"$ref":"#"}},"patternProperties":{"^a":{"minimum":1}}}]}},"allOf":[{"$ref":"#/$defs/a"}],"maxItems":3}"##});
    let avro_schema = json!({"name": "fuzz.avro", "language": "avro", "text": list});
    let proto = json!({"name": "fuzz.proto", "language": "protobuf", "text": "syntax = \"proto3\"; message A { repeated B b = 1; map<string, int64> m = 2; } message B { A a = 1; oneof c { string d = 2; bytes e = 3; } }"});
    let topic = |settings: Value| json!({"name": "fuzz.made", "partitions": 2, "settings": settings});
    let settings = [
        topic(json!({"keep": "all", "forget_after_ms": 1_000, "hot_span_ms": 500, "most_bytes": 100_000})),
        topic(json!({"keep": "latest", "deletes_kept_ms": 1_000})),
    ];
    let mut all = vec![
        of("JSON", &records, "application/json", format!("[{json},{json}]").into_bytes()),
        of("lines of JSON", &records, "application/x-ndjson", format!("{json}\n{json}\n").into_bytes()),
        of("JSON under a schema", "/topics/fuzz.bound/records", "application/json", format!("[{json}]").into_bytes()),
        of("Avro", &records, "application/avro", avro_file(list, Codec::Null, &items, 1, 2)),
        of("packed Avro", &records, "application/avro", avro_file(list, Codec::Zstandard, &items, 1, 3)),
        of(
            "events",
            &records,
            "application/cloudevents-batch+json",
            br#"[{"specversion":"1.0","id":"1","source":"/a","type":"b","data":{"a":1}}]"#.to_vec(),
        ),
        of("a JSON Schema", "/schemas", "application/json", schema.to_string().into_bytes()),
        of("an Avro schema", "/schemas", "application/json", avro_schema.to_string().into_bytes()),
        of("a Protocol Buffers schema", "/schemas", "application/json", proto.to_string().into_bytes()),
    ];
    for form in ["avro", "parquet", "jsonl", "csv"] {
        let path = format!("/topics/fuzz.copies/import?form={form}&partitions=by-key");
        all.push(of(form, &path, "application/octet-stream", exported(form).await));
    }
    all.extend(settings.iter().map(|body| of("settings", "/topics", "application/json", body.to_string().into_bytes())));
    all
}

const LIKELY: [&str; 22] = [
    "9223372036854775807",
    "-9223372036854775808",
    "1e308",
    "0",
    "-1",
    "99999999999999999999999",
    "null",
    "true",
    "[]",
    "{}",
    "\"\"",
    "[[[[[[[[",
    "{\"a\":",
    "\\u0000",
    "\u{0}",
    "\u{ff}\u{ff}\u{ff}\u{ff}\u{7f}",
    "\u{fe}\u{fe}\u{fe}\u{fe}\u{1}",
    "{\"$ref\":\"#\"}",
    "(a*)*",
    ",",
    "\n",
    "Obj\u{1}",
];

/// The body with a few changes.
fn changed(body: &[u8], dice: &mut Dice) -> Vec<u8> {
    let mut out = body.to_vec();
    for _ in 0..=dice.roll(4) {
        let place = |dice: &mut Dice, length: usize| usize::try_from(dice.roll(length as u64 + 1)).unwrap();
        let at = place(dice, out.len());
        match dice.roll(7) {
            0 if at < out.len() => out[at] ^= 1 << dice.roll(8),
            1 if at < out.len() => out[at] = u8::try_from(dice.roll(256)).unwrap(),
            2 => drop(out.drain(at..(at + place(dice, 9)).min(out.len()))),
            3 => {
                // a piece of it again and again
                let piece = out[at..(at + place(dice, 40)).min(out.len())].to_vec();
                let times = [2, 30, 3_000][usize::try_from(dice.roll(3)).unwrap()];
                out.splice(at..at, piece.repeat(times));
            }
            4 => {
                // another number in place of one
                let digits = |b: &u8| b.is_ascii_digit();
                let start = out[at..].iter().position(digits).map_or(at, |n| at + n);
                let end = out[start..].iter().position(|b| !digits(b)).map_or(out.len(), |n| start + n);
                let likely = LIKELY[usize::try_from(dice.roll(6)).unwrap()];
                out.splice(start..end, likely.bytes());
            }
            5 => out.truncate(at),
            _ => {
                let likely = LIKELY[usize::try_from(dice.roll(LIKELY.len() as u64)).unwrap()];
                // each sign as one byte
                let bytes: Vec<u8> = likely.chars().map(|c| u8::try_from(u32::from(c)).unwrap()).collect();
                out.splice(at..at, bytes);
            }
        }
        out.truncate(2 << 20);
    }
    out
}

/// Sends what is nearly right to a decoder for a while; how many bodies.
async fn send(gonvel: &Gonvel, decoder: &Decoder, of_each: Duration, dice: &mut Dice) -> u64 {
    let (until, mut answers) = (Instant::now() + of_each, BTreeMap::<u16, u64>::new());
    while Instant::now() < until {
        let body = changed(&decoder.body, dice);
        let request = gonvel.client.request(decoder.method.clone(), format!("{}{}", gonvel.base, decoder.path));
        let request = request.header("content-type", decoder.media).timeout(Duration::from_secs(60)).body(body.clone());
        let told = || String::from_utf8_lossy(&body).into_owned();
        let status = request.send().await.unwrap_or_else(|e| panic!("{}: {e}: {:?}", decoder.name, told())).status();
        assert!(status.as_u16() < 500 || status.as_u16() == 507, "{}: {status}: {:?}", decoder.name, told());
        *answers.entry(status.as_u16()).or_default() += 1;
        // what was made is made again
        if status.is_success() && matches!(decoder.path.as_str(), "/schemas" | "/topics") {
            let made = serde_json::from_slice::<Value>(&body).ok();
            let name = made.and_then(|v| v["name"].as_str().map(str::to_owned)).unwrap_or_default();
            gonvel.delete(&format!("{}/{name}", decoder.path)).await;
        }
    }
    println!("{}: {answers:?}", decoder.name);
    answers.values().sum()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_body_and_no_setting_takes_the_server_down() {
    let asked = |name: &str| std::env::var(name).ok().and_then(|text| text.parse::<u64>().ok());
    let (each, seed) = (asked("GONVEL_FUZZ_SECONDS"), asked("GONVEL_FUZZ_SEED").unwrap_or(20));
    let of_each = each.map_or(Duration::from_millis(700), Duration::from_secs);
    let cluster = TestCluster::start(&["gonvel"]).await;
    let folder = tempfile::tempdir().unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    for topic in ["fuzz.bins", "fuzz.copies", "fuzz.bound"] {
        gonvel.post("/topics", json!({"name": topic, "partitions": 2})).await;
    }
    let records: Vec<Value> =
        (0..40).map(|n| json!({"key": format!("bin-{n}"), "value": {"kg": n}, "headers": {"room": "3"}})).collect();
    gonvel.post("/topics/fuzz.bins/records", json!(records)).await;
    let tree = r##"{"properties":{"by":{"type":"array","items":{"anyOf":[{"$ref":"#"},{"type":["integer","object"]}]}}}}"##;
    gonvel.post("/schemas", json!({"name": "fuzz.bound.value", "language": "json_schema", "text": tree})).await;
    let bound = json!({"schema": "fuzz.bound.value", "required": true});
    let put =
        gonvel.client.put(format!("{}/topics/fuzz.bound/schemas/value", gonvel.base)).json(&bound).send().await.unwrap();
    assert!(put.status().is_success());
    let decoders = decoders(&gonvel).await;
    let (over, mut dice) = (AtomicBool::new(false), Dice::new(seed));
    // the decoders that are sent to
    let beside = RefCell::new(Vec::new());
    let watching = async {
        let (mut longest, mut most) = (Duration::ZERO, 0);
        while !over.load(Ordering::Relaxed) {
            let start = Instant::now();
            let health = tokio::time::timeout(Duration::from_secs(20), gonvel.get("/health")).await;
            assert!(health.is_ok_and(|health| health.is_some()), "the server does not answer");
            let took = start.elapsed();
            if took > PATIENCE / 2 {
                println!("/health took {took:?} beside {:?}", beside.borrow());
            }
            longest = longest.max(took);
            most = gonvel.most_memory();
            assert!(most < ROOM, "it takes {most} MiB");
            tokio::time::sleep(Duration::from_millis(100).saturating_sub(start.elapsed())).await;
        }
        (longest, most)
    };
    // several are sent to side by side, the next one begins where one ends; from the first or a later one on
    let lanes = usize::try_from(asked("GONVEL_FUZZ_LANES").unwrap_or(1).max(1)).unwrap();
    let next = AtomicUsize::new(usize::try_from(asked("GONVEL_FUZZ_FROM").unwrap_or(0)).unwrap());
    let lane = async |mut dice: Dice| {
        let mut sent = 0;
        while let Some(decoder) = decoders.get(next.fetch_add(1, Ordering::Relaxed)) {
            beside.borrow_mut().push(decoder.name);
            sent += send(&gonvel, decoder, of_each, &mut dice).await;
            let mut beside = beside.borrow_mut();
            if let Some(ended) = beside.iter().position(|name| *name == decoder.name) {
                beside.swap_remove(ended);
            }
        }
        sent
    };
    let sending = async {
        let seeds = std::iter::repeat_with(|| Dice::new(dice.roll(u64::MAX))).take(lanes);
        let sent: Vec<u64> = futures::future::join_all(seeds.map(lane)).await;
        over.store(true, Ordering::Relaxed);
        sent.iter().sum::<u64>()
    };
    let ((longest, most), sent) = tokio::join!(watching, sending);
    println!("seed {seed}: {sent} bodies, /health {longest:?} at most, {most} MiB at most");
    assert!(each.is_none() || longest < PATIENCE, "someone else waited {longest:?}");
}
