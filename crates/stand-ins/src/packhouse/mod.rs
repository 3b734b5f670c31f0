//! The packhouse of Averling Orchards: its tables, its rows from a fixed random seed, and a day's work.

pub mod seed;
pub mod workload;

/// The tables as the packhouse made them.
pub const TABLES: &str = "
CREATE TABLE growers (id bigint PRIMARY KEY, name text NOT NULL, phone text, email text, bank_ref text, district text, joined_on date);
CREATE TABLE blocks (id bigint PRIMARY KEY, grower_id bigint NOT NULL, variety text NOT NULL, hectares numeric(6,2), planted_year int);
CREATE TABLE rooms (id int PRIMARY KEY, label text NOT NULL, target_c numeric(4,1), capacity_bins int);
CREATE TABLE bins (id bigint PRIMARY KEY, block_id bigint NOT NULL, picked_at timestamptz NOT NULL, weight_kg numeric(7,1),
    grade text, room_id int, status text NOT NULL, remark text);
CREATE TABLE consignments (id bigint PRIMARY KEY, buyer_ref text, room_id int, departs_at timestamptz, status text NOT NULL);
CREATE TABLE consignment_lines (consignment_id bigint, line_no int, bin_id bigint NOT NULL, price_per_kg numeric(6,3),
    PRIMARY KEY (consignment_id, line_no));
CREATE SEQUENCE bin_numbers START 120001;
-- the whole old row goes to the log, so that people see what was regraded or moved from what
ALTER TABLE bins REPLICA IDENTITY FULL;
";

/// Grades a bin may get.
pub const GRADES: [&str; 4] = ["extra", "first", "second", "juice"];
/// Rooms of the cold store.
pub const ROOMS: i32 = 60;
/// Blocks of the seed.
pub const BLOCKS: i64 = 4_000;
