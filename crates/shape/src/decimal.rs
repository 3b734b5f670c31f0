//! Arithmetic on numerics: whole numbers with a scale, at most 38 digits. The scale of a quotient follows PostgreSQL's rule of at
//! least 16 significant digits.

use arrow_buffer::i256;
use gonvel_core::column::NOT_A_NUMBER;

use crate::expr::Fault;
use crate::ty::Ty;

/// Digits after the point of a quotient at least.
pub const QUOTIENT_SCALE: u8 = 20;

/// An unscaled number and its scale.
pub type Scaled = (i128, u8);

fn ten(power: u8) -> i256 {
    // two factors: 10^76 does not fit in 128 bits
    let half = |p: u8| i256::from_i128(10_i128.pow(u32::from(p)));
    if power <= 38 { half(power) } else { half(38).wrapping_mul(half((power - 38).min(38))) }
}

fn too_large(ty: &Ty) -> Fault {
    format!("the number does not fit into {}", ty.name()).into()
}

/// The number within its type's digits.
///
/// # Errors
/// If it has more.
pub fn within(value: i128, ty: &Ty) -> Result<i128, Fault> {
    let Ty::Numeric { precision, .. } = ty else { return Ok(value) };
    if value != NOT_A_NUMBER && value.unsigned_abs() >= 10_u128.pow(u32::from(*precision)) {
        return Err(too_large(ty));
    }
    Ok(value)
}

fn narrow(value: i256, ty: &Ty) -> Result<i128, Fault> {
    value.to_i128().ok_or_else(|| too_large(ty)).and_then(|v| within(v, ty))
}

/// Division rounded half away from zero.
fn divide(a: i256, b: i256) -> i256 {
    let quotient = a.wrapping_div(b);
    let rest = a.wrapping_sub(quotient.wrapping_mul(b));
    let twice = rest.wrapping_abs().wrapping_add(rest.wrapping_abs());
    if twice >= b.wrapping_abs() {
        let away = if (a < i256::ZERO) == (b < i256::ZERO) { i256::ONE } else { i256::MINUS_ONE };
        quotient.wrapping_add(away)
    } else {
        quotient
    }
}

fn wide((value, scale): Scaled, to: u8) -> i256 {
    let value = i256::from_i128(value);
    if to >= scale { value.wrapping_mul(ten(to - scale)) } else { divide(value, ten(scale - to)) }
}

/// With another scale, rounded half away from zero.
///
/// # Errors
/// If it does not fit into the type.
pub fn rescale(value: Scaled, ty: &Ty) -> Result<i128, Fault> {
    if value.0 == NOT_A_NUMBER {
        return Ok(NOT_A_NUMBER);
    }
    if value.1 == ty.scale() {
        return within(value.0, ty);
    }
    narrow(wide(value, ty.scale()), ty)
}

/// Rounded to so many digits after the point (before it, if negative), its scale as it was.
#[must_use]
pub fn round_to(value: Scaled, digits: i32) -> i128 {
    let drop = i32::from(value.1).saturating_sub(digits);
    match u8::try_from(drop) {
        _ if value.0 == NOT_A_NUMBER => NOT_A_NUMBER,
        Ok(drop @ 1..=38) => {
            divide(i256::from_i128(value.0), ten(drop)).wrapping_mul(ten(drop)).to_i128().unwrap_or(value.0)
        }
        Ok(0) | Err(_) if drop <= 0 => value.0,
        _ => 0,
    }
}

/// Cut to so many digits after the point, its scale as it was.
#[must_use]
pub fn cut_to(value: Scaled, digits: i32) -> i128 {
    let drop = i32::from(value.1).saturating_sub(digits);
    match u32::try_from(drop) {
        _ if value.0 == NOT_A_NUMBER => NOT_A_NUMBER,
        Ok(drop @ 0..=37) => value.0 / 10_i128.pow(drop) * 10_i128.pow(drop),
        Ok(_) => 0,
        Err(_) => value.0,
    }
}

/// The next whole number down (`-1`) or up (`1`).
#[must_use]
pub fn whole(value: Scaled, up: bool) -> i128 {
    if value.0 == NOT_A_NUMBER {
        return NOT_A_NUMBER;
    }
    let unit = 10_i128.pow(u32::from(value.1));
    let down = value.0.div_euclid(unit);
    if up && value.0.rem_euclid(unit) != 0 { down + 1 } else { down }
}

/// The sum, or the difference.
///
/// # Errors
/// If it does not fit.
pub fn add(a: Scaled, b: Scaled, minus: bool, ty: &Ty) -> Result<i128, Fault> {
    if a.0 == NOT_A_NUMBER || b.0 == NOT_A_NUMBER {
        return Ok(NOT_A_NUMBER);
    }
    if a.1 == ty.scale() && b.1 == ty.scale() {
        // the common case within 128 bits
        let sum = if minus { a.0.checked_sub(b.0) } else { a.0.checked_add(b.0) };
        return sum.ok_or_else(|| too_large(ty)).and_then(|sum| within(sum, ty));
    }
    let (l, r) = (wide(a, ty.scale()), wide(b, ty.scale()));
    narrow(if minus { l.wrapping_sub(r) } else { l.wrapping_add(r) }, ty)
}

/// The product.
///
/// # Errors
/// If it does not fit.
pub fn multiply(a: Scaled, b: Scaled, ty: &Ty) -> Result<i128, Fault> {
    if a.0 == NOT_A_NUMBER || b.0 == NOT_A_NUMBER {
        return Ok(NOT_A_NUMBER);
    }
    let all = i256::from_i128(a.0).wrapping_mul(i256::from_i128(b.0));
    let cut = (a.1 + b.1).saturating_sub(ty.scale());
    narrow(if cut > 0 { divide(all, ten(cut)) } else { all }, ty)
}

/// The place of the first digit, in groups of four before the point; and those four digits.
fn lead((value, scale): Scaled) -> (i32, u32) {
    let digits = value.unsigned_abs().to_string();
    if value == 0 {
        return (0, 0);
    }
    // digits before the point; negative where zeros follow the point
    let before = i32::try_from(digits.len()).unwrap_or(0) - i32::from(scale);
    let weight = (before - 1).div_euclid(4);
    let take = usize::try_from(before - weight * 4).unwrap_or(1);
    let first: String = digits.chars().chain(std::iter::repeat('0')).take(take).collect();
    (weight, first.parse().unwrap_or(0))
}

/// The quotient, with as many digits as PostgreSQL gives it, within the type's scale.
///
/// # Errors
/// If the divisor is zero or it does not fit.
pub fn quotient(a: Scaled, b: Scaled, ty: &Ty) -> Result<i128, Fault> {
    if a.0 == NOT_A_NUMBER || b.0 == NOT_A_NUMBER {
        return Ok(NOT_A_NUMBER);
    }
    if b.0 == 0 {
        return Err("division by zero".into());
    }
    let ((a_weight, a_first), (b_weight, b_first)) = (lead(a), lead(b));
    let weight = a_weight - b_weight - i32::from(a_first <= b_first);
    let digits = (16 - weight * 4).max(i32::from(a.1)).max(i32::from(b.1)).max(0);
    let digits = u8::try_from(digits).unwrap_or(QUOTIENT_SCALE).min(ty.scale());
    // up to 38 digits times 10^38
    let scaled = |value: i128, by: u8| i256::from_i128(value).checked_mul(ten(by)).ok_or_else(|| too_large(ty));
    let top = scaled(a.0, (digits + b.1).saturating_sub(a.1))?;
    let bottom = scaled(b.0, a.1.saturating_sub(digits + b.1))?;
    narrow(divide(top, bottom).checked_mul(ten(ty.scale() - digits)).ok_or_else(|| too_large(ty))?, ty)
}

/// The rest of a division cut to a whole number, with the sign of the dividend.
///
/// # Errors
/// If the divisor is zero or it does not fit.
pub fn remainder(a: Scaled, b: Scaled, ty: &Ty) -> Result<i128, Fault> {
    if a.0 == NOT_A_NUMBER || b.0 == NOT_A_NUMBER {
        return Ok(NOT_A_NUMBER);
    }
    if b.0 == 0 {
        return Err("division by zero".into());
    }
    narrow(wide(a, ty.scale()).wrapping_rem(wide(b, ty.scale())), ty)
}

/// The nearest double, by its digits.
#[must_use]
pub fn to_double(value: Scaled) -> f64 {
    if value.0 == NOT_A_NUMBER {
        return f64::NAN;
    }
    gonvel_core::avro::json::decimal_text(value.0, usize::from(value.1)).parse().unwrap_or(f64::NAN)
}

/// A double's first 15 significant digits, as PostgreSQL takes them.
///
/// # Errors
/// If it is infinite or does not fit.
pub fn of_double(value: f64, significant: usize, ty: &Ty) -> Result<i128, Fault> {
    if value.is_nan() {
        return Ok(NOT_A_NUMBER);
    }
    if value.is_infinite() {
        return Err(format!("an infinite number does not fit into {}", ty.name()).into());
    }
    read(&format!("{value:.*e}", significant - 1), ty)
}

/// A number as people write it, with or without an exponent.
///
/// # Errors
/// If it is no number or does not fit.
pub fn read(text: &str, ty: &Ty) -> Result<i128, Fault> {
    let no_number = || Fault::from("it is not a number");
    let text = text.trim();
    if text.eq_ignore_ascii_case("nan") {
        return Ok(NOT_A_NUMBER);
    }
    let (mantissa, exponent) = match text.find(['e', 'E']) {
        Some(at) => (&text[..at], text[at + 1..].parse::<i32>().map_err(|_| no_number())?),
        None => (text, 0),
    };
    let (negative, digits) = match mantissa.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, mantissa.strip_prefix('+').unwrap_or(mantissa)),
    };
    let (before, after) = digits.split_once('.').unwrap_or((digits, ""));
    let all: String = before.chars().chain(after.chars()).collect();
    if all.is_empty() || !all.bytes().all(|b| b.is_ascii_digit()) {
        return Err(no_number());
    }
    let scale = i32::try_from(after.len()).unwrap_or(i32::MAX).saturating_sub(exponent);
    let all = all.trim_start_matches('0');
    if all.is_empty() {
        return Ok(0);
    }
    // digits beyond the scale only decide how the last is rounded: drop them first, so that a long text fits
    let drop = scale.saturating_sub(i32::from(ty.scale()));
    let value = if drop > 0 {
        let keep = all.len().saturating_sub(usize::try_from(drop).unwrap_or(usize::MAX));
        if usize::try_from(drop).unwrap_or(usize::MAX) > all.len() {
            return Ok(0);
        }
        let up = all.as_bytes().get(keep).is_some_and(|d| *d >= b'5');
        let kept: i128 = if keep == 0 { 0 } else { all[..keep].parse().map_err(|_| too_large(ty))? };
        kept.checked_add(i128::from(up)).ok_or_else(|| too_large(ty))?
    } else {
        let zeros = usize::try_from(-drop).unwrap_or(usize::MAX);
        if zeros > 38 {
            return Err(too_large(ty));
        }
        format!("{all}{}", "0".repeat(zeros)).parse().map_err(|_| too_large(ty))?
    };
    within(if negative { -value } else { value }, ty)
}
