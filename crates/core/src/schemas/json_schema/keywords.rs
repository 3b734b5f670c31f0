//! Comparing the keywords of two schemas, those that combine schemas left out.

use serde_json::{Map, Value as Json};

use super::compare::{Check, Written, is_combining, listed, refers, type_of, types};

impl<'s> Check<'s> {
    pub(super) fn keywords(
        &mut self,
        reader: &'s Map<String, Json>,
        writer: &'s Map<String, Json>,
        path: &str,
        depth: usize,
    ) -> bool {
        let mut all = self.kinds(reader, writer, path);
        match listed(writer) {
            Some(values) if all => all = self.values(reader, &values, path),
            Some(_) => {}
            None => {
                let with_whole = |schema| {
                    let kinds = types(schema);
                    let whole = kinds.contains(&"integer");
                    move |ty: &str| kinds.contains(&ty) || (ty == "number" && whole)
                };
                let (read, written) = (with_whole(reader), with_whole(writer));
                let both = |ty: &str| read(ty) && written(ty);
                if both("number") {
                    all &= self.numbers(reader, writer, path);
                }
                if both("string") {
                    all &= self.texts(reader, writer, path);
                }
                if both("array") {
                    all &= self.lists(reader, writer, path, depth);
                }
                if both("object") {
                    all &= self.objects(reader, writer, path, depth);
                }
            }
        }
        for key in [
            "not",
            "if",
            "then",
            "else",
            "dependentSchemas",
            "dependentRequired",
            "dependencies",
            "contains",
            "minContains",
            "maxContains",
            "propertyNames",
            "unevaluatedProperties",
            "unevaluatedItems",
            "$dynamicRef",
        ] {
            let Some(read) = reader.get(key) else { continue };
            let means_the_same = key != "$dynamicRef" && writer.get(key).is_some_and(|written| self.same(read, written));
            if !means_the_same {
                all = self.misfit(
                    path,
                    CANNOT,
                    format!("\"{key}\" is not the same on both sides"),
                    format!("keep \"{key}\" as it is"),
                );
            }
        }
        all
    }

    fn kinds(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str) -> bool {
        let (read, written) = (types(reader), types(writer));
        let values = listed(writer);
        let lacking: Vec<&str> = match &values {
            Some(values) => values
                .iter()
                .map(|v| type_of(v))
                .filter(|t| !(read.contains(t) || (*t == "integer" && read.contains(&"number"))))
                .collect(),
            None => written
                .iter()
                .copied()
                .filter(|t| !(read.contains(t) || (*t == "integer" && read.contains(&"number"))))
                .collect(),
        };
        if let Some(first) = lacking.first() {
            let finding = format!("data may be {}, {} is expected", lacking.join(" or "), read.join(" or "));
            return self.misfit(
                path,
                "type: the value's type is among the listed",
                finding,
                format!("keep {first} among the types"),
            );
        }
        let Some(known) = listed(reader) else { return true };
        match values {
            Some(values) => {
                let unknown: Vec<String> = values.iter().filter(|v| !known.contains(v)).map(ToString::to_string).collect();
                if unknown.is_empty() {
                    return true;
                }
                let finding = format!("data may be {}, which is not listed", unknown.join(", "));
                self.misfit(
                    path,
                    "enum, const: the value is among the listed",
                    finding,
                    format!("keep {} in the list", unknown.join(", ")),
                )
            }
            None => self.misfit(
                path,
                "enum, const: the value is among the listed",
                "data may be a value that is not listed",
                "leave out the list, or list the values earlier",
            ),
        }
    }

    /// Listed values are not compared but checked, one by one, by the reader's own keywords.
    fn values(&mut self, reader: &'s Map<String, Json>, values: &[&Json], path: &str) -> bool {
        let own: Map<String, Json> =
            reader.iter().filter(|(key, _)| !is_combining(key)).map(|(k, v)| (k.clone(), v.clone())).collect();
        let own = Json::Object(own);
        // making ready to check costs as much as many comparisons
        self.left = self.left.saturating_sub(100);
        let check = if refers(&own) || self.left == 0 { None } else { self.reader.checker(&own) };
        let Some(check) = check else {
            let remedy = "write what is referred to in its place";
            return self.misfit(path, CANNOT, "listed values cannot be checked here by what the schema refers to", remedy);
        };
        let unfit: Vec<String> = values.iter().filter(|v| !check.is_valid(v)).map(ToString::to_string).collect();
        if unfit.is_empty() {
            return true;
        }
        let finding = format!("data may be {}, which does not fit", unfit.join(", "));
        self.misfit(path, "enum, const: every listed value fits", finding, format!("let {} through", unfit.join(", ")))
    }

    fn numbers(&mut self, reader: &Map<String, Json>, writer: &Map<String, Json>, path: &str) -> bool {
        let number = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_f64);
        // the least a bound lets through, and whether it itself is let through
        let low = |s: &Map<String, Json>| match (number(s, "minimum"), number(s, "exclusiveMinimum")) {
            (Some(a), Some(b)) => Some(if b >= a { (b, false) } else { (a, true) }),
            (Some(a), None) => Some((a, true)),
            (None, b) => b.map(|b| (b, false)),
        };
        let high = |s: &Map<String, Json>| match (number(s, "maximum"), number(s, "exclusiveMaximum")) {
            (Some(a), Some(b)) => Some(if b <= a { (b, false) } else { (a, true) }),
            (Some(a), None) => Some((a, true)),
            (None, b) => b.map(|b| (b, false)),
        };
        let mut all = true;
        if let Some((bound, itself)) = low(reader)
            && !low(writer).is_some_and(|(b, i)| b > bound || (b >= bound && (itself || !i)))
        {
            let finding = match low(writer) {
                Some((b, _)) => format!("data may be as low as {b}, at least {bound} is expected"),
                None => format!("data may be below {bound}"),
            };
            all = self.misfit(path, "minimum: the value is not below it", finding, "leave the lower bound as it was");
        }
        if let Some((bound, itself)) = high(reader)
            && !high(writer).is_some_and(|(b, i)| b < bound || (b <= bound && (itself || !i)))
        {
            let finding = match high(writer) {
                Some((b, _)) => format!("data may be as high as {b}, at most {bound} is expected"),
                None => format!("data may be above {bound}"),
            };
            all = self.misfit(path, "maximum: the value is not above it", finding, "leave the upper bound as it was");
        }
        if let Some(step) = number(reader, "multipleOf")
            && !number(writer, "multipleOf").is_some_and(|w| (w / step).fract() == 0.0)
        {
            let finding = format!("data may be no multiple of {step}");
            let remedy = "leave \"multipleOf\" as it was";
            all = self.misfit(path, "multipleOf: the value is a multiple of it", finding, remedy);
        }
        all
    }

    /// Bounds of how many there are; `surely` are there in any case.
    fn counts(
        &mut self,
        reader: &Map<String, Json>,
        writer: &Map<String, Json>,
        path: &str,
        of: &Count,
        surely: u64,
    ) -> bool {
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let mut all = true;
        if let Some(least) = count(reader, of.least).filter(|n| count(writer, of.least).unwrap_or(0).max(surely) < *n) {
            let finding = format!("data may have fewer than {least} {}", of.of);
            all = self.misfit(path, of.least_rule, finding, "leave the least number as it was");
        }
        if let Some(most) = count(reader, of.most).filter(|n| count(writer, of.most).is_none_or(|w| w > *n)) {
            let finding = format!("data may have more than {most} {}", of.of);
            all = self.misfit(path, of.most_rule, finding, "leave the greatest number as it was");
        }
        all
    }

    fn texts(&mut self, reader: &Map<String, Json>, writer: &Map<String, Json>, path: &str) -> bool {
        let mut all = self.counts(reader, writer, path, &CHARACTERS, 0);
        if let Some(pattern) = reader.get("pattern").filter(|p| writer.get("pattern") != Some(p)) {
            let finding = format!("data may not match {pattern}");
            all = self.misfit(path, "pattern: the text matches it", finding, "leave the pattern as it was, or take it out");
        }
        all
    }

    fn lists(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let mut all = self.counts(reader, writer, path, &ITEMS, 0);
        if reader.get("uniqueItems") == Some(&Json::Bool(true)) && writer.get("uniqueItems") != Some(&Json::Bool(true)) {
            let rule = "uniqueItems: no two items are the same";
            all = self.misfit(path, rule, "data may have an item twice", "leave out \"uniqueItems\"");
        }
        // the items at the front have schemas of their own, the rest have one
        let (front, rest) = items(reader);
        let (written_front, written_rest) = items(writer);
        for place in 0..front.len().max(written_front.len()) {
            let read = front.get(place).or(rest.as_ref()).copied();
            let written = written_front.get(place).or(written_rest.as_ref()).copied();
            if let Some(read) = read {
                all &= self.accepts(
                    read,
                    Written::Schema(written.unwrap_or(&Json::Bool(true))),
                    &format!("{path}[{place}]"),
                    depth + 1,
                );
            }
        }
        if let Some(read) = rest
            && writer.get("maxItems").and_then(Json::as_u64).is_none_or(|most| most > written_front.len() as u64)
        {
            all &= self.accepts(
                read,
                Written::Schema(written_rest.unwrap_or(&Json::Bool(true))),
                &format!("{path}[]"),
                depth + 1,
            );
        }
        all
    }

    fn objects(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let needed = required(writer);
        let mut all = self.counts(reader, writer, path, &PROPERTIES, needed.len() as u64);
        for name in required(reader).into_iter().filter(|name| !needed.contains(name)) {
            let finding = format!("data may be without {name}, which is required");
            let remedy = format!("leave {name} out of \"required\"");
            all = self.misfit(&format!("{path}.{name}"), "required: the property is there", finding, remedy);
        }
        let none = Map::new();
        let props = |schema: &'s Map<String, Json>| schema.get("properties").and_then(Json::as_object);
        let mut names: Vec<&str> = props(writer).into_iter().flat_map(Map::keys).map(String::as_str).collect();
        names.extend(
            props(reader)
                .into_iter()
                .flat_map(Map::keys)
                .map(String::as_str)
                .filter(|n| !props(writer).unwrap_or(&none).contains_key(*n) && !needed.contains(n)),
        );
        names.extend(needed.iter().copied().filter(|n| !props(writer).unwrap_or(&none).contains_key(*n)));
        for name in names {
            // nothing is written under a name that is neither listed, nor required, nor opened on purpose
            let open = needed.contains(&name).then_some(&Json::Bool(true));
            let Some(written) = says_of(writer, name).first().copied().or(open) else { continue };
            let at = format!("{path}.{name}");
            for read in says_of(reader, name) {
                if *read == Json::Bool(false) && *written != Json::Bool(false) {
                    let finding = format!("data may have {name}, which is not let through");
                    let remedy = format!("keep {name} among the properties");
                    all = self.misfit(&at, "additionalProperties: only listed properties are let through", finding, remedy);
                } else {
                    all &= self.accepts(read, Written::Schema(written), &at, depth + 1);
                }
            }
        }
        all & self.open_names(reader, writer, path, depth)
    }

    /// Names that are not listed but opened on purpose: by a pattern, or all.
    fn open_names(
        &mut self,
        reader: &'s Map<String, Json>,
        writer: &'s Map<String, Json>,
        path: &str,
        depth: usize,
    ) -> bool {
        let mut all = true;
        if let (Some(read), Some(written)) = (reader.get("additionalProperties"), writer.get("additionalProperties")) {
            all &= self.accepts(read, Written::Schema(written), &format!("{path}.*"), depth + 1);
        }
        let (read_by, written_by) = (patterns(reader), patterns(writer));
        for (pattern, read) in &read_by {
            let at = format!("{path}./{pattern}/");
            // names of one pattern may be those of another: which are, is not looked into
            let written = written_by.iter().map(|(_, written)| *written).chain(writer.get("additionalProperties"));
            for written in written.collect::<Vec<_>>() {
                all &= self.accepts(read, Written::Schema(written), &at, depth + 1);
            }
        }
        if let Some(read) = reader.get("additionalProperties") {
            for (pattern, written) in written_by.iter().filter(|(p, _)| !read_by.iter().any(|(other, _)| p == other)) {
                all &= self.accepts(read, Written::Schema(written), &format!("{path}./{pattern}/"), depth + 1);
            }
        }
        // a name that the reader lists may come by a pattern of the writer's: told of above
        all
    }
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
const CANNOT: &str = "keywords that cannot be compared are the same on both sides";

pub(super) fn required(schema: &Map<String, Json>) -> Vec<&str> {
    schema.get("required").and_then(Json::as_array).into_iter().flatten().filter_map(Json::as_str).collect()
}

fn patterns(schema: &Map<String, Json>) -> Vec<(&String, &Json)> {
    schema.get("patternProperties").and_then(Json::as_object).into_iter().flatten().collect()
}

/// What a schema says of a property: its own schema and those of names like it, or else that of further ones.
fn says_of<'s>(schema: &'s Map<String, Json>, name: &str) -> Vec<&'s Json> {
    let like = |pattern: &str| regex::Regex::new(pattern).is_ok_and(|p| p.is_match(name));
    let matching = patterns(schema).into_iter().filter(|(pattern, _)| like(pattern)).map(|(_, schema)| schema);
    let found: Vec<&Json> = schema.get("properties").and_then(|p| p.get(name)).into_iter().chain(matching).collect();
    if found.is_empty() { schema.get("additionalProperties").into_iter().collect() } else { found }
}

/// The schemas of the items at the front, and that of the rest.
fn items(schema: &Map<String, Json>) -> (Vec<&Json>, Option<&Json>) {
    match (schema.get("prefixItems"), schema.get("items")) {
        (Some(Json::Array(front)), rest) => (front.iter().collect(), rest),
        (_, Some(Json::Array(front))) => (front.iter().collect(), schema.get("additionalItems")),
        (_, rest) => (Vec::new(), rest),
    }
}
