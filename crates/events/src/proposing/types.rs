//! What may say the type of records: headers and fields in which few texts stand.

use gonvel_core::event_rows::Part;
use serde_json::Value as Json;

/// Most texts of a header or field that says types.
const MOST_TYPES: usize = 30;
/// Longest text that may be a type, in bytes.
const LONGEST: usize = 200;
/// Most headers and fields that are looked at, and that are told.
const MOST: usize = 60;
const MOST_TOLD: usize = 8;

/// What stood in one header or field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TypesIn {
    /// A header, or a field.
    pub part: Part,
    /// The header's name, or the names of the fields down to it.
    pub path: Vec<String>,
    /// The texts, the most frequent first, and in how many records each stood.
    pub types: Vec<(String, u64)>,
}

/// Records that are looked at, one after the other.
#[derive(Debug, Default)]
pub struct Types {
    records: u64,
    places: Vec<TypesIn>,
    /// Places where no type can stand: too many texts, or none at all.
    out: Vec<(Part, Vec<String>)>,
}

impl Types {
    /// Takes in one record: its headers, and its value as people read it.
    pub fn see(&mut self, headers: &[(&str, &[u8])], value: Option<&Json>) {
        self.records += 1;
        for (name, value) in headers {
            self.text(Part::Header, &[name], std::str::from_utf8(value).ok());
        }
        let Some(Json::Object(fields)) = value else { return };
        for (name, value) in fields {
            match value {
                Json::Object(within) => within.iter().for_each(|(inner, value)| {
                    self.text(Part::Field, &[name, inner], value.as_str());
                }),
                value => self.text(Part::Field, &[name], value.as_str()),
            }
        }
    }

    fn text(&mut self, part: Part, path: &[&str], text: Option<&str>) {
        let here =
            |known: Part, names: &[String]| known == part && names.iter().map(String::as_str).eq(path.iter().copied());
        if self.out.iter().any(|(known, names)| here(*known, names)) {
            return;
        }
        let place = self.places.iter().position(|known| here(known.part, &known.path));
        let text = text.filter(|text| !text.is_empty() && text.len() <= LONGEST);
        let (Some(text), true) = (text, place.is_some() || self.places.len() < MOST) else {
            self.out.push((part, path.iter().map(|name| (*name).to_owned()).collect()));
            place.map(|place| self.places.remove(place));
            return;
        };
        let place = place.unwrap_or_else(|| {
            let path = path.iter().map(|name| (*name).to_owned()).collect();
            self.places.push(TypesIn { part, path, types: Vec::new() });
            self.places.len() - 1
        });
        let types = &mut self.places[place].types;
        match types.iter().position(|(known, _)| known == text) {
            Some(known) => types[known].1 += 1,
            None if types.len() < MOST_TYPES => types.push((text.to_owned(), 1)),
            None => {
                let TypesIn { part, path, .. } = self.places.remove(place);
                self.out.push((part, path));
            }
        }
    }

    /// The headers and fields that may say types, the likeliest first: each stood in most records, and held several texts.
    #[must_use]
    pub fn found(mut self) -> Vec<TypesIn> {
        self.places.retain(|place| {
            let present: u64 = place.types.iter().map(|(_, records)| records).sum();
            place.types.len() > 1 && present * 2 > self.records
        });
        for place in &mut self.places {
            place.types.sort_by(|(a, one), (b, other)| (other, a).cmp(&(one, b)));
        }
        self.places.sort_by_key(|place| (place.unlikely(), place.types.len()));
        self.places.truncate(MOST_TOLD);
        self.places
    }
}

impl TypesIn {
    /// How little its name says that types stand there.
    fn unlikely(&self) -> u8 {
        let name = self.path.last().map_or("", String::as_str).to_ascii_lowercase();
        match name.as_str() {
            "ce-type" => 0,
            "type" | "kind" | "event" | "event_type" | "eventtype" | "event-type" => 1,
            name if name.ends_with("type") || name.ends_with("kind") => 2,
            _ => 3,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn types_are_found_where_few_texts_stand_in_most_records() {
        let mut types = Types::default();
        for number in 0..100_u32 {
            let kind = ["opened", "closed", "opened"][number as usize % 3];
            let id = number.to_string();
            let headers: [(&str, &[u8]); 2] = [("ce-id", id.as_bytes()), ("ce-type", kind.as_bytes())];
            let (grade, side) = (["a", "b", "c", "d"][number as usize % 4], ["left", "right"][number as usize % 2]);
            let note = format!("n{number}");
            let mut value = json!({"kind": kind, "room": number % 2, "grade": grade, "door": {"side": side}, "always": "same", "note": note});
            if number < 60 {
                value["seldom"] = json!(null);
            }
            types.see(&headers, Some(&value));
        }
        types.see(&[("ce-type", b"closed".as_slice())], None);
        let found = types.found();
        let names: Vec<String> = found.iter().map(|place| place.path.join(".")).collect();
        assert_eq!(names, ["ce-type", "kind", "door.side", "grade"]);
        assert_eq!(found[0].types, [("opened".to_owned(), 67), ("closed".to_owned(), 34)]);
        assert_eq!((found[0].part, found[1].part), (Part::Header, Part::Field));
    }
}
