//! What every kind of system keeps.

use std::collections::BTreeSet;

use gonvel_core::kinds::{About, OnlyIf, Setting, SettingType};
use gonvel_core::ports::Address;
use gonvel_core::ports::systems::{ConnectorError, Kind};
use gonvel_core::preflight::Outcome;
use serde_json::{Map, Value, json};

/// Names that stand beside settings.
const TAKEN: [&str; 10] =
    ["id", "name", "kind", "place", "usual_schema", "kept_secrets", "revision", "created_at", "used_by", "connection"];

/// A value that a setting takes, which is not its usual one.
fn sample(setting: &Setting) -> Value {
    match &setting.takes {
        _ if setting.secret => json!("winter gold"),
        SettingType::Text | SettingType::Lines => json!("text"),
        SettingType::Whole { least, most } => json!((least + most) / 2),
        SettingType::Choice { choices } => {
            let other = choices.iter().map(|choice| &choice.value).find(|value| Some(*value) != setting.usual.as_ref());
            json!(other.expect("a choice of one is none"))
        }
        SettingType::Pairs => json!({"name": "value"}),
    }
}

fn secret(value: &Value) -> Result<String, String> {
    value.as_str().map(str::to_owned).ok_or_else(|| "no text".into())
}

/// Settings with which one is of use: those that are needed, and what it hangs on.
fn of_use(about: &About, setting: &Setting) -> Map<String, Value> {
    let needed = about.settings.iter().filter(|setting| setting.needed);
    let mut given: Map<String, Value> = needed.map(|setting| (setting.name.to_string(), sample(setting))).collect();
    given.insert(setting.name.to_string(), sample(setting));
    let mut next = setting.only_if.as_ref();
    while let Some(OnlyIf { setting: other, is }) = next {
        let other = about.setting(other).expect("a setting that is there");
        let value = is.first().map_or_else(|| sample(other), |is| json!(is));
        given.insert(other.name.to_string(), value);
        next = other.only_if.as_ref();
    }
    given
}

/// What a kind says of its settings is whole and agrees with itself: each is taken where it is of use and told where it is of none, each that is needed is
/// missed, and none takes what is not of its type.
///
/// # Panics
/// If the contract is broken.
pub fn is_described(kind: &dyn Kind) {
    let about = kind.about();
    let ends = (about.source.is_some(), about.sink.is_some());
    assert_eq!(ends, (kind.source().is_some(), kind.sink().is_some()), "{}: its ends", about.kind);
    let holds = kind.sink().is_some_and(|sink| sink.holds().is_some());
    assert_eq!(about.sink.as_ref().is_some_and(|sink| sink.holds), holds, "{}: what holds positions", about.kind);
    let names: BTreeSet<&str> = about.settings.iter().map(|setting| setting.name.as_ref()).collect();
    assert_eq!(names.len(), about.settings.len(), "{}: a setting stands twice", about.kind);
    assert!(TAKEN.iter().all(|taken| !names.contains(taken)), "{}: a setting has a taken name", about.kind);
    for setting in &about.settings {
        let (kind, name) = (&about.kind, setting.name.as_ref());
        let whole = of_use(&about, setting);
        let read = about.read(&whole, secret).unwrap_or_else(|faults| panic!("{kind}: {name}: {faults:?}"));
        let kept = if setting.secret { read.secrets.contains_key(name) } else { read.plain.contains_key(name) };
        let order: Vec<&str> = read.plain.keys().map(String::as_str).collect();
        let described = about.settings.iter().map(|s| s.name.as_ref()).filter(|s| order.contains(s));
        assert!(kept && described.eq(order.iter().copied()), "{kind}: {name} is kept, in its order: {order:?}");
        let mut without = whole.clone();
        without.remove(name);
        let missed = about.read(&without, secret).is_err_and(|faults| faults.iter().any(|fault| fault.setting == name));
        assert_eq!(missed, setting.needed, "{kind}: {name}");
        let mut other = whole.clone();
        other.insert(name.to_owned(), json!([true]));
        assert!(about.read(&other, secret).is_err(), "{kind}: {name} takes a list");
        if let (Some(usual), SettingType::Choice { choices }) = (&setting.usual, &setting.takes) {
            assert!(choices.iter().any(|choice| choice.value == *usual), "{kind}: {name} is usually {usual}");
        }
        if let Some(only) = &setting.only_if {
            assert!(names.contains(only.setting.as_ref()), "{kind}: {name} hangs on {}, which is not there", only.setting);
            let mut alone = of_use(&about, setting);
            alone.remove(only.setting.as_ref());
            let idle =
                only.is.iter().all(|is| about.setting(&only.setting).and_then(Setting::usual_value) != Some(json!(is)));
            let told = about.read(&alone, secret).is_err_and(|faults| faults.iter().any(|fault| fault.setting == name));
            assert_eq!(told, idle, "{kind}: {name} is given and of no use");
        }
    }
}

/// What is wrong with an address is told at a setting that the kind has, and without a secret, whether it is looked at or tried. Each of
/// these addresses has something wrong.
///
/// # Panics
/// If the contract is broken.
pub async fn says_what_is_wrong(kind: &dyn Kind, wrong: &[Address]) {
    let about = kind.about();
    let known = |field: &str| field == "connection" || about.setting(field).is_some();
    for address in wrong {
        let hides = |text: &str| address.secrets.values().all(|secret| !text.contains(secret.expose().as_str()));
        match kind.check(address) {
            Ok(()) => {}
            Err(error @ ConnectorError::Settings { field, .. }) => {
                assert!(field.is_some_and(known) && hides(&error.to_string()), "{error:?}");
                continue;
            }
            Err(error) => panic!("a check of settings is told at one: {error:?}"),
        }
        let report = kind.test(address).await;
        let failed: Vec<_> = report.iter().filter(|check| check.outcome == Outcome::Failed).collect();
        assert!(!failed.is_empty(), "nothing is wrong with {:?}: {report:?}", address.settings);
        for check in failed {
            assert!(check.field.as_deref().is_some_and(known), "at what is told no setting: {check:?}");
            assert!(check.remedy.as_ref().is_some_and(|remedy| !remedy.is_empty()), "nothing is said to be done: {check:?}");
        }
        let told = format!("{report:?}");
        assert!(hides(&told), "a secret is told: {told}");
    }
}
