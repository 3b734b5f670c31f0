//! Rows of a recipe: a row is what its number, its recipe and the seed make of it, however often it is made and together with which others.
//! Only times are of when it is made.

use std::collections::BTreeMap;

use arrow_array::{BooleanArray, Date32Array, Decimal128Array, Int64Array, StringArray, TimestampMicrosecondArray};
use fake::Fake as _;
use fake::faker::address::raw::{CityName, StreetName};
use fake::faker::company::raw::CompanyName;
use fake::faker::lorem::raw::Words;
use fake::faker::name::raw::Name;
use fake::locales::EN;
use gonvel_core::column::ColumnArray;
use gonvel_core::ports::systems::ConnectorError;
use rand::rngs::SmallRng;
use rand::{Rng, RngCore, SeedableRng};
use serde_json::Value;

use super::keys::{Keys, keys};
use super::recipe::{Column, Holds, Recipe, Spread};

const DAY_US: i64 = 86_400_000_000;

/// A seed of its own for each column, and for what is beside a recipe's rows.
fn seed_of(seed: u64, of: &str) -> u64 {
    of.bytes().fold(seed, |mixed, byte| (mixed ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3))
}

/// Dice of a cell, by its column's seed and its row's number.
fn dice(seed: u64, number: u64) -> SmallRng {
    SmallRng::seed_from_u64(seed ^ number.wrapping_mul(0x9e37_79b9_7f4a_7c15))
}

/// How a recipe's rows are made.
#[derive(Debug, Clone)]
pub(super) struct Making {
    pub(super) recipe: Recipe,
    /// Rows that columns refer to, by their places.
    referred: Vec<u64>,
    /// Keys that columns pick from, by their places; none of one that does not.
    keys: Vec<Keys>,
    /// Each column's own.
    seeds: Vec<u64>,
    /// That of what is beside a row.
    luck: u64,
}

/// What is beside a row itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Luck {
    /// How late it is, in microseconds.
    late_us: i64,
    /// Whether it comes twice.
    repeated: bool,
    /// The place of the column whose value does not fit.
    bad: Option<usize>,
}

impl Making {
    /// `all` are the recipes that columns may refer to, `known` the keys of topics.
    ///
    /// # Errors
    /// [`ConnectorError::TryAgain`] where a topic that keys are picked from has none that fit.
    pub(super) fn new(
        recipe: &Recipe,
        (all, known): (&[Recipe], &BTreeMap<String, Vec<Value>>),
        seed: u64,
    ) -> Result<Self, ConnectorError> {
        let picked = |column: &Column| {
            let Holds::Key { topic, field, whole } = &column.holds else { return Ok(Keys::Texts(Vec::new())) };
            keys(topic, known.get(topic), field.as_deref(), *whole).map_err(|finding| {
                let finding = format!("{}.{}: {finding}", recipe.table, column.name);
                let remedy = "publish such records, or change the recipe; this goes on by itself";
                ConnectorError::try_again(finding, remedy).at("recipes")
            })
        };
        let rows = |table: &String| all.iter().find(|other| other.table == *table).map_or(1, Recipe::known_rows);
        let referred = |column: &Column| if let Holds::Reference { table } = &column.holds { rows(table) } else { 0 };
        let own = |column: &Column| seed_of(seed, &format!("{}.{}", recipe.table, column.name));
        Ok(Self {
            recipe: recipe.clone(),
            referred: recipe.columns.iter().map(referred).collect(),
            keys: recipe.columns.iter().map(picked).collect::<Result<_, _>>()?,
            seeds: recipe.columns.iter().map(own).collect(),
            luck: seed_of(seed, &recipe.table),
        })
    }

    fn luck(&self, number: u64) -> Luck {
        let recipe = &self.recipe;
        if recipe.late == 0.0 && recipe.repeated == 0.0 && recipe.bad == 0.0 {
            return Luck { late_us: 0, repeated: false, bad: None };
        }
        let mut dice = dice(self.luck, number);
        #[allow(clippy::cast_possible_truncation, reason = "spans of hours")]
        let late_us =
            if dice.random_bool(recipe.late) { (dice.random_range(0.0..=recipe.late_by_s) * 1e6) as i64 } else { 0 };
        let repeated = dice.random_bool(recipe.repeated);
        let others: Vec<usize> = (0..recipe.columns.len())
            .filter(|place| !matches!(recipe.columns[*place].holds, Holds::Number {} | Holds::Flag { .. }))
            .collect();
        let is_bad = dice.random_bool(recipe.bad) && !others.is_empty();
        let bad = is_bad.then(|| others[dice.random_range(0..others.len())]);
        Luck { late_us, repeated, bad }
    }

    /// The numbers of rows in the order in which they come, from one on: those that are repeated twice. At most so many, and a row is not
    /// divided from its repetition.
    pub(super) fn numbers(&self, from: u64, rows: u64) -> Vec<u64> {
        let mut numbers = Vec::with_capacity(usize::try_from(rows).unwrap_or(0));
        for number in from..from + rows {
            numbers.push(number);
            if self.luck(number).repeated {
                numbers.push(number);
            }
        }
        numbers
    }

    /// Columns of rows, by the columns' places; rows are numbered from 1. `now_us` is when they are made.
    pub(super) fn columns(&self, places: &[usize], numbers: &[u64], now_us: i64) -> Vec<ColumnArray> {
        let luck: Vec<Luck> = numbers.iter().map(|number| self.luck(*number)).collect();
        places.iter().map(|place| self.column(*place, numbers, &luck, now_us)).collect()
    }

    fn column(&self, place: usize, numbers: &[u64], luck: &[Luck], now_us: i64) -> ColumnArray {
        let column = &self.recipe.columns[place];
        let seed = self.seeds[place];
        let rows = || numbers.iter().zip(luck).map(|(number, luck)| (*number, luck));
        // a cell's dice, and whether it does not fit; none where it is null
        let cell = |(number, luck): (u64, &Luck)| {
            let mut dice = dice(seed, number);
            (column.empty == 0.0 || !dice.random_bool(column.empty)).then_some((dice, luck.bad == Some(place)))
        };
        let text = |make: &dyn Fn(&mut SmallRng) -> String| {
            let one = |(mut dice, bad): (SmallRng, bool)| {
                let text = make(&mut dice);
                // a sign that no form takes
                if bad { format!("\u{7}{text}") } else { text }
            };
            ColumnArray::Text(rows().map(|row| cell(row).map(one)).collect::<StringArray>())
        };
        match &column.holds {
            Holds::Number {} => {
                ColumnArray::Int64(numbers.iter().map(|number| i64::try_from(*number).ok()).collect::<Int64Array>())
            }
            Holds::Whole { from, to, spread } => {
                let one = |(mut dice, bad): (SmallRng, bool)| {
                    if bad { to.saturating_add(1).saturating_mul(1_000) } else { whole(&mut dice, *from, *to, *spread) }
                };
                ColumnArray::Int64(rows().map(|row| cell(row).map(one)).collect::<Int64Array>())
            }
            Holds::Reference { .. } => {
                let most = i64::try_from(self.referred[place]).unwrap_or(i64::MAX);
                // a row that is not there
                let one = |(mut dice, bad): (SmallRng, bool)| if bad { 0 } else { dice.random_range(1..=most) };
                ColumnArray::Int64(rows().map(|row| cell(row).map(one)).collect::<Int64Array>())
            }
            Holds::Key { .. } => match &self.keys[place] {
                Keys::Texts(keys) => text(&|dice| keys[dice.random_range(0..keys.len())].clone()),
                Keys::Whole(keys) => {
                    let one = |(mut dice, bad): (SmallRng, bool)| {
                        if bad { i64::MIN } else { keys[dice.random_range(0..keys.len())] }
                    };
                    ColumnArray::Int64(rows().map(|row| cell(row).map(one)).collect::<Int64Array>())
                }
            },
            Holds::Decimal { from, to, scale, spread } => {
                let unit = 10_f64.powi(i32::from(*scale));
                #[allow(clippy::cast_possible_truncation, reason = "at most 21 digits")]
                let one = |(mut dice, bad): (SmallRng, bool)| {
                    let value = if bad { to.abs() * 10.0 + 1.0 } else { from + (to - from) * share(&mut dice, *spread) };
                    (value * unit).round() as i128
                };
                let all: Decimal128Array = rows().map(|row| cell(row).map(one)).collect();
                let all = all.with_precision_and_scale(scale + 13, i8::try_from(*scale).unwrap_or(0));
                ColumnArray::Decimal(all.expect("digits are checked with the recipe"))
            }
            Holds::Flag { share } => {
                let one = |(mut dice, _): (SmallRng, bool)| dice.random_bool(*share);
                ColumnArray::Boolean(rows().map(|row| cell(row).map(one)).collect::<BooleanArray>())
            }
            Holds::Time {} => {
                // before there were any
                let one = |late_us: i64, bad: bool| if bad { -70 * 365 * DAY_US } else { now_us - late_us };
                let is_there = |number: u64| column.empty == 0.0 || !dice(seed, number).random_bool(column.empty);
                let at = |(number, luck): (u64, &Luck)| is_there(number).then(|| one(luck.late_us, luck.bad == Some(place)));
                ColumnArray::Timestamp(rows().map(at).collect::<TimestampMicrosecondArray>())
            }
            Holds::Day { back } => {
                let today = i32::try_from(now_us.div_euclid(DAY_US)).unwrap_or(0);
                let back = i32::try_from(*back).unwrap_or(i32::MAX);
                let one = |(mut dice, bad): (SmallRng, bool)| {
                    if bad { today.saturating_add(40_000) } else { today.saturating_sub(dice.random_range(0..=back)) }
                };
                ColumnArray::Date(rows().map(|row| cell(row).map(one)).collect::<Date32Array>())
            }
            Holds::Choice { of } => {
                let total: u64 = of.values().map(|weight| u64::from(*weight)).sum();
                let pick = |dice: &mut SmallRng| {
                    let mut at = dice.random_range(0..total);
                    for (text, weight) in of {
                        match at.checked_sub(u64::from(*weight)) {
                            Some(left) => at = left,
                            None => return text.as_str(),
                        }
                    }
                    ""
                };
                let one = |(mut dice, bad): (SmallRng, bool)| if bad { "\u{7}" } else { pick(&mut dice) };
                ColumnArray::Text(rows().map(|row| cell(row).map(one)).collect::<StringArray>())
            }
            Holds::Person {} => text(&|dice| Name(EN).fake_with_rng(dice)),
            Holds::Company {} => text(&|dice| CompanyName(EN).fake_with_rng(dice)),
            Holds::City {} => text(&|dice| CityName(EN).fake_with_rng(dice)),
            Holds::Street {} => text(&|dice| StreetName(EN).fake_with_rng(dice)),
            Holds::Words {} => text(&|dice| Words(EN, 2..6).fake_with_rng::<Vec<String>, _>(dice).join(" ")),
            Holds::Noise { length } => text(&|dice| noise(dice, usize::try_from(*length).unwrap_or(0))),
        }
    }
}

fn share(dice: &mut SmallRng, spread: Spread) -> f64 {
    match spread {
        Spread::Even => dice.random(),
        Spread::Middle => (dice.random::<f64>() + dice.random::<f64>() + dice.random::<f64>()) / 3.0,
        Spread::Low => dice.random::<f64>().powi(2),
    }
}

fn whole(dice: &mut SmallRng, from: i64, to: i64, spread: Spread) -> i64 {
    if spread == Spread::Even {
        return dice.random_range(from..=to);
    }
    #[allow(clippy::cast_precision_loss, clippy::cast_possible_truncation, reason = "spread is not exact")]
    let step = ((to.abs_diff(from) as f64 + 1.0) * share(dice, spread)) as i64;
    from.saturating_add(step).min(to)
}

fn noise(dice: &mut SmallRng, length: usize) -> String {
    const DIGITS: &[u8] = b"0123456789abcdef";
    let mut out = String::with_capacity(length + 16);
    while out.len() < length {
        let mut bits = dice.next_u64();
        for _ in 0..16 {
            out.push(char::from(DIGITS[usize::try_from(bits & 15).unwrap_or(0)]));
            bits >>= 4;
        }
    }
    out.truncate(length);
    out
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

    use gonvel_core::column::Value;
    use proptest::prelude::*;

    use super::super::recipe::recipes;
    use super::*;

    const OWN: &str = "
- table: growers
  rows: 40
  columns: [{name: id, is: number}, {name: name, is: person}]
- table: weighings
  late: 0.2
  repeated: 0.1
  bad: 0.1
  columns:
  - {name: remark, is: words, empty: 0.5}
  - {name: id, is: number}
  - {name: grower, is: reference, table: growers}
  - {name: kg, is: whole, from: -5, to: 5, spread: low}
  - {name: price, is: decimal, from: 0.5, to: 2, scale: 3, spread: middle}
  - {name: grade, is: choice, of: {first: 1, second: 3, third: 0}}
  - {name: held, is: flag, share: 0.25}
  - {name: at, is: time}
  - {name: planted, is: day, back: 10}
  - {name: company, is: company}
  - {name: city, is: city}
  - {name: street, is: street}
  - {name: blob, is: noise, length: 33}
  - {name: bin, is: key, topic: bins, field: id, whole: true}
  - {name: room, is: key, topic: rooms}
";

    fn weighings(seed: u64) -> Making {
        let all = recipes(OWN).unwrap();
        let bins = (1..=30).map(|id| serde_json::json!({"id": id * 10, "line": 2})).collect();
        let known = [("bins", bins), ("rooms", vec!["north".into(), "south".into()])];
        let known = known.map(|(topic, keys)| (topic.to_owned(), keys)).into();
        Making::new(all.iter().find(|r| r.table == "weighings").unwrap(), (&all, &known), seed).unwrap()
    }

    fn rows(making: &Making, numbers: &[u64]) -> Vec<Vec<String>> {
        let places: Vec<usize> = (0..making.recipe.columns.len()).collect();
        let columns = making.columns(&places, numbers, 1_800_000_000_000_000);
        (0..numbers.len()).map(|row| columns.iter().map(|c| format!("{:?}", c.value(row))).collect()).collect()
    }

    proptest! {
        /// However rows are divided into batches, and whether or not one is made again: the same seed makes the same rows.
        #[test]
        fn a_row_is_the_same_however_it_is_made(seed: u64, from in 1_u64..1_000, sizes in prop::collection::vec(1_u64..40, 1..5)) {
            let making = weighings(seed);
            let total: u64 = sizes.iter().sum();
            let whole = making.numbers(from, total);
            let mut parts = Vec::new();
            let mut next = from;
            for size in sizes {
                parts.extend(making.numbers(next, size));
                next += size;
            }
            prop_assert_eq!(&parts, &whole);
            let made = rows(&making, &whole);
            for (number, row) in whole.iter().zip(&made) {
                prop_assert_eq!(&rows(&making, &[*number])[0], row);
            }
            prop_assert!(rows(&weighings(seed ^ 1), &whole) != made);
        }
    }

    /// Every value lies where its recipe says, but for those that are bad, and shares are about what they say.
    #[test]
    fn values_lie_where_the_recipe_says() {
        let making = weighings(7);
        let numbers: Vec<u64> = (1..=4_000).collect();
        let places: Vec<usize> = (0..making.recipe.columns.len()).collect();
        let columns = making.columns(&places, &numbers, 1_800_000_000_000_000);
        let mut counted = [0_usize; 6];
        for (row, number) in numbers.iter().enumerate() {
            let luck = making.luck(*number);
            counted[0] += usize::from(luck.late_us > 0);
            counted[1] += usize::from(luck.repeated);
            counted[2] += usize::from(luck.bad.is_some());
            for (place, column) in columns.iter().enumerate() {
                let (name, fits) = (making.recipe.columns[place].name.as_str(), luck.bad != Some(place));
                let lies = match (name, column.value(row)) {
                    ("remark", Value::Null) => {
                        counted[3] += 1;
                        continue;
                    }
                    ("remark" | "company" | "city" | "street", Value::Text(text)) => {
                        !text.starts_with('\u{7}') && text.len() > 2
                    }
                    ("id", Value::Long(id)) => u64::try_from(id) == Ok(*number),
                    ("grower", Value::Long(id)) => (1..=40).contains(&id),
                    ("kg", Value::Long(kg)) => (-5..=5).contains(&kg),
                    ("price", Value::Decimal(price)) => (500..=2_000).contains(&price),
                    ("grade", Value::Text(grade)) => {
                        counted[4] += usize::from(grade == "second");
                        matches!(grade, "first" | "second")
                    }
                    ("held", Value::Boolean(held)) => {
                        counted[5] += usize::from(held);
                        true
                    }
                    ("at", Value::Timestamp(at)) => 1_800_000_000_000_000 - at == luck.late_us,
                    ("planted", Value::Date(day)) => (20_823..=20_833).contains(&day),
                    ("blob", Value::Text(text)) => text.len() == 33 && !text.starts_with('\u{7}'),
                    ("bin", Value::Long(bin)) => bin % 10 == 0 && (10..=300).contains(&bin),
                    ("room", Value::Text(room)) => matches!(room, "north" | "south"),
                    (name, other) => panic!("{name} is {other:?}"),
                };
                assert_eq!(lies, fits, "{name} of {number}: {:?}", column.value(row));
            }
        }
        for (counted, about) in counted.into_iter().zip([800, 400, 400, 2_000, 3_000, 1_000]) {
            assert!(counted.abs_diff(about) < about / 4, "{counted} are about {about}");
        }
    }
}
