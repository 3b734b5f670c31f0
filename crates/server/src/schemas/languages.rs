//! Languages of schemas, as they are named outside.

use gonvel_core::schemas as core;
use gonvel_http_api as api;

pub(crate) fn language(language: core::Language) -> api::Language {
    match language {
        core::Language::Avro => api::Language::Avro,
        core::Language::JsonSchema => api::Language::JsonSchema,
        core::Language::Protobuf => api::Language::Protobuf,
    }
}

pub(crate) fn asked_language(language: api::Language) -> core::Language {
    match language {
        api::Language::Avro => core::Language::Avro,
        api::Language::JsonSchema => core::Language::JsonSchema,
        api::Language::Protobuf => core::Language::Protobuf,
    }
}
