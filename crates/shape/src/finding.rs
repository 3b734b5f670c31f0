//! What is found about a shape before it runs: at its step and character, with what to do.

use std::fmt;

/// A place in the text of a step's field, in characters from 0; the end is the character after the last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, PartialOrd, Ord)]
pub struct Span {
    /// The first character.
    pub from: usize,
    /// The one after the last.
    pub to: usize,
}

/// How grave a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Weight {
    /// The shape cannot run.
    Error,
    /// It can, and this may happen.
    Warning,
}

/// Something wrong, or that may become so.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Finding {
    /// How grave it is.
    pub weight: Weight,
    /// The step's place among the table's steps, from 0; none where it is about the rules or the whole.
    pub step: Option<usize>,
    /// The field of the step: `value`, `only`, `select`, `columns`, …
    pub field: &'static str,
    /// Where in the field's text.
    pub span: Option<Span>,
    /// What was found and what it means.
    pub message: String,
    /// What to write instead, or do.
    pub suggestion: Option<String>,
}

impl Finding {
    /// An error.
    #[must_use]
    pub fn error(message: impl Into<String>) -> Self {
        let message = message.into();
        Self { weight: Weight::Error, step: None, field: "", span: None, message, suggestion: None }
    }

    /// A warning.
    #[must_use]
    pub fn warning(message: impl Into<String>) -> Self {
        Self { weight: Weight::Warning, ..Self::error(message) }
    }

    /// The same with a place in the text.
    #[must_use]
    pub fn at(mut self, span: Span) -> Self {
        self.span = Some(span);
        self
    }

    /// The same with what to do.
    #[must_use]
    pub fn suggest(mut self, suggestion: impl Into<String>) -> Self {
        self.suggestion = Some(suggestion.into());
        self
    }

    /// The same at a step's field, unless it is at one already.
    #[must_use]
    pub fn of(mut self, step: Option<usize>, field: &'static str) -> Self {
        self.step = self.step.or(step);
        if self.field.is_empty() {
            self.field = field;
        }
        self
    }
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(step) = self.step {
            write!(f, "step {}: ", step + 1)?;
        }
        f.write_str(&self.message)?;
        if let Some(suggestion) = &self.suggestion {
            write!(f, " ({suggestion})")?;
        }
        Ok(())
    }
}

pub use gonvel_core::nearest::nearest;
