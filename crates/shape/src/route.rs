//! Where rows go: a name with columns in it.

use gonvel_core::column::ColumnArray;

use crate::cast::text_of;
use crate::columns::Columns;
use crate::finding::{Finding, nearest};
use crate::ty::Ty;

#[derive(Debug, Clone)]
enum Piece {
    Plain(String),
    Column(usize, Ty),
}

/// A name with columns in it: `packhouse.bins_{grade}`.
#[derive(Debug, Clone)]
pub struct Template(Vec<Piece>);

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// If it names a column that is not there, or is empty.
    pub fn parse(text: &str, columns: &Columns) -> Result<Self, Finding> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some(at) = rest.find('{') {
            if at > 0 {
                pieces.push(Piece::Plain(rest[..at].to_owned()));
            }
            let Some(end) = rest[at..].find('}') else {
                return Err(Finding::error(format!("{text}: a {{ has no }}")));
            };
            let column = &rest[at + 1..at + end];
            let place = columns.place(column).ok_or_else(|| {
                let finding = Finding::error(format!("there is no column {column}"));
                match nearest(column, columns.fields.iter().map(|f| f.name.as_str())) {
                    Some(near) => finding.suggest(format!("perhaps {near}")),
                    None => finding.suggest(format!("the columns are {}", columns.listed())),
                }
            })?;
            pieces.push(Piece::Column(place, columns.fields[place].ty.clone()));
            rest = &rest[at + end + 1..];
        }
        if !rest.is_empty() {
            pieces.push(Piece::Plain(rest.to_owned()));
        }
        if pieces.is_empty() {
            return Err(Finding::error("where rows go is missing").suggest("name a topic or a table"));
        }
        Ok(Self(pieces))
    }

    /// The name, if no column is in it.
    #[must_use]
    pub fn constant(&self) -> Option<String> {
        match self.0.as_slice() {
            [Piece::Plain(text)] => Some(text.clone()),
            _ => None,
        }
    }

    /// The columns in it.
    pub fn reads(&self) -> impl Iterator<Item = usize> + '_ {
        self.0.iter().filter_map(|p| if let Piece::Column(place, _) = p { Some(*place) } else { None })
    }

    /// The name for a row, in characters that names may hold.
    #[must_use]
    pub fn name(&self, columns: &[ColumnArray], row: usize) -> String {
        let mut out = String::new();
        for piece in &self.0 {
            match piece {
                Piece::Plain(text) => out.push_str(text),
                Piece::Column(place, ty) => {
                    let text = text_of(ty, columns[*place].value(row));
                    let fit = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-') { c } else { '_' };
                    out.extend(text.chars().map(fit));
                }
            }
        }
        out
    }
}
