//! The tables as Diesel knows them; the migrations make them.

diesel::table! {
    topics (id) {
        id -> Int8,
        name -> Text,
        partitions -> Int4,
        created_at -> Timestamptz,
        keep -> Text,
        forget_after_ms -> Nullable<Int8>,
        most_bytes -> Nullable<Int8>,
        deletes_kept_ms -> Int8,
        hot_span_ms -> Nullable<Int8>,
        revision -> Int4,
        scattered -> Bool,
    }
}

diesel::table! {
    topic_partitions (topic_id, partition) {
        topic_id -> Int8,
        partition -> Int4,
        first_offset -> Int8,
        next_offset -> Int8,
        bytes -> Int8,
        reach_us -> Int8,
        small_blocks -> Int4,
    }
}

diesel::table! {
    blocks (topic_id, partition, first_offset) {
        topic_id -> Int8,
        partition -> Int4,
        first_offset -> Int8,
        records -> Int4,
        earliest_us -> Int8,
        latest_us -> Int8,
        unpacked -> Int4,
        body -> Bytea,
        span -> Int4,
        reach_us -> Int8,
        places -> Nullable<Bytea>,
    }
}

diesel::table! {
    schemas (id) {
        id -> Int8,
        name -> Text,
        language -> Text,
        description -> Text,
        owner -> Text,
        labels -> Array<Text>,
        reads_past -> Text,
        past_reads -> Text,
        revision -> Int4,
        created_at -> Timestamptz,
        retired_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    schema_versions (id) {
        id -> Int8,
        version -> Int4,
        text -> Text,
        fingerprint -> Int8,
        created_at -> Timestamptz,
        schema_id -> Int8,
        standalone -> Nullable<Text>,
        refers -> Jsonb,
        author -> Text,
        why -> Text,
    }
}

diesel::table! {
    topic_schemas (topic_id, role) {
        topic_id -> Int8,
        role -> Text,
        schema_id -> Int8,
        required -> Bool,
    }
}

diesel::table! {
    schema_fields (schema_id, path) {
        schema_id -> Int8,
        path -> Text,
        last_version -> Int4,
    }
}

diesel::allow_tables_to_appear_in_same_query!(topics, schemas, schema_versions, topic_schemas, schema_fields);
diesel::joinable!(schema_versions -> schemas (schema_id));
diesel::joinable!(topic_schemas -> schemas (schema_id));
diesel::joinable!(topic_schemas -> topics (topic_id));

diesel::table! {
    connections (id) {
        id -> Uuid,
        name -> Text,
        kind -> Text,
        revision -> Int4,
        created_at -> Timestamptz,
        updated_at -> Timestamptz,
        given -> Jsonb,
        sealed -> Jsonb,
    }
}

diesel::table! {
    connectors (id) {
        id -> Uuid,
        name -> Text,
        connection_id -> Nullable<Uuid>,
        definition -> Jsonb,
        wish -> Text,
        asked -> Int4,
        version -> Int4,
        created_at -> Timestamptz,
        updated_at -> Timestamptz,
        preflight -> Nullable<Jsonb>,
        passed_over -> Int8,
        leaves_remains -> Bool,
    }
}

diesel::table! {
    lanes (connector_id, lane) {
        connector_id -> Uuid,
        lane -> Int4,
        epoch -> Int8,
        holder -> Nullable<Text>,
        expires_at -> Timestamptz,
        position -> Jsonb,
        status -> Nullable<Jsonb>,
        runner -> Nullable<Text>,
        waits -> Nullable<Text>,
        asked -> Int4,
        mending -> Int8,
    }
}

diesel::table! {
    connector_versions (connector_id, version) {
        connector_id -> Uuid,
        version -> Int4,
        definition -> Jsonb,
        made_at -> Timestamptz,
    }
}

diesel::table! {
    reloads (number) {
        number -> Int8,
        connector_id -> Uuid,
        tables -> Array<Text>,
        asked_at -> Timestamptz,
        existing_rows -> Text,
    }
}

diesel::table! {
    drafts (id) {
        id -> Uuid,
        name -> Text,
        kind -> Text,
        lacks -> Text,
        work -> Json,
        revision -> Int4,
        saved_by -> Text,
        saved_at -> Timestamptz,
    }
}

diesel::allow_tables_to_appear_in_same_query!(topics, topic_partitions);
diesel::allow_tables_to_appear_in_same_query!(connections, connectors, lanes);
