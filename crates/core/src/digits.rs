//! Numbers by their digits: how two that are written out stand to each other, and JSON read so that no digit is lost.

use std::cmp::Ordering;

use serde_json::value::RawValue;
use serde_json::{Number, Value};

/// A number as it is written, without what makes no difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Written<'t> {
    negative: bool,
    /// Where the point stands, counted from the first digit that is not 0.
    point: i64,
    /// What stands before the point of the text and behind it, from the first digit that is not 0 on.
    parts: (&'t str, &'t str),
}

impl<'t> Written<'t> {
    /// None if the text is no number that ends.
    fn of(text: &'t str) -> Option<Self> {
        let text = text.trim();
        let (negative, text) = match text.as_bytes().first()? {
            b'-' => (true, &text[1..]),
            b'+' => (false, &text[1..]),
            _ => (false, text),
        };
        let (digits, exponent) = match text.split_once(['e', 'E']) {
            Some((digits, exponent)) => (digits, exponent.parse::<i64>().ok()?),
            None => (text, 0),
        };
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        let all_digits = whole.bytes().chain(part.bytes()).all(|b| b.is_ascii_digit());
        if !all_digits || (whole.is_empty() && part.is_empty()) {
            return None;
        }
        let whole = whole.trim_start_matches('0');
        let length = |text: &str| i64::try_from(text.len()).unwrap_or(i64::MAX);
        let (point, parts) = if whole.is_empty() {
            let from = part.trim_start_matches('0');
            (length(from) - length(part), ("", from))
        } else {
            (length(whole), (whole, part))
        };
        Some(Self { negative, point: point.saturating_add(exponent), parts })
    }

    fn digits(&self) -> impl Iterator<Item = u8> + use<'t> {
        self.parts.0.bytes().chain(self.parts.1.bytes())
    }

    fn is_zero(&self) -> bool {
        self.digits().all(|digit| digit == b'0')
    }

    fn size(&self, other: &Self) -> Ordering {
        match (self.is_zero(), other.is_zero()) {
            (true, true) => return Ordering::Equal,
            (true, false) => return Ordering::Less,
            (false, true) => return Ordering::Greater,
            (false, false) => {}
        }
        let longest = [self, other].map(|n| n.parts.0.len() + n.parts.1.len()).into_iter().max().unwrap_or(0);
        let padded = |n: &Self| n.digits().chain(std::iter::repeat(b'0')).take(longest);
        self.point.cmp(&other.point).then_with(|| padded(self).cmp(padded(other)))
    }
}

/// How two numbers that are written as text stand to each other, whatever their length; none where one is no number.
#[must_use]
pub fn order(left: &str, right: &str) -> Option<Ordering> {
    let (left, right) = (Written::of(left)?, Written::of(right)?);
    Some(match (left.negative && !left.is_zero(), right.negative && !right.is_zero()) {
        (false, false) => left.size(&right),
        (true, true) => right.size(&left),
        (true, false) => Ordering::Less,
        (false, true) => Ordering::Greater,
    })
}

/// A number with all its digits; none where its type cannot hold them.
#[must_use]
pub fn number(text: &str) -> Option<Number> {
    let number: Number = serde_json::from_str(text).ok()?;
    (order(text, &number.to_string()) == Some(Ordering::Equal)).then_some(number)
}

/// Most digits in a row, with a point in them or not, that a double holds whatever they are.
const HELD: usize = 15;

fn has_long_numbers(text: &str) -> bool {
    let mut run = 0;
    text.bytes().any(|byte| {
        run = match byte {
            b'0'..=b'9' => run + 1,
            b'.' => run,
            // an exponent may be beyond a double's
            b'e' | b'E' if run > 0 => HELD,
            _ => 0,
        };
        run > HELD
    })
}

/// Where a token of JSON ends that begins here: a text with its quotes, a number or a word, or one sign.
fn token(text: &str) -> usize {
    let bytes = text.as_bytes();
    match bytes.first() {
        Some(b'"') => {
            let mut escaped = false;
            let ends = |byte: &u8| {
                let ends = *byte == b'"' && !escaped;
                escaped = *byte == b'\\' && !escaped;
                ends
            };
            bytes[1..].iter().position(ends).map_or(bytes.len(), |at| at + 2)
        }
        Some(b'-' | b'0'..=b'9') => {
            let goes_on = |byte: &u8| matches!(byte, b'0'..=b'9' | b'-' | b'+' | b'.' | b'e' | b'E');
            bytes.iter().position(|byte| !goes_on(byte)).unwrap_or(bytes.len())
        }
        // up to where the next one may begin
        _ => bytes.iter().skip(1).position(|b| matches!(b, b'"' | b'-' | b'0'..=b'9')).map_or(bytes.len(), |at| at + 1),
    }
}

/// Reads JSON. A number whose digits a [`Number`] cannot hold is a text of them, as a decimal is where a schema says that it is one.
///
/// # Errors
/// The text is no JSON, or is nested too deeply to be read.
pub fn read(text: &str) -> Result<Value, serde_json::Error> {
    if !has_long_numbers(text) {
        return serde_json::from_str(text);
    }
    let (mut quoted, mut rest) = (String::with_capacity(text.len() + 16), text);
    while !rest.is_empty() {
        let (next, behind) = rest.split_at(token(rest));
        let is_number = next.starts_with(|c: char| c == '-' || c.is_ascii_digit());
        if is_number && number(next).is_none() && serde_json::from_str::<&RawValue>(next).is_ok() {
            quoted.extend(["\"", next, "\""]);
        } else {
            quoted.push_str(next);
        }
        rest = behind;
    }
    serde_json::from_str(&quoted)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::json;

    /// A number of 18 digits and so many of them behind the point, written in one of several ways.
    fn written() -> impl Strategy<Value = (i128, String)> {
        let few = prop_oneof![-20_i64..20, any::<i64>().prop_map(|n| n % 1_000_000_000_000_000_000)];
        (few, 0_u32..12, 0_usize..4).prop_map(|(digits, scale, way)| {
            let value = i128::from(digits) * 10_i128.pow(12 - scale);
            let sign = if digits < 0 { "-" } else { "" };
            let plain = format!("{:0width$}", digits.unsigned_abs(), width = scale as usize + 1);
            let (whole, part) = plain.split_at(plain.len() - scale as usize);
            let text = match way {
                0 => format!("{sign}{whole}.{part}"),
                1 => format!("{sign}00{whole}.{part}000"),
                2 => format!("{sign}{}e-{scale}", digits.unsigned_abs()),
                _ => format!(" {sign}.{whole}{part}E{} ", whole.len()),
            };
            (value, text)
        })
    }

    proptest! {
        #[test]
        fn numbers_stand_to_each_other_as_their_values_do((a, left) in written(), (b, right) in written()) {
            prop_assert_eq!(order(&left, &right), Some(a.cmp(&b)), "{} and {}", left, right);
            prop_assert_eq!(order(&left, &left), Some(Ordering::Equal));
        }
    }

    #[test]
    fn what_is_no_number_has_no_order() {
        for text in ["", "-", ".", "1.2.3", "1e", "NaN", "inf", "0x10", "1 2", "--1", "1e1.5"] {
            assert_eq!(order(text, "1"), None, "{text}");
        }
        assert_eq!(order("1e9223372036854775807", "2e9223372036854775807"), Some(Ordering::Less));
        assert_eq!(order("-0.0", "0e5"), Some(Ordering::Equal));
    }

    #[test]
    fn json_is_read_with_all_digits_of_its_numbers() {
        for (text, expected) in [
            (
                r#"{"id": 12345678901234567890123, "n": [1, 1e999, "\"1e999"]}"#,
                json!({"id": "12345678901234567890123", "n": [1, "1e999", "\"1e999"]}),
            ),
            (
                r#"{"a": {"kg": 1234567890123456.78}, "b": 18446744073709551615}"#,
                json!({"a": {"kg": "1234567890123456.78"}, "b": u64::MAX}),
            ),
            (" 0.1000000000000000000 ", json!(0.1)),
            ("[1.5e3, -9007199254740993]", json!([1500.0, -9_007_199_254_740_993_i64])),
            (r#""12345678901234567890""#, json!("12345678901234567890")),
            (
                r#"["\\", 12345678901234567890123, "\"12345678901234567890123", "ä", true, null]"#,
                json!(["\\", "12345678901234567890123", "\"12345678901234567890123", "ä", true, null]),
            ),
        ] {
            assert_eq!(read(text).unwrap(), expected, "{text}");
        }
        for wrong in
            ["[12345678901234567890,]", r#"{"a":1e5e5}"#, "[0123456789012345678901]", "-", "[1234567890123456789.]", ""]
        {
            assert!(read(wrong).is_err(), "{wrong}");
        }
        // as deep as any JSON may be, and no deeper
        let nested = |depth: usize| format!("{}12345678901234567890123{}", "[".repeat(depth), "]".repeat(depth));
        assert!(read(&nested(100)).is_ok() && read(&nested(200_000)).is_err());
    }
}
