//! Fields that columns can fill.

/// What a field holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FieldKind {
    /// True or false.
    Boolean,
    /// A whole number of so many bits.
    Whole(u8),
    /// A number of single or double precision.
    Floating,
    /// A number with so many digits after the point.
    Decimal(usize),
    /// Text.
    Text,
    /// One of these texts.
    OneOf(Vec<String>),
    /// Bytes.
    Bytes,
    /// A date.
    Date,
    /// A time of day, in so many parts of a second.
    OfDay(i64),
    /// A moment.
    Moment,
    /// A date with a time of day.
    LocalMoment,
    /// An object or a list, whole.
    Nested,
    /// Anything.
    Any,
}

impl FieldKind {
    /// The word for it.
    #[must_use]
    pub fn word(&self) -> String {
        match self {
            Self::Boolean => "true or false".into(),
            Self::Whole(bits) => format!("a whole number of {bits} bits"),
            Self::Floating => "a number".into(),
            Self::Decimal(0) => "a whole number".into(),
            Self::Decimal(1) => "a number with a digit after the point".into(),
            Self::Decimal(scale) => format!("a number with {scale} digits after the point"),
            Self::Text => "text".into(),
            Self::OneOf(names) => format!("one of {}", names.join(", ")),
            Self::Bytes => "bytes".into(),
            Self::Date => "a date".into(),
            Self::OfDay(_) => "a time of day".into(),
            Self::Moment => "a time".into(),
            Self::LocalMoment => "a time without a zone".into(),
            Self::Nested => "an object or a list".into(),
            Self::Any => "anything".into(),
        }
    }
}

/// A field that a column can fill.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TargetField {
    /// The names of the fields down to it.
    pub path: Vec<String>,
    /// What it holds.
    pub kind: FieldKind,
    /// Whether a value without it does not fit.
    pub needed: bool,
    /// Whether null fits.
    pub nullable: bool,
    /// Other names of it.
    pub aliases: Vec<String>,
}
