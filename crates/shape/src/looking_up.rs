//! Lookups worked out: the reference, what is compared with its key, what it adds.

use gonvel_core::shape::{Added, Match, Miss};

use crate::building::{Builder, reads};
use crate::columns::{Columns, Field};
use crate::finding::Finding;
use crate::lookups::{Lookup, called, cannot_be_read};
use crate::stages::Kind;
use crate::ty::Ty;

impl Builder<'_> {
    pub(crate) fn lookup(
        &mut self,
        step: Option<usize>,
        topic: &str,
        by: &[Match],
        added: &[Added],
        (miss, again): (Miss, bool),
    ) -> Option<Kind> {
        let Some(reference) = self.references.get(topic) else {
            let finding = if topic.is_empty() {
                Finding::error("a lookup looks into a reference topic or a table").suggest("choose one")
            } else if topic.contains(" of ") {
                Finding::error(cannot_be_read(topic))
            } else {
                Finding::error(format!("the reference topic {topic} is not there, or holds no rows of a table yet"))
            };
            self.found(step, finding.of(step, "topic"));
            return None;
        };
        let there = Columns::of(reference);
        let input = self.columns.clone();
        let mut compared = Vec::new();
        for key in there.fields.iter().filter(|f| f.key) {
            let Some(pair) = by.iter().find(|m| m.key == key.name) else {
                let finding = format!("the reference's key column {} is compared with nothing", key.name);
                self.found(step, Finding::error(finding).of(step, "by").suggest("compare all columns of its key"));
                return None;
            };
            let column = crate::parse::name(&pair.column);
            let text = if input.place(&pair.column).is_some_and(|p| input.fields[p].ty == key.ty) {
                column
            } else {
                format!("CAST({column} AS {})", key.ty.name())
            };
            let from = input.place(&pair.column).map(|p| input.fields[p].ty.clone()).unwrap_or(Ty::Text);
            if from.distance(&key.ty).is_none() && key.ty.distance(&from).is_none() {
                let finding =
                    format!("{} is {}, and the reference's key {} is {}", pair.column, from.name(), key.name, key.ty.name());
                self.found(step, Finding::error(finding).of(step, "by").suggest("convert it to the key's type first"));
                return None;
            }
            match crate::bind::bind(&text, &input, self.tools) {
                Ok((expr, _)) => compared.push(expr),
                Err(finding) => {
                    self.found(step, Finding { span: None, ..finding }.of(step, "by"));
                    return None;
                }
            }
        }
        if let Some(pair) = by.iter().find(|m| !there.fields.iter().any(|f| f.key && f.name == m.key)) {
            let keys: Vec<&str> = there.fields.iter().filter(|f| f.key).map(|f| f.name.as_str()).collect();
            let finding = format!("{} is not a key column of {}", pair.key, called(topic));
            self.found(step, Finding::error(finding).of(step, "by").suggest(format!("its key is {}", keys.join(", "))));
            return None;
        }
        let mut fields = input.fields.clone();
        let mut places = Vec::new();
        for add in added {
            let Some(place) = there.place(&add.from) else {
                let finding = Finding::error(format!("{} has no column {}", called(topic), add.from)).of(step, "columns");
                let near = crate::finding::nearest(&add.from, there.fields.iter().map(|f| f.name.as_str()));
                self.found(
                    step,
                    finding.suggest(
                        near.map_or_else(|| format!("it has {}", there.listed()), |near| format!("perhaps {near}")),
                    ),
                );
                return None;
            };
            if fields.iter().any(|f| f.name == add.column) {
                let finding = format!("there is a column {} already", add.column);
                self.found(step, Finding::error(finding).of(step, "columns").suggest("give what is added another name"));
                return None;
            }
            fields.push(Field { name: add.column.clone(), key: false, nullable: true, ..there.fields[place].clone() });
            places.push(place);
        }
        let reads = {
            let mut all: Vec<usize> = compared.iter().flat_map(reads).collect();
            all.sort_unstable();
            all.dedup();
            all
        };
        self.columns = Columns { fields };
        Some(Kind::Lookup(Lookup { topic: topic.to_owned(), by: compared, added: places, miss, again, reads }))
    }
}
