//! Migrations. They only ever add to what is there; each runs once, in one transaction.

use sea_orm_migration::prelude::*;

pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![Box::new(First), Box::new(Lookups), Box::new(RejectKinds), Box::new(SavedQueries)]
    }
}

struct First;

impl MigrationName for First {
    fn name(&self) -> &str {
        "m0001_first"
    }
}

const FIRST: &str = "
CREATE TABLE graph_types (
    id bigserial PRIMARY KEY,
    name text UNIQUE,
    definition jsonb NOT NULL
);
CREATE TABLE graphs (
    id bigserial PRIMARY KEY,
    name text NOT NULL UNIQUE,
    graph_type_id bigint REFERENCES graph_types (id),
    created timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE commits (
    graph_id bigint NOT NULL REFERENCES graphs (id) ON DELETE CASCADE,
    version bigint NOT NULL,
    changes bytea NOT NULL,
    checksum bigint NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (graph_id, version)
);
CREATE TABLE manifests (
    graph_id bigint NOT NULL REFERENCES graphs (id) ON DELETE CASCADE,
    version bigint NOT NULL,
    next_node_id bigint NOT NULL,
    next_edge_id bigint NOT NULL,
    layout jsonb NOT NULL,
    created timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (graph_id, version)
);
CREATE SEQUENCE segment_ids;
CREATE TABLE segments (
    id bigint PRIMARY KEY,
    graph_id bigint NOT NULL,
    data bytea NOT NULL,
    checksum bigint NOT NULL
);
CREATE INDEX segments_by_graph ON segments (graph_id);
-- Segments are compressed already.
ALTER TABLE segments ALTER COLUMN data SET STORAGE EXTERNAL;
CREATE TABLE jobs (
    id bigserial PRIMARY KEY,
    kind text NOT NULL,
    graph text NOT NULL,
    state text NOT NULL,
    title text NOT NULL,
    detail jsonb NOT NULL,
    started timestamptz NOT NULL DEFAULT now(),
    finished timestamptz
);
CREATE TABLE rejects (
    id bigserial PRIMARY KEY,
    job_id bigint NOT NULL REFERENCES jobs (id) ON DELETE CASCADE,
    source_table text NOT NULL,
    line bigint NOT NULL,
    column_name text,
    value text,
    reason text NOT NULL,
    record text NOT NULL
);
CREATE INDEX rejects_by_job ON rejects (job_id, id);
";

#[async_trait::async_trait]
impl MigrationTrait for First {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(FIRST).await?;
        Ok(())
    }
}

/// Keys and indexes that were created on their own, as JSON.
struct Lookups;

impl MigrationName for Lookups {
    fn name(&self) -> &str {
        "m0002_lookups"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Lookups {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text =
            "ALTER TABLE graphs ADD COLUMN lookups jsonb NOT NULL DEFAULT '{\"keys\": [], \"indexes\": []}'";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// What is wrong with a reject, in one word.
struct RejectKinds;

impl MigrationName for RejectKinds {
    fn name(&self) -> &str {
        "m0003_reject_kinds"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for RejectKinds {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "ALTER TABLE rejects ADD COLUMN kind text NOT NULL DEFAULT ''";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Queries kept under a name.
struct SavedQueries;

impl MigrationName for SavedQueries {
    fn name(&self) -> &str {
        "m0004_saved_queries"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for SavedQueries {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "CREATE TABLE saved_queries (
            name text PRIMARY KEY,
            folder text NOT NULL,
            description text NOT NULL,
            parameters jsonb NOT NULL,
            query_text text NOT NULL,
            changed timestamptz NOT NULL
        )";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}
