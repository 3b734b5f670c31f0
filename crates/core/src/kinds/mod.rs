//! What a kind of system says of itself: from this come the form of a connection, what is checked of a manifest, and what the command line
//! takes.

mod abilities;
#[doc(hidden)]
pub mod example;
pub mod reaching;
mod reading;

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use abilities::{BeginsAt, Follows, LateWrites, SinkAbilities, SourceAbilities, Unable};
pub use reading::{SettingFault, Settings};

/// One of several values.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SettingChoice {
    /// The value.
    #[schema(value_type = String)]
    pub value: Cow<'static, str>,
    /// What it means.
    #[schema(value_type = String)]
    pub says: Cow<'static, str>,
}

/// What a setting takes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "is", rename_all = "lowercase")]
pub enum SettingType {
    /// A line of text.
    Text,
    /// Several lines of text.
    Lines,
    /// A whole number.
    Whole {
        /// The least.
        least: i64,
        /// The greatest.
        most: i64,
    },
    /// One of several values.
    Choice {
        /// They.
        choices: Vec<SettingChoice>,
    },
    /// Values by name.
    Pairs,
}

/// A setting of a connection.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Setting {
    /// Its name in requests, in manifests and on the command line.
    #[schema(value_type = String)]
    pub name: Cow<'static, str>,
    /// Its name for people.
    #[schema(value_type = String)]
    pub label: Cow<'static, str>,
    /// What it is for; empty where the label says it.
    #[schema(value_type = String)]
    pub help: Cow<'static, str>,
    /// What it takes.
    pub takes: SettingType,
    /// What it is where it is not given, or what a form begins with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub usual: Option<Cow<'static, str>>,
    /// Whether it has to be given.
    pub needed: bool,
    /// Whether it is a secret: it goes in and never comes out.
    pub secret: bool,
    /// It is of use only where another setting has a value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only_if: Option<OnlyIf>,
    /// Whether it stands beside the one before it in a form.
    pub beside: bool,
    /// The heading under which it stands with others that few need; none for one that all do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub under: Option<Cow<'static, str>>,
}

/// Another setting's value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OnlyIf {
    /// The other setting.
    #[schema(value_type = String)]
    pub setting: Cow<'static, str>,
    /// Values of it; none for any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(value_type = Vec<String>)]
    pub is: Vec<Cow<'static, str>>,
}

impl Setting {
    /// One that has to be given.
    #[must_use]
    pub fn needed(name: &'static str, label: &'static str, takes: SettingType) -> Self {
        Self { needed: true, ..Self::new(name, label, takes) }
    }

    /// One that can be left out.
    #[must_use]
    pub fn new(name: &'static str, label: &'static str, takes: SettingType) -> Self {
        Self {
            name: Cow::Borrowed(name),
            label: Cow::Borrowed(label),
            help: Cow::Borrowed(""),
            takes,
            usual: None,
            needed: false,
            secret: false,
            only_if: None,
            beside: false,
            under: None,
        }
    }

    /// The same with what it is for.
    #[must_use]
    pub fn help(self, help: &'static str) -> Self {
        Self { help: help.into(), ..self }
    }

    /// The same with a usual value.
    #[must_use]
    pub fn usually(self, usual: &'static str) -> Self {
        Self { usual: Some(usual.into()), ..self }
    }

    /// The same as a secret.
    #[must_use]
    pub fn as_secret(self) -> Self {
        Self { secret: true, ..self }
    }

    /// The same beside the one before it.
    #[must_use]
    pub fn beside(self) -> Self {
        Self { beside: true, ..self }
    }

    /// The same as one that few need, under a heading.
    #[must_use]
    pub fn under(self, heading: &'static str) -> Self {
        Self { under: Some(heading.into()), ..self }
    }

    /// The same as one that is of use only where another has one of several values.
    #[must_use]
    pub fn only_if(self, setting: &'static str, is: &[&'static str]) -> Self {
        Self { only_if: Some(OnlyIf { setting: setting.into(), is: is.iter().map(|is| (*is).into()).collect() }), ..self }
    }

    /// The same as one that is of use only where another is given.
    #[must_use]
    pub fn only_if_given(self, setting: &'static str) -> Self {
        Self { only_if: Some(OnlyIf { setting: setting.into(), is: Vec::new() }), ..self }
    }
}

/// A kind of system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[schema(as = SystemKind)]
pub struct About {
    /// Its word in manifests.
    #[schema(value_type = String)]
    pub kind: Cow<'static, str>,
    /// Its name for people.
    #[schema(value_type = String)]
    pub name: Cow<'static, str>,
    /// What it can do and give, in a line.
    #[schema(value_type = String)]
    pub says: Cow<'static, str>,
    /// What sources can do there; none if none reads it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceAbilities>,
    /// What sinks can do there; none if none writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sink: Option<SinkAbilities>,
    /// The schema that its tables usually are in: it says nothing, so topics are not named after it. None where there is none such.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    pub usual_schema: Option<Cow<'static, str>>,
    /// The settings of a connection to it, in the order of its form.
    pub settings: Vec<Setting>,
}
