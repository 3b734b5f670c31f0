//! What a step comes to: a projection, a filter or one of the few that SQL's rows cannot say, each made of SQL expressions over the
//! columns that it sees.

use gonvel_core::shape::{Added, Characters, Ends, Letters, Mask, Match, Miss, Step, Way};
use sqlparser::ast::{Expr as Sql, SelectItem, TableFactor};

use crate::columns::{Columns, Field};
use crate::finding::{Finding, nearest};
use crate::parse::{self, Text, constant, name};
use crate::ty::{Ty, parse_type};

/// Columns that one step may make.
const MOST_COLUMNS: usize = 1_000;

/// A column of a projection.
#[derive(Debug, Clone)]
pub struct Item {
    /// Its name.
    pub name: String,
    /// The expression, and its text's places.
    pub sql: Sql,
    /// The places of the text that it was read from.
    pub text: Text,
    /// The field of the step that the text stands in; none where the step made it.
    pub field: Option<&'static str>,
    /// The column whose place it takes: it is the key where that was.
    pub of: Option<usize>,
    /// Whether it hides what it is made of.
    pub hides: bool,
    /// Whether it is another column's value from a step that only moves them.
    pub plain: bool,
}

/// What a step comes to.
#[derive(Debug, Clone)]
pub enum Piece {
    /// These columns.
    Project(Vec<Item>),
    /// Only rows for which this holds.
    Filter(Box<Sql>, Text, &'static str),
    /// Where rows go.
    Route(Vec<Way>),
    /// Columns from a reference.
    Lookup {
        /// The topic, or what a table's rows are kept by.
        topic: String,
        /// What is compared.
        by: Vec<Match>,
        /// What is added.
        columns: Vec<Added>,
        /// What happens on a miss.
        miss: Miss,
        /// Whether rows are carried again when what they look up changes.
        again: bool,
    },
    /// Only rows that differ in these columns from the one before of their key.
    Repeats(Vec<usize>),
}

fn find(columns: &Columns, wanted: &str) -> Result<usize, Finding> {
    columns.place(wanted).ok_or_else(|| {
        let finding = Finding::error(format!("there is no column {wanted}"));
        match nearest(wanted, columns.fields.iter().map(|f| f.name.as_str())) {
            Some(near) => finding.suggest(format!("perhaps {near}")),
            None => finding.suggest(format!("the columns are {}", columns.listed())),
        }
    })
}

fn places(columns: &Columns, wanted: &[String]) -> Result<Vec<usize>, Finding> {
    if wanted.is_empty() {
        return Err(Finding::error("no column is named").suggest("name at least one"));
    }
    let mut out = Vec::with_capacity(wanted.len());
    for column in wanted {
        let place = find(columns, column)?;
        if out.contains(&place) {
            return Err(Finding::error(format!("the column {column} is named twice")));
        }
        out.push(place);
    }
    Ok(out)
}

fn plain(columns: &Columns, place: usize) -> Item {
    let field = &columns.fields[place];
    let text = name(&field.name);
    let ident = sqlparser::ast::Ident::with_quote('"', &field.name);
    let ident = if text == field.name { sqlparser::ast::Ident::new(&field.name) } else { ident };
    Item {
        name: field.name.clone(),
        sql: Sql::Identifier(ident),
        text: Text::of(&text),
        field: None,
        of: Some(place),
        hides: false,
        plain: true,
    }
}

fn all(columns: &Columns) -> Vec<Item> {
    (0..columns.fields.len()).map(|place| plain(columns, place)).collect()
}

/// An expression that the step makes.
fn made(text: &str) -> Result<(Sql, Text), Finding> {
    parse::expression(text)
}

/// All columns, some of them replaced by expressions of their own.
fn replaced(
    columns: &Columns,
    which: &[usize],
    hides: bool,
    mut by: impl FnMut(&Field) -> Result<String, Finding>,
) -> Result<Piece, Finding> {
    let mut items = all(columns);
    for &place in which {
        let (sql, text) = made(&by(&columns.fields[place])?)?;
        items[place] = Item { sql, text, hides, plain: false, ..items[place].clone() };
    }
    Ok(Piece::Project(items))
}

fn text_only(field: &Field, what: &str) -> Result<(), Finding> {
    if field.ty.is_textual() {
        return Ok(());
    }
    let finding = format!("{} is {}, and only texts can be {what}", field.name, field.ty.name());
    Err(Finding::error(finding).suggest("convert it to text first"))
}

/// A column that is added at the end, or takes the place of the one of its name.
fn put(items: &mut Vec<Item>, columns: &Columns, item: Item) {
    match columns.place(&item.name) {
        Some(place) => items[place] = Item { of: Some(place), ..item },
        None => items.push(item),
    }
}

fn written(column: &str, value: &str, field: &'static str) -> Result<Item, Finding> {
    if column.is_empty() {
        return Err(Finding::error("the column needs a name").of(None, "column"));
    }
    let (sql, text) = parse::expression(value).map_err(|f| f.of(None, field))?;
    Ok(Item { name: column.to_owned(), sql, text, field: Some(field), of: None, hides: false, plain: false })
}

/// The regular expression of characters.
fn class(characters: &Characters) -> Result<String, Finding> {
    Ok(match characters {
        Characters::Control => "[\\u0001-\\u001f\\u007f-\\u009f]".to_owned(),
        Characters::NotLatin1 => "[^\\u0001-\\u00ff]".to_owned(),
        Characters::NotAscii => "[^\\u0001-\\u007f]".to_owned(),
        Characters::These { characters } if characters.is_empty() => {
            return Err(Finding::error("no character is named").of(None, "characters"));
        }
        Characters::These { characters } => {
            let one =
                |c: char| if c.is_alphanumeric() || c == ' ' { c.to_string() } else { format!("\\u{:04x}", u32::from(c)) };
            format!("[{}]", characters.chars().filter(|c| u32::from(*c) <= 0xffff).map(one).collect::<String>())
        }
    })
}

/// The text that replaces, as a regular expression's replacement.
fn replacement(with: &str) -> String {
    with.replace('\\', "\\\\")
}

pub(crate) fn substituted(column: &str, characters: &Characters, with: &str) -> Result<String, Finding> {
    Ok(format!("regexp_replace({}, {}, {}, 'g')", name(column), constant(&class(characters)?), constant(&replacement(with))))
}

pub(crate) fn masked(field: &Field, mask: &Mask) -> Result<String, Finding> {
    let column = name(&field.name);
    let text = if field.ty.is_textual() { column.clone() } else { format!("CAST({column} AS text)") };
    Ok(match mask {
        Mask::Hide { .. } if field.key => {
            let finding = format!("{} is part of the key: hidden, all rows would have one key", field.name);
            return Err(Finding::error(finding).suggest("use hash or token"));
        }
        Mask::Partial { .. } if field.key => {
            let finding = format!("{} is part of the key: partly hidden, many rows would have one key", field.name);
            return Err(Finding::error(finding).suggest("use hash or token"));
        }
        Mask::Hide { with: None } => match &field.ty {
            Ty::Other(_) | Ty::Unknown => "NULL".to_owned(),
            ty => format!("CAST(NULL AS {})", ty.name()),
        },
        Mask::Hide { with: Some(with) } => match &field.ty {
            ty if ty.is_textual() => constant(with),
            ty => format!("CAST({} AS {})", constant(with), ty.name()),
        },
        Mask::Partial { first, last } => {
            let ends = first.saturating_add(*last);
            let mut parts = Vec::new();
            if *first > 0 {
                parts.push(format!("left({text}, {first})"));
            }
            parts.push(format!("repeat('*', length({text}) - {ends})"));
            if *last > 0 {
                parts.push(format!("right({text}, {last})"));
            }
            format!("CASE WHEN length({text}) <= {ends} THEN repeat('*', length({text})) ELSE {} END", parts.join(" || "))
        }
        Mask::Hash => format!("keyed_hash({text})"),
        Mask::Token if matches!(field.ty, Ty::Int2 | Ty::Int4 | Ty::Int8) => format!("token({column})"),
        Mask::Token => format!("token({text})"),
    })
}

pub(crate) fn converted(field: &Field, to: &str) -> Result<String, Finding> {
    if parse_type(to).is_none()
        && !to.to_lowercase().starts_with("varchar")
        && !to.to_lowercase().starts_with("character varying")
    {
        let finding = Finding::error(format!("there is no type {to}")).of(None, "to");
        let types = "boolean smallint integer bigint numeric(12,2) real double precision text bytea date time timestamp timestamptz interval uuid json jsonb";
        let near = nearest(to, types.split(' ').chain(["double precision"]));
        return Err(match near {
            Some(near) => finding.suggest(format!("perhaps {near}")),
            None => finding.suggest("use a type such as integer, numeric(12,2), text or timestamptz"),
        });
    }
    Ok(format!("CAST({} AS {to})", name(&field.name)))
}

pub(crate) fn lettered(text: &str, to: Letters) -> String {
    match to {
        Letters::Lower => text.to_lowercase(),
        Letters::Upper => text.to_uppercase(),
        Letters::Initial => {
            let mut chars = text.chars();
            chars.next().map(|c| c.to_uppercase().chain(chars.flat_map(char::to_lowercase)).collect()).unwrap_or_default()
        }
    }
}

fn path_array(path: &[String]) -> String {
    crate::functions::array::write(path.iter().map(|p| Some(p.as_str())))
}

/// What a step comes to over these columns.
///
/// # Errors
/// What is wrong with the step itself; expressions are bound later.
pub fn pieces(step: &Step, columns: &Columns) -> Result<Vec<Piece>, Finding> {
    let one = |piece: Piece| Ok(vec![piece]);
    let of_columns = |f: Finding| f.of(None, "columns");
    let of_column = |f: Finding| f.of(None, "column");
    match step {
        Step::Keep { columns: kept } => {
            let places = places(columns, kept).map_err(of_columns)?;
            one(Piece::Project(places.into_iter().map(|p| plain(columns, p)).collect()))
        }
        Step::Drop { columns: gone } => {
            let gone = places(columns, gone).map_err(of_columns)?;
            let kept: Vec<Item> =
                all(columns).into_iter().enumerate().filter(|(p, _)| !gone.contains(p)).map(|(_, i)| i).collect();
            one(Piece::Project(kept))
        }
        Step::Rename { columns: names } => {
            let which: Vec<String> = names.iter().map(|r| r.column.clone()).collect();
            let places = places(columns, &which).map_err(of_columns)?;
            let mut items = all(columns);
            for (place, renaming) in places.into_iter().zip(names) {
                if renaming.to.trim().is_empty() {
                    return Err(
                        Finding::error(format!("the new name of {} is missing", renaming.column)).of(None, "columns")
                    );
                }
                items[place].name.clone_from(&renaming.to);
            }
            one(Piece::Project(items))
        }
        Step::Reorder { columns: first } => {
            let first = places(columns, first).map_err(of_columns)?;
            let rest = (0..columns.fields.len()).filter(|p| !first.contains(p));
            one(Piece::Project(first.iter().copied().chain(rest).map(|p| plain(columns, p)).collect()))
        }
        Step::Compute { column, value } => {
            let mut items = all(columns);
            put(&mut items, columns, written(column, value, "value")?);
            one(Piece::Project(items))
        }
        Step::Convert { column, to } => {
            let place = find(columns, column).map_err(of_column)?;
            replaced(columns, &[place], false, |field| converted(field, to)).map(|p| vec![p])
        }
        Step::Fill { column, value } => {
            let place = find(columns, column).map_err(of_column)?;
            let mut items = all(columns);
            let given = written(column, value, "value")?;
            let filled = Sql::Function(call("coalesce", [items[place].sql.clone(), given.sql]));
            items[place] =
                Item { sql: filled, text: given.text, field: Some("value"), plain: false, ..items[place].clone() };
            one(Piece::Project(items))
        }
        Step::Mask { columns: which, mask } => {
            let places = places(columns, which).map_err(of_columns)?;
            replaced(columns, &places, true, |field| masked(field, mask).map_err(of_columns)).map(|p| vec![p])
        }
        Step::Trim { columns: which, ends } => {
            let places = places(columns, which).map_err(of_columns)?;
            let function = match ends {
                Ends::Both => "btrim",
                Ends::First => "ltrim",
                Ends::Last => "rtrim",
            };
            replaced(columns, &places, false, |field| {
                text_only(field, "trimmed").map_err(of_columns)?;
                Ok(format!("{function}({}, E' \\t\\n\\r')", name(&field.name)))
            })
            .map(|p| vec![p])
        }
        Step::Letters { columns: which, to } => {
            let places = places(columns, which).map_err(of_columns)?;
            let function = match to {
                Letters::Lower => "lower",
                Letters::Upper => "upper",
                Letters::Initial => "initcap",
            };
            replaced(columns, &places, false, |field| {
                text_only(field, "written in other letters").map_err(of_columns)?;
                Ok(format!("{function}({})", name(&field.name)))
            })
            .map(|p| vec![p])
        }
        Step::Substitute { columns: which, characters, with } => {
            let places = places(columns, which).map_err(of_columns)?;
            replaced(columns, &places, false, |field| {
                text_only(field, "searched for characters").map_err(of_columns)?;
                substituted(&field.name, characters, with)
            })
            .map(|p| vec![p])
        }
        Step::Split { column, by, into } => {
            let place = find(columns, column).map_err(of_column)?;
            text_only(&columns.fields[place], "split").map_err(of_column)?;
            if by.is_empty() {
                return Err(Finding::error("what stands between the parts is missing").of(None, "by"));
            }
            let mut items = all(columns);
            for (n, part) in into.iter().enumerate() {
                // a part that is missing is null, an empty one is not
                let array = format!("string_to_array({}, {})", name(column), constant(by));
                put(&mut items, columns, written(part, &format!("({array})[{}]", n + 1), "into")?);
            }
            one(Piece::Project(items))
        }
        Step::Unpack { column, fields, keep } => {
            let place = find(columns, column).map_err(of_column)?;
            let field = &columns.fields[place];
            if fields.is_empty() {
                return Err(Finding::error("nothing is taken out").of(None, "fields").suggest("name a path and a column"));
            }
            let json = match field.ty {
                Ty::Json | Ty::Jsonb => name(column),
                _ if field.ty.is_textual() => format!("CAST({} AS jsonb)", name(column)),
                _ => {
                    let finding = format!("{column} is {}, which holds nothing nested", field.ty.name());
                    return Err(Finding::error(finding).of(None, "column"));
                }
            };
            let mut items = all(columns);
            for unpacked in fields {
                if unpacked.path.is_empty() {
                    return Err(Finding::error(format!("{} needs a path", unpacked.column)).of(None, "fields"));
                }
                let path = constant(&path_array(&unpacked.path));
                let ty = parse_type(&unpacked.ty)
                    .ok_or_else(|| Finding::error(format!("there is no type {}", unpacked.ty)).of(None, "fields"))?;
                let value = match ty {
                    Ty::Json | Ty::Jsonb => format!("CAST({json} #> {path} AS {})", ty.name()),
                    Ty::Text => format!("{json} #>> {path}"),
                    _ => format!("CAST({json} #>> {path} AS {})", unpacked.ty),
                };
                put(&mut items, columns, Item { field: Some("fields"), ..written(&unpacked.column, &value, "fields")? });
            }
            if !keep && fields.iter().all(|f| f.column != *column) {
                items.remove(place);
            }
            one(Piece::Project(items))
        }
        Step::Filter { only } => {
            let (sql, text) = parse::expression(only).map_err(|f| f.of(None, "only"))?;
            one(Piece::Filter(Box::new(sql), text, "only"))
        }
        Step::Route { ways } => {
            if ways.is_empty() {
                return Err(Finding::error("no way is named").of(None, "ways"));
            }
            one(Piece::Route(ways.clone()))
        }
        Step::Origin { facts } => {
            let mut items = all(columns);
            for fact in facts {
                match (fact.column.is_empty(), fact.header.is_empty()) {
                    // the record gets it when it is written
                    (true, false) => continue,
                    (false, true) => {}
                    _ => {
                        let finding = format!("{} becomes a column or a header", fact.fact.word());
                        return Err(Finding::error(finding).of(None, "facts").suggest("name one of them"));
                    }
                }
                put(&mut items, columns, written(&fact.column, &format!("origin.{}", fact.fact.word()), "facts")?);
            }
            one(Piece::Project(items))
        }
        Step::Lookup { by, columns: added, miss, again, .. } => {
            if by.is_empty() || added.is_empty() {
                return Err(Finding::error("a lookup compares at least one column and adds at least one").of(None, "by"));
            }
            for pair in by {
                find(columns, &pair.column).map_err(|f| f.of(None, "by"))?;
            }
            let (topic, by, columns) = (step.looks_into().unwrap_or_default(), by.clone(), added.clone());
            one(Piece::Lookup { topic, by, columns, miss: *miss, again: *again })
        }
        Step::DropRepeats { by } => {
            let places = if by.is_empty() {
                (0..columns.fields.len()).collect()
            } else {
                places(columns, by).map_err(|f| f.of(None, "by"))?
            };
            one(Piece::Repeats(places))
        }
        Step::Sql { select } => selected(select, columns).map_err(|f| f.of(None, "select")),
    }
}

fn call(function: &str, args: impl IntoIterator<Item = Sql>) -> sqlparser::ast::Function {
    use sqlparser::ast::{
        Function, FunctionArg, FunctionArgExpr, FunctionArgumentList, FunctionArguments, Ident, ObjectName,
    };
    Function {
        name: ObjectName::from(vec![Ident::new(function)]),
        uses_odbc_syntax: false,
        parameters: FunctionArguments::None,
        args: FunctionArguments::List(FunctionArgumentList {
            duplicate_treatment: None,
            args: args.into_iter().map(|a| FunctionArg::Unnamed(FunctionArgExpr::Expr(a))).collect(),
            clauses: Vec::new(),
        }),
        filter: None,
        null_treatment: None,
        over: None,
        within_group: Vec::new(),
    }
}

/// A free statement as a filter and a projection.
fn selected(text: &str, columns: &Columns) -> Result<Vec<Piece>, Finding> {
    let (select, text) = parse::select(text)?;
    let from_input = match select.from.as_slice() {
        [table] if table.joins.is_empty() => {
            matches!(&table.relation, TableFactor::Table { name, alias: None, .. } if name.to_string().eq_ignore_ascii_case("input"))
        }
        _ => false,
    };
    if !from_input {
        let span = select.from.first().map_or(text.whole(), |f| text.span(f));
        return Err(Finding::error("a step reads from input and nothing else").at(span).suggest("FROM input"));
    }
    let grouped = !matches!(&select.group_by, sqlparser::ast::GroupByExpr::Expressions(list, _) if list.is_empty());
    if grouped || select.distinct.is_some() || select.having.is_some() || select.qualify.is_some() || select.into.is_some() {
        let finding = "a step sees one row at a time: GROUP BY, DISTINCT and HAVING cannot be used";
        return Err(Finding::error(finding).at(text.whole()));
    }
    let mut out = Vec::new();
    if let Some(condition) = select.selection {
        out.push(Piece::Filter(Box::new(condition), text.clone(), "select"));
    }
    let mut items: Vec<Item> = Vec::new();
    for item in &select.projection {
        let (sql, alias) = match item {
            SelectItem::Wildcard(_) => {
                items.extend(all(columns));
                continue;
            }
            SelectItem::QualifiedWildcard(..) => {
                items.extend(all(columns));
                continue;
            }
            SelectItem::UnnamedExpr(sql) => (sql, None),
            SelectItem::ExprWithAlias { expr, alias } => (expr, Some(alias)),
            SelectItem::ExprWithAliases { .. } => return Err(Finding::error("one name each").at(text.span(item))),
        };
        let folded = |ident: &sqlparser::ast::Ident| {
            if ident.quote_style.is_some() { ident.value.clone() } else { ident.value.to_lowercase() }
        };
        let column = match sql {
            Sql::Identifier(ident) => Some(folded(ident)),
            Sql::CompoundIdentifier(parts) => parts.last().map(folded),
            _ => None,
        };
        let Some(named) = alias.map(folded).or_else(|| column.clone()) else {
            let finding = Finding::error("the column needs a name").at(text.span(item));
            return Err(finding.suggest(format!("{sql} AS …")));
        };
        let input = matches!(sql, Sql::Identifier(_) | Sql::CompoundIdentifier(_))
            && !matches!(sql, Sql::CompoundIdentifier(parts) if parts.first().is_some_and(|p| p.value.eq_ignore_ascii_case("origin")));
        let of = column.filter(|_| input).and_then(|c| columns.place(&c)).or_else(|| columns.place(&named));
        let item = Item {
            name: named,
            sql: sql.clone(),
            text: text.clone(),
            field: Some("select"),
            of,
            hides: false,
            plain: input,
        };
        // an expression of the name of a column that * brought takes its place
        match items.iter().position(|i| i.name == item.name && i.field.is_none()) {
            Some(place) => items[place] = item,
            None => items.push(item),
        }
    }
    if items.len() > MOST_COLUMNS {
        return Err(Finding::error(format!("{} columns: at most {MOST_COLUMNS} can be made", items.len())));
    }
    out.push(Piece::Project(items));
    Ok(out)
}
