//! Which columns are filled from which fields, as a tree of names.

use gonvel_core::event_rows::{EventColumn, Part};

use crate::cell::Cell;

/// A field, or the value itself.
#[derive(Debug, Clone, Default)]
pub(crate) struct Node {
    /// The columns that it fills.
    pub(crate) columns: Vec<usize>,
    children: Vec<(String, Node)>,
}

impl Node {
    /// The tree of these columns.
    pub(crate) fn of(columns: &[EventColumn]) -> Self {
        Self::of_part(columns, Part::Field)
    }

    /// The tree of the columns that are filled from a part.
    pub(crate) fn of_part(columns: &[EventColumn], part: Part) -> Self {
        let mut root = Self::default();
        for (number, column) in columns.iter().enumerate().filter(|(_, c)| c.part == part) {
            root.at(&column.path).columns.push(number);
        }
        root
    }

    fn at(&mut self, path: &[String]) -> &mut Self {
        let Some((name, rest)) = path.split_first() else { return self };
        let place = match self.children.iter().position(|(known, _)| known == name) {
            Some(place) => place,
            None => {
                self.children.push((name.clone(), Self::default()));
                self.children.len() - 1
            }
        };
        self.children[place].1.at(rest)
    }

    /// Whether fields below it fill columns.
    pub(crate) fn goes_on(&self) -> bool {
        !self.children.is_empty()
    }

    /// The field of a name. Fields mostly come in one order: `hint` is where the next one is looked for first.
    pub(crate) fn child(&self, name: &str, hint: &mut usize) -> Option<&Self> {
        let here = self.children.get(*hint).filter(|(known, _)| known == name).map(|_| *hint);
        let place = here.or_else(|| self.children.iter().position(|(known, _)| known == name))?;
        *hint = place + 1;
        Some(&self.children[place].1)
    }

    /// Fills all columns of the fields below it with null: what they would stand in is null.
    pub(crate) fn null_below(&self, cells: &mut [Cell<'_>]) {
        for (_, child) in &self.children {
            child.columns.iter().for_each(|&column| cells[column] = Cell::Null);
            child.null_below(cells);
        }
    }
}

/// Where a value is being read, from the outermost in.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Path<'p> {
    above: Option<&'p Path<'p>>,
    name: &'p str,
}

impl<'p> Path<'p> {
    /// The value itself.
    pub(crate) const ROOT: Path<'static> = Path { above: None, name: "$" };

    /// A field below.
    pub(crate) fn down(&'p self, name: &'p str) -> Path<'p> {
        Path { above: Some(self), name }
    }

    /// The refusal of something that was found there instead of an object whose fields fill columns.
    pub(crate) fn no_object(&self, found: &str) -> String {
        format!(
            "at {self}: an object is expected, whose fields fill columns, and {found} came: mend the record, or take {self} as a column"
        )
    }
}

impl std::fmt::Display for Path<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.above {
            Some(above) => write!(f, "{above}.{}", self.name),
            None => f.write_str(self.name),
        }
    }
}
