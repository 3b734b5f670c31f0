//! An installation as manifests.

use std::collections::BTreeMap;

use gonvel_manifests::{Deed, Fault, FieldChange, SecretFrom, ThingKind};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A file with manifests: each of one thing, with `---` between them.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ManifestFile {
    /// Its name, as it is told in faults.
    pub name: String,
    /// What stands in it.
    pub text: String,
}

/// What an installation is to be like.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ApplyRequest {
    /// The manifests.
    pub files: Vec<ManifestFile>,
    /// Whether what no manifest names is deleted.
    #[serde(default)]
    pub prune: bool,
    /// The secrets that the manifests refer to: by connection, then by field.
    #[serde(default)]
    pub secrets: BTreeMap<String, BTreeMap<String, String>>,
}

/// A secret that a manifest refers to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NeededSecret {
    /// The connection that it is of.
    pub connection: String,
    /// The setting.
    pub field: String,
    /// Where it comes from: `{env: NAME}`, `{file: PATH}` or `{ask: true}`.
    #[schema(value_type = Object)]
    pub from: SecretFrom,
    /// Whether it cannot be done without: what is kept is none, or was given for another address.
    pub needed: bool,
}

/// A step from an installation as it is to what manifests say.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PlannedStep {
    /// What is done.
    pub deed: Deed,
    /// With what.
    pub kind: ThingKind,
    /// Its name.
    pub name: String,
    /// What changes of it.
    pub changes: Vec<FieldChange>,
    /// What else that does, in sentences.
    pub says: Vec<String>,
}

/// What manifests change.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct InstallationPlan {
    /// The steps in their order.
    pub steps: Vec<PlannedStep>,
    /// Things that are as they are to be already.
    pub unchanged: usize,
    /// The secrets that the manifests refer to.
    pub secrets: Vec<NeededSecret>,
    /// What is wrong in the manifests: then there are no steps.
    pub faults: Vec<Fault>,
}

/// How a step went.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StepOutcome {
    /// Its number, from 1.
    pub number: usize,
    /// How many there are.
    pub of: usize,
    /// What was done.
    pub deed: Deed,
    /// With what.
    pub kind: ThingKind,
    /// Its name.
    pub name: String,
    /// Why it was not done; the steps after it are not done either.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
}

/// Which things are written as manifests.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
pub struct ManifestsQuery {
    /// Only of this kind; all without it.
    #[serde(default)]
    pub kind: Option<ThingKind>,
    /// Only of these names, with commas between them; all without it.
    #[serde(default)]
    pub names: Option<String>,
}
