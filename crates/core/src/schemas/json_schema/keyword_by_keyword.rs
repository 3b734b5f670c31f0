//! Comparing what keywords say by themselves: whether each of a reader's holds for all that a case of what is written lets through.

use serde_json::{Map, Value as Json};

use super::cases::Case;
use super::compare::Check;
use super::holding::Holding;
use super::keywords::{items, listed, patterns, required, says_of, types};

/// A number of a schema, as it compares: whole ones exactly, others as far as a double holds them.
#[derive(Debug, Clone, Copy)]
enum Bound {
    Whole(i128),
    Real(f64),
}

/// Whole numbers up to here are held by a double as they are.
const EXACT: f64 = 9_007_199_254_740_992.0;

impl Bound {
    fn of(number: &Json) -> Option<Self> {
        let number = number.as_number()?;
        let whole = number.as_i64().map(i128::from).or_else(|| number.as_u64().map(i128::from));
        whole.map(Self::Whole).or_else(|| number.as_f64().map(Self::Real))
    }

    fn real(self) -> f64 {
        #[allow(clippy::cast_precision_loss, reason = "where it counts the numbers are looked at before")]
        match self {
            Self::Whole(number) => number as f64,
            Self::Real(number) => number,
        }
    }

    /// How it stands to another; none where a double cannot tell.
    fn compare(self, other: Self) -> Option<std::cmp::Ordering> {
        match (self, other) {
            (Self::Whole(a), Self::Whole(b)) => Some(a.cmp(&b)),
            (a, b) if a.real().abs() < EXACT && b.real().abs() < EXACT => a.real().partial_cmp(&b.real()),
            // far apart they are told apart
            (a, b) if (a.real() - b.real()).abs() > a.real().abs().max(b.real().abs()) / 1e9 => {
                a.real().partial_cmp(&b.real())
            }
            _ => None,
        }
    }

    /// Whether it is a multiple of another; none where that cannot be told.
    fn is_multiple_of(self, step: Self) -> Option<bool> {
        match (self, step) {
            (_, Self::Whole(0)) => None,
            (Self::Whole(a), Self::Whole(b)) => Some(a % b == 0),
            (a, b) => {
                // decimals of few digits, as whole numbers of their last place
                let places = 1e6;
                let (a, b) = (a.real() * places, b.real() * places);
                let exact = |n: f64| n.abs() < EXACT / 1e3 && (n - n.round()).abs() < 1e-6;
                #[allow(clippy::cast_possible_truncation, reason = "both are looked at before")]
                let whole = |n: f64| n.round() as i64;
                (exact(a) && exact(b) && whole(b) != 0).then(|| whole(a) % whole(b) == 0)
            }
        }
    }
}

impl std::fmt::Display for Bound {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Whole(number) => number.fmt(f),
            Self::Real(number) => number.fmt(f),
        }
    }
}

/// A side of the numbers that a schema lets through.
struct End {
    inclusive: &'static str,
    exclusive: &'static str,
    /// How a bound stands to another one that it lies within.
    within: std::cmp::Ordering,
    rule: &'static str,
    name: &'static str,
    beyond: &'static str,
    far: &'static str,
    wanted: &'static str,
}

const ENDS: [End; 2] = [
    End {
        inclusive: "minimum",
        exclusive: "exclusiveMinimum",
        within: std::cmp::Ordering::Greater,
        rule: "minimum: the value is not below it",
        name: "lower",
        beyond: "below",
        far: "low",
        wanted: "at least",
    },
    End {
        inclusive: "maximum",
        exclusive: "exclusiveMaximum",
        within: std::cmp::Ordering::Less,
        rule: "maximum: the value is not above it",
        name: "upper",
        beyond: "above",
        far: "high",
        wanted: "at most",
    },
];

/// Formats that draft-07 checks, and of which a text is not one by chance.
const FORMATS: [&str; 17] = [
    "date",
    "date-time",
    "time",
    "email",
    "idn-email",
    "hostname",
    "idn-hostname",
    "ipv4",
    "ipv6",
    "uri",
    "uri-reference",
    "iri",
    "iri-reference",
    "uri-template",
    "json-pointer",
    "relative-json-pointer",
    "regex",
];

impl<'c, 's> Check<'c, 's> {
    pub(super) fn keywords(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let mut all = self.kinds(reader, case, path);
        let written = case.types();
        let may = |ty: &str| written.contains(&ty);
        if may("number") || may("integer") {
            all &= self.numbers(reader, case, path);
        }
        if may("string") {
            all &= self.texts(reader, case, path);
        }
        if may("array") {
            all &= self.lists(reader, case, path, depth);
        }
        if may("object") {
            all &= self.objects(reader, case, path, depth);
        }
        for key in ["$dynamicRef", "$recursiveRef"] {
            if reader.contains_key(key) {
                let finding = format!("where \"{key}\" leads depends on the way there");
                all = self.unsure(path, finding, "refer to it by \"$ref\"");
            }
        }
        all
    }

    fn kinds(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str) -> bool {
        let (read, written) = (types(reader), case.types());
        let fits = |ty: &&&str| read.contains(*ty) || (**ty == "integer" && read.contains(&"number"));
        let lacking: Vec<&str> = written.iter().filter(|ty| !fits(ty)).copied().collect();
        if let Some(first) = lacking.first() {
            let finding = format!("data may be {}, {} is expected", lacking.join(" or "), read.join(" or "));
            let remedy = format!("keep {first} among the types");
            return self.misfit(path, "type: the value's type is among the listed", finding, remedy);
        }
        let Some(known) = listed(reader) else { return true };
        let rule = "enum, const: the value is among the listed";
        // null is one value, and so are true and false
        let few = written.iter().all(|ty| match *ty {
            "null" => known.iter().any(|v| v.is_null()),
            "boolean" => [true, false].iter().all(|b| known.iter().any(|v| v.as_bool() == Some(*b))),
            _ => false,
        });
        few || self.misfit(
            path,
            rule,
            "data may be a value that is not listed",
            "leave out the list, or list the values earlier",
        )
    }

    fn numbers(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str) -> bool {
        let whole = !case.types().contains(&"number");
        let mut all = true;
        for end in &ENDS {
            for (key, itself) in [(end.inclusive, true), (end.exclusive, false)] {
                let Some(bound) = reader.get(key).and_then(Bound::of) else { continue };
                let mut known = true;
                let within = case.maps.iter().any(|map| {
                    [(end.inclusive, true), (end.exclusive, false)].into_iter().any(|(written_key, written_itself)| {
                        let Some(written) = map.get(written_key).and_then(Bound::of) else { return false };
                        match written.compare(bound) {
                            Some(std::cmp::Ordering::Equal) => itself || !written_itself,
                            Some(order) => order == end.within,
                            None if written_key == key && map.get(key) == reader.get(key) => true,
                            None => {
                                known = false;
                                false
                            }
                        }
                    })
                });
                if within {
                    continue;
                }
                let remedy = format!("leave the {} bound as it was", end.name);
                all = match known {
                    true => {
                        let bounds = case.maps.iter().filter_map(|map| map.get(end.inclusive).or(map.get(end.exclusive)));
                        let nearest =
                            bounds.filter_map(Bound::of).reduce(|a, b| if a.compare(b) == Some(end.within) { a } else { b });
                        let finding = match nearest {
                            Some(written) => {
                                format!("data may be as {} as {written}, {} {bound} is expected", end.far, end.wanted)
                            }
                            None => format!("data may be {} {bound}", end.beyond),
                        };
                        self.misfit(path, end.rule, finding, remedy)
                    }
                    false => self.unsure(
                        path,
                        format!("numbers as large as {bound} are too near each other to be compared"),
                        remedy,
                    ),
                };
            }
        }
        if let Some(step) = reader.get("multipleOf").and_then(Bound::of) {
            let written: Vec<Bound> = case.maps.iter().filter_map(|map| Bound::of(map.get("multipleOf")?)).collect();
            let found: Vec<Option<bool>> = written.iter().map(|written| written.is_multiple_of(step)).collect();
            let one = whole && matches!(step, Bound::Whole(1));
            let same = case.maps.iter().any(|map| map.get("multipleOf") == reader.get("multipleOf"));
            if !(one || same || found.contains(&Some(true))) {
                let remedy = "leave \"multipleOf\" as it was";
                all = match found.contains(&None) {
                    true => self.unsure(path, format!("whether all are multiples of {step} cannot be told"), remedy),
                    false => {
                        let finding = format!("data may be no multiple of {step}");
                        self.misfit(path, "multipleOf: the value is a multiple of it", finding, remedy)
                    }
                };
            }
        }
        all
    }

    /// Bounds of how many there are; `surely` are there in any case.
    fn counts(&mut self, reader: &Map<String, Json>, case: &Case<'s>, path: &str, of: &Count, surely: u64) -> bool {
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(whole_number);
        let least = case.maps.iter().filter_map(|map| count(map, of.least)).max().unwrap_or(0).max(surely);
        let most = case.maps.iter().filter_map(|map| count(map, of.most)).min();
        let mut all = true;
        if let Some(wanted) = count(reader, of.least).filter(|wanted| least < *wanted) {
            let finding = format!("data may have fewer than {wanted} {}", of.of);
            all = self.misfit(path, of.least_rule, finding, "leave the least number as it was");
        }
        if let Some(wanted) = count(reader, of.most).filter(|wanted| most.is_none_or(|most| most > *wanted)) {
            let finding = format!("data may have more than {wanted} {}", of.of);
            all = self.misfit(path, of.most_rule, finding, "leave the greatest number as it was");
        }
        all
    }

    fn texts(&mut self, reader: &Map<String, Json>, case: &Case<'s>, path: &str) -> bool {
        let mut all = self.counts(reader, case, path, &CHARACTERS, 0);
        let same = |key: &str, value: &Json| case.maps.iter().any(|map| map.get(key) == Some(value));
        if let Some(pattern) = reader.get("pattern").filter(|p| !same("pattern", p)) {
            let finding = format!("data may not match {pattern}");
            all = self.misfit(path, "pattern: the text matches it", finding, "leave the pattern as it was, or take it out");
        }
        if self.reader.is_draft_7
            && let Some(format) = reader.get("format").filter(|f| f.as_str().is_some_and(|f| FORMATS.contains(&f)))
            && !(self.writer.is_draft_7 && same("format", format))
        {
            let finding = format!("data may be no {}", format.as_str().unwrap_or_default());
            all = self.misfit(
                path,
                "format: the text has it (draft-07)",
                finding,
                "leave the format as it was, or take it out",
            );
        }
        all
    }

    fn lists(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let mut all = self.counts(reader, case, path, &ITEMS, 0);
        let most = case.maps.iter().filter_map(|map| map.get("maxItems").and_then(whole_number)).min();
        let unique = |map: &Map<String, Json>| map.get("uniqueItems") == Some(&Json::Bool(true));
        if unique(reader) && !case.maps.iter().any(|map| unique(map)) && most.is_none_or(|most| most > 1) {
            let rule = "uniqueItems: no two items are the same";
            all = self.misfit(path, rule, "data may have an item twice", "leave out \"uniqueItems\"");
        }
        // the items at the front have schemas of their own, the rest have one
        let written: Vec<_> = case.maps.iter().map(|map| items(map, self.writer.is_draft_7)).collect();
        let at = |place: usize| -> Vec<&'s Json> {
            written.iter().filter_map(|(front, rest)| front.get(place).copied().or(*rest)).collect()
        };
        let (front, rest) = items(reader, self.reader.is_draft_7);
        let fronts = written.iter().map(|(front, _)| front.len()).chain([front.len()]).max().unwrap_or(0);
        let may = |place: usize| most.is_none_or(|most| most > place as u64);
        for place in (0..fronts).filter(|place| may(*place)) {
            if let Some(read) = front.get(place).copied().or(rest) {
                all &= self.accepts(read, &at(place), &format!("{path}[{place}]"), depth + 1);
            }
        }
        if let Some(read) = rest.filter(|_| may(fronts)) {
            all &= self.accepts(read, &at(usize::MAX), &format!("{path}[]"), depth + 1);
        }
        if let Some(contained) = reader.get("contains") {
            // which draft-07 does not bound
            let bounded = !self.reader.is_draft_7;
            let number = |map: &Map<String, Json>, key: &str| map.get(key).filter(|_| bounded).and_then(whole_number);
            let (least, more) = (number(reader, "minContains").unwrap_or(1), number(reader, "maxContains"));
            let same = case.maps.iter().any(|map| {
                map.get("contains").is_some_and(|written| self.same(contained, written))
                    && number(map, "minContains").unwrap_or(1) >= least
                    && more.is_none_or(|more| number(map, "maxContains").is_some_and(|written| written <= more))
            });
            if !same && (least > 0 || more.is_some()) {
                let remedy = "keep \"contains\" and its bounds as they are, or take them out";
                all = self.unsure(path, "which items \"contains\" finds cannot be told", remedy);
            }
        }
        self.unevaluated(reader, "unevaluatedItems", path) & all
    }

    /// What is left over by everything beside it is not looked into.
    fn unevaluated(&mut self, reader: &Map<String, Json>, key: &str, path: &str) -> bool {
        let says = reader.get(key).is_some_and(|v| *v != Json::Bool(true)) && !self.reader.is_draft_7;
        // beside what speaks of all the rest nothing is left
        let rest = if key == "unevaluatedItems" { "items" } else { "additionalProperties" };
        if !says || reader.contains_key(rest) {
            return true;
        }
        self.unsure(
            path,
            format!("what \"{key}\" is left with cannot be told"),
            format!("leave the schema with \"{key}\" as it was"),
        )
    }

    fn objects(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let mut needed: Vec<&str> = case.maps.iter().flat_map(|map| required(map)).collect();
        needed.sort_unstable();
        needed.dedup();
        let mut all = self.counts(reader, case, path, &PROPERTIES, needed.len() as u64);
        for name in required(reader).into_iter().filter(|name| !needed.contains(name)) {
            let finding = format!("data may be without {name}, which is required");
            let remedy = format!("leave {name} out of \"required\"");
            all = self.misfit(&format!("{path}.{name}"), "required: the property is there", finding, remedy);
        }
        let props = |schema: &'s Map<String, Json>| {
            schema.get("properties").and_then(Json::as_object).into_iter().flat_map(Map::keys).map(String::as_str)
        };
        let mut names: Vec<&str> = case.maps.iter().flat_map(|map| props(map)).collect();
        names.extend(props(reader));
        names.extend(needed.iter().copied());
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(*name));
        for name in names {
            if !self.by_the_letter && !case.may_have(name) {
                continue;
            }
            let written: Vec<&'s Json> = case.maps.iter().flat_map(|map| says_of(map, name)).collect();
            let at = format!("{path}.{name}");
            for read in says_of(reader, name) {
                if *read == Json::Bool(false) && !written.iter().any(|w| **w == Json::Bool(false)) {
                    let finding = format!("data may have {name}, which is not let through");
                    let remedy = format!("keep {name} among the properties");
                    all = self.misfit(&at, "additionalProperties: only listed properties are let through", finding, remedy);
                } else {
                    all &= self.accepts(read, &written, &at, depth + 1);
                }
            }
        }
        all &= self.open_names(reader, case, path, depth);
        all &= self.names(reader, case, path, depth);
        all &= self.depending(reader, case, &needed, path, depth);
        self.unevaluated(reader, "unevaluatedProperties", path) & all
    }

    /// Names that are not listed but opened on purpose: by a pattern, or all.
    fn open_names(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let mut all = true;
        let read_by = patterns(reader);
        // of a name that only one pattern of the writer's is known to be of, the others may or may not say something
        for (pattern, written) in case.maps.iter().flat_map(|map| patterns(map)) {
            let at = format!("{path}./{pattern}/");
            let has = read_by.iter().any(|(other, _)| *other == pattern);
            let more = reader.get("additionalProperties").filter(|_| !has);
            for read in read_by.iter().map(|(_, read)| *read).chain(more).collect::<Vec<_>>() {
                all &= self.accepts(read, &[written], &at, depth + 1);
            }
        }
        if self.by_the_letter || case.is_open() {
            let written: Vec<&'s Json> = case.maps.iter().filter_map(|map| map.get("additionalProperties")).collect();
            // names of a pattern that both have are looked at above
            let written_by =
                |pattern: &str| case.maps.iter().any(|map| patterns(map).iter().any(|(other, _)| *other == pattern));
            let own = read_by.iter().filter(|(pattern, _)| !written_by(pattern)).map(|(_, read)| *read);
            for read in own.chain(reader.get("additionalProperties")).collect::<Vec<_>>() {
                all &= self.accepts(read, &written, &format!("{path}.*"), depth + 1);
            }
        }
        // a name that the reader lists may come by a pattern of the writer's, or as one of any: told of above
        all
    }

    fn names(&mut self, reader: &'s Map<String, Json>, case: &Case<'s>, path: &str, depth: usize) -> bool {
        let Some(names) = reader.get("propertyNames") else { return true };
        if *names == Json::Bool(true) || self.has_same(case, "propertyNames", names) {
            return true;
        }
        let remedy = "leave \"propertyNames\" as it was, or take it out";
        let open = self.by_the_letter || case.is_open() || case.maps.iter().any(|map| !patterns(map).is_empty());
        let written: Vec<&'s Json> = case.maps.iter().filter_map(|map| map.get("propertyNames")).collect();
        if open {
            let fits = !written.is_empty() && self.would(|check| check.accepts(names, &written, path, depth + 1));
            return fits || self.unsure(path, "whether all names fit \"propertyNames\" cannot be told", remedy);
        }
        let mut all = true;
        let listed =
            case.maps.iter().flat_map(|map| map.get("properties").and_then(Json::as_object).into_iter().flat_map(Map::keys));
        let known = listed.map(String::as_str).chain(case.maps.iter().flat_map(|map| required(map)));
        for name in known.filter(|name| case.may_have(name)).collect::<Vec<_>>() {
            all &= match Holding::new(self.reader).holds(names, &Json::from(name)) {
                Some(true) => true,
                Some(false) => {
                    let finding = format!("data may have {name}, whose name is not let through");
                    self.misfit(&format!("{path}.{name}"), "propertyNames: the name fits", finding, remedy)
                }
                None => self.unsure(path, format!("whether the name {name} fits cannot be told"), remedy),
            };
        }
        all
    }

    /// What is asked for where a property is there.
    fn depending(
        &mut self,
        reader: &'s Map<String, Json>,
        case: &Case<'s>,
        needed: &[&str],
        path: &str,
        depth: usize,
    ) -> bool {
        let mut all = true;
        for key in ["dependentRequired", "dependentSchemas", "dependencies"] {
            for (name, asked) in reader.get(key).and_then(Json::as_object).into_iter().flatten() {
                let same = case.maps.iter().any(|map| {
                    map.get(key).and_then(|written| written.get(name)).is_some_and(|written| self.same(asked, written))
                });
                if same || !(self.by_the_letter || case.may_have(name)) {
                    continue;
                }
                let remedy = format!("leave \"{key}\" as it was, or take it out");
                match asked {
                    Json::Array(names) => {
                        let lacking = names.iter().filter_map(Json::as_str).find(|other| !needed.contains(other));
                        if let Some(lacking) = lacking {
                            let finding = format!("data may have {name} and be without {lacking}");
                            let rule = "dependentRequired: what is asked for is there";
                            all = self.misfit(&format!("{path}.{lacking}"), rule, finding, remedy);
                        }
                    }
                    schema => {
                        if !self.would(|check| check.case(schema, case, path, depth + 1)) {
                            let finding = format!("whether what is asked for beside {name} is there cannot be told");
                            all = self.unsure(path, finding, remedy);
                        }
                    }
                }
            }
        }
        all
    }
}

/// A number of how many; one written as 2.0 is 2.
fn whole_number(value: &Json) -> Option<u64> {
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it is whole, positive and small")]
    let real = |f: f64| (f.fract() == 0.0 && (0.0..EXACT).contains(&f)).then_some(f as u64);
    value.as_u64().or_else(|| value.as_f64().and_then(real))
}

/// Bounds of how many there are of something.
struct Count {
    least: &'static str,
    least_rule: &'static str,
    most: &'static str,
    most_rule: &'static str,
    of: &'static str,
}

const CHARACTERS: Count = Count {
    least: "minLength",
    least_rule: "minLength: the text is not shorter",
    most: "maxLength",
    most_rule: "maxLength: the text is not longer",
    of: "characters",
};
const ITEMS: Count = Count {
    least: "minItems",
    least_rule: "minItems: the list is not shorter",
    most: "maxItems",
    most_rule: "maxItems: the list is not longer",
    of: "items",
};
const PROPERTIES: Count = Count {
    least: "minProperties",
    least_rule: "minProperties: there are not fewer",
    most: "maxProperties",
    most_rule: "maxProperties: there are not more",
    of: "properties",
};
