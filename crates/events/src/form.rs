//! The form that records are read by: what of them fills which column, of which type.

use std::borrow::Cow;
use std::sync::Arc;

use bytes::Bytes;
use gonvel_core::avro::single_object;
use gonvel_core::change::{ChangeBatchBuilder, ChangeKind, OldImage, Origin};
use gonvel_core::column::Value;
use gonvel_core::event_rows::{EventColumn, EventRows, Part, Unknown, read_name};
use gonvel_core::table::{Column, TableSchema};
use gonvel_shape::ty::{Ty, parse_type};
use gonvel_shape::value::Given;

use crate::adding::columns_for;
use crate::beside::Beside;
use crate::came::Came;
use crate::cell::Cell;
use crate::decoding::decode;
use crate::json;
use crate::only::Teller;
use crate::schema::EventSchema;
use crate::tree::Node;

/// Most elements of one record that become rows.
const MOST_ELEMENTS: usize = 10_000;

/// How records of a topic become rows.
#[derive(Debug, Clone)]
pub struct EventForm {
    table: Arc<TableSchema>,
    rows: EventRows,
    types: Vec<Ty>,
    tree: Node,
    /// Columns of an element, where an array is expanded.
    elements: Option<Node>,
    beside: Beside,
    kind: ChangeKind,
    /// Whether fields of the value are looked at.
    decodes: bool,
    headers: bool,
    /// Whether fields that no column takes are to become columns.
    adds: bool,
    /// What says whether a record is taken.
    teller: Option<Teller>,
    /// What the keys of its rows begin with: rows of other types are other rows, though their keys may be the same.
    mark: Vec<u8>,
    /// Whether the key's columns are known of a record without a value.
    key_beside_value: bool,
}

impl EventForm {
    /// The form of a topic's records.
    ///
    /// # Errors
    /// What is wrong, and what to choose.
    pub fn new(topic: &str, rows: &EventRows) -> Result<Self, String> {
        rows.check()?;
        let mut types = Vec::with_capacity(rows.columns.len());
        let mut columns = Vec::with_capacity(rows.columns.len());
        for column in &rows.columns {
            let ty = parse_type(&column.ty).ok_or_else(|| {
                format!(
                    "the column {} is of type {}, which is none: take one such as bigint, numeric(7,1), text or jsonb",
                    column.name, column.ty
                )
            })?;
            columns.push(Column {
                name: column.name.clone(),
                ty: ty.column_type(),
                source_type: ty.data_type(),
                key: column.key,
            });
            types.push(ty);
        }
        if let Some((name, ty)) = rows.newest_by.as_ref().and_then(|name| {
            rows.columns.iter().zip(&types).find(|(c, ty)| c.name == *name && !is_ordered(ty)).map(|(c, ty)| (&c.name, ty))
        }) {
            let ty = ty.name();
            return Err(format!("the newest is to be found by {name}, which is {ty}: choose a number, a date or a time"));
        }
        let rest = rows.columns.iter().any(|c| c.part == Part::Rest);
        let beside = match rows.unknown {
            _ if rest => Beside::Kept,
            Unknown::LeaveOut => Beside::LeftOut,
            Unknown::Quarantine => Beside::Refused,
            Unknown::AddColumn => Beside::Kept,
        };
        let any = |part: Part| rows.columns.iter().any(|c| c.part == part);
        Ok(Self {
            table: Arc::new(TableSchema {
                system: "events".into(),
                // rules that are written for it are kept
                schema: "public".into(),
                table: topic.to_owned(),
                columns,
            }),
            types,
            tree: match &rows.expand {
                None => Node::of(&rows.columns),
                // the array comes behind all columns
                Some(path) => {
                    let array = EventColumn { path: path.clone(), ..EventColumn::of(Part::Field, "", "") };
                    Node::of(&rows.columns.iter().cloned().chain([array]).collect::<Vec<_>>())
                }
            },
            elements: rows.expand.as_ref().map(|_| Node::of_part(&rows.columns, Part::Element)),
            beside,
            // a record of its own is a new row; another one may be there
            kind: if rows.by_place() { ChangeKind::Insert } else { ChangeKind::Update },
            decodes: any(Part::Field) || beside != Beside::LeftOut || rows.expand.is_some(),
            adds: rows.unknown == Unknown::AddColumn,
            teller: rows.only.as_ref().map(Teller::new),
            mark: rows.only.as_ref().map_or_else(Vec::new, |_| read_name(topic, Some(rows)).into_bytes()),
            headers: any(Part::Header),
            key_beside_value: rows.columns.iter().all(|c| !c.key || c.part != Part::Field),
            rows: rows.clone(),
        })
    }

    /// The table whose rows they are.
    #[must_use]
    pub fn table(&self) -> &Arc<TableSchema> {
        &self.table
    }

    /// How its records become rows.
    #[must_use]
    pub fn rows(&self) -> &EventRows {
        &self.rows
    }

    /// Whether a record is of the types that are taken.
    ///
    /// # Errors
    /// Why its type cannot be told.
    pub fn takes(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<bool, String> {
        Ok(self.takes_type(self.told(came, schema)?.as_deref()))
    }

    /// The type that a record says, for [`EventForm::takes_type`]: forms of one topic are told types by the same part.
    ///
    /// # Errors
    /// Why it cannot be told.
    pub fn told(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Result<Option<String>, String> {
        self.teller.as_ref().map_or(Ok(None), |teller| teller.told(came, schema))
    }

    /// Whether records of a type are taken; none is the type of those that say none.
    #[must_use]
    pub fn takes_type(&self, ty: Option<&str>) -> bool {
        self.rows.only.as_ref().is_none_or(|only| only.takes(ty))
    }

    /// Columns for the fields of a record that no column takes, where those are to become columns: what a record was refused for
    /// that is read once the form has them.
    #[must_use]
    pub fn new_columns(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Vec<EventColumn> {
        let own = Self { adds: false, ..self.clone() };
        match own.cells(came, schema) {
            Ok((_, Some(rest))) if self.adds => columns_for(&rest, schema, &self.rows.columns),
            _ => Vec::new(),
        }
    }

    /// Reads a record into the builder, whose table must be this form's, by the schema of its value; gives what it is and the key of
    /// its row, as bytes that are equal where the key's columns are. After an error nothing of the record is in the builder.
    ///
    /// # Errors
    /// Where in the record what was found, what was expected and what to choose; without its values.
    pub fn read(
        &self,
        came: &Came<'_>,
        schema: Option<&EventSchema>,
        builder: &mut ChangeBatchBuilder,
    ) -> Result<(ChangeKind, Bytes), String> {
        let gone = came.record.value.is_none();
        if gone && !self.key_beside_value {
            return Err(
                "it has no value, which deletes a row, and the row's key is in the value: let the record's key be the row's, or discard it"
                    .into(),
            );
        }
        let given = self.given(came, schema)?;
        let key = self.key_of(&given)?;
        let origin = Origin { commit_time_us: came.record.timestamp_us, ..Origin::default() };
        let put = |error: gonvel_core::column::WrongColumn| error.to_string();
        if gone {
            builder.begin(ChangeKind::Delete, origin);
            builder.no_new();
            builder.begin_old(OldImage::Key);
            for (index, value) in given.iter().enumerate() {
                let value = if self.table.columns[index].key { value.value() } else { Value::Null };
                builder.old_value(index, value).map_err(put)?;
            }
            return Ok((ChangeKind::Delete, key));
        }
        builder.begin(self.kind, origin);
        for (index, value) in given.iter().enumerate() {
            builder.new_value(index, value.value()).map_err(put)?;
        }
        builder.no_old();
        Ok((self.kind, key))
    }

    /// Reads a record into the builder as [`Self::read`] does, or each element of the array that is expanded; gives the keys of the rows,
    /// in their order, which may be none. After an error nothing of the record is in the builder.
    ///
    /// # Errors
    /// As for [`Self::read`].
    pub fn read_all(
        &self,
        came: &Came<'_>,
        schema: Option<&EventSchema>,
        builder: &mut ChangeBatchBuilder,
        keys: &mut Vec<Bytes>,
    ) -> Result<ChangeKind, String> {
        keys.clear();
        let (Some(elements), Some(path)) = (&self.elements, &self.rows.expand) else {
            let (kind, key) = self.read(came, schema, builder)?;
            keys.push(key);
            return Ok(kind);
        };
        if came.record.value.is_none() {
            return Err("it has no value, and rows are made of the elements of an array in it: discard it".into());
        }
        let (mut cells, rest) = self.cells(came, schema)?;
        let array = cells.pop().unwrap_or(Cell::Absent);
        let at = shown(Part::Field, path);
        let items = match &array {
            Cell::Absent | Cell::Null => Vec::new(),
            Cell::Json(text) if text.starts_with('[') => json::items(text)?,
            _ => {
                return Err(format!(
                    "at {at}: an array is expected, whose elements become rows: mend the record, or expand another"
                ));
            }
        };
        if items.len() > MOST_ELEMENTS {
            return Err(format!("at {at}: {} elements: at most {MOST_ELEMENTS} become rows of one record", items.len()));
        }
        let origin = Origin { commit_time_us: came.record.timestamp_us, ..Origin::default() };
        let mut rows = Vec::with_capacity(items.len());
        for (number, item) in items.iter().enumerate() {
            let mut own: Vec<Cell<'_>> = cells.clone();
            let within = |finding: String| finding.replacen("at $", &format!("at {at}[{number}]"), 1);
            if elements.goes_on() {
                // an element without fields has none of them
                if *item != "null" {
                    json::read(item, elements, self.beside.within_element(), &mut own).map_err(within)?;
                }
            }
            elements.columns.iter().for_each(|&column| own[column] = json::cell(item));
            let place = Some(i128::try_from(number + 1).unwrap_or(0));
            let given = self.finished(came, schema, own, rest.clone(), place).map_err(within)?;
            keys.push(self.key_of(&given)?);
            rows.push(given);
        }
        for given in rows {
            builder.begin(self.kind, origin);
            for (index, value) in given.iter().enumerate() {
                builder.new_value(index, value.value()).map_err(|e| e.to_string())?;
            }
            builder.no_old();
        }
        Ok(self.kind)
    }

    /// The key of a record's row as [`Self::read`] gives it; none if it cannot be read.
    #[must_use]
    pub fn key(&self, came: &Came<'_>, schema: Option<&EventSchema>) -> Option<Bytes> {
        let (mut only, mut names) = (self.clone(), Vec::new());
        for column in &mut only.rows.columns {
            if !column.key {
                // what is not of the key may be what is wrong
                (column.part, column.required) = (Part::Rest, false);
            }
            names.push(column.clone());
        }
        only.tree = Node::of(&names);
        (only.beside, only.adds) = (Beside::LeftOut, false);
        only.decodes = !only.key_beside_value;
        let given = only.given(came, schema).ok()?;
        only.key_of(&given).ok()
    }

    /// The values of all columns.
    fn given<'a>(&self, came: &Came<'a>, schema: Option<&'a EventSchema>) -> Result<Vec<Given<'a>>, String> {
        let (cells, rest) = self.cells(came, schema)?;
        self.finished(came, schema, cells, rest, None)
    }

    /// What stands in the value for all columns, and at last the array that is expanded; and the fields that no column takes.
    fn cells<'a>(
        &self,
        came: &Came<'a>,
        schema: Option<&'a EventSchema>,
    ) -> Result<(Vec<Cell<'a>>, Option<String>), String> {
        let mut cells = vec![Cell::Absent; self.types.len() + usize::from(self.elements.is_some())];
        let mut rest = None;
        if let (true, Some(value)) = (self.decodes, came.record.value) {
            rest = decode(&self.tree, self.beside, value, schema, &mut cells)?;
        }
        if self.adds
            && let Some(column) =
                rest.as_deref().and_then(|rest| columns_for(rest, schema, &self.rows.columns).into_iter().next())
        {
            return Err(format!("at {}: no column takes it yet", shown(Part::Field, &column.path)));
        }
        Ok((cells, rest))
    }

    /// The values of all columns, of what stands in the value and of the other parts of the record.
    fn finished<'a>(
        &self,
        came: &Came<'a>,
        schema: Option<&EventSchema>,
        cells: Vec<Cell<'a>>,
        mut rest: Option<String>,
        place: Option<i128>,
    ) -> Result<Vec<Given<'a>>, String> {
        let headers = if self.headers { came.record.headers() } else { Vec::new() };
        let mut out = Vec::with_capacity(cells.len());
        for (index, cell) in cells.into_iter().take(self.types.len()).enumerate() {
            let (column, ty) = (&self.rows.columns[index], &self.types[index]);
            let cell = match column.part {
                Part::Field | Part::Element => cell,
                Part::Place => place.map_or(Cell::Absent, Cell::Whole),
                Part::Rest => rest.take().map_or(Cell::Null, |rest| Cell::Json(Cow::Owned(rest))),
                Part::Value => came.record.value.map_or(Ok(Cell::Null), |value| self.whole(value, schema, ty))?,
                Part::Time => Cell::Timestamp(came.record.timestamp_us),
                Part::Partition => Cell::Whole(came.partition.into()),
                Part::Offset => Cell::Whole(came.offset.into()),
                Part::Key => came.record.key.map_or(Ok(Cell::Absent), |key| plain(key, ty, "the record's key"))?,
                Part::Header => {
                    match headers.iter().rev().find(|(name, _)| column.path.first().is_some_and(|n| n == name)) {
                        Some((name, value)) => plain(value, ty, &format!("the header {name}"))?,
                        None => Cell::Absent,
                    }
                }
            };
            let (absent, null) = (cell == Cell::Absent, matches!(cell, Cell::Absent | Cell::Null));
            let needed = column.key || column.required && came.record.value.is_some();
            if null && needed {
                let lacks = if absent { "is missing" } else { "is null" };
                let needs = if column.key { "is part of the key" } else { "needs a value" };
                return Err(format!(
                    "at {}: it {lacks}, and the column {} {needs}: mend the record, or choose otherwise for the column",
                    shown(column.part, &column.path),
                    column.name
                ));
            }
            // texts of a key or a header are read as what they are written for
            let given = match cell {
                Cell::Text(text) if matches!(column.part, Part::Key | Part::Header) && *ty != Ty::Text => {
                    gonvel_shape::cast::read_text(&text, ty)
                }
                cell => cell.into_given(ty),
            };
            out.push(given.map_err(|fault| {
                format!(
                    "at {}: {fault}: mend the record, or give the column {} a type that takes it",
                    shown(column.part, &column.path),
                    column.name
                )
            })?);
        }
        Ok(out)
    }

    /// The whole value as one cell.
    fn whole<'a>(&self, value: &'a [u8], schema: Option<&EventSchema>, ty: &Ty) -> Result<Cell<'a>, String> {
        if *ty == Ty::Bytes {
            return Ok(Cell::Bytes(Cow::Borrowed(value)));
        }
        let wrong = |e: String| format!("the value does not follow its schema ({e}): mend the record, or discard it");
        match schema {
            Some(EventSchema::Avro { schema, .. }) if single_object::split(value).is_some() => {
                let data = single_object::split(value).map_or(value, |(_, data)| data);
                let json = gonvel_core::avro::json::read(schema, &mut gonvel_core::avro::binary::Reader::new(data));
                Ok(Cell::Json(Cow::Owned(json.map_err(|e| wrong(e.to_string()))?.to_string())))
            }
            Some(EventSchema::Protobuf(schema)) => {
                Ok(Cell::Json(Cow::Owned(schema.to_json_whole(value).map_err(wrong)?.to_string())))
            }
            _ => plain(value, ty, "the value"),
        }
    }

    fn key_of(&self, given: &[Given<'_>]) -> Result<Bytes, String> {
        let mut out = Vec::with_capacity(16 + self.mark.len());
        out.extend_from_slice(&self.mark);
        for (index, value) in given.iter().enumerate().filter(|(index, _)| self.table.columns[*index].key) {
            let part = match value.value() {
                Value::Null => {
                    return Err(format!(
                        "the column {} is part of the key and null: mend the record",
                        self.table.columns[index].name
                    ));
                }
                Value::Long(number) => Cow::Owned(number.to_be_bytes().to_vec()),
                Value::Int(number) => Cow::Owned(number.to_be_bytes().to_vec()),
                Value::Text(text) => Cow::Borrowed(text.as_bytes()),
                Value::Bytes(bytes) => Cow::Borrowed(bytes),
                value => Cow::Owned(gonvel_shape::cast::text_of(&self.types[index], value).into_owned().into_bytes()),
            };
            gonvel_core::avro::binary::write_bytes(&part, &mut out);
        }
        Ok(out.into())
    }
}

/// Whether all systems have the same order of a type's values.
fn is_ordered(ty: &Ty) -> bool {
    ty.is_number() || matches!(ty, Ty::Date | Ty::Timestamp | Ty::TimestampTz)
}

/// A part that is text, or bytes where the column takes those.
fn plain<'a>(bytes: &'a [u8], ty: &Ty, what: &str) -> Result<Cell<'a>, String> {
    if *ty == Ty::Bytes {
        return Ok(Cell::Bytes(Cow::Borrowed(bytes)));
    }
    match std::str::from_utf8(bytes) {
        Ok(text) if matches!(ty, Ty::Json | Ty::Jsonb) => Ok(Cell::Json(Cow::Borrowed(text))),
        Ok(text) => Ok(Cell::Text(Cow::Borrowed(text))),
        Err(_) => Err(format!("{what} is not text: take it as bytea")),
    }
}

/// What of a record fills a column, as people read it.
fn shown(part: Part, path: &[String]) -> String {
    match part {
        Part::Field | Part::Element => path.iter().fold("$".to_owned(), |all, name| format!("{all}.{name}")),
        Part::Header => format!("the header {}", path.first().map_or("", String::as_str)),
        Part::Key => "the record's key".into(),
        Part::Value => "the value".into(),
        part => format!("the record's {}", part.word()),
    }
}
