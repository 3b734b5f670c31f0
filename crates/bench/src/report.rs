//! What was measured, for people.

use std::fs;
use std::io;

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

const FILE: &str = "docs/benchmarks.md";

/// Writes `docs/benchmarks.md`, in the order of `all`: what was measured now, and the rows of what was measured earlier, each
/// with its date.
pub fn write(measured: &[Measured], all: &[&str]) -> io::Result<()> {
    let before = fs::read_to_string(FILE).unwrap_or_default();
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let mut text = format!(
        "# Benchmarks\n\nMeasured by `make bench` on a machine with {cores} cores that also ran the database. Every ratio is of two \
         figures from the same run; more is better. `make bench ONLY=name` measures one anew and leaves the other rows, so each has \
         its date.\n\n| name | what | ratio | goal | figures | measured |\n|---|---|---|---|---|---|\n"
    );
    for name in all {
        if let Some(now) = measured.iter().find(|m| m.name == *name) {
            text.push_str(&row(now));
        } else if let Some(row) = before.lines().find(|line| line.starts_with(&format!("| {name} |"))) {
            text.push_str(&format!("{row}\n"));
        }
    }
    fs::write(FILE, text)
}

fn row(m: &Measured) -> String {
    let missed = if m.ratio >= m.goal { "" } else { " (missed)" };
    let date = chrono::Utc::now().format("%Y-%m-%d");
    format!("| {} | {} | {:.2}{missed} | {:.2} | {} | {date} |\n", m.name, m.what, m.ratio, m.goal, m.detail)
}

/// The middle one of some figures.
pub fn median(mut figures: Vec<f64>) -> f64 {
    figures.sort_by(f64::total_cmp);
    figures.get(figures.len() / 2).copied().unwrap_or(f64::NAN)
}
