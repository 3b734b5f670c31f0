//! What the generator says of itself as a kind of system.

use gonvel_core::kinds::{About, Follows, Setting, SettingType, SourceAbilities};

/// The schema that all recipes are in.
pub(super) const SCHEMA: &str = "recipes";
/// Its word.
pub(super) const KIND: &str = "generator";

/// Its settings and what it can do.
pub(super) fn about() -> About {
    About {
        kind: KIND.into(),
        name: "Made-up records".into(),
        says: "Rows by recipes at any rate, for tests and demos, exactly once".into(),
        source: Some(SourceAbilities {
            loads: false,
            follows: Follows::Feed,
            starts: Vec::new(),
            truncates: false,
            schema_changes: false,
            patterns: false,
            by_key: true,
        }),
        sink: None,
        usual_schema: Some(SCHEMA.into()),
        settings: vec![
            Setting::new("seed", "Seed", SettingType::Whole { least: 0, most: i64::MAX })
                .help("The same seed makes the same rows again")
                .usually("1"),
            Setting::new("recipes", "Recipes of your own", SettingType::Lines)
                .help("As YAML; the recipes picks and readings are always there"),
        ],
    }
}
