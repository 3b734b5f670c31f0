//! Manifests as they are read: a file holds one or several, each of one thing, with `---` between them.

use serde::Deserialize;
use serde_json::{Map, Value};

use super::faults::Fault;
use super::secret_from::SecretFrom;
use super::things::{ConnectionText, Thing, ThingKind};
use gonvel_core::kinds::About;
use gonvel_core::nearest::perhaps;
use gonvel_core::yaml::{ManifestError, from_yaml};

/// A file with manifests.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ManifestFile {
    /// Its name, as it is told in faults.
    pub name: String,
    /// What stands in it.
    pub text: String,
}

/// A thing, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// It.
    pub thing: Thing,
    /// The file's name.
    pub file: String,
    /// The line that its manifest begins at, from 1.
    pub line: usize,
    /// Its manifest.
    pub text: String,
}

impl Found {
    /// A fault at the first place in its manifest where something stands, or where it begins.
    #[must_use]
    pub fn fault(&self, at: &str, finding: impl Into<String>) -> Fault {
        let lines = self.text.lines().enumerate();
        let mut places = lines.filter(|_| !at.is_empty()).filter_map(|(line, text)| Some((line, text, text.find(at)?)));
        let (line, column) = places.next().map_or((0, 0), |(line, text, byte)| (line, text[..byte].chars().count()));
        Fault { file: self.file.clone(), line: self.line + line, column: column + 1, finding: finding.into() }
    }

    /// A fault of its manifest, told at its place in the file.
    #[must_use]
    pub fn told(&self, error: &ManifestError) -> Fault {
        let (line, column, finding) = (self.line + error.line - 1, error.column, error.finding.clone());
        Fault { file: self.file.clone(), line, column, finding }
    }
}

/// The parts of a file between lines that begin with `---`, each with the line it begins at, from 1. What stands behind that mark is of
/// the part after it.
fn parts(text: &str) -> Vec<(usize, &str)> {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let mut out = Vec::new();
    let (mut from, mut first, mut place) = (0, 1, 0);
    for (number, line) in text.split_inclusive('\n').enumerate() {
        let mark = line.strip_prefix("---").filter(|rest| rest.is_empty() || rest.starts_with(char::is_whitespace));
        if let Some(rest) = mark {
            out.push((first, &text[from..place]));
            let alone = rest.trim().is_empty() || rest.trim_start().starts_with('#');
            (from, first) = if alone { (place + line.len(), number + 2) } else { (place + 3, number + 1) };
        }
        place += line.len();
    }
    out.push((first, &text[from..]));
    let says =
        |text: &str| text.lines().any(|l| !l.trim().is_empty() && !l.trim_start().starts_with('#') && !l.starts_with('%'));
    out.retain(|(_, text)| says(text));
    out
}

/// Reads files. What can be read is, and each fault is told: two things with one name are one.
#[must_use]
pub fn read(files: &[ManifestFile], kinds: &[About]) -> (Vec<Found>, Vec<Fault>) {
    let (mut found, mut faults): (Vec<Found>, Vec<Fault>) = (Vec::new(), Vec::new());
    for file in files {
        for (line, text) in parts(&file.text) {
            match thing(text, kinds) {
                Ok(thing) => found.push(Found { thing, file: file.name.clone(), line, text: text.to_owned() }),
                Err(ManifestError { line: at, column, finding }) => {
                    faults.push(Fault { file: file.name.clone(), line: line + at - 1, column, finding });
                }
            }
        }
    }
    let mut seen = std::collections::HashMap::new();
    found.retain(|one| {
        let (kind, name) = one.thing.key();
        let Some((file, line)) = seen.insert((kind, name.to_owned()), (one.file.clone(), one.line)) else { return true };
        let finding = format!("the {} {name} stands in {file} at line {line} already: take one of them out", kind.word());
        faults.push(one.fault(name, finding));
        false
    });
    (found, faults)
}

fn thing(text: &str, kinds: &[About]) -> Result<Thing, ManifestError> {
    let first: serde_yaml_ng::Mapping = from_yaml(text)?;
    let words = ThingKind::ALL.map(ThingKind::word);
    let begins = first.keys().next().and_then(serde_yaml_ng::Value::as_str).unwrap_or_default();
    let kind = ThingKind::ALL.into_iter().find(|kind| kind.word() == begins);
    Ok(match kind {
        Some(ThingKind::Connection) => Thing::Connection(connection(text, kinds)?),
        Some(ThingKind::Function) => Thing::Function(from_yaml(text)?),
        Some(ThingKind::Schema) => Thing::Schema(from_yaml(text)?),
        Some(ThingKind::Topic) => Thing::Topic(from_yaml(text)?),
        Some(ThingKind::Connector) => Thing::Connector(Box::new(from_yaml(text)?)),
        Some(ThingKind::Reader) => Thing::Reader(from_yaml(text)?),
        None => {
            let perhaps = perhaps(begins, words);
            let finding = format!(
                "a manifest begins with what it is of, one of {}; this one begins with {begins:?}{perhaps}",
                words.join(", ")
            );
            let at = text.lines().position(|l| !l.trim().is_empty() && !l.trim_start().starts_with('#')).unwrap_or(0);
            return Err(ManifestError { line: at + 1, column: 1, finding });
        }
    })
}

/// A connection before its kind is asked.
#[derive(Deserialize)]
struct Unread {
    connection: String,
    kind: String,
    #[serde(flatten)]
    settings: Map<String, Value>,
}

fn connection(text: &str, kinds: &[About]) -> Result<ConnectionText, ManifestError> {
    let Unread { connection, kind, settings } = from_yaml(text)?;
    let Some(about) = kinds.iter().find(|about| about.kind == kind) else {
        let known: Vec<&str> = kinds.iter().map(|about| about.kind.as_ref()).collect();
        let perhaps = perhaps(&kind, known.iter().copied());
        let finding = format!("there is no kind {kind:?}{perhaps}: the kinds are {}", known.join(", "));
        return Err(at_setting(text, "kind", true, finding));
    };
    let secret = |value: &Value| serde_json::from_value::<SecretFrom>(value.clone()).map_err(|e| e.to_string());
    let read = about.read(&settings, secret).map_err(|faults| {
        // the first one that stands in the text, before what is missing in it
        let mut told = faults.into_iter().map(|f| at_setting(text, &f.setting, f.value, f.finding)).collect::<Vec<_>>();
        told.sort_by_key(|told| (told.line == 1, told.line));
        told.swap_remove(0)
    })?;
    Ok(ConnectionText::of(&connection, about, read))
}

/// A fault at a setting's name, or at its value; at the manifest's beginning if it does not stand there.
fn at_setting(text: &str, name: &str, value: bool, finding: String) -> ManifestError {
    for (number, line) in text.lines().enumerate() {
        let indent = line.len() - line.trim_start().len();
        let Some(rest) = line[indent..].strip_prefix(name).and_then(|rest| rest.trim_start().strip_prefix(':')) else {
            continue;
        };
        let after = line.len() - rest.trim_start().len();
        let byte = if value && !rest.trim().is_empty() { after } else { indent };
        return ManifestError { line: number + 1, column: line[..byte].chars().count() + 1, finding };
    }
    ManifestError::about(text, &format!("{name}:"), finding)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(text: &str) -> (Vec<Found>, Vec<Fault>) {
        read(&[ManifestFile { name: "all.yaml".into(), text: text.into() }], &super::super::tests::kinds())
    }

    #[test]
    fn several_things_stand_in_one_file_and_faults_at_their_lines() {
        let good = "# the packhouse\n---\ntopic: bins\npartitions: 3\n--- \n\nreader: night-watch\ntopics: [bins]\n---\n# the end\n";
        let (found, faults) = of(good);
        assert_eq!(faults, []);
        let places: Vec<(ThingKind, &str, usize)> = found.iter().map(|f| (f.thing.kind(), f.thing.name(), f.line)).collect();
        assert_eq!(places, [(ThingKind::Topic, "bins", 3), (ThingKind::Reader, "night-watch", 6)]);
        assert_eq!(found[1].fault("bins", "").line, 8);
        // behind the mark, with a mark of the byte order, and with the line ends of other systems
        let other =
            "\u{feff}%YAML 1.2\n--- {topic: bins, partitions: 3}\r\n--- # the other\r\ntopic: lots\r\npartitions: 3\r\n";
        let (found, faults) = of(other);
        assert_eq!(faults, []);
        assert_eq!(found.iter().map(|f| (f.thing.name(), f.line)).collect::<Vec<_>>(), [("bins", 2), ("lots", 4)]);
        for (text, line, column, part) in [
            ("topik: bins\npartitions: 3\n", 1, 1, "perhaps topic is meant"),
            ("# x\n\npartitions: 3\ntopic: bins\n", 3, 1, "begins with \"partitions\""),
            ("topic: bins\npartition: 3\n", 2, 1, "perhaps partitions is meant"),
            ("topic: bins\npartitions: three\n", 2, 13, "invalid type"),
            ("topic: bins\npartitions: 3\n---\ntopic: lots\npartitions: 3\nkeep: lates\n", 6, 7, "perhaps latest is meant"),
            (
                "topic: bins\npartitions: 3\n---\n\ntopic: bins\npartitions: 3\n",
                5,
                8,
                "stands in all.yaml at line 1 already",
            ),
            ("topic: bins\n  partitions: 3\n", 2, 13, "mapping values are not allowed"),
            ("- topic\n", 1, 1, "invalid type"),
        ] {
            let (_, faults) = of(text);
            let [fault] = &faults[..] else { panic!("{text}: {faults:?}") };
            assert!(fault.finding.contains(part), "{text}: {fault}");
            assert_eq!((fault.line, fault.column), (line, column), "{text}: {fault}");
        }
    }

    #[test]
    fn what_is_wrong_with_a_connection_is_told_at_its_place() {
        let good = "connection: host\nkind: coldroom\nhost: db\nport: 5432\n";
        assert_eq!(of(good).1, []);
        for (text, line, column, part) in [
            (good.replace("coldroom", "coldrom"), 2, 7, "there is no kind \"coldrom\", perhaps coldroom is meant"),
            (good.replace("host: db\n", ""), 1, 1, "the host is missing"),
            (good.replace("5432", "\"5432\""), 4, 7, "port takes a whole number from 1 to 65535"),
            (good.replace("port", "  port"), 4, 7, "mapping values are not allowed"),
            (format!("{good}log_usr: eve\n"), 5, 1, "perhaps log_user is meant"),
            (format!("{good}tls: verfy\n"), 5, 6, "takes prefer, verify, not \"verfy\", perhaps verify is meant"),
            (format!("{good}log_password: {{env: A}}\n"), 5, 1, "of no use without log_user"),
            (format!("{good}settings:\n  lock_timeout: 5\n"), 5, 1, "lock_timeout is 5: put it in quotes"),
            ("connection: host\nkind: coldroom\n".into(), 1, 1, "the host is missing"),
        ] {
            let (_, faults) = of(&text);
            let [fault] = &faults[..] else { panic!("{text}: {faults:?}") };
            assert!(fault.finding.contains(part), "{text}: {fault}");
            assert_eq!((fault.line, fault.column), (line, column), "{text}: {fault}");
        }
    }

    #[test]
    fn a_secret_in_the_text_is_refused_and_not_repeated() {
        let connection = "connection: packhouse\n# where it is\nkind: coldroom\nhost: db\nport: 5432\n\n";
        for secret in
            ["hunter2", "\"hunter2\"", "22222222", "2.5", "true", "{hunter2: 1}", "[hunter2]", "{env: A, file: hunter2}"]
        {
            let (found, faults) = of(&format!("{connection}password: {secret}\n"));
            let [fault] = &faults[..] else { panic!("{secret}: {faults:?} {found:?}") };
            assert_eq!(fault.line, 7, "{fault}");
            assert!(!fault.finding.contains("hunter2") && !fault.finding.contains("2222"), "{fault}");
        }
        for (from, read) in [
            ("{env: PACKHOUSE_PASSWORD}", super::super::SecretFrom::Env("PACKHOUSE_PASSWORD".into())),
            ("{file: /run/secrets/packhouse}", super::super::SecretFrom::File("/run/secrets/packhouse".into())),
            ("{ask: true}", super::super::SecretFrom::Ask),
        ] {
            let (found, faults) = of(&format!("{connection}password: {from}\n"));
            assert_eq!(faults, []);
            let Thing::Connection(text) = &found[0].thing else { panic!("{found:?}") };
            assert_eq!(text.secrets.get("password"), Some(&read));
        }
    }
}
