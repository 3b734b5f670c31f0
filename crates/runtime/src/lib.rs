//! The runner: it finds connectors that are asked to run, holds the leases of their lanes and carries them.

mod aside;
mod carrying_again;
pub mod choosing;
mod columns_known;
mod comparing;
mod events;
mod existing;
mod fetching;
mod first_time;
mod fits;
mod fleet;
mod handed_on;
pub mod history;
mod lag;
mod lane;
mod leases;
mod load_filter;
mod outgoing;
mod passed_over;
mod reading;
mod references;
mod shaping;
mod sink_lane;
mod source_lane;
mod source_position;
mod stands;
mod starting;
mod status;
pub mod systems;
mod target;
mod topics_lane;
pub mod trying;
mod watching;
mod whole;
mod writing;

pub use fleet::{Fleet, LANE_BYTES, RunnerSettings, Services};
