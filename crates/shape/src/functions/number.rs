//! Functions of numbers. Roots, powers, logarithms and angles are worked out in double precision, also of numerics.

use gonvel_core::column::{NOT_A_NUMBER, Value};

use super::operators::{power, range, remainder_type, scaled};
use super::{DOUBLE, Entry, Gives, INT, LONG, Signature, TEXT, Take, TypeOf, d, int, number_templates, t, unscaled, way};
use crate::decimal;
use crate::expr::{Fault, Run};
use crate::ty::Ty;
use crate::value::{Given, Owned};

fn one(run: Run) -> Vec<Signature> {
    vec![way(&[DOUBLE], Ty::Float8, run)]
}

fn finite(v: f64, a: f64, ty: &Ty) -> Result<Given<'static>, Fault> {
    if v.is_infinite() && a.is_finite() { Err(range(ty)) } else { Ok(Given::Double(v)) }
}

fn logarithm(v: f64, of: fn(f64) -> f64) -> Result<Given<'static>, Fault> {
    if v == 0.0 {
        return Err("zero has no logarithm".into());
    }
    if v < 0.0 {
        return Err("a negative number has no logarithm".into());
    }
    Ok(Given::Double(of(v)))
}

fn constant(literals: &[Option<&Owned>], n: usize) -> Option<i32> {
    if let Some(Some(Given::Int(v))) = literals.get(n) { Some(*v) } else { None }
}

/// The digits after the point that rounding leaves: as many as are asked for where that is a constant, else those that were there.
fn rounded_type(types: &[Ty], literals: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let (precision, scale) = types.first().and_then(Ty::as_numeric).unwrap_or((38, 0));
    let wanted = if types.len() > 1 { constant(literals, 1).map_or(i32::from(scale), |n| n.max(0)) } else { 0 };
    let wanted = u8::try_from(wanted).unwrap_or(38).min(38);
    Ok(Ty::numeric(precision - scale + 1 + wanted, wanted))
}

fn whole_type(types: &[Ty], _: &[Option<&Owned>]) -> Result<Ty, Fault> {
    let (precision, scale) = types.first().and_then(Ty::as_numeric).unwrap_or((38, 0));
    Ok(Ty::numeric(precision - scale + 1, 0))
}

fn digits(a: &[Value<'_>]) -> i32 {
    if a.len() > 1 { i32::try_from(int(a, 1)).unwrap_or(0) } else { 0 }
}

fn sign(order: std::cmp::Ordering) -> i32 {
    order as i32
}

fn divisor(a: i64, b: i64) -> Option<i64> {
    let (mut a, mut b) = (a.unsigned_abs(), b.unsigned_abs());
    while b != 0 {
        (a, b) = (b, a % b);
    }
    i64::try_from(a).ok()
}

fn whole(value: Option<i64>, ty: &Ty) -> Result<Given<'static>, Fault> {
    let value = value.ok_or_else(|| range(ty))?;
    if *ty == Ty::Int4 { i32::try_from(value).map(Given::Int).map_err(|_| range(ty)) } else { Ok(Given::Long(value)) }
}

fn pairs(run: Run) -> Vec<Signature> {
    vec![way(&[INT, INT], Ty::Int4, run), way(&[LONG, LONG], Ty::Int8, run)]
}

fn bucket(v: f64, low: f64, high: f64, count: i64) -> Result<Given<'static>, Fault> {
    if count <= 0 {
        return Err("the number of buckets must be greater than zero".into());
    }
    if v.is_nan() || !low.is_finite() || !high.is_finite() || low == high {
        return Err("the bounds of the buckets must be finite and differ".into());
    }
    let (place, below, above) = if low < high {
        ((v - low) / (high - low), v < low, v >= high)
    } else {
        ((low - v) / (low - high), v > low, v <= high)
    };
    #[allow(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "from 0 to the count")]
    let found = if below {
        0
    } else if above {
        count + 1
    } else {
        (place * count as f64).floor() as i64 + 1
    };
    i32::try_from(found).map(Given::Int).map_err(|_| range(&Ty::Int4))
}

pub(super) fn all() -> Vec<Entry> {
    const NUMERIC: Take = Take::Numeric;
    let exact = |run: Run, ty: TypeOf| way(&[NUMERIC], Ty::Text, run).giving(Gives::By(ty));
    let floats = |run: Run| way(&[DOUBLE], Ty::Float8, run);
    let cut: Run = |s, a| {
        let value = (decimal::cut_to(scaled(s, a, 0), digits(a)), s.args[0].scale());
        decimal::rescale(value, s.ty).map(Given::Decimal)
    };
    let round: Run = |s, a| {
        let value = (decimal::round_to(scaled(s, a, 0), digits(a)), s.args[0].scale());
        decimal::rescale(value, s.ty).map(Given::Decimal)
    };
    let up: Run = |s, a| Ok(Given::Decimal(decimal::whole(scaled(s, a, 0), true)));
    let down: Run = |s, a| Ok(Given::Decimal(decimal::whole(scaled(s, a, 0), false)));
    let ceil = || vec![floats(|_, a| Ok(Given::Double(d(a, 0).ceil()))), exact(up, whole_type)];
    let angle = |run: Run| one(run);
    vec![
        (
            "to_number",
            vec![
                way(&[TEXT, TEXT], Ty::Text, |s, a| number_templates::read(t(a, 0), t(a, 1), s.ty))
                    .giving(Gives::By(number_templates::read_type)),
            ],
            "A number read by a template.",
            "to_number('1,412.5-', '9G999D9S')",
            "-1412.5",
        ),
        (
            "abs",
            vec![
                way(&[Take::Is(Ty::Int2)], Ty::Int2, |s, a| {
                    i16::try_from(int(a, 0).abs()).map(|v| Given::Int(i32::from(v))).map_err(|_| range(s.ty))
                }),
                way(&[INT], Ty::Int4, |s, a| whole(Some(int(a, 0).abs()), s.ty)),
                way(&[LONG], Ty::Int8, |s, a| whole(int(a, 0).checked_abs(), s.ty)),
                way(&[NUMERIC], Ty::Text, |_, a| {
                    Ok(Given::Decimal(if unscaled(a, 0) == NOT_A_NUMBER { NOT_A_NUMBER } else { unscaled(a, 0).abs() }))
                })
                .giving(Gives::First),
                floats(|_, a| Ok(Given::Double(d(a, 0).abs()))),
            ],
            "The number without its sign.",
            "abs(-7)",
            "7",
        ),
        ("ceil", ceil(), "The next whole number up.", "ceil(7.1)", "8"),
        ("ceiling", ceil(), "The next whole number up.", "ceiling(7.1)", "8"),
        (
            "floor",
            vec![floats(|_, a| Ok(Given::Double(d(a, 0).floor()))), exact(down, whole_type)],
            "The next whole number down.",
            "floor(7.9)",
            "7",
        ),
        (
            "round",
            vec![
                floats(|_, a| Ok(Given::Double(d(a, 0).round_ties_even()))),
                exact(round, rounded_type),
                way(&[NUMERIC, INT], Ty::Text, round).giving(Gives::By(rounded_type)),
            ],
            "Rounded, to a number of digits after the point.",
            "round(7.256, 2)",
            "7.26",
        ),
        (
            "trunc",
            vec![
                floats(|_, a| Ok(Given::Double(d(a, 0).trunc()))),
                exact(cut, rounded_type),
                way(&[NUMERIC, INT], Ty::Text, cut).giving(Gives::By(rounded_type)),
            ],
            "Cut after a number of digits.",
            "trunc(7.256, 2)",
            "7.25",
        ),
        (
            "sign",
            vec![
                floats(|_, a| {
                    Ok(Given::Double(if d(a, 0) > 0.0 {
                        1.0
                    } else if d(a, 0) < 0.0 {
                        -1.0
                    } else {
                        0.0
                    }))
                }),
                exact(
                    |_, a| {
                        Ok(Given::Decimal(if unscaled(a, 0) == NOT_A_NUMBER {
                            NOT_A_NUMBER
                        } else {
                            i128::from(sign(unscaled(a, 0).cmp(&0)))
                        }))
                    },
                    |_, _| Ok(Ty::numeric(1, 0)),
                ),
            ],
            "-1, 0 or 1.",
            "sign(-7.5)",
            "-1",
        ),
        (
            "mod",
            {
                let whole_rest: Run = |s, a| {
                    if int(a, 1) == 0 {
                        Err("division by zero".into())
                    } else {
                        whole(Some(int(a, 0).wrapping_rem(int(a, 1))), s.ty)
                    }
                };
                let mut out = pairs(whole_rest);
                out.push(
                    way(&[NUMERIC, NUMERIC], Ty::Text, |s, a| {
                        decimal::remainder(scaled(s, a, 0), scaled(s, a, 1), s.ty).map(Given::Decimal)
                    })
                    .giving(Gives::By(remainder_type)),
                );
                out
            },
            "What a division leaves.",
            "mod(7, 2)",
            "1",
        ),
        (
            "div",
            vec![
                way(&[NUMERIC, NUMERIC], Ty::Text, |s, a| {
                    let (x, y) = (scaled(s, a, 0), scaled(s, a, 1));
                    let wide = Ty::numeric(38, x.1.max(y.1));
                    let rest = decimal::remainder(x, y, &wide)?;
                    if rest == NOT_A_NUMBER {
                        return Ok(Given::Decimal(rest));
                    }
                    let exact = decimal::add(x, (rest, wide.scale()), true, &wide)?;
                    decimal::quotient((exact, wide.scale()), y, s.ty).map(Given::Decimal)
                })
                .giving(Gives::By(|_, _| Ok(Ty::numeric(38, 0)))),
            ],
            "The quotient without the rest.",
            "div(7.5, 2)",
            "3",
        ),
        (
            "power",
            vec![way(&[DOUBLE, DOUBLE], Ty::Float8, |s, a| power(d(a, 0), d(a, 1), s.ty))],
            "A power.",
            "power(2, 10)",
            "1024",
        ),
        (
            "sqrt",
            one(|_, a| {
                if d(a, 0) < 0.0 {
                    Err("a negative number has no square root".into())
                } else {
                    Ok(Given::Double(d(a, 0).sqrt()))
                }
            }),
            "The square root.",
            "sqrt(49)",
            "7",
        ),
        ("cbrt", one(|_, a| Ok(Given::Double(d(a, 0).cbrt()))), "The cube root.", "cbrt(27)", "3"),
        ("exp", one(|s, a| finite(d(a, 0).exp(), d(a, 0), s.ty)), "e to a power.", "exp(0)", "1"),
        ("ln", one(|_, a| logarithm(d(a, 0), f64::ln)), "The natural logarithm.", "ln(1)", "0"),
        ("log", one(|_, a| logarithm(d(a, 0), f64::log10)), "The logarithm to base 10.", "log(1000)", "3"),
        ("log10", one(|_, a| logarithm(d(a, 0), f64::log10)), "The logarithm to base 10.", "log10(1000)", "3"),
        (
            "pi",
            vec![way(&[], Ty::Float8, |_, _| Ok(Given::Double(std::f64::consts::PI)))],
            "The ratio of a circle's round to its width.",
            "round(pi()::numeric(10, 4), 2)",
            "3.14",
        ),
        (
            "degrees",
            angle(|s, a| finite(d(a, 0) / (std::f64::consts::PI / 180.0), d(a, 0), s.ty)),
            "Radians in degrees.",
            "round(degrees(pi()))",
            "180",
        ),
        (
            "radians",
            angle(|_, a| Ok(Given::Double(d(a, 0) * (std::f64::consts::PI / 180.0)))),
            "Degrees in radians.",
            "radians(0)",
            "0",
        ),
        ("sin", angle(|_, a| Ok(Given::Double(d(a, 0).sin()))), "The sine of radians.", "sin(0)", "0"),
        ("cos", angle(|_, a| Ok(Given::Double(d(a, 0).cos()))), "The cosine of radians.", "cos(0)", "1"),
        ("tan", angle(|_, a| Ok(Given::Double(d(a, 0).tan()))), "The tangent of radians.", "tan(0)", "0"),
        ("atan", angle(|_, a| Ok(Given::Double(d(a, 0).atan()))), "The angle of a tangent.", "atan(0)", "0"),
        (
            "atan2",
            vec![way(&[DOUBLE, DOUBLE], Ty::Float8, |_, a| Ok(Given::Double(d(a, 0).atan2(d(a, 1)))))],
            "The angle of a point.",
            "atan2(0, 1)",
            "0",
        ),
        (
            "asin",
            angle(|_, a| {
                if d(a, 0).abs() > 1.0 {
                    Err("the number is outside -1 to 1".into())
                } else {
                    Ok(Given::Double(d(a, 0).asin()))
                }
            }),
            "The angle of a sine.",
            "asin(0)",
            "0",
        ),
        (
            "acos",
            angle(|_, a| {
                if d(a, 0).abs() > 1.0 {
                    Err("the number is outside -1 to 1".into())
                } else {
                    Ok(Given::Double(d(a, 0).acos()))
                }
            }),
            "The angle of a cosine.",
            "acos(1)",
            "0",
        ),
        (
            "gcd",
            pairs(|s, a| whole(divisor(int(a, 0), int(a, 1)), s.ty)),
            "The greatest number that divides both.",
            "gcd(12, 18)",
            "6",
        ),
        (
            "lcm",
            pairs(|s, a| {
                let (x, y) = (int(a, 0), int(a, 1));
                let all = if x == 0 || y == 0 {
                    Some(0)
                } else {
                    divisor(x, y).and_then(|g| (x / g).checked_mul(y)).and_then(i64::checked_abs)
                };
                whole(all, s.ty)
            }),
            "The least number that both divide.",
            "lcm(4, 6)",
            "12",
        ),
        (
            "width_bucket",
            vec![way(&[DOUBLE, DOUBLE, DOUBLE, INT], Ty::Int4, |_, a| bucket(d(a, 0), d(a, 1), d(a, 2), int(a, 3)))],
            "Which of so many equal spans a number falls into.",
            "width_bucket(18.5, 10, 20, 5)",
            "5",
        ),
    ]
}
