//! The types of expressions: those of SQL that columns have, and how they go over into each other.

use gonvel_core::column::ColumnType;
use gonvel_core::data_type::DataType;
use gonvel_core::table::Column;
use sqlparser::ast::{ArrayElemTypeDef, DataType as Sql, ExactNumberInfo, TimezoneInfo};

/// A type of SQL.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Ty {
    /// `boolean`
    Boolean,
    /// `smallint`
    Int2,
    /// `integer`
    Int4,
    /// `bigint`
    Int8,
    /// `real`
    Float4,
    /// `double precision`
    Float8,
    /// `numeric(precision, scale)`, at most 38 digits.
    Numeric {
        /// Digits in all.
        precision: u8,
        /// Digits after the point.
        scale: u8,
    },
    /// `text`, and what is read as text.
    Text,
    /// `bytea`
    Bytes,
    /// `date`
    Date,
    /// `timestamp`
    Timestamp,
    /// `timestamptz`
    TimestampTz,
    /// `time`
    Time,
    /// `interval`
    Interval,
    /// `json`
    Json,
    /// `jsonb`
    Jsonb,
    /// An array of one dimension.
    Array(Box<Ty>),
    /// Any other type by its name: its values are the text that the system writes, and are used as text.
    Other(String),
    /// A literal text or null, which takes the type of what it meets.
    Unknown,
}

/// Digits of the largest numeric.
pub const MOST_DIGITS: u8 = 38;

impl Ty {
    /// The type of a table's column.
    #[must_use]
    pub fn of(column: &Column) -> Self {
        match column.ty {
            ColumnType::Boolean => Self::Boolean,
            ColumnType::Int16 => Self::Int2,
            ColumnType::Int32 => Self::Int4,
            ColumnType::Int64 => Self::Int8,
            ColumnType::Float32 => Self::Float4,
            ColumnType::Float64 => Self::Float8,
            ColumnType::Decimal { precision, scale } => Self::Numeric { precision, scale },
            ColumnType::Text => Self::Text,
            ColumnType::Bytes => Self::Bytes,
            ColumnType::Date => Self::Date,
            ColumnType::Timestamp => Self::Timestamp,
            ColumnType::TimestampTz => Self::TimestampTz,
            ColumnType::Verbatim => Self::of_type(&column.source_type),
        }
    }

    /// The type of a column that travels as text.
    fn of_type(ty: &DataType) -> Self {
        match ty {
            DataType::Array(of) => Self::Array(Box::new(parse_type(&of.to_string()).unwrap_or(Self::Text))),
            DataType::Json => Self::Json,
            DataType::Jsonb => Self::Jsonb,
            DataType::Interval { .. } => Self::Interval,
            DataType::Time { zone: false, .. } => Self::Time,
            _ => Self::Other(ty.to_string()),
        }
    }

    /// How its values are carried.
    #[must_use]
    pub fn column_type(&self) -> ColumnType {
        match self {
            Self::Boolean => ColumnType::Boolean,
            Self::Int2 => ColumnType::Int16,
            Self::Int4 => ColumnType::Int32,
            Self::Int8 => ColumnType::Int64,
            Self::Float4 => ColumnType::Float32,
            Self::Float8 => ColumnType::Float64,
            Self::Numeric { precision, scale } => ColumnType::Decimal { precision: *precision, scale: *scale },
            Self::Text | Self::Unknown => ColumnType::Text,
            Self::Bytes => ColumnType::Bytes,
            Self::Date => ColumnType::Date,
            Self::Timestamp => ColumnType::Timestamp,
            Self::TimestampTz => ColumnType::TimestampTz,
            Self::Time | Self::Interval | Self::Json | Self::Jsonb | Self::Array(_) | Self::Other(_) => ColumnType::Verbatim,
        }
    }

    /// The same as what a column's values are.
    #[must_use]
    pub fn data_type(&self) -> DataType {
        DataType::named(&self.name())
    }

    /// Its name in SQL, as PostgreSQL writes it.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Boolean => "boolean".into(),
            Self::Int2 => "smallint".into(),
            Self::Int4 => "integer".into(),
            Self::Int8 => "bigint".into(),
            Self::Float4 => "real".into(),
            Self::Float8 => "double precision".into(),
            Self::Numeric { precision, scale } => format!("numeric({precision},{scale})"),
            Self::Text | Self::Unknown => "text".into(),
            Self::Bytes => "bytea".into(),
            Self::Date => "date".into(),
            Self::Timestamp => "timestamp without time zone".into(),
            Self::TimestampTz => "timestamp with time zone".into(),
            Self::Time => "time without time zone".into(),
            Self::Interval => "interval".into(),
            Self::Json => "json".into(),
            Self::Jsonb => "jsonb".into(),
            Self::Array(of) => format!("{}[]", of.name()),
            Self::Other(name) => name.clone(),
        }
    }

    /// Whether its values are numbers.
    #[must_use]
    pub fn is_number(&self) -> bool {
        matches!(self, Self::Int2 | Self::Int4 | Self::Int8 | Self::Float4 | Self::Float8 | Self::Numeric { .. })
    }

    /// Whether its values are held as text.
    #[must_use]
    pub fn is_textual(&self) -> bool {
        matches!(self, Self::Text | Self::Unknown | Self::Other(_))
    }

    /// A whole number as a numeric.
    #[must_use]
    pub fn as_numeric(&self) -> Option<(u8, u8)> {
        match self {
            Self::Int2 => Some((5, 0)),
            Self::Int4 => Some((10, 0)),
            Self::Int8 => Some((19, 0)),
            Self::Numeric { precision, scale } => Some((*precision, *scale)),
            _ => None,
        }
    }

    /// A numeric within 38 digits: digits before the point give way, so that a number too large is found when it comes.
    #[must_use]
    pub fn numeric(digits: u8, scale: u8) -> Self {
        Self::Numeric { precision: digits.clamp(scale.max(1), MOST_DIGITS), scale: scale.min(MOST_DIGITS) }
    }

    /// The scale of a numeric, else 0.
    #[must_use]
    pub fn scale(&self) -> u8 {
        if let Self::Numeric { scale, .. } = self { *scale } else { 0 }
    }

    /// How far it is from here to another type that it goes over into by itself; none if it does not.
    #[must_use]
    pub fn distance(&self, to: &Self) -> Option<u32> {
        const NUMBERS: [fn(&Ty) -> bool; 6] = [
            |t| matches!(t, Ty::Int2),
            |t| matches!(t, Ty::Int4),
            |t| matches!(t, Ty::Int8),
            |t| matches!(t, Ty::Numeric { .. }),
            |t| matches!(t, Ty::Float4),
            |t| matches!(t, Ty::Float8),
        ];
        if self == to {
            return Some(0);
        }
        if *self == Self::Unknown {
            // a constant in quotes is text unless something else is wanted
            return Some(u32::from(*to != Self::Text));
        }
        if let (Some(from), Some(to)) = (NUMBERS.iter().position(|f| f(self)), NUMBERS.iter().position(|f| f(to))) {
            return u32::try_from(to).ok()?.checked_sub(u32::try_from(from).ok()?);
        }
        match (self, to) {
            (Self::Other(_), Self::Text) | (Self::Date, Self::Timestamp) | (Self::Timestamp, Self::TimestampTz) => Some(1),
            (Self::Date, Self::TimestampTz) => Some(2),
            (Self::Array(_), Self::Array(of)) if **of == Self::Unknown => Some(0),
            _ => None,
        }
    }
}

/// A type by its SQL text.
#[must_use]
pub fn parse_type(text: &str) -> Option<Ty> {
    let mut parser = sqlparser::parser::Parser::new(&sqlparser::dialect::PostgreSqlDialect {}).try_with_sql(text).ok()?;
    let parsed = parser.parse_data_type().ok()?;
    (parser.peek_token().token == sqlparser::tokenizer::Token::EOF).then(|| from_sql(&parsed))?
}

/// A type as it was parsed; none if there is none of that name.
#[must_use]
pub fn from_sql(parsed: &Sql) -> Option<Ty> {
    Some(match parsed {
        Sql::Boolean | Sql::Bool => Ty::Boolean,
        Sql::SmallInt(None) | Sql::Int2(None) => Ty::Int2,
        Sql::Int(None) | Sql::Integer(None) | Sql::Int4(None) => Ty::Int4,
        Sql::BigInt(None) | Sql::Int8(None) => Ty::Int8,
        Sql::Real | Sql::Float4 => Ty::Float4,
        Sql::Double(_) | Sql::DoublePrecision | Sql::Float8 => Ty::Float8,
        Sql::Float(ExactNumberInfo::None) => Ty::Float8,
        Sql::Numeric(info) | Sql::Decimal(info) | Sql::Dec(info) => match info {
            ExactNumberInfo::None => Ty::Numeric { precision: MOST_DIGITS, scale: 10 },
            ExactNumberInfo::Precision(p) => Ty::Numeric { precision: u8::try_from(*p).ok()?, scale: 0 },
            ExactNumberInfo::PrecisionAndScale(p, s) => {
                Ty::Numeric { precision: u8::try_from(*p).ok()?, scale: u8::try_from(*s).ok()? }
            }
        },
        Sql::Text | Sql::Varchar(None) | Sql::CharacterVarying(None) | Sql::String(None) => Ty::Text,
        Sql::Bytea => Ty::Bytes,
        Sql::Date => Ty::Date,
        Sql::Timestamp(_, zone) => match zone {
            TimezoneInfo::None | TimezoneInfo::WithoutTimeZone => Ty::Timestamp,
            TimezoneInfo::WithTimeZone | TimezoneInfo::Tz => Ty::TimestampTz,
        },
        Sql::Time(_, TimezoneInfo::None | TimezoneInfo::WithoutTimeZone) => Ty::Time,
        Sql::Interval { .. } => Ty::Interval,
        Sql::JSON => Ty::Json,
        Sql::JSONB => Ty::Jsonb,
        Sql::Uuid => Ty::Other("uuid".into()),
        Sql::Array(ArrayElemTypeDef::SquareBracket(of, None)) => Ty::Array(Box::new(from_sql(of)?)),
        _ => return None,
    })
    .filter(|ty| !matches!(ty, Ty::Numeric { precision, scale } if *precision == 0 || *precision > MOST_DIGITS || scale > precision))
}
