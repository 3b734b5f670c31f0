//! Stages worked out step by step, each over the columns that the ones before leave.

use std::collections::HashMap;
use std::sync::Arc;

use gonvel_core::shape::Miss;
use gonvel_core::table::TableSchema;

use crate::bind::{bind_parsed, condition, risk, truth};
use crate::columns::{Columns, Field};
use crate::expr::{Expr, Node};
use crate::finding::{Finding, Weight};
use crate::route::Template;
use crate::stages::{Kind, Out, Stage};
use crate::steps::{Item, Piece, pieces};
use crate::tools::Tools;
use crate::ty::Ty;

/// What is known of references: each topic's current shape.
pub type References = HashMap<String, Arc<TableSchema>>;

pub(crate) struct Builder<'b> {
    pub(crate) references: &'b References,
    pub(crate) tools: &'b Tools,
    pub(crate) columns: Columns,
    pub(crate) stages: Vec<Stage>,
    pub(crate) findings: Vec<Finding>,
    pub(crate) failed: bool,
}

pub(crate) fn reads(expr: &Expr) -> Vec<usize> {
    let mut out = Vec::new();
    expr.columns(&mut |c| {
        if !out.contains(&c) {
            out.push(c);
        }
    });
    out.sort_unstable();
    out
}

impl Builder<'_> {
    pub(crate) fn found(&mut self, step: Option<usize>, finding: Finding) {
        self.failed |= finding.weight == Weight::Error;
        let finding = finding.of(step, "");
        if !self.findings.contains(&finding) {
            self.findings.push(finding);
        }
    }

    pub(crate) fn step(&mut self, number: Option<usize>, step: &gonvel_core::shape::Step) {
        let word = step.word();
        match pieces(step, &self.columns) {
            Ok(pieces) => {
                for piece in pieces {
                    self.piece(number, word, piece);
                }
            }
            Err(finding) => self.found(number, finding),
        }
        if self.columns.fields.is_empty() {
            self.found(number, Finding::error("no column is left"));
        }
    }

    fn piece(&mut self, step: Option<usize>, word: &'static str, piece: Piece) {
        let input = self.columns.clone();
        let (mut items, mut only) = (None, None);
        let kind = match piece {
            Piece::Project(list) => {
                items = Some(list.iter().map(|i| (i.name.clone(), i.sql.clone())).collect());
                self.project(step, list)
            }
            Piece::Filter(sql, text, field) => {
                only = Some((*sql).clone());
                match bind_parsed(&sql, text, &input, self.tools).and_then(|(e, w)| Ok((truth(e, "a condition")?, w))) {
                    Ok((expr, warnings)) => {
                        warnings.into_iter().for_each(|w| self.found(step, w.of(step, field)));
                        let reads = reads(&expr);
                        Some(Kind::Filter(expr, reads))
                    }
                    Err(finding) => {
                        self.found(step, finding.of(step, field));
                        None
                    }
                }
            }
            Piece::Route(ways) => {
                let mut out = Vec::new();
                for way in &ways {
                    let when = way.when.as_deref().filter(|w| !w.trim().is_empty());
                    let bound = when.map(|w| condition(w, &input, self.tools)).transpose();
                    let template = Template::parse(&way.to, &input);
                    if let Ok(template) = &template
                        && let Some(column) = template.reads().next()
                    {
                        let finding = format!(
                            "{} names where rows go: truncates, and deletes of which only the key is known, do not reach it",
                            input.fields[column].name
                        );
                        let remedy = "name the places one by one if deletes matter there";
                        self.found(step, Finding::warning(finding).of(step, "ways").suggest(remedy));
                    }
                    match (bound, template) {
                        (Ok(bound), Ok(template)) => out.push((bound.map(|(e, _)| e), template)),
                        (Err(finding), _) | (_, Err(finding)) => self.found(step, finding.of(step, "ways")),
                    }
                }
                Some(Kind::Route(out))
            }
            Piece::Lookup { topic, by, columns, miss, again } => self.lookup(step, &topic, &by, &columns, (miss, again)),
            Piece::Repeats(places) => Some(Kind::Repeats(places)),
        };
        let Some(kind) = kind else { return };
        let secret = vec![false; input.fields.len()];
        self.stages.push(Stage { step, word, kind, input, output: self.columns.clone(), secret, items, only });
    }

    fn project(&mut self, step: Option<usize>, list: Vec<Item>) -> Option<Kind> {
        let input = self.columns.clone();
        let (mut outs, mut fields): (Vec<Out>, Vec<Field>) = (Vec::new(), Vec::new());
        let mut wrong = false;
        for item in list {
            let place = item.field.unwrap_or("columns");
            if let Some(twice) = fields.iter().position(|f| f.name == item.name) {
                let finding = format!("two columns would be called {}", fields[twice].name);
                self.found(step, Finding::error(finding).of(step, place).suggest("give one another name"));
                wrong = true;
                continue;
            }
            match bind_parsed(&item.sql, item.text.clone(), &input, self.tools) {
                Ok((expr, warnings)) => {
                    for warning in warnings {
                        // a step without a text of its own has no character to point at
                        let warning = if item.field.is_none() { Finding { span: None, ..warning } } else { warning };
                        self.found(step, named(warning, &item.name, item.field).of(step, place));
                    }
                    let plain = expr.as_column().filter(|_| item.plain || matches!(expr.node, Node::Column(_)));
                    let of = item.of.or(plain);
                    let field = field_of(&item, &expr, &input, of);
                    if field.key {
                        self.check_key(step, place, &item, &expr, &input, &field);
                    }
                    let reads = reads(&expr);
                    outs.push(Out { expr, plain, of, reads, hides: item.hides });
                    fields.push(field);
                }
                Err(finding) => {
                    let finding = if item.field.is_none() {
                        Finding { span: None, ..named(finding, &item.name, None) }
                    } else {
                        finding
                    };
                    self.found(step, finding.of(step, place));
                    wrong = true;
                    // what follows can still be checked
                    if let Some(of) = item.of {
                        let span = item.text.span(&item.sql);
                        let expr = Expr { node: Node::Column(of), ty: input.fields[of].ty.clone(), nullable: true, span };
                        outs.push(Out { expr, plain: Some(of), of: Some(of), reads: vec![of], hides: false });
                        fields.push(Field { name: item.name.clone(), ..input.fields[of].clone() });
                    }
                }
            }
        }
        // a key column that two columns are made of stays the key in the first
        for (of, field) in input.fields.iter().enumerate().filter(|(_, f)| f.key) {
            let copies: Vec<usize> = (0..outs.len())
                .filter(|&n| fields[n].key && (outs[n].of == Some(of) || outs[n].reads.contains(&of)))
                .collect();
            copies.iter().skip(1).for_each(|&n| fields[n].key = false);
            if copies.is_empty() && !wrong {
                let finding = format!("the key column {} would be gone, and rows could not be told apart", field.name);
                self.found(
                    step,
                    Finding::error(finding).of(step, "columns").suggest("keep it, or hide it with hash or token"),
                );
            }
        }
        self.columns = Columns { fields };
        Some(Kind::Project(outs))
    }

    fn check_key(
        &mut self,
        step: Option<usize>,
        place: &'static str,
        item: &Item,
        expr: &Expr,
        input: &Columns,
        field: &Field,
    ) {
        if let Some(other) = reads(expr).into_iter().find(|c| !input.fields[*c].key) {
            let finding = format!(
                "the key column {} would be made of {}, which a delete does not say",
                item.name, input.fields[other].name
            );
            self.found(
                step,
                Finding::error(finding).of(step, place).suggest("make it of key columns only, or use another name"),
            );
        } else if expr.reads_facts() || reads(expr).is_empty() {
            let finding = format!("the key column {} would not be the row's own any more", item.name);
            self.found(step, Finding::error(finding).of(step, place).suggest("use another name"));
        } else if field.nullable && !matches!(expr.node, Node::Column(_)) {
            let finding = format!("the key column {} may become null", item.name);
            self.found(step, Finding::warning(finding).of(step, place));
        } else if !keeps_apart(expr) {
            let finding = format!("two rows may get the same key where {} is made", item.name);
            self.found(step, Finding::warning(finding).of(step, place));
        }
    }

    /// What a step that drops repeats does not compare must not decide later where rows go.
    pub(crate) fn check_repeats(&mut self) {
        let mut found = Vec::new();
        for (at, stage) in self.stages.iter().enumerate() {
            let Kind::Repeats(by) = &stage.kind else { continue };
            let fields = &stage.input.fields;
            let mut ignored: Vec<bool> = (0..fields.len()).map(|c| !fields[c].key && !by.contains(&c)).collect();
            for later in &self.stages[at + 1..] {
                let reads: Vec<usize> = match &later.kind {
                    Kind::Project(outs) => {
                        ignored = outs.iter().map(|out| out.reads.iter().any(|c| ignored[*c])).collect();
                        continue;
                    }
                    Kind::Lookup(lookup) => {
                        // what a reference holds changes without the row
                        ignored.extend(lookup.added.iter().map(|_| true));
                        if lookup.miss == Miss::Leave { lookup.reads.clone() } else { continue }
                    }
                    Kind::Filter(_, reads) => reads.clone(),
                    Kind::Route(ways) => {
                        let mut all: Vec<usize> = ways.iter().flat_map(|(_, to)| to.reads()).collect();
                        ways.iter().filter_map(|(when, _)| when.as_ref()).for_each(|when| all.extend(reads(when)));
                        all
                    }
                    Kind::Repeats(_) => continue,
                };
                if let Some(column) = reads.into_iter().find(|c| ignored[*c]) {
                    let finding = format!(
                        "{} decides here what becomes of a row, and an earlier step drops rows in which nothing else changed",
                        later.input.fields[column].name
                    );
                    let remedy = "let that step compare it too, or let it come after this one";
                    found.push((later.step, Finding::warning(finding).suggest(remedy)));
                }
            }
        }
        found.into_iter().for_each(|(step, finding)| self.found(step, finding));
    }

    /// Rows are routed in one place.
    pub(crate) fn check_routed_once(&mut self) {
        let routed: Vec<Option<usize>> =
            self.stages.iter().filter(|s| matches!(s.kind, Kind::Route(_))).map(|s| s.step).collect();
        if let [_, second, ..] = routed.as_slice() {
            self.found(*second, Finding::error("rows are routed once").suggest("put all ways into one step"));
        }
    }
}

fn named(finding: Finding, column: &str, field: Option<&'static str>) -> Finding {
    match field {
        Some("value" | "select" | "only") => finding,
        _ => Finding { message: format!("{column}: {}", finding.message), ..finding },
    }
}

fn field_of(item: &Item, expr: &Expr, input: &Columns, of: Option<usize>) -> Field {
    let key = of.is_some_and(|of| input.fields[of].key);
    match expr.node {
        Node::Column(place) => Field { name: item.name.clone(), key, ..input.fields[place].clone() },
        _ => {
            let ty = if expr.ty == Ty::Unknown { Ty::Text } else { expr.ty.clone() };
            Field { name: item.name.clone(), source_type: ty.data_type(), ty, key, nullable: expr.nullable }
        }
    }
}

/// Whether two values never become one.
fn keeps_apart(expr: &Expr) -> bool {
    match &expr.node {
        Node::Column(_) => true,
        Node::Call { args, types, .. } => {
            // conversions that lose nothing, hashes and tokens
            let one = args.len() == 1 && keeps_apart(&args[0]);
            let widens = types.first().is_some_and(|from| risk(from, &expr.ty).is_none());
            one && widens
        }
        _ => false,
    }
}
