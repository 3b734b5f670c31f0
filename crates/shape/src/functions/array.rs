//! Arrays of one dimension, in the text that PostgreSQL writes: `{a,NULL,"b c"}`.

use gonvel_core::column::Value;

use super::{Entry, Gives, INT, Signature, TEXT, Take, int, number, t, way};
use crate::array_text::{dimensions, owned};
pub use crate::array_text::{elements, write};
use crate::cast::{element_text, read_text};
use crate::expr::{Fault, Scope};
use crate::ty::Ty;
use crate::value::Given;

fn of(a: &[Value<'_>], n: usize) -> Result<Vec<Option<String>>, Fault> {
    if a[n] == Value::Null {
        return Ok(Vec::new());
    }
    elements(t(a, n)).ok_or_else(|| "it is not an array of one dimension".into())
}

fn one(scope: Scope<'_>, a: &[Value<'_>], n: usize) -> Option<String> {
    (a[n] != Value::Null).then(|| element_text(&scope.args[n], a[n]).into_owned())
}

/// An element by its place from 1, as a value of the type.
fn element<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    let place = usize::try_from(int(a, 1) - 1).ok();
    match place.and_then(|p| of(a, 0).map(|mut e| (p < e.len()).then(|| e.swap_remove(p))).transpose()) {
        Some(Ok(Some(text))) => read_text(&text, scope.ty),
        Some(Err(fault)) => Err(fault),
        _ => Ok(Given::Null),
    }
}

/// An array of its arguments.
///
/// # Errors
/// None: it has the form of a function.
pub fn of_values<'a>(scope: Scope<'_>, a: &[Value<'a>]) -> Result<Given<'a>, Fault> {
    let all: Vec<Option<String>> = (0..a.len()).map(|n| one(scope, a, n)).collect();
    Ok(Given::text(owned(&all)))
}

/// The type of an array with another element; what is no element of it must be made one first, as nothing is made one in silence.
fn with_element(array: Option<&Ty>, element: Option<&Ty>) -> Result<Ty, Fault> {
    let (Some(array @ Ty::Array(of)), Some(element)) = (array, element) else {
        return Ok(array.cloned().unwrap_or(Ty::Text));
    };
    let width = |ty: &Ty| [Ty::Int2, Ty::Int4, Ty::Int8].iter().position(|whole| whole == ty);
    let numeric = |ty: &Ty| matches!(ty, Ty::Numeric { .. });
    let alike = **of == *element
        || of.is_textual() && element.is_textual()
        || numeric(of) && numeric(element)
        || width(of).zip(width(element)).is_some_and(|(of, element)| element <= of);
    if alike {
        return Ok(array.clone());
    }
    let (of, element) = (of.name(), element.name());
    Err(format!("an array of {of} takes no {element}: convert it first, CAST(… AS {of})").into())
}

/// One more element behind an array.
pub(super) fn appending() -> Signature {
    way(&[Take::Array, Take::Any], Ty::Text, |s, a| {
        let mut all = of(a, 0)?;
        all.push(one(s, a, 1));
        Ok(Given::text(owned(&all)))
    })
    .lenient()
    .giving(Gives::By(|types, _| with_element(types.first(), types.get(1))))
}

/// One more element before an array.
pub(super) fn prepending() -> Signature {
    way(&[Take::Any, Take::Array], Ty::Text, |s, a| {
        let mut all = of(a, 1)?;
        all.insert(0, one(s, a, 0));
        Ok(Given::text(owned(&all)))
    })
    .lenient()
    .giving(Gives::By(|types, _| with_element(types.get(1), types.first())))
}

/// Two arrays one after the other.
pub(super) fn joining() -> Signature {
    way(&[Take::Array, Take::Array], Ty::Text, |_, a| {
        if a[0] == Value::Null && a[1] == Value::Null {
            return Ok(Given::Null);
        }
        let mut all = of(a, 0)?;
        all.extend(of(a, 1)?);
        Ok(Given::text(owned(&all)))
    })
    .lenient()
    .giving(Gives::By(|types, _| match types.get(1) {
        Some(Ty::Array(element)) => with_element(types.first(), Some(element)),
        _ => Ok(types.first().cloned().unwrap_or(Ty::Text)),
    }))
}

/// Whether all elements of the second stand in the first; null is none of them.
fn holds_all(a: &[Value<'_>], all: usize, some: usize) -> Result<Given<'static>, Fault> {
    let (all, some) = (of(a, all)?, of(a, some)?);
    Ok(Given::Boolean(some.iter().all(|e| e.is_some() && all.contains(e))))
}

/// Both are arrays of one type of element, so that equal elements have equal texts.
fn alike(types: &[Ty], _: &[Option<&crate::value::Owned>]) -> Result<Ty, Fault> {
    match types {
        [Ty::Array(a), Ty::Array(b)] if a != b && !(a.is_textual() && b.is_textual()) => {
            Err(format!("arrays of {} and of {} are not compared: convert one", a.name(), b.name()).into())
        }
        _ => Ok(Ty::Boolean),
    }
}

/// Whether an array has all elements of another.
pub(super) fn containing() -> Signature {
    way(&[Take::Array, Take::Array], Ty::Boolean, |_, a| holds_all(a, 0, 1)).giving(Gives::By(alike))
}

/// Whether an array's elements are all in another.
pub(super) fn contained() -> Signature {
    way(&[Take::Array, Take::Array], Ty::Boolean, |_, a| holds_all(a, 1, 0)).giving(Gives::By(alike))
}

fn sizes(a: &[Value<'_>]) -> Result<Vec<usize>, Fault> {
    dimensions(t(a, 0)).ok_or_else(|| "it is not an array".into())
}

fn inner(types: &[Ty]) -> Ty {
    if let Some(Ty::Array(of)) = types.first() { (**of).clone() } else { Ty::Text }
}

pub(super) fn all() -> Vec<Entry> {
    let array = Take::Array;
    let text_array = || Gives::Is(Ty::Array(Box::new(Ty::Text)));
    let length = |_: Scope<'_>, a: &[Value<'_>]| {
        let sizes = sizes(a)?;
        let place = usize::try_from(int(a, 1)).ok().and_then(|dimension| dimension.checked_sub(1));
        Ok(place.and_then(|place| sizes.get(place)).map_or(Given::Null, |size| number(*size)))
    };
    vec![
        (
            "[]",
            vec![way(&[array.clone(), INT], Ty::Text, element).giving(Gives::By(|types, _| Ok(inner(types))))],
            "An element by its place from 1.",
            "(string_to_array('a,b', ','))[2]",
            "b",
        ),
        (
            "array_length",
            vec![way(&[array.clone(), INT], Ty::Int4, length)],
            "How many elements, in its first dimension or another. Null for none.",
            "array_length(string_to_array('a,b', ','), 1)",
            "2",
        ),
        (
            "array_upper",
            vec![way(&[array.clone(), INT], Ty::Int4, length)],
            "The place of the last element.",
            "array_upper(string_to_array('a,b', ','), 1)",
            "2",
        ),
        (
            "cardinality",
            vec![way(std::slice::from_ref(&array), Ty::Int4, |_, a| {
                let sizes = sizes(a)?;
                Ok(number(if sizes.is_empty() { 0 } else { sizes.iter().product() }))
            })],
            "How many elements.",
            "cardinality(string_to_array('a,b', ','))",
            "2",
        ),
        (
            "array_to_string",
            vec![
                way(&[array.clone(), TEXT, TEXT], Ty::Text, |_, a| {
                    if a[0] == Value::Null || a[1] == Value::Null {
                        return Ok(Given::Null);
                    }
                    let null = a.get(2).filter(|v| **v != Value::Null).map(|_| t(a, 2).to_owned());
                    let parts: Vec<String> = of(a, 0)?.into_iter().filter_map(|e| e.or_else(|| null.clone())).collect();
                    Ok(Given::text(parts.join(t(a, 1))))
                })
                .optional(1)
                .lenient(),
            ],
            "The elements with a separator between them.",
            "array_to_string(string_to_array('a,b', ','), '/')",
            "a/b",
        ),
        (
            "string_to_array",
            vec![
                way(&[TEXT, TEXT, TEXT], Ty::Text, |_, a| {
                    if a[0] == Value::Null {
                        return Ok(Given::Null);
                    }
                    let null = a.get(2).filter(|v| **v != Value::Null).map(|_| t(a, 2));
                    let parts: Vec<String> = match (a[1], t(a, 0)) {
                        (_, "") => Vec::new(),
                        (Value::Null, text) => text.chars().map(String::from).collect(),
                        (_, text) if t(a, 1).is_empty() => vec![text.to_owned()],
                        (_, text) => text.split(t(a, 1)).map(str::to_owned).collect(),
                    };
                    Ok(Given::text(write(parts.iter().map(|p| (Some(p.as_str()) != null).then_some(p.as_str())))))
                })
                .optional(1)
                .lenient()
                .giving(text_array()),
            ],
            "The parts between separators, as an array.",
            "string_to_array('a,b', ',')",
            "{a,b}",
        ),
        (
            "array_position",
            vec![
                way(&[array.clone(), Take::Any], Ty::Int4, |s, a| {
                    let wanted = one(s, a, 1);
                    Ok(of(a, 0)?.iter().position(|e| *e == wanted).map_or(Given::Null, |p| number(p + 1)))
                })
                .lenient(),
            ],
            "Where an element stands first; null if nowhere.",
            "array_position(string_to_array('a,b', ','), 'b')",
            "2",
        ),
        (
            "array_append",
            vec![appending()],
            "One more element at the end.",
            "array_append(string_to_array('a', ','), 'b')",
            "{a,b}",
        ),
        (
            "array_prepend",
            vec![prepending()],
            "One more element at the beginning.",
            "array_prepend('a', string_to_array('b', ','))",
            "{a,b}",
        ),
        (
            "array_cat",
            vec![joining()],
            "Two arrays one after the other.",
            "array_cat(string_to_array('a', ','), string_to_array('b', ','))",
            "{a,b}",
        ),
        (
            "array_remove",
            vec![
                way(&[array.clone(), Take::Any], Ty::Text, |s, a| {
                    if a[0] == Value::Null {
                        return Ok(Given::Null);
                    }
                    let gone = one(s, a, 1);
                    let all: Vec<_> = of(a, 0)?.into_iter().filter(|e| *e != gone).collect();
                    Ok(Given::text(owned(&all)))
                })
                .lenient()
                .giving(Gives::First),
            ],
            "Without all elements of a value.",
            "array_remove(string_to_array('a,b,a', ','), 'a')",
            "{b}",
        ),
        (
            "any of",
            vec![
                way(&[Take::Any, array], Ty::Boolean, |s, a| {
                    if a[1] == Value::Null {
                        return Ok(Given::Null);
                    }
                    let (wanted, all) = (one(s, a, 0), of(a, 1)?);
                    Ok(if all.is_empty() {
                        Given::Boolean(false)
                    } else if wanted.is_none() {
                        Given::Null
                    } else if all.contains(&wanted) {
                        Given::Boolean(true)
                    } else if all.contains(&None) {
                        Given::Null
                    } else {
                        Given::Boolean(false)
                    })
                })
                .lenient(),
            ],
            "Whether a value is among an array's elements.",
            "'b' = ANY(string_to_array('a,b', ','))",
            "true",
        ),
    ]
}
