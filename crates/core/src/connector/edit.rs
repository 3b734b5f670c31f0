//! What a changed definition will do to a connector that is there: said before it is saved, and carried out when it is.

use std::collections::{BTreeMap, HashSet};

use serde::{Deserialize, Serialize};

use super::{CapturedTable, CarriedTopic, Definition, DeliveredTopic, ExistingRows, SinkDefinition, SourceDefinition};

/// One consequence of an edit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Consequence {
    /// The connector starts anew where it stands.
    StartsAnew,
    /// Tables come in: they are loaded, then followed.
    LoadsNew,
    /// Tables come in and are followed from then on, without the rows that are there.
    FollowsNew,
    /// Tables whose earlier records do not hold what is wanted now are loaded again.
    LoadsAgain,
    /// Tables or topics are let go of; what they brought stays.
    LetsGo,
    /// Topics come in: they are delivered from their oldest record.
    DeliversNew,
    /// What is there of those that come in goes first.
    EmptiesNew,
    /// What is there of those that come in, and does not come again, goes.
    ComparesNew,
    /// Records of a topic that is read come in: they are taken from where the connector stands.
    TakesMore,
    /// Records are written in another form from then on; earlier ones stay as they are.
    WritesOtherwise,
    /// Rows of these are shaped otherwise from then on.
    Reshapes,
}

impl Consequence {
    /// What it says to people.
    #[must_use]
    pub fn sentence(self) -> &'static str {
        match self {
            Self::StartsAnew => "The connector starts anew where it stands. Nothing is lost or doubled.",
            Self::LoadsNew => {
                "These come in: their rows are loaded while the others are followed, then they are followed too."
            }
            Self::FollowsNew => {
                "These come in: their changes are followed from then on; the rows that are there are not loaded."
            }
            Self::LoadsAgain => "These are loaded again, because their earlier records do not hold what is wanted now.",
            Self::LetsGo => "These are let go of. What they brought so far stays.",
            Self::DeliversNew => "These come in: they are delivered from their oldest record on.",
            Self::EmptiesNew => {
                "Rows of these that are there already are removed first: in whatever reads the topics, or in the target's tables."
            }
            Self::ComparesNew => "Rows of these that are there already, and that do not come again, are removed.",
            Self::TakesMore => {
                "Records of these come in from where the connector stands in the topic. Earlier ones were passed over and stay so; a new connector delivers them."
            }
            Self::Reshapes => {
                "Rows of these are shaped in the new way from then on; those that were written stay as they are. Load a table again to have all its rows so."
            }
            Self::WritesOtherwise => "From then on it writes in the new way; what it wrote before stays as it is.",
        }
    }
}

/// What an edit does: its consequences with the tables or topics they concern, in a fixed order.
pub type Consequences = BTreeMap<Consequence, Vec<String>>;

/// Why a definition cannot become another one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// It would be another connector.
    #[error("a {from} cannot become a {to}: make a new connector")]
    Kind {
        /// What it is.
        from: &'static str,
        /// What it would be.
        to: &'static str,
    },
    /// Its position means nothing elsewhere.
    #[error(
        "the connection cannot be another one, because the connector's position is of this system: make a new connector, or change the connection itself"
    )]
    Connection,
    /// The table that is there has other columns.
    #[error("{table} was made for rows of another kind: give the topic another table with the new setting")]
    Rows {
        /// The table.
        table: String,
    },
}

/// What changing one definition into another does.
///
/// # Errors
/// [`EditError`] with what to do instead.
pub fn consequences(from: &Definition, to: &Definition) -> Result<Consequences, EditError> {
    let mut out = Consequences::new();
    if from == to {
        return Ok(out);
    }
    if from.kind() != to.kind() {
        return Err(EditError::Kind { from: from.kind(), to: to.kind() });
    }
    if from.connection() != to.connection() {
        return Err(EditError::Connection);
    }
    out.insert(Consequence::StartsAnew, Vec::new());
    let (was, is) = (from.shape(), to.shape());
    if was != is {
        let all = was.steps.keys().chain(is.steps.keys());
        let mut changed: Vec<String> = all.filter(|name| was.of(name) != is.of(name)).cloned().collect();
        changed.sort_unstable();
        changed.dedup();
        let rules = was.rules.iter().chain(&is.rules).filter(|r| !was.rules.contains(r) || !is.rules.contains(r));
        changed.extend(rules.map(|rule| format!("tables like {}", rule.tables)));
        out.insert(Consequence::Reshapes, changed);
    }
    match (from, to) {
        (Definition::Source(from), Definition::Source(to)) => source(from, to, &mut out),
        (Definition::Sink(from), Definition::Sink(to)) => sink(from, to, &mut out)?,
        (Definition::Topics(from), Definition::Topics(to)) => {
            read(from.carries.iter().map(by_topic), to.carries.iter().map(by_topic), &mut out);
            if from.values != to.values {
                out.entry(Consequence::WritesOtherwise).or_default();
            }
        }
        _ => {}
    }
    existing(to, &mut out);
    Ok(out)
}

/// What becomes of rows that are there of what comes in.
fn existing(to: &Definition, out: &mut Consequences) {
    let (existing, comes) = match to {
        Definition::Source(source) => (source.existing_rows, Consequence::LoadsNew),
        Definition::Sink(sink) => (sink.existing_rows, Consequence::DeliversNew),
        Definition::Topics(_) => return,
    };
    let becomes = match existing {
        Some(ExistingRows::Empty) => Consequence::EmptiesNew,
        Some(ExistingRows::Compare) => Consequence::ComparesNew,
        Some(ExistingRows::Keep) | None => return,
    };
    if let Some(come) = out.get(&comes).cloned() {
        out.insert(becomes, come);
    }
}

fn by_topic(carried: &CarriedTopic) -> (String, &str, &CarriedTopic) {
    (carried.name(), &carried.topic, carried)
}

fn by_table(topic: &DeliveredTopic) -> (String, &str, &DeliveredTopic) {
    (topic.name(), &topic.topic, topic)
}

/// What becomes of what is read: each with its name and its topic.
fn read<'d, T: PartialEq + 'd>(
    from: impl Iterator<Item = (String, &'d str, &'d T)>,
    to: impl Iterator<Item = (String, &'d str, &'d T)>,
    out: &mut Consequences,
) {
    let (mut before, mut topics) = (BTreeMap::new(), HashSet::new());
    for (name, topic, was) in from {
        topics.insert(topic);
        before.insert(name, was);
    }
    for (name, topic, is) in to {
        let becomes = match before.remove(&name) {
            None if topics.contains(topic) => Consequence::TakesMore,
            None => Consequence::DeliversNew,
            Some(was) if was != is => Consequence::WritesOtherwise,
            Some(_) => continue,
        };
        out.entry(becomes).or_default().push(name);
    }
    if !before.is_empty() {
        out.entry(Consequence::LetsGo).or_default().extend(before.into_keys());
    }
}

fn source(from: &SourceDefinition, to: &SourceDefinition, out: &mut Consequences) {
    let before: BTreeMap<String, &CapturedTable> = from.tables.iter().map(|t| (t.qualified(), t)).collect();
    let otherwise = from.values != to.values;
    for table in &to.tables {
        let name = table.qualified();
        match before.get(&name) {
            None if from.finds(&name) => {}
            None if to.load.rows => out.entry(Consequence::LoadsNew).or_default().push(name),
            None => out.entry(Consequence::FollowsNew).or_default().push(name),
            Some(was) if to.load.rows && (otherwise || lacks(was, table)) => {
                out.entry(Consequence::LoadsAgain).or_default().push(name);
            }
            Some(_) => {}
        }
    }
    let kept: HashSet<String> = to.tables.iter().map(CapturedTable::qualified).collect();
    for gone in from.tables.iter().map(CapturedTable::qualified).filter(|name| !kept.contains(name) && !to.finds(name)) {
        out.entry(Consequence::LetsGo).or_default().push(gone);
    }
    if from.patterns != to.patterns {
        let include = |d: &SourceDefinition| d.patterns.as_ref().map(|p| p.include.clone()).unwrap_or_default();
        let (was, is) = (include(from), include(to));
        let come = if to.load.rows { Consequence::LoadsNew } else { Consequence::FollowsNew };
        for (kind, some, others) in [(come, &is, &was), (Consequence::LetsGo, &was, &is)] {
            let only: Vec<String> =
                some.iter().filter(|p| !others.contains(p)).map(|p| format!("tables like {p}")).collect();
            if !only.is_empty() {
                out.entry(kind).or_default().extend(only);
            }
        }
    }
    if otherwise || from.schema_changes != to.schema_changes {
        out.insert(Consequence::WritesOtherwise, Vec::new());
    }
}

/// Whether records written by the earlier settings lack what the later ones want: columns, rows, another key or topic.
fn lacks(was: &CapturedTable, is: &CapturedTable) -> bool {
    let comes_back = was.leave_out.iter().any(|column| !is.leave_out.contains(column));
    comes_back || was.topic != is.topic || was.key != is.key || (was.load_where.is_some() && was.load_where != is.load_where)
}

fn sink(from: &SinkDefinition, to: &SinkDefinition, out: &mut Consequences) -> Result<(), EditError> {
    let there: HashSet<String> = from.topics.iter().map(DeliveredTopic::table_name).collect();
    let same = to.topics.iter().map(DeliveredTopic::table_name).find(|table| there.contains(table));
    if let Some(table) = same.filter(|_| from.writes.rows != to.writes.rows) {
        return Err(EditError::Rows { table });
    }
    read(from.topics.iter().map(by_table), to.topics.iter().map(by_table), out);
    if from.writes != to.writes {
        out.entry(Consequence::WritesOtherwise).or_default();
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;
    use crate::connector::{TargetRows, TopicsDefinition, ValueForm};
    use crate::event_rows::{EventColumn, EventRows, Only, Part};
    use crate::table_patterns::TablePatterns;

    fn source(tables: &[&str]) -> SourceDefinition {
        let tables = tables.iter().map(|t| CapturedTable::whole("public", t, t)).collect();
        SourceDefinition::of(Uuid::nil(), tables, 1)
    }

    fn says(from: impl Into<Definition>, to: impl Into<Definition>) -> Vec<(Consequence, String)> {
        let found = consequences(&from.into(), &to.into()).unwrap();
        found.into_iter().map(|(kind, names)| (kind, names.join(" "))).collect()
    }

    #[test]
    fn an_edit_of_what_is_read_says_so_of_sinks_and_between_topics() {
        use Consequence::{DeliversNew, LetsGo, StartsAnew, TakesMore, WritesOtherwise};
        let rows = |types: &[&str], column: &str| {
            let is = types.iter().map(|ty| (*ty).to_owned()).collect();
            let only = Only { part: Part::Header, path: vec!["ce-type".into()], is, ..Only::default() };
            EventRows {
                only: Some(only),
                columns: vec![EventColumn::field(&["n"], column, "bigint")],
                ..EventRows::default()
            }
        };
        let cases = [("events", "a", "n"), ("events", "b", "n"), ("events", "a", "number"), ("others", "a", "n")];
        let [a, b, a_otherwise, others] = cases.map(|(topic, ty, column)| (topic, ty, rows(&[ty], column)));
        let edits = [
            (vec![&a], vec![&a, &b], vec![(TakesMore, "events [b]")]),
            (vec![&a], vec![&a, &others], vec![(DeliversNew, "others [a]")]),
            (vec![&a, &b], vec![&a], vec![(LetsGo, "events [b]")]),
            (vec![&a], vec![&a_otherwise], vec![(WritesOtherwise, "events [a]")]),
        ];
        for (from, to, wanted) in edits {
            let wanted = [(StartsAnew, "")].into_iter().chain(wanted).map(|(kind, name)| (kind, name.to_owned()));
            let mut wanted: Vec<_> = wanted.collect();
            wanted.sort();
            let sink = |read: &[&(&str, &str, EventRows)]| {
                let topics = read.iter().map(|(topic, ty, rows)| DeliveredTopic {
                    topic: (*topic).into(),
                    schema: "public".into(),
                    table: format!("{topic}_{ty}"),
                    rows: Some(rows.clone()),
                });
                SinkDefinition::of(Uuid::nil(), topics.collect())
            };
            let between = |read: &[&(&str, &str, EventRows)]| {
                let carries = read.iter().map(|(topic, ty, rows)| CarriedTopic {
                    topic: (*topic).into(),
                    to: format!("{topic}.{ty}"),
                    rows: Some(rows.clone()),
                    fit: None,
                });
                TopicsDefinition::of(carries.collect(), 1)
            };
            assert_eq!(says(sink(&from), sink(&to)), wanted);
            assert_eq!(says(between(&from), between(&to)), wanted);
        }
    }

    #[test]
    fn an_edit_says_what_comes_goes_and_is_loaded_again() {
        use Consequence::{ComparesNew, EmptiesNew, FollowsNew, LetsGo, LoadsAgain, LoadsNew, StartsAnew, WritesOtherwise};
        let plain = (StartsAnew, String::new());
        assert_eq!(says(source(&["bins"]), source(&["bins"])), []);
        let more = says(source(&["bins", "lines"]), source(&["bins", "rooms"]));
        assert_eq!(more, [plain.clone(), (LoadsNew, "public.rooms".into()), (LetsGo, "public.lines".into())]);
        let mut without_load = source(&["bins", "rooms"]);
        without_load.load.rows = false;
        assert_eq!(says(source(&["bins"]), without_load), [plain.clone(), (FollowsNew, "public.rooms".into())]);

        // what was once said of rows that are there is said again of what comes in later
        for (existing, becomes) in [(ExistingRows::Empty, EmptiesNew), (ExistingRows::Compare, ComparesNew)] {
            let with = |tables: &[&str]| SourceDefinition { existing_rows: Some(existing), ..source(tables) };
            let more = says(with(&["bins"]), with(&["bins", "rooms"]));
            assert_eq!(more, [plain.clone(), (LoadsNew, "public.rooms".into()), (becomes, "public.rooms".into())]);
            assert_eq!(says(with(&["bins", "rooms"]), with(&["bins"])).len(), 2, "nothing comes in");
        }

        // a column left out needs no load; one that comes back does
        let mut narrow = source(&["bins"]);
        narrow.tables[0].leave_out = vec!["remark".into()];
        assert_eq!(says(source(&["bins"]), narrow.clone()), std::slice::from_ref(&plain));
        assert_eq!(says(narrow, source(&["bins"])), [plain.clone(), (LoadsAgain, "public.bins".into())]);
        let mut rows = source(&["bins"]);
        rows.values.form = ValueForm::Row;
        let expected = [plain.clone(), (LoadsAgain, "public.bins".into()), (WritesOtherwise, String::new())];
        assert_eq!(says(source(&["bins"]), rows), expected);

        // a table that was chosen and is now covered by a pattern neither comes nor goes
        let patterns = TablePatterns { include: vec!["public.*".into()], exclude: vec![], topic: "{table}".into() };
        let covered = SourceDefinition { patterns: Some(patterns), ..source(&[]) };
        let expected = [plain, (LoadsNew, "tables like public.*".into())];
        assert_eq!(says(source(&["bins"]), covered.clone()), expected);
        let back = says(covered, source(&["bins"]));
        assert!(!back.iter().any(|(kind, _)| *kind == LoadsNew), "{back:?}");
    }

    #[test]
    fn what_would_be_another_connector_is_refused() {
        let topic = DeliveredTopic { topic: "bins".into(), schema: "public".into(), table: "bins".into(), rows: None };
        let sink = SinkDefinition::of(Uuid::nil(), vec![topic]);
        let refused = |from: Definition, to: Definition| consequences(&from, &to).unwrap_err().to_string();
        assert!(refused(source(&["bins"]).into(), sink.clone().into()).contains("cannot become a sink"));
        let elsewhere = SourceDefinition { connection: Uuid::max(), ..source(&["bins"]) };
        assert!(refused(source(&["bins"]).into(), elsewhere.into()).contains("position is of this system"));
        let mut history = sink.clone();
        history.writes.rows = TargetRows::History;
        assert!(
            refused(sink.clone().into(), history.clone().into()).contains("public.bins was made for rows of another kind")
        );
        // nor may another topic take the table over
        let other = DeliveredTopic { topic: "lines".into(), ..history.topics[0].clone() };
        let taken = SinkDefinition { topics: vec![other], ..history.clone() };
        assert!(refused(sink.clone().into(), taken.into()).contains("rows of another kind"));
        history.topics[0].table = "bins_history".into();
        assert!(consequences(&sink.into(), &history.into()).is_ok());
    }
}
