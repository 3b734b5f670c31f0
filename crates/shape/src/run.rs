//! A plan carried out over a batch of changes: both images of each row go through all stages, then what became of the two says what
//! became of the change.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use gonvel_core::change::{ChangeBatch, ChangeKind, OldImage, Origin};
use gonvel_core::column::{ColumnArray, ColumnBuilder, ColumnType, Value};
use gonvel_core::shape::Miss;
use gonvel_core::table::Column;

use crate::cast::text_of;
use crate::columns::Columns;
use crate::eval::{Faults, Input, Origins, eval};
use crate::expr::{Expr, Fault};
use crate::lookups::{Lookup, called};
use crate::plan::Plan;
use crate::reference::{Changed, Reference};
use crate::stages::{Kind, Out, Stage};
use crate::tools::Tools;
use crate::work::{Seen, Which, Work};

pub use crate::work::{Failed, Image};

/// Characters of a value that a finding shows.
const SHOWN: usize = 60;
/// What a plan is carried out with.
#[derive(Debug)]
pub struct Context {
    /// What functions keep at hand.
    pub tools: Tools,
    /// The references by their topics.
    pub references: HashMap<String, Reference>,
    seen: Seen,
    /// What rows are looked for by, while that is done.
    changed: Arc<HashMap<String, Changed>>,
}

impl Context {
    /// Without references.
    #[must_use]
    pub fn new(tools: Tools) -> Self {
        Self { tools, references: HashMap::new(), seen: Seen::new(), changed: Arc::default() }
    }
}

/// Changes that go one way.
#[derive(Debug, Clone)]
pub struct Routed {
    /// Where to; none for where the table's rows go.
    pub to: Option<String>,
    /// They.
    pub batch: ChangeBatch,
    /// The place of each in the batch that came.
    pub rows: Vec<usize>,
    /// Places of updates here that bring only a part of their row, where the row may not be there yet: if it is not, what is
    /// missing of it cannot be known.
    pub partly: Vec<usize>,
}

/// What became of a batch.
#[derive(Debug, Clone, Default)]
pub struct Shaped {
    /// What goes on.
    pub parts: Vec<Routed>,
    /// Rows that could not be handled, in order.
    pub failed: Vec<Failed>,
}

/// How a batch looks after a stage, for people.
#[derive(Debug, Clone)]
pub struct Traced {
    /// The step; none for a table rule.
    pub step: Option<usize>,
    /// The columns.
    pub columns: Columns,
    /// The rows after the change.
    pub new: Image,
    /// The rows before the change.
    pub old: Image,
    /// The keys of rows before the change, where no more is known.
    pub keys: Image,
}

impl Traced {
    /// A row as it is now: after the change, or for a delete before it.
    #[must_use]
    pub fn image(&self, batch: &ChangeBatch, row: usize) -> &Image {
        match batch.kinds[row] {
            ChangeKind::Delete if self.keys.present[row] && !self.old.present[row] => &self.keys,
            ChangeKind::Delete => &self.old,
            _ => &self.new,
        }
    }
}

pub(crate) fn nulls(ty: ColumnType, rows: usize) -> ColumnArray {
    let mut builder = ColumnBuilder::new(ty);
    (0..rows).for_each(|_| builder.push_null());
    builder.finish()
}

/// One value after another as a column.
pub(crate) fn gathered<'v>(ty: ColumnType, values: impl Iterator<Item = Value<'v>>) -> ColumnArray {
    let mut builder = ColumnBuilder::new(ty);
    for value in values {
        // of another type only by our own mistake: a null then
        if builder.push(value).is_err() {
            builder.push_null();
        }
    }
    builder.finish()
}

impl Plan {
    /// Carries the plan out.
    #[must_use]
    pub fn apply(&self, batch: &ChangeBatch, context: &mut Context) -> Shaped {
        let (work, [new, old, keys]) = self.carried_out(batch, context, &mut |_, _| {});
        work.remember(&mut context.seen);
        work.assembled(&new, &old, &keys)
    }

    /// Carries the plan out for rows that came before: none of them is a repeat, and nothing is remembered.
    #[must_use]
    pub fn apply_again(&self, batch: &ChangeBatch, context: &mut Context) -> Shaped {
        let (mut work, [new, old, keys]) = self.carried_out(batch, context, &mut |_, _| {});
        work.repeats.clear();
        work.assembled(&new, &old, &keys)
    }

    /// Rows of a batch that look up what changed of references, by their topics, with what changed it. Nothing is remembered.
    #[must_use]
    pub fn touched(
        &self,
        batch: &ChangeBatch,
        context: &mut Context,
        changed: &Arc<HashMap<String, Changed>>,
    ) -> BTreeMap<usize, Origin> {
        context.changed = changed.clone();
        let (work, _) = self.carried_out(batch, context, &mut |_, _| {});
        context.changed = Arc::default();
        work.touched
    }

    /// Carries the plan out, and tells how the batch looks after each stage. References are looked into, nothing is remembered.
    #[must_use]
    pub fn trace(&self, batch: &ChangeBatch, context: &mut Context) -> (Vec<Traced>, Shaped) {
        let mut traced = Vec::with_capacity(self.stages.len());
        let (work, [new, old, keys]) = self.carried_out(batch, context, &mut |number, [new, old, keys]| {
            if number == 0 {
                traced.clear();
            }
            let stage = &self.stages[number];
            let (new, old, keys) = (new.clone(), old.clone(), keys.clone());
            traced.push(Traced { step: stage.step, columns: stage.output.clone(), new, old, keys });
        });
        let shaped = work.assembled(&new, &old, &keys);
        (traced, shaped)
    }

    /// Both images through all stages. Where a step fails for what a row was before, that is as good as not known: a row that was
    /// bad and is mended in the source must not fail for what it was.
    fn carried_out<'w>(
        &'w self,
        batch: &'w ChangeBatch,
        context: &Context,
        after: &mut dyn FnMut(usize, &[Image; 3]),
    ) -> (Work<'w>, [Image; 3]) {
        let mut unusable = BTreeSet::new();
        loop {
            let known = unusable.len();
            let (failed, repeats) = (HashMap::new(), BTreeSet::new());
            let mut work = Work { plan: self, batch, failed, repeats, unusable, touched: BTreeMap::new(), said: Vec::new() };
            let mut images = work.images();
            for number in 0..self.stages.len() {
                work.stage(number, &mut images, context);
                after(number, &images);
            }
            if work.unusable.len() == known {
                return (work, images);
            }
            unusable = work.unusable;
        }
    }
}

impl Work<'_> {
    /// The new images, the old ones that are whole, and the old ones of which only the key is known or needed.
    fn images(&self) -> [Image; 3] {
        let (batch, rows) = (self.batch, self.batch.len());
        let (leaves_out, repeats) = (self.plan.may_leave_out(), self.plan.drops_repeats());
        let recalled = self.plan.recalls();
        let has_new = |row: usize| !matches!(batch.kinds[row], ChangeKind::Delete | ChangeKind::Truncate);
        let given = |row: usize| batch.old_images[row] != OldImage::None;
        let whole = |row: usize| batch.old_images[row] == OldImage::Row && !self.unusable.contains(&row);
        let by_key = |row: usize| given(row) && (repeats || !recalled || !whole(row));
        // where nothing of the old row is known its key is the new one's
        let by_new_key =
            |row: usize| has_new(row) && !given(row) && (repeats || leaves_out && batch.kinds[row] == ChangeKind::Update);
        let image = |which: Which, columns: Vec<ColumnArray>, present: Vec<bool>| Image {
            columns,
            present,
            unchanged: HashMap::new(),
            routes: None,
            which,
        };
        let mut new = image(Which::New, batch.new.clone(), (0..rows).map(has_new).collect());
        self.fill_unchanged(&mut new);
        let old = image(Which::Old, batch.old.clone(), (0..rows).map(whole).collect());
        let key_value = |place: usize, row: usize| match (by_key(row), by_new_key(row)) {
            (true, _) => batch.old[place].value(row),
            (_, true) => batch.new[place].value(row),
            _ => Value::Null,
        };
        let key = |(place, column): (usize, &Column)| {
            if column.key { gathered(column.ty, (0..rows).map(|row| key_value(place, row))) } else { nulls(column.ty, rows) }
        };
        let by_key: Vec<bool> = (0..rows).map(|row| by_key(row) || by_new_key(row)).collect();
        // an image that no row has needs no columns
        let key_columns =
            if by_key.contains(&true) { batch.table.columns.iter().enumerate().map(key).collect() } else { Vec::new() };
        let keys = image(Which::Key, key_columns, by_key);
        [new, old, keys]
    }

    /// What was not sent is what it was before, where that is known.
    fn fill_unchanged(&self, new: &mut Image) {
        let batch = self.batch;
        if batch.unchanged.is_empty() {
            return;
        }
        let mut fill: BTreeSet<usize> = BTreeSet::new();
        for (&row, columns) in &batch.unchanged {
            if batch.old_images[row] == OldImage::Row {
                fill.extend(columns);
            } else {
                new.unchanged.insert(row, columns.clone());
            }
        }
        for place in fill {
            let from_old = |row: usize| batch.old_images[row] == OldImage::Row && batch.is_unchanged(row, place);
            let value = |row: usize| if from_old(row) { batch.old[place].value(row) } else { batch.new[place].value(row) };
            new.columns[place] = gathered(batch.table.columns[place].ty, (0..batch.len()).map(value));
        }
    }

    fn stage(&mut self, number: usize, images: &mut [Image; 3], context: &Context) {
        let stage = &self.plan.stages[number];
        if let Kind::Repeats(by) = &stage.kind {
            self.repeat(number, by, images, &context.seen);
            return;
        }
        for image in images {
            if image.present.contains(&true) {
                self.advance(stage, image, context);
            } else {
                image.columns = Vec::new();
            }
        }
    }

    fn advance(&mut self, stage: &Stage, image: &mut Image, context: &Context) {
        let rows = self.batch.len();
        let origins = Origins { kinds: &self.batch.kinds, origins: &self.batch.origins, table: &self.batch.table };
        let before = std::mem::take(&mut image.columns);
        let input = Input { columns: &before, rows, origins: Some(origins), tools: &context.tools };
        match &stage.kind {
            Kind::Project(outs) => {
                let mut columns = Vec::with_capacity(outs.len());
                let mut unchanged: HashMap<usize, Vec<usize>> = HashMap::new();
                for (place, out) in outs.iter().enumerate() {
                    let field = &stage.output.fields[place];
                    let ty = field.ty.column_type();
                    columns.push(match out.plain {
                        Some(plain) => {
                            for (&row, _) in image.unchanged.iter().filter(|(_, missing)| missing.contains(&plain)) {
                                unchanged.entry(row).or_default().push(place);
                            }
                            before[plain].clone()
                        }
                        None if image.which == Which::Key && !field.key => nulls(ty, rows),
                        None => {
                            let mut mask = image.present.clone();
                            for row in self.unsent(stage, out, image, &mut mask) {
                                unchanged.entry(row).or_default().push(place);
                            }
                            self.value(stage, &out.expr, input, &mask, image, &before).unwrap_or_else(|| nulls(ty, rows))
                        }
                    });
                }
                (image.columns, image.unchanged) = (columns, unchanged);
            }
            Kind::Filter(..) | Kind::Route(_) if image.which == Which::Key => image.columns = before,
            Kind::Filter(condition, reads) => {
                let mut mask = image.present.clone();
                self.refuse_unsent(stage, reads, image, &mut mask);
                let mut faults = Faults::default();
                let found = eval(condition, input, &mask, &mut faults);
                self.note(stage, faults, reads, &before, image);
                for (row, present) in image.present.iter_mut().enumerate().filter(|(row, _)| mask[*row]) {
                    *present &= found.value(row) == Value::Boolean(true);
                }
                image.columns = before;
            }
            Kind::Route(ways) => {
                let mut left = image.present.clone();
                let mut routes: Vec<Option<String>> = vec![None; rows];
                for (when, to) in ways {
                    let mut here = left.clone();
                    if let Some(when) = when {
                        let mut reads = Vec::new();
                        when.columns(&mut |c| reads.push(c));
                        self.refuse_unsent(stage, &reads, image, &mut here);
                        let mut faults = Faults::default();
                        let found = eval(when, input, &here, &mut faults);
                        self.note(stage, faults, &reads, &before, image);
                        here.iter_mut().enumerate().for_each(|(row, on)| *on &= found.value(row) == Value::Boolean(true));
                    }
                    let reads: Vec<usize> = to.reads().collect();
                    self.refuse_unsent(stage, &reads, image, &mut here);
                    for row in (0..rows).filter(|row| here[*row]) {
                        left[row] = false;
                        routes[row] = Some(to.name(&before, row));
                    }
                }
                (image.routes, image.columns) = (Some(routes), before);
            }
            Kind::Lookup(lookup) => image.columns = self.looked_up(stage, lookup, before, image, context),
            Kind::Repeats(_) => image.columns = before,
        }
    }

    /// Rows for which a column is worked out from values that were not sent: where none of them was, it is itself unchanged; where
    /// some were, it cannot be known.
    fn unsent(&mut self, stage: &Stage, out: &Out, image: &Image, mask: &mut [bool]) -> Vec<usize> {
        if image.unchanged.is_empty() {
            return Vec::new();
        }
        let mut unchanged = Vec::new();
        for (&row, missing) in &image.unchanged {
            let Some(&one) = out.reads.iter().find(|c| missing.contains(c)).filter(|_| mask[row]) else { continue };
            mask[row] = false;
            if out.reads.iter().all(|c| missing.contains(c)) && !out.expr.reads_facts() {
                unchanged.push(row);
            } else {
                self.fail_unsent(stage, row, one);
            }
        }
        unchanged
    }

    fn refuse_unsent(&mut self, stage: &Stage, reads: &[usize], image: &Image, mask: &mut [bool]) {
        for (&row, missing) in &image.unchanged {
            if let Some(&one) = reads.iter().find(|c| missing.contains(c)).filter(|_| mask[row]) {
                mask[row] = false;
                self.fail_unsent(stage, row, one);
            }
        }
    }

    fn fail_unsent(&mut self, stage: &Stage, row: usize, column: usize) {
        let name = &stage.input.fields[column].name;
        let finding = format!(
            "{name} did not change and was not sent by the source, so this cannot be worked out; give the table REPLICA IDENTITY FULL, or write the topic in row form"
        );
        self.fail(stage, row, finding);
    }

    /// A row for which a step fails, in one of its images.
    fn fail_in(&mut self, stage: &Stage, image: &mut Image, row: usize, finding: impl FnOnce() -> String) {
        image.present[row] = false;
        if image.which == Which::Old {
            self.unusable.insert(row);
        } else {
            self.fail(stage, row, finding());
        }
    }

    fn fail(&mut self, stage: &Stage, row: usize, finding: String) {
        let finding = match stage.step {
            Some(step) => format!("step {} ({}): {finding}", step + 1, stage.word),
            None => format!("table rule ({}): {finding}", stage.word),
        };
        self.failed.entry(row).or_insert(Failed { row, step: stage.step, word: stage.word, finding });
    }

    fn value(
        &mut self,
        stage: &Stage,
        expr: &Expr,
        input: Input<'_>,
        mask: &[bool],
        image: &mut Image,
        before: &[ColumnArray],
    ) -> Option<ColumnArray> {
        let mut faults = Faults::default();
        let found = eval(expr, input, mask, &mut faults);
        if !faults.0.is_empty() {
            let mut reads = Vec::new();
            expr.columns(&mut |c| reads.push(c));
            self.note(stage, faults, &reads, before, image);
        }
        found.column(expr.ty.column_type(), input.rows).ok()
    }

    /// Rows that failed, each with the values it failed for, as far as they may be shown.
    fn note(&mut self, stage: &Stage, faults: Faults, reads: &[usize], before: &[ColumnArray], image: &mut Image) {
        for (row, (_, fault)) in faults.0 {
            self.fail_in(stage, image, row, || explained(stage, &fault, reads, before, row));
        }
    }

    fn looked_up(
        &mut self,
        stage: &Stage,
        lookup: &Lookup,
        before: Vec<ColumnArray>,
        image: &mut Image,
        context: &Context,
    ) -> Vec<ColumnArray> {
        let rows = self.batch.len();
        let types: Vec<ColumnType> = stage.output.fields[before.len()..].iter().map(|f| f.ty.column_type()).collect();
        let Some(reference) = context.references.get(&lookup.topic).filter(|_| image.which != Which::Key) else {
            let added = types.iter().map(|ty| nulls(*ty, rows));
            return before.iter().cloned().chain(added.collect::<Vec<_>>()).collect();
        };
        let mut mask = image.present.clone();
        self.refuse_unsent(stage, &lookup.reads, image, &mut mask);
        let compared: Vec<ColumnArray> = {
            let origins = Origins { kinds: &self.batch.kinds, origins: &self.batch.origins, table: &self.batch.table };
            let input = Input { columns: &before, rows, origins: Some(origins), tools: &context.tools };
            let by = lookup.by.iter();
            by.map(|e| self.value(stage, e, input, &mask, image, &before).unwrap_or_else(|| nulls(e.ty.column_type(), rows)))
                .collect()
        };
        let kept: Vec<Option<usize>> = lookup.added.iter().map(|c| reference.kept().iter().position(|k| k == c)).collect();
        let mut builders: Vec<ColumnBuilder> = types.iter().map(|ty| ColumnBuilder::new(*ty)).collect();
        let mut key = Vec::new();
        let watched = lookup.again && image.which == Which::New;
        let changed = context.changed.get(&lookup.topic).filter(|_| watched);
        for (row, asked) in mask.iter().copied().enumerate() {
            let asks = asked && image.present[row] && Reference::key(&compared, row, &mut key);
            let found = if asks { reference.get(&key).and_then(|bytes| reference.values(bytes).ok()) } else { None };
            if let Some(origin) = changed.filter(|_| asks).and_then(|changed| changed.by(&key)) {
                self.touched.insert(row, origin);
            }
            for (builder, place) in builders.iter_mut().zip(&kept) {
                let value = found.as_ref().zip(*place).map_or(Value::Null, |(values, place)| values[place]);
                if builder.push(value).is_err() {
                    builder.push_null();
                }
            }
            if found.is_none() && asked && image.present[row] {
                match lookup.miss {
                    Miss::Empty => {}
                    Miss::Leave => image.present[row] = false,
                    Miss::Refuse => {
                        let fault = format!("{} has no such row", called(&lookup.topic));
                        let finding = || explained(stage, &fault.into(), &lookup.reads, &before, row);
                        self.fail_in(stage, image, row, finding);
                    }
                }
            }
        }
        before.into_iter().chain(builders.iter_mut().map(ColumnBuilder::finish)).collect()
    }
}

/// A fault with the values it was found for: those that are hidden are not shown.
fn explained(stage: &Stage, fault: &Fault, reads: &[usize], before: &[ColumnArray], row: usize) -> String {
    let mut shown = Vec::new();
    for &column in reads {
        let field = &stage.input.fields[column];
        let value = if stage.secret[column] {
            "•••".to_owned()
        } else {
            match before[column].value(row) {
                Value::Null => "null".to_owned(),
                value => {
                    let text = text_of(&field.ty, value);
                    let cut: String = text.chars().take(SHOWN).collect();
                    if cut.len() < text.len() {
                        format!("{cut:?}…")
                    } else if field.ty.is_number() {
                        cut
                    } else {
                        format!("{cut:?}")
                    }
                }
            }
        };
        let one = format!("{} = {value}", field.name);
        if !shown.contains(&one) {
            shown.push(one);
        }
    }
    if shown.is_empty() { fault.to_string() } else { format!("{fault}: {}", shown.join(", ")) }
}
