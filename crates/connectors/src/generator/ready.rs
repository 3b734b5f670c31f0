//! Recipes that are always there: what the packhouse and its cold rooms bring.

/// As recipes of one's own are written.
pub(super) const READY: &str = "\
- table: picks
  rate: 20
  late: 0.02
  repeated: 0.005
  columns:
  - {name: id, is: number}
  - {name: block_id, is: whole, from: 1, to: 4000}
  - {name: picked_at, is: time}
  - {name: weight_kg, is: decimal, from: 120, to: 430, scale: 1, spread: middle}
  - {name: grade, is: choice, of: {first: 6, second: 3, juice: 1}}
  - {name: room_id, is: whole, from: 1, to: 60}
  - {name: picker, is: person}
  - {name: remark, is: words, empty: 0.9}
- table: readings
  rate: 12
  burst: {every_s: 60, rows: 120}
  columns:
  - {name: id, is: number}
  - {name: room_id, is: whole, from: 1, to: 60}
  - {name: measured_at, is: time}
  - {name: temperature_c, is: decimal, from: -1.5, to: 9, scale: 2, spread: low}
  - {name: humidity, is: decimal, from: 78, to: 99, scale: 1, spread: middle}
  - {name: door_open, is: flag, share: 0.03}
";
