//! Objects that take no other fields, where they are written as one of several kinds.

use std::collections::BTreeSet;

use utoipa::openapi::extensions::Extensions;
use utoipa::openapi::schema::{AdditionalProperties, AllOf};
use utoipa::openapi::{OpenApi, Ref, RefOr, Schema};

/// A kind's own fields and the one that names the kind are two schemas that both hold for the object. Neither may refuse what the
/// other one takes: what neither of them knows is refused for both.
pub(crate) fn close_as_a_whole(document: &mut OpenApi) {
    let Some(components) = &mut document.components else { return };
    let closed = |schema: &RefOr<Schema>| match schema {
        RefOr::T(Schema::Object(object)) => {
            matches!(object.additional_properties.as_deref(), Some(AdditionalProperties::FreeForm(false)))
        }
        _ => false,
    };
    let closed: BTreeSet<String> =
        components.schemas.iter().filter(|(_, schema)| closed(schema)).map(|(name, _)| name.clone()).collect();
    let mut opened = BTreeSet::new();
    for schema in components.schemas.values_mut() {
        let RefOr::T(Schema::OneOf(one)) = schema else { continue };
        for kind in &mut one.items {
            let RefOr::T(Schema::AllOf(both)) = kind else { continue };
            let own: Vec<String> = both.items.iter().filter_map(name).filter(|name| closed.contains(name)).collect();
            if !own.is_empty() {
                close(both);
                opened.extend(own);
            }
        }
    }
    for name in opened {
        if let Some(RefOr::T(Schema::Object(object))) = components.schemas.get_mut(&name) {
            object.additional_properties = None;
        }
    }
}

fn name(item: &RefOr<Schema>) -> Option<String> {
    let RefOr::Ref(Ref { ref_location, .. }) = item else { return None };
    ref_location.strip_prefix("#/components/schemas/").map(str::to_owned)
}

fn close(both: &mut AllOf) {
    let more = Extensions::from_iter([("unevaluatedProperties".to_owned(), serde_json::Value::Bool(false))]);
    both.extensions.get_or_insert_default().merge(more);
}
