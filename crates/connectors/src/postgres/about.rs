//! What PostgreSQL says of itself as a kind of system.

use gonvel_core::connector::{Deletes, TargetColumns, TargetRows};
use gonvel_core::kinds::{
    About, BeginsAt, Follows, LateWrites, Setting, SettingChoice, SettingType, SinkAbilities, SourceAbilities,
};

/// Its settings and what it can do.
#[must_use]
pub fn about() -> About {
    let mode = |value: &'static str, says: &'static str| SettingChoice { value: value.into(), says: says.into() };
    let modes = vec![
        mode("off", "off"),
        mode("prefer", "prefer: if the server offers it"),
        mode("require", "require: always, whoever answers"),
        mode("verify", "verify: always, and check the certificate"),
    ];
    About {
        kind: "postgresql".into(),
        name: "PostgreSQL".into(),
        says: "Tables with all their changes, exactly once; tables written to, exactly once".into(),
        source: Some(SourceAbilities {
            loads: true,
            follows: Follows::Log,
            starts: vec![BeginsAt::Earliest, BeginsAt::Time, BeginsAt::Position, BeginsAt::Connector],
            truncates: true,
            schema_changes: true,
            patterns: true,
            by_key: true,
        }),
        sink: Some(SinkAbilities {
            holds: true,
            takes_back: true,
            rows: vec![TargetRows::Current, TargetRows::Appended, TargetRows::Changes, TargetRows::History],
            deletes: vec![Deletes::Applied, Deletes::Marked, Deletes::Ignored],
            columns: vec![TargetColumns::Ask, TargetColumns::Add, TargetColumns::Widen],
            whole_transactions: true,
            lanes: true,
            existing_rows: true,
            late_writes: LateWrites::Fenced,
        }),
        usual_schema: Some("public".into()),
        settings: vec![
            Setting::needed("host", "Host", SettingType::Text).usually("127.0.0.1"),
            Setting::needed("port", "Port", SettingType::Whole { least: 1, most: 65_535 }).usually("5432"),
            Setting::needed("database", "Database", SettingType::Text),
            Setting::needed("user", "User", SettingType::Text),
            Setting::new("password", "Password", SettingType::Text).as_secret(),
            Setting::new("tls", "Encryption", SettingType::Choice { choices: modes }).usually("prefer"),
            Setting::new("ca", "Certificate authority", SettingType::Lines)
                .help("Its certificate as PEM text; empty for those that Gonvel's machine trusts")
                .only_if("tls", "verify"),
            Setting::new("log_user", "Login for the log", SettingType::Text)
                .help("Where it is not the one that reads rows")
                .of_few(),
            Setting::new("log_password", "Its password", SettingType::Text)
                .help("Never shown again")
                .as_secret()
                .only_if_given("log_user")
                .of_few(),
            Setting::new("settings", "Settings of the session", SettingType::Pairs)
                .help("One a line, as in lock_timeout=5s")
                .of_few(),
        ],
    }
}
