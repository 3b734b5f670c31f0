//! Whether two schemas say the same in the same words, though parts of them stand behind references of one and not of the other.

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json};

use super::keywords::equal;
use super::resolving::{DEEPEST, Holds, Side, holds, is_annotation};

/// Parts that are compared to find two schemas alike.
pub(super) const MOST_ALIKE: usize = 2_000;

/// Keywords that look at each other where they stand in the same schema, and nowhere else.
const BESIDE: [&[&str]; 4] = [
    &["properties", "patternProperties", "additionalProperties"],
    &["prefixItems", "items", "additionalItems"],
    &["contains", "minContains", "maxContains"],
    &["if", "then", "else"],
];

/// A schema's keywords together with those of what it refers to; none where a reference leads nowhere, where two say the same keyword,
/// and where keywords that look at each other stand apart.
fn spread<'s>(side: &Side<'s>, schema: &'s Map<String, Json>) -> Option<BTreeMap<&'s str, &'s Json>> {
    let (mut out, mut layers, mut at) = (BTreeMap::new(), Vec::new(), schema);
    for _ in 0..DEEPEST {
        let refers = at.contains_key("$ref");
        let mut layer = Vec::new();
        for (key, value) in at.iter().filter(|(key, _)| *key != "$ref" && !is_annotation(key)) {
            if !(refers && side.is_draft_7) {
                layer.push(key.as_str());
                if out.insert(key.as_str(), value).is_some() {
                    return None;
                }
            }
        }
        layers.push(layer);
        if !refers {
            layers.retain(|layer| !layer.is_empty());
            let parted = |group: &&[&str]| layers.iter().filter(|l| l.iter().any(|key| group.contains(key))).count() > 1;
            // these look at all that stands in the same schema and behind its references
            let looks_around = out.contains_key("unevaluatedProperties") || out.contains_key("unevaluatedItems");
            let stands_apart = BESIDE.iter().any(parted) || (looks_around && layers.len() > 1);
            return (!stands_apart).then_some(out);
        }
        at = match side.target(at)? {
            Json::Object(target) => target,
            _ => return None,
        };
    }
    None
}

/// Whether two schemas say the same in the same words, wherever parts of them stand; `left` parts are compared at most.
pub(super) fn alike<'s>(a: (&Side<'s>, &'s Json), b: (&Side<'s>, &'s Json), left: &mut usize) -> bool {
    let ((side_a, a), (side_b, b)) = (a, b);
    let (a, b) = match (a, b) {
        (Json::Object(a), Json::Object(b)) => (a, b),
        (Json::Array(a), Json::Array(b)) => {
            return a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike((side_a, a), (side_b, b), left));
        }
        _ => return a == b,
    };
    if *left == 0 {
        return false;
    }
    *left -= 1;
    let (Some(a), Some(b)) = (spread(side_a, a), spread(side_b, b)) else { return false };
    a.len() == b.len()
        && a.into_iter().zip(b).all(|((key, a), (other, b))| {
            key == other
                && key != "$dynamicRef"
                && key != "$recursiveRef"
                && match (holds(key, a), holds(key, b)) {
                    (Holds::One(a), Holds::One(b)) => alike((side_a, a), (side_b, b), left),
                    (Holds::List(a), Holds::List(b)) => {
                        a.len() == b.len() && a.iter().zip(b).all(|(a, b)| alike((side_a, a), (side_b, b), left))
                    }
                    (Holds::Named(a), Holds::Named(b)) => {
                        let mut same = |(name, a): (&String, &'s Json)| {
                            b.get(name).is_some_and(|b| alike((side_a, a), (side_b, b), left))
                        };
                        a.len() == b.len() && a.iter().all(&mut same)
                    }
                    (Holds::Nothing, Holds::Nothing) => equal(a, b),
                    _ => false,
                }
        })
}
