//! What a column's values are, whatever system they are of.
//!
//! Each kind of system has names of its own for these, and says which (`connectors/*/types.rs`). Here they are written as in the language of shapes: the
//! names that SQL has, and beside them `text`, `bytea`, `json`, `jsonb` and `uuid`. So they stand in the schema of a topic (`sourceType`).

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The type of a column's values.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum DataType {
    /// True or false.
    Boolean,
    /// A whole number of 16 bits.
    Int16,
    /// A whole number of 32 bits.
    Int32,
    /// A whole number of 64 bits.
    Int64,
    /// IEEE 754 single precision.
    Float32,
    /// IEEE 754 double precision.
    Float64,
    /// A number of a fixed point.
    Decimal {
        /// Digits in all, from 1 on.
        precision: u16,
        /// Digits after the point, at most all.
        scale: u16,
    },
    /// A number of any digits.
    Number,
    /// Text of any length.
    Text,
    /// Text of at most so many characters; none if nothing is said.
    Varying(Option<u32>),
    /// Text of so many characters, filled up with spaces.
    Padded(u32),
    /// Bytes.
    Bytes,
    /// A day.
    Date,
    /// A time of day.
    Time {
        /// Digits of its seconds after the point; none if nothing is said.
        digits: Option<u8>,
        /// Whether it has a zone.
        zone: bool,
    },
    /// A day and a time of day.
    Timestamp {
        /// Digits of its seconds after the point; none if nothing is said.
        digits: Option<u8>,
        /// Whether it is a moment, rather than what clocks show wherever one is.
        zone: bool,
    },
    /// A span of time.
    Interval {
        /// What it is counted in, as `day to second(3)`; empty if nothing is said.
        fields: String,
    },
    /// JSON as it was written.
    Json,
    /// JSON of which only the meaning is kept.
    Jsonb,
    /// A UUID.
    Uuid,
    /// A list.
    Array(Box<DataType>),
    /// One that only its system has, by its name there; its values are the text that the system writes.
    Own(String),
}

impl DataType {
    /// One that its name says; one of a system's own if it is no other.
    #[must_use]
    pub fn named(name: &str) -> Self {
        let found = Self::known(name);
        // what would be written in another way is not the same
        found.filter(|found| found.to_string() == name).unwrap_or_else(|| Self::Own(name.to_owned()))
    }

    fn known(name: &str) -> Option<Self> {
        if let Some(of) = name.strip_suffix("[]") {
            return Some(Self::Array(Box::new(Self::named(of))));
        }
        let (word, given) = match name.split_once('(') {
            Some((word, rest)) => {
                let (inside, after) = rest.split_once(')')?;
                (format!("{word}{after}"), Some(inside))
            }
            None => (name.to_owned(), None),
        };
        let digits = || given.map(str::parse).transpose().ok();
        Some(match (word.as_str(), given) {
            ("boolean", None) => Self::Boolean,
            ("smallint", None) => Self::Int16,
            ("integer", None) => Self::Int32,
            ("bigint", None) => Self::Int64,
            ("real", None) => Self::Float32,
            ("double precision", None) => Self::Float64,
            ("numeric", None) => Self::Number,
            ("numeric", Some(given)) => {
                let (precision, scale) = given.split_once(',')?;
                let (precision, scale) = (precision.parse().ok()?, scale.parse().ok()?);
                (precision > 0 && scale <= precision).then_some(Self::Decimal { precision, scale })?
            }
            ("text", None) => Self::Text,
            ("character varying", _) => Self::Varying(given.map(str::parse).transpose().ok()?),
            ("character", Some(given)) => Self::Padded(given.parse().ok()?),
            ("bytea", None) => Self::Bytes,
            ("date", None) => Self::Date,
            ("time without time zone", _) => Self::Time { digits: digits()?, zone: false },
            ("time with time zone", _) => Self::Time { digits: digits()?, zone: true },
            ("timestamp without time zone", _) => Self::Timestamp { digits: digits()?, zone: false },
            ("timestamp with time zone", _) => Self::Timestamp { digits: digits()?, zone: true },
            ("json", None) => Self::Json,
            ("jsonb", None) => Self::Jsonb,
            ("uuid", None) => Self::Uuid,
            _ => {
                let fields = name.strip_prefix("interval")?.trim_start();
                let words = "year month day hour minute second to (0) (1) (2) (3) (4) (5) (6)";
                let parts = fields.split_inclusive(' ').flat_map(|part| part.trim_end().split_inclusive("second"));
                let known = parts.into_iter().all(|part| words.split(' ').any(|word| word == part));
                known.then(|| Self::Interval { fields: fields.to_owned() })?
            }
        })
    }

    /// Whether its values are numbers.
    #[must_use]
    pub fn is_number(&self) -> bool {
        matches!(
            self,
            Self::Int16 | Self::Int32 | Self::Int64 | Self::Float32 | Self::Float64 | Self::Decimal { .. } | Self::Number
        )
    }

    /// Whether every value of it is the same value in another, wider one.
    #[must_use]
    pub fn widens_to(&self, to: &Self) -> bool {
        let whole = |ty: &Self| match ty {
            Self::Int16 => Some(5),
            Self::Int32 => Some(10),
            Self::Int64 => Some(19),
            _ => None,
        };
        match (self, to) {
            (Self::Decimal { precision: p, scale: s }, Self::Decimal { precision, scale }) => {
                self != to && scale >= s && precision.saturating_sub(*scale) >= p.saturating_sub(*s)
            }
            (from, Self::Decimal { precision, scale }) => {
                whole(from).is_some_and(|digits| precision.saturating_sub(*scale) >= digits)
            }
            (from, Self::Number) => whole(from).is_some() || matches!(from, Self::Decimal { .. }),
            (Self::Varying(Some(_)), Self::Text | Self::Varying(None)) | (Self::Varying(None), Self::Text) => true,
            (Self::Varying(Some(from)), Self::Varying(Some(to))) => to > from,
            (Self::Text, Self::Varying(None)) | (Self::Float32, Self::Float64) => true,
            (from, to) => whole(from).zip(whole(to)).is_some_and(|(from, to)| to > from),
        }
    }
}

impl fmt::Display for DataType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let timed = |f: &mut fmt::Formatter<'_>, word: &str, digits: Option<u8>, zone: bool| {
            let digits = digits.map(|digits| format!("({digits})")).unwrap_or_default();
            write!(f, "{word}{digits} {} time zone", if zone { "with" } else { "without" })
        };
        match self {
            Self::Boolean => f.write_str("boolean"),
            Self::Int16 => f.write_str("smallint"),
            Self::Int32 => f.write_str("integer"),
            Self::Int64 => f.write_str("bigint"),
            Self::Float32 => f.write_str("real"),
            Self::Float64 => f.write_str("double precision"),
            Self::Decimal { precision, scale } => write!(f, "numeric({precision},{scale})"),
            Self::Number => f.write_str("numeric"),
            Self::Text => f.write_str("text"),
            Self::Varying(None) => f.write_str("character varying"),
            Self::Varying(Some(length)) => write!(f, "character varying({length})"),
            Self::Padded(length) => write!(f, "character({length})"),
            Self::Bytes => f.write_str("bytea"),
            Self::Date => f.write_str("date"),
            Self::Time { digits, zone } => timed(f, "time", *digits, *zone),
            Self::Timestamp { digits, zone } => timed(f, "timestamp", *digits, *zone),
            Self::Interval { fields } if fields.is_empty() => f.write_str("interval"),
            Self::Interval { fields } => write!(f, "interval {fields}"),
            Self::Json => f.write_str("json"),
            Self::Jsonb => f.write_str("jsonb"),
            Self::Uuid => f.write_str("uuid"),
            Self::Array(of) => write!(f, "{of}[]"),
            Self::Own(name) => f.write_str(name),
        }
    }
}

impl From<&str> for DataType {
    fn from(name: &str) -> Self {
        Self::named(name)
    }
}

impl Serialize for DataType {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for DataType {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(|name| Self::named(&name))
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Any but one of a system's own.
    pub(crate) fn any_type() -> impl Strategy<Value = DataType> {
        let digits = || prop::option::of(0_u8..7);
        let plain = prop::sample::select(vec![
            DataType::Boolean,
            DataType::Int16,
            DataType::Int32,
            DataType::Int64,
            DataType::Float32,
            DataType::Float64,
            DataType::Number,
            DataType::Text,
            DataType::Bytes,
            DataType::Date,
            DataType::Json,
            DataType::Jsonb,
            DataType::Uuid,
        ]);
        let fields = ["", "year", "day to second", "day to second(3)", "hour to minute", "second(6)"];
        let one = prop_oneof![
            3 => plain,
            2 => (1_u16..60).prop_flat_map(|precision| (Just(precision), 0..=precision)).prop_map(|(precision, scale)| DataType::Decimal { precision, scale }),
            1 => prop::option::of(1_u32..9000).prop_map(DataType::Varying),
            1 => (1_u32..9000).prop_map(DataType::Padded),
            1 => (digits(), any::<bool>()).prop_map(|(digits, zone)| DataType::Time { digits, zone }),
            1 => (digits(), any::<bool>()).prop_map(|(digits, zone)| DataType::Timestamp { digits, zone }),
            1 => prop::sample::select(fields.to_vec()).prop_map(|fields| DataType::Interval { fields: fields.into() }),
        ];
        (one, 0_usize..4).prop_map(|(one, lists)| if lists == 3 { DataType::Array(Box::new(one)) } else { one })
    }

    proptest! {
        /// Whatever is written of one is read as that one.
        #[test]
        fn what_is_written_is_read(ty in any_type()) {
            prop_assert_eq!(DataType::named(&ty.to_string()), ty);
        }

        /// What stands in a topic's schema is written again to the letter, whatever it is.
        #[test]
        fn any_name_comes_back(name in "[a-z ]{0,12}(\\([0-9]{0,2}(, ?[0-9]{1,6})?\\))?( with(out)? time zone)?(\\[\\]){0,2}|\\PC{0,20}") {
            prop_assert_eq!(DataType::named(&name).to_string(), name);
        }

        /// Wider is wider all the way, and never back.
        #[test]
        fn what_widens_never_goes_back_and_goes_on(a in any_type(), b in any_type(), c in any_type()) {
            // the two that have no limit hold the same
            let same = |one: &DataType, other: &DataType| matches!((one, other), (DataType::Text, DataType::Varying(None)));
            if a.widens_to(&b) && !same(&a, &b) && !same(&b, &a) {
                prop_assert!(!b.widens_to(&a), "{a} and {b}");
            }
            if a.widens_to(&b) && b.widens_to(&c) && a != c {
                prop_assert!(a.widens_to(&c), "{a}, {b}, {c}");
            }
        }
    }

    #[test]
    fn what_is_not_written_so_is_a_systems_own() {
        for name in [
            "numeric(0,0)",
            "numeric(3,5)",
            "numeric(5,-2)",
            "numeric(07,1)",
            "timestamp",
            "int",
            "inet",
            "interval soon",
            "character",
            "Text",
            "",
        ] {
            assert_eq!(DataType::named(name), DataType::Own(name.into()));
        }
        assert_eq!(DataType::named("inet[]"), DataType::Array(Box::new(DataType::Own("inet".into()))));
    }

    #[test]
    fn a_wider_type_holds_every_value() {
        for (from, to, wider) in [
            ("smallint", "bigint", true),
            ("bigint", "integer", false),
            ("integer", "numeric(12,2)", true),
            ("integer", "numeric(9,2)", false),
            ("numeric(7,1)", "numeric(9,2)", true),
            ("numeric(7,1)", "numeric(7,2)", false),
            ("numeric(7,1)", "numeric", true),
            ("character varying(20)", "character varying(40)", true),
            ("character varying(20)", "text", true),
            ("character varying(20)", "character varying(10)", false),
            ("real", "double precision", true),
            ("text", "integer", false),
            ("numeric", "numeric(7,1)", false),
        ] {
            assert_eq!(DataType::named(from).widens_to(&to.into()), wider, "{from} to {to}");
        }
    }
}
