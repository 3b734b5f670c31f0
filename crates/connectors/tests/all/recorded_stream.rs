//! The decoder on what a real server sent: `recorded/changes.sql` says what was done to it, `recorded/changes.hex` holds its
//! messages, one a line.
#![allow(clippy::cast_precision_loss, reason = "counts far below 2^52")]

use gonvel_connectors::postgres::pgoutput::{Cell, Message, Old, Tuple, decode};

const RECORDED: &str = include_str!("recorded/changes.hex");

fn messages() -> Vec<Vec<u8>> {
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap();
    RECORDED.lines().map(|line| line.as_bytes().chunks(2).map(byte).collect()).collect()
}

fn row(tuple: Tuple<'_>) -> String {
    let cell = |cell: Cell<'_>| match cell {
        Cell::Null => "∅".to_owned(),
        Cell::Unchanged => "unchanged".to_owned(),
        Cell::Binary(bytes) => format!("{} bytes", bytes.len()),
        Cell::Text(text) if text.len() > 40 => format!("{} bytes", text.len()),
        Cell::Text(text) => format!("{:?}", std::str::from_utf8(text).unwrap()),
    };
    let cells: Vec<String> = tuple.cells().map(cell).collect();
    assert_eq!(cells.len(), tuple.len());
    cells.join(" ")
}

fn old(old: Old<'_>) -> String {
    match old {
        Old::Key(tuple) => format!("key {}", row(tuple)),
        Old::Row(tuple) => format!("row {}", row(tuple)),
    }
}

fn say(message: &Message<'_>) -> String {
    match message {
        Message::Begin { .. } => "begin".into(),
        Message::Commit { commit_lsn, end_lsn } => format!("commit of {} bytes", end_lsn - commit_lsn),
        Message::Origin(name) => format!("origin {name}"),
        Message::Type => "type".into(),
        Message::Relation(r) => {
            let columns: Vec<String> = r
                .columns
                .iter()
                .map(|c| format!("{}{}:{}/{}", if c.identity { "*" } else { "" }, c.name, c.type_oid, c.type_modifier))
                .collect();
            format!("relation {}.{} {} {}", r.schema, r.name, char::from(r.identity), columns.join(" "))
        }
        Message::Insert { new, .. } => format!("insert {}", row(*new)),
        Message::Update { old: None, new, .. } => format!("update {}", row(*new)),
        Message::Update { old: Some(before), new, .. } => format!("update {} -> {}", old(*before), row(*new)),
        Message::Delete { old: before, .. } => format!("delete {}", old(*before)),
        Message::Truncate(oids) => format!("truncate of {}", oids.len()),
        Message::Logical { prefix, content, .. } => format!("message {prefix} {}", String::from_utf8_lossy(content)),
    }
}

#[test]
fn a_recorded_stream_reads_as_what_was_done() {
    let found: Vec<String> = messages().iter().map(|m| say(&decode(m).unwrap())).collect();
    let numeric_7_1 = (7 << 16) + 1 + 4;
    let numeric_4_2 = (4 << 16) + 2 + 4;
    let bins = format!("relation public.bins d *id:20/-1 weight_kg:1700/{numeric_7_1} grade:25/-1 remark:25/-1");
    let wider = format!("{bins} ripeness_index:1700/{numeric_4_2}");
    let lines = "relation public.lines f *consignment_id:20/-1 *line_no:23/-1 *note:25/-1";
    let expected = [
        "begin",
        &bins,
        r#"insert "1" "301.5" "extra" ∅"#,
        r#"insert "2" "NaN" "first\ttab" 3000 bytes"#,
        "commit of 48 bytes",
        "begin",
        // the large remark did not change, so it was not sent
        r#"update "2" "NaN" "second" unchanged"#,
        "commit of 48 bytes",
        "begin",
        r#"update key "1" ∅ ∅ ∅ -> "3" "301.5" "extra" ∅"#,
        "commit of 48 bytes",
        "begin",
        r#"delete key "2" ∅ ∅ ∅"#,
        "commit of 48 bytes",
        "begin",
        lines,
        r#"insert "7" "1" "élan ✓""#,
        r#"update row "7" "1" "élan ✓" -> "7" "1" """#,
        r#"delete row "7" "1" """#,
        "message gonvel mark",
        "commit of 48 bytes",
        "begin",
        &wider,
        r#"insert "4" ∅ ∅ ∅ "0.25""#,
        "commit of 48 bytes",
        "begin",
        "type",
        "relation public.tastings d *id:23/-1 ripe:16637/-1",
        r#"insert "1" "ripe""#,
        "commit of 48 bytes",
        "begin",
        &wider,
        lines,
        "truncate of 2",
        "commit of 672 bytes",
    ];
    for (at, (found, expected)) in found.iter().zip(expected).enumerate() {
        assert_eq!(found, expected, "message {at}");
    }
    assert_eq!(found.len(), expected.len());
}

#[test]
fn a_message_cut_short_anywhere_is_refused_and_never_read_past_its_end() {
    let mut refused = 0;
    for message in messages() {
        for end in 0..message.len() {
            match decode(&message[..end]) {
                Err(_) => refused += 1,
                // a commit's time and a type's description are not needed, so not read
                Ok(cut) => assert!(matches!(cut, Message::Commit { .. } | Message::Type), "{cut:?} of {end} bytes"),
            }
        }
    }
    assert!(refused > 3_000);
}

#[test]
fn flipped_bytes_give_an_answer_or_a_refusal() {
    for message in messages().iter().filter(|m| m.len() < 200) {
        for at in 0..message.len() {
            let mut damaged = message.clone();
            damaged[at] ^= 0xff;
            if let Ok(Message::Insert { new, .. } | Message::Update { new, .. }) = decode(&damaged) {
                assert_eq!(new.cells().count(), new.len());
            }
        }
    }
}
