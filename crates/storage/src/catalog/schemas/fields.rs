//! The fields of schemas, by which they are found.

use diesel::prelude::*;
use diesel::result::Error;
use diesel::sql_types::{Array, Int4, Int8, Text};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use gonvel_core::schemas::{self as core, Language, Parsed};

use crate::schema::{schema_fields, schema_versions, schemas};

/// Notes the fields of schemas whose latest version was registered before fields were noted.
pub(crate) async fn note_fields(c: &mut AsyncPgConnection) -> Result<(), Error> {
    let rows: Vec<(i64, String, i32, String, Option<String>)> = schema_versions::table
        .inner_join(schemas::table)
        .filter(diesel::dsl::not(diesel::dsl::exists(schema_fields::table.filter(schema_fields::schema_id.eq(schemas::id)))))
        .order((schemas::id, schema_versions::version))
        .select((
            schemas::id,
            schemas::language,
            schema_versions::version,
            schema_versions::text,
            schema_versions::standalone,
        ))
        .load(c)
        .await?;
    for (schema, language, number, text, standalone) in rows {
        let language = Language::of(&language).unwrap_or(Language::Avro);
        if let Ok(parsed) = core::parse_standalone(language, standalone.as_ref().unwrap_or(&text)) {
            store_fields(c, schema, number, &parsed).await?;
        }
    }
    Ok(())
}

/// Notes the fields of a version.
pub(super) async fn store_fields(
    c: &mut AsyncPgConnection,
    schema: i64,
    version: i32,
    parsed: &Parsed,
) -> Result<(), Error> {
    diesel::sql_query(
        "INSERT INTO schema_fields (schema_id, path, last_version) SELECT $1, unnest($2), $3 \
         ON CONFLICT (schema_id, path) DO UPDATE SET last_version = excluded.last_version",
    )
    .bind::<Int8, _>(schema)
    .bind::<Array<Text>, _>(unique(core::field_paths(parsed)))
    .bind::<Int4, _>(version)
    .execute(c)
    .await
    .map(|_| ())
}

fn unique(mut paths: Vec<String>) -> Vec<String> {
    paths.sort_unstable();
    paths.dedup();
    paths
}
