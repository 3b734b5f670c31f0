//! What was measured, for people and for machines.

use std::fs;
use std::io;

use serde_json::json;

/// One measurement against its alternative.
pub struct Measured {
    /// Its name, as given to `--only`.
    pub name: &'static str,
    /// What is measured against what.
    pub what: &'static str,
    /// Gonvel's figure over the alternative's; for times, the limit over Gonvel's. More is better.
    pub ratio: f64,
    /// What the ratio should reach.
    pub goal: f64,
    /// Both figures with their units.
    pub detail: String,
}

impl Measured {
    /// A line for the terminal.
    pub fn line(&self) -> String {
        let verdict = if self.ratio >= self.goal { "reached" } else { "MISSED" };
        format!("{:16} {:6.2}x  goal {:.2}x {verdict}  {}", self.name, self.ratio, self.goal, self.detail)
    }
}

/// Writes `target/bench.json` and `docs/benchmarks.md`.
pub fn write(measured: &[Measured]) -> io::Result<()> {
    let list: Vec<_> = measured
        .iter()
        .map(|m| json!({"name": m.name, "ratio": (m.ratio * 100.0).round() / 100.0, "goal": m.goal, "detail": m.detail}))
        .collect();
    fs::create_dir_all("target")?;
    fs::write("target/bench.json", serde_json::to_string_pretty(&list)?)?;
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let mut text = format!(
        "# Benchmarks\n\nMeasured by `make bench` on {}, on a machine with {cores} cores that also ran the database. Every \
         ratio is of two figures from the same run; more is better. `make bench ONLY=name` runs one.\n\n\
         | name | what | ratio | goal | figures |\n|---|---|---|---|---|\n",
        chrono::Utc::now().format("%Y-%m-%d")
    );
    for m in measured {
        let missed = if m.ratio >= m.goal { "" } else { " (missed)" };
        text.push_str(&format!("| {} | {} | {:.2}{missed} | {:.2} | {} |\n", m.name, m.what, m.ratio, m.goal, m.detail));
    }
    fs::write("docs/benchmarks.md", text)
}

/// The middle one of some figures.
pub fn median(mut figures: Vec<f64>) -> f64 {
    figures.sort_by(f64::total_cmp);
    figures.get(figures.len() / 2).copied().unwrap_or(f64::NAN)
}
