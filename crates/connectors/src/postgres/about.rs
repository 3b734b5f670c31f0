//! What PostgreSQL says of itself as a kind of system.

use gonvel_core::connector::{Deletes, TargetColumns, TargetRows};
use gonvel_core::kinds::{
    About, BeginsAt, Follows, LateWrites, Setting, SettingType, SinkAbilities, SourceAbilities,
    reaching::{self, LOGIN},
};

/// The schema that tables usually are in.
pub(super) const USUAL_SCHEMA: &str = "public";

/// Its settings and what it can do.
#[must_use]
pub fn about() -> About {
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
        usual_schema: Some(USUAL_SCHEMA.into()),
        settings: settings(),
    }
}

fn settings() -> Vec<Setting> {
    let of_database = vec![
        Setting::needed("host", "Host", SettingType::Text).usually("127.0.0.1"),
        Setting::needed("port", "Port", SettingType::Whole { least: 1, most: 65_535 }).usually("5432").beside(),
        Setting::needed("database", "Database", SettingType::Text),
        Setting::needed("user", "User", SettingType::Text),
        Setting::new("password", "Password", SettingType::Text).as_secret().beside(),
    ];
    let of_sessions = vec![
        Setting::new("log_user", "Login for the log", SettingType::Text)
            .help("Where it is not the one that reads rows")
            .under(LOGIN),
        Setting::new("log_password", "Its password", SettingType::Text)
            .help("Never shown again")
            .as_secret()
            .beside()
            .only_if_given("log_user")
            .under(LOGIN),
        Setting::new("settings", "Settings of the session", SettingType::Pairs)
            .help("One a line, as in lock_timeout=5s")
            .under(LOGIN),
    ];
    [of_database, reaching::encryption(), of_sessions, reaching::way()].concat()
}
