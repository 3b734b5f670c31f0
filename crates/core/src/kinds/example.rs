//! A kind with settings of every sort and no abilities, for tests.

use super::{About, Setting, SettingChoice, SettingType};

/// A cold room that is reached over a network.
#[must_use]
pub fn cold_room() -> About {
    let mode = |value: &'static str| SettingChoice { value: value.into(), says: value.into() };
    let modes = SettingType::Choice { choices: vec![mode("prefer"), mode("verify")] };
    About {
        kind: "coldroom".into(),
        name: "Cold room".into(),
        says: "Readings".into(),
        source: None,
        sink: None,
        usual_schema: None,
        settings: vec![
            Setting::needed("host", "Host", SettingType::Text),
            Setting::needed("port", "Port", SettingType::Whole { least: 1, most: 65_535 }).usually("5432"),
            Setting::new("password", "Password", SettingType::Text).as_secret(),
            Setting::new("tls", "Encryption", modes).usually("prefer"),
            Setting::new("ca", "Authority", SettingType::Lines).only_if("tls", &["verify"]),
            Setting::new("log_user", "Login for the log", SettingType::Text),
            Setting::new("log_password", "Its password", SettingType::Text).as_secret().only_if_given("log_user"),
            Setting::new("settings", "Settings", SettingType::Pairs),
        ],
    }
}
