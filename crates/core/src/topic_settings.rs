//! What a topic keeps, for how long, and where.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which records of a key a topic keeps.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Keep {
    /// Every record, until age or size ends it.
    #[default]
    All,
    /// At least the newest record of each key; older ones of the same key are removed in the background.
    Latest,
}

impl Keep {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::All => "all",
            Self::Latest => "latest",
        }
    }
}

fn a_day() -> i64 {
    DAY_MS
}

/// What a topic keeps. A limit that is left out does not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TopicSettings {
    /// Which records of a key.
    #[serde(default)]
    pub keep: Keep,
    /// Records are forgotten this long after their time, or after they were appended if that was later, in milliseconds.
    #[serde(default)]
    pub forget_after_ms: Option<i64>,
    /// The oldest are forgotten while the topic is larger than this, in bytes as stored.
    #[serde(default)]
    pub most_bytes: Option<i64>,
    /// How long a key's delete stays when only the latest is kept, from when it was appended, in milliseconds.
    #[serde(default = "a_day")]
    pub deletes_kept_ms: i64,
    /// Blocks whose records are all further back move to object storage, in milliseconds.
    #[serde(default)]
    pub hot_span_ms: Option<i64>,
}

/// The longest span of a setting, a hundred years of 365 days, in milliseconds.
pub const LONGEST_MS: i64 = 36_500 * DAY_MS;

/// A day, in milliseconds.
pub const DAY_MS: i64 = 86_400_000;

impl Default for TopicSettings {
    fn default() -> Self {
        Self { keep: Keep::All, forget_after_ms: None, most_bytes: None, deletes_kept_ms: DAY_MS, hot_span_ms: None }
    }
}

/// What is wrong with settings.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SettingsError {
    /// A span or size that is not above zero.
    #[error("{setting} is {found}: give a number above 0, or leave it out for no limit")]
    NotPositive {
        /// The setting.
        setting: &'static str,
        /// What was given.
        found: i64,
    },
    /// A span that no one waits for.
    #[error("{setting} is {found}: {LONGEST_MS} (a hundred years) is the most; leave it out for no limit")]
    TooLong {
        /// The setting.
        setting: &'static str,
        /// What was given.
        found: i64,
    },
    /// Two settings that exclude each other.
    #[error(
        "a topic that keeps the latest of each key stays in the hot part whole: leave out hot_span_ms, or keep all records"
    )]
    LatestIsHot,
    /// Records would be forgotten before they moved.
    #[error(
        "hot_span_ms ({hot}) is not shorter than forget_after_ms ({forget}): nothing would ever move; shorten the hot span"
    )]
    HotBeyondForget {
        /// Milliseconds.
        hot: i64,
        /// Milliseconds.
        forget: i64,
    },
}

impl SettingsError {
    /// The setting it belongs to.
    #[must_use]
    pub fn setting(&self) -> &'static str {
        match self {
            Self::NotPositive { setting, .. } | Self::TooLong { setting, .. } => setting,
            Self::LatestIsHot | Self::HotBeyondForget { .. } => "hot_span_ms",
        }
    }
}

impl TopicSettings {
    /// Whether the settings fit together.
    ///
    /// # Errors
    /// [`SettingsError`] names the setting and the remedy.
    pub fn check(&self) -> Result<(), SettingsError> {
        let limits = [
            ("forget_after_ms", self.forget_after_ms),
            ("most_bytes", self.most_bytes),
            ("deletes_kept_ms", Some(self.deletes_kept_ms)),
            ("hot_span_ms", self.hot_span_ms),
        ];
        for (setting, limit) in limits {
            if let Some(found) = limit.filter(|&l| l <= 0) {
                return Err(SettingsError::NotPositive { setting, found });
            }
            if let Some(found) = limit.filter(|&l| setting != "most_bytes" && l > LONGEST_MS) {
                return Err(SettingsError::TooLong { setting, found });
            }
        }
        match (self.hot_span_ms, self.forget_after_ms) {
            (Some(_), _) if self.keep == Keep::Latest => Err(SettingsError::LatestIsHot),
            (Some(hot), Some(forget)) if hot >= forget => Err(SettingsError::HotBeyondForget { hot, forget }),
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_that_do_not_fit_together_are_refused_by_name() {
        let base = TopicSettings::default;
        let cases: [(TopicSettings, Option<&str>); 9] = [
            (base(), None),
            (TopicSettings { forget_after_ms: Some(0), ..base() }, Some("forget_after_ms")),
            (TopicSettings { forget_after_ms: Some(i64::MAX), ..base() }, Some("forget_after_ms")),
            (TopicSettings { hot_span_ms: Some(LONGEST_MS + 1), ..base() }, Some("hot_span_ms")),
            (TopicSettings { forget_after_ms: Some(LONGEST_MS), most_bytes: Some(i64::MAX), ..base() }, None),
            (TopicSettings { most_bytes: Some(-1), ..base() }, Some("most_bytes")),
            (TopicSettings { keep: Keep::Latest, hot_span_ms: Some(1), ..base() }, Some("hot_span_ms")),
            (TopicSettings { hot_span_ms: Some(9), forget_after_ms: Some(9), ..base() }, Some("hot_span_ms")),
            (TopicSettings { hot_span_ms: Some(8), forget_after_ms: Some(9), ..base() }, None),
        ];
        for (settings, refused) in cases {
            assert_eq!(settings.check().err().map(|e| e.setting()), refused, "{settings:?}");
        }
    }
}
