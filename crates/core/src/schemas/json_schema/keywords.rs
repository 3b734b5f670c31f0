//! Comparing the keywords of two schemas, those that combine schemas left out.

use serde_json::{Map, Value as Json};

use super::compare::{Check, Written, listed, type_of, types};

impl<'s> Check<'s> {
    pub(super) fn keywords(
        &mut self,
        reader: &'s Map<String, Json>,
        writer: &'s Map<String, Json>,
        path: &str,
        depth: usize,
    ) -> bool {
        let mut all = self.kinds(reader, writer, path);
        let written = listed(writer);
        let may_be = |ty: &str| match &written {
            Some(values) => values.iter().any(|v| type_of(v) == ty || (ty == "number" && type_of(v) == "integer")),
            None => types(writer).contains(&ty) || (ty == "number" && types(writer).contains(&"integer")),
        };
        let takes = |ty: &str| types(reader).contains(&ty) || (ty == "number" && types(reader).contains(&"integer"));
        let both = |ty: &str| may_be(ty) && takes(ty);
        if both("number") {
            all &= self.numbers(reader, writer, written.as_deref(), path);
        }
        if both("string") {
            all &= self.texts(reader, writer, written.as_deref(), path);
        }
        if both("array") && written.is_none() {
            all &= self.lists(reader, writer, path, depth);
        }
        if both("object") && written.is_none() {
            all &= self.objects(reader, writer, path, depth);
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
            if reader.contains_key(key) && reader.get(key) != writer.get(key) {
                all = self.misfit(
                    path,
                    "keywords that cannot be compared are the same on both sides",
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

    fn numbers(
        &mut self,
        reader: &Map<String, Json>,
        writer: &Map<String, Json>,
        values: Option<&[&Json]>,
        path: &str,
    ) -> bool {
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
        let numbers: Option<Vec<f64>> = values.map(|v| v.iter().filter_map(|v| v.as_f64()).collect());
        let mut all = true;
        if let Some((bound, itself)) = low(reader) {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| *n > bound || (itself && *n >= bound)),
                None => low(writer).is_some_and(|(b, i)| b > bound || (b >= bound && (itself || !i))),
            };
            if !fits {
                let finding = match low(writer) {
                    Some((b, _)) => format!("data may be as low as {b}, at least {bound} is expected"),
                    None => format!("data may be below {bound}"),
                };
                all = self.misfit(path, "minimum: the value is not below it", finding, "leave the lower bound as it was");
            }
        }
        if let Some((bound, itself)) = high(reader) {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| *n < bound || (itself && *n <= bound)),
                None => high(writer).is_some_and(|(b, i)| b < bound || (b <= bound && (itself || !i))),
            };
            if !fits {
                let finding = match high(writer) {
                    Some((b, _)) => format!("data may be as high as {b}, at most {bound} is expected"),
                    None => format!("data may be above {bound}"),
                };
                all = self.misfit(path, "maximum: the value is not above it", finding, "leave the upper bound as it was");
            }
        }
        if let Some(step) = number(reader, "multipleOf") {
            let fits = match &numbers {
                Some(numbers) => numbers.iter().all(|n| (n / step).fract() == 0.0),
                None => number(writer, "multipleOf").is_some_and(|w| (w / step).fract() == 0.0),
            };
            if !fits {
                all = self.misfit(
                    path,
                    "multipleOf: the value is a multiple of it",
                    format!("data may be no multiple of {step}"),
                    "leave \"multipleOf\" as it was",
                );
            }
        }
        all
    }

    fn texts(
        &mut self,
        reader: &Map<String, Json>,
        writer: &Map<String, Json>,
        values: Option<&[&Json]>,
        path: &str,
    ) -> bool {
        let length = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let lengths: Option<Vec<u64>> =
            values.map(|v| v.iter().filter_map(|v| v.as_str()).map(|t| t.chars().count() as u64).collect());
        let mut all = true;
        if let Some(least) = length(reader, "minLength").filter(|n| *n > 0) {
            let fits = lengths
                .as_ref()
                .map_or_else(|| length(writer, "minLength").is_some_and(|n| n >= least), |l| l.iter().all(|n| *n >= least));
            if !fits {
                all = self.misfit(
                    path,
                    "minLength: the text is not shorter",
                    format!("data may be shorter than {least} characters"),
                    "leave the least length as it was",
                );
            }
        }
        if let Some(most) = length(reader, "maxLength") {
            let fits = lengths
                .as_ref()
                .map_or_else(|| length(writer, "maxLength").is_some_and(|n| n <= most), |l| l.iter().all(|n| *n <= most));
            if !fits {
                all = self.misfit(
                    path,
                    "maxLength: the text is not longer",
                    format!("data may be longer than {most} characters"),
                    "leave the greatest length as it was",
                );
            }
        }
        if let Some(pattern) = reader.get("pattern").filter(|p| values.is_none() && writer.get("pattern") != Some(p)) {
            all = self.misfit(
                path,
                "pattern: the text matches it",
                format!("data may not match {pattern}"),
                "leave the pattern as it was, or take it out",
            );
        }
        all
    }

    fn lists(&mut self, reader: &'s Map<String, Json>, writer: &'s Map<String, Json>, path: &str, depth: usize) -> bool {
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let mut all = true;
        if let Some(least) = count(reader, "minItems").filter(|n| *n > 0 && count(writer, "minItems").is_none_or(|w| w < *n))
        {
            all = self.misfit(
                path,
                "minItems: the list is not shorter",
                format!("data may have fewer than {least} items"),
                "leave the least number as it was",
            );
        }
        if let Some(most) = count(reader, "maxItems").filter(|n| count(writer, "maxItems").is_none_or(|w| w > *n)) {
            all = self.misfit(
                path,
                "maxItems: the list is not longer",
                format!("data may have more than {most} items"),
                "leave the greatest number as it was",
            );
        }
        if reader.get("uniqueItems") == Some(&Json::Bool(true)) && writer.get("uniqueItems") != Some(&Json::Bool(true)) {
            all = self.misfit(
                path,
                "uniqueItems: no two items are the same",
                "data may have an item twice",
                "leave out \"uniqueItems\"",
            );
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
            && count(writer, "maxItems").is_none_or(|most| most > written_front.len() as u64)
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
        let count = |schema: &Map<String, Json>, key: &str| schema.get(key).and_then(Json::as_u64);
        let mut all = true;
        let required = required(writer);
        for name in self::required(reader) {
            if !required.contains(&name) {
                let at = format!("{path}.{name}");
                all = self.misfit(
                    &at,
                    "required: the property is there",
                    format!("data may be without {name}, which is required"),
                    format!("leave {name} out of \"required\""),
                );
            }
        }
        if let Some(least) = count(reader, "minProperties").filter(|n| {
            usize::try_from(*n).unwrap_or(usize::MAX) > required.len()
                && count(writer, "minProperties").is_none_or(|w| w < *n)
        }) {
            all = self.misfit(
                path,
                "minProperties: there are not fewer",
                format!("data may have fewer than {least} properties"),
                "leave the least number as it was",
            );
        }
        if let Some(most) = count(reader, "maxProperties").filter(|n| count(writer, "maxProperties").is_none_or(|w| w > *n))
        {
            all = self.misfit(
                path,
                "maxProperties: there are not more",
                format!("data may have more than {most} properties"),
                "leave the greatest number as it was",
            );
        }
        let none = Map::new();
        let props = |schema: &'s Map<String, Json>| schema.get("properties").and_then(Json::as_object);
        let mut names: Vec<&String> = props(writer).into_iter().flat_map(Map::keys).collect();
        names.extend(
            props(reader).into_iter().flat_map(Map::keys).filter(|n| !props(writer).unwrap_or(&none).contains_key(*n)),
        );
        for name in names {
            // nothing is written under a name that is neither listed nor opened on purpose
            let Some(written) = property(writer, name) else { continue };
            let at = format!("{path}.{name}");
            match property(reader, name) {
                None => {}
                Some(Json::Bool(false)) if *written != Json::Bool(false) => {
                    all = self.misfit(
                        &at,
                        "additionalProperties: only listed properties are let through",
                        format!("data may have {name}, which is not let through"),
                        format!("keep {name} among the properties"),
                    );
                }
                Some(read) => all &= self.accepts(read, Written::Schema(written), &at, depth + 1),
            }
        }
        if let (Some(read), Some(written)) = (reader.get("additionalProperties"), writer.get("additionalProperties")) {
            all &= self.accepts(read, Written::Schema(written), &format!("{path}.*"), depth + 1);
        }
        if let Some(Json::Object(patterns)) = reader.get("patternProperties") {
            for (pattern, read) in patterns {
                let written = writer
                    .get("patternProperties")
                    .and_then(|p| p.get(pattern))
                    .or_else(|| writer.get("additionalProperties"));
                if let Some(written) = written {
                    all &= self.accepts(read, Written::Schema(written), &format!("{path}./{pattern}/"), depth + 1);
                }
            }
        }
        all
    }
}

pub(super) fn required(schema: &Map<String, Json>) -> Vec<&str> {
    schema.get("required").and_then(Json::as_array).into_iter().flatten().filter_map(Json::as_str).collect()
}

/// What a schema says of a property: its own schema, else that of names like it, else that of further ones.
fn property<'s>(schema: &'s Map<String, Json>, name: &str) -> Option<&'s Json> {
    if let Some(own) = schema.get("properties").and_then(|p| p.get(name)) {
        return Some(own);
    }
    let matching = schema.get("patternProperties").and_then(Json::as_object).into_iter().flatten();
    let mut matching = matching.filter(|(pattern, _)| regex::Regex::new(pattern).is_ok_and(|p| p.is_match(name)));
    matching.next().map(|(_, schema)| schema).or_else(|| schema.get("additionalProperties"))
}

/// The schemas of the items at the front, and that of the rest.
fn items(schema: &Map<String, Json>) -> (Vec<&Json>, Option<&Json>) {
    match (schema.get("prefixItems"), schema.get("items")) {
        (Some(Json::Array(front)), rest) => (front.iter().collect(), rest),
        (_, Some(Json::Array(front))) => (front.iter().collect(), schema.get("additionalItems")),
        (_, rest) => (Vec::new(), rest),
    }
}
