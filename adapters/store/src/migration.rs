//! Migrations. They only add to the schema; each runs once, in one transaction.

use sea_orm_migration::prelude::*;

pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(First),
            Box::new(Lookups),
            Box::new(RejectKinds),
            Box::new(SavedQueries),
            Box::new(SegmentPages),
            Box::new(CommitsAlone),
            Box::new(Heads),
            Box::new(Versions),
            Box::new(Identity),
            Box::new(Runs),
            Box::new(DeepRuns),
            Box::new(Notebooks),
            Box::new(Looks),
            Box::new(Procedures),
            Box::new(Drawings),
        ]
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

/// Segments in pages of their own, their checksum behind their bytes.
struct SegmentPages;

impl MigrationName for SegmentPages {
    fn name(&self) -> &str {
        "m0005_pages"
    }
}

const PAGES: &str = "
CREATE TABLE segment_pages (
    segment_id bigint NOT NULL,
    page integer NOT NULL,
    data bytea NOT NULL
);
-- A row fills a page of PostgreSQL's; it is compressed already.
ALTER TABLE segment_pages ALTER COLUMN data SET STORAGE PLAIN;
WITH stored AS MATERIALIZED (
    SELECT id, data || decode(lpad(to_hex(checksum), 8, '0'), 'hex') AS data FROM segments
)
INSERT INTO segment_pages (segment_id, page, data)
SELECT id, page, substring(data FROM page * 8100 + 1 FOR 8100)
FROM stored, generate_series(0, (length(data) - 1) / 8100) AS page;
ALTER TABLE segment_pages ADD PRIMARY KEY (segment_id, page);
ALTER TABLE segments DROP COLUMN data, DROP COLUMN checksum;
";

#[async_trait::async_trait]
impl MigrationTrait for SegmentPages {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(PAGES).await?;
        Ok(())
    }
}

/// Commits are removed with their graph by the service, which spares a look at the graph for every one written.
struct CommitsAlone;

impl MigrationName for CommitsAlone {
    fn name(&self) -> &str {
        "m0006_commits"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for CommitsAlone {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "ALTER TABLE commits DROP CONSTRAINT commits_graph_id_fkey";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Where each graph's log ends, and the service that may write.
struct Heads;

impl MigrationName for Heads {
    fn name(&self) -> &str {
        "m0007_heads"
    }
}

const HEADS: &str = "
CREATE TABLE service (one boolean PRIMARY KEY DEFAULT true CHECK (one), epoch bigint NOT NULL);
INSERT INTO service (epoch) VALUES (0);
CREATE TABLE heads (
    graph_id bigint PRIMARY KEY REFERENCES graphs (id) ON DELETE CASCADE,
    version bigint NOT NULL,
    ticket bigint NOT NULL
) WITH (fillfactor = 20);
INSERT INTO heads (graph_id, version, ticket)
SELECT id, GREATEST(
    (SELECT max(version) FROM commits WHERE graph_id = g.id),
    (SELECT max(version) FROM manifests WHERE graph_id = g.id),
    0
), 0 FROM graphs g;
-- By which a commit is found whose answer did not arrive.
ALTER TABLE commits ADD COLUMN ticket bigint NOT NULL DEFAULT 0;
";

#[async_trait::async_trait]
impl MigrationTrait for Heads {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(HEADS).await?;
        Ok(())
    }
}

/// What it takes to read an earlier version: what each is, who made it, the schema of each base, and how long they stay.
struct Versions;

impl MigrationName for Versions {
    fn name(&self) -> &str {
        "m0008_versions"
    }
}

const VERSIONS: &str = "
ALTER TABLE commits
    ADD COLUMN format smallint NOT NULL DEFAULT 1,
    ADD COLUMN nodes bigint,
    ADD COLUMN edges bigint,
    ADD COLUMN origin text NOT NULL DEFAULT '';
ALTER TABLE manifests
    ADD COLUMN kind text NOT NULL DEFAULT 'load',
    ADD COLUMN schema jsonb,
    ADD COLUMN nodes bigint,
    ADD COLUMN edges bigint,
    ADD COLUMN origin text NOT NULL DEFAULT '';
ALTER TABLE graphs
    ADD COLUMN keep_versions bigint NOT NULL DEFAULT 10,
    ADD COLUMN keep_days bigint NOT NULL DEFAULT 7;
-- Every log has a base below it.
INSERT INTO manifests (graph_id, version, next_node_id, next_edge_id, layout, created, kind, nodes, edges)
SELECT id, 0, 0, 0, '{\"nodes\": [], \"edges\": []}', created, 'create', 0, 0
FROM graphs g WHERE NOT EXISTS (SELECT FROM manifests WHERE graph_id = g.id);
UPDATE manifests m SET schema = jsonb_build_object('graph_type', t.definition, 'created', g.lookups)
FROM graphs g LEFT JOIN graph_types t ON t.id = g.graph_type_id WHERE g.id = m.graph_id;
ALTER TABLE manifests ALTER COLUMN schema SET NOT NULL;
";

#[async_trait::async_trait]
impl MigrationTrait for Versions {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(VERSIONS).await?;
        Ok(())
    }
}

/// By which a backup knows the database that it was made of.
struct Identity;

impl MigrationName for Identity {
    fn name(&self) -> &str {
        "m0009_identity"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Identity {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "ALTER TABLE service ADD COLUMN identity uuid NOT NULL DEFAULT gen_random_uuid()";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Profiles that are kept, and those that saved queries are held against.
struct Runs;

impl MigrationName for Runs {
    fn name(&self) -> &str {
        "m0010_runs"
    }
}

const RUNS: &str = "
CREATE TABLE runs (
    id bigserial PRIMARY KEY,
    kind text NOT NULL,
    name text,
    tags jsonb NOT NULL,
    graph text NOT NULL,
    version bigint NOT NULL,
    statistics_version bigint NOT NULL,
    made timestamptz NOT NULL,
    client text NOT NULL,
    query_text text NOT NULL,
    parameters jsonb NOT NULL,
    settings jsonb NOT NULL,
    profile jsonb NOT NULL,
    result_rows bigint NOT NULL,
    execute_us double precision NOT NULL,
    edges_looked bigint NOT NULL
);
CREATE INDEX runs_of_graph ON runs (graph, id);
CREATE INDEX runs_by_name ON runs (name, id) WHERE name IS NOT NULL;
CREATE TABLE baselines (
    saved_query text NOT NULL REFERENCES saved_queries (name) ON DELETE CASCADE,
    graph text NOT NULL,
    run_id bigint NOT NULL REFERENCES runs (id),
    allow double precision NOT NULL,
    accepted timestamptz NOT NULL,
    PRIMARY KEY (saved_query, graph)
);
";

#[async_trait::async_trait]
impl MigrationTrait for Runs {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(RUNS).await?;
        Ok(())
    }
}

/// Profiles as texts: operators lie in each other deeper than what reads a JSON column goes.
struct DeepRuns;

impl MigrationName for DeepRuns {
    fn name(&self) -> &str {
        "m0011_deep_runs"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for DeepRuns {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "ALTER TABLE runs ALTER COLUMN profile TYPE text USING profile::text";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Texts and queries with what came of them. The cells are one text: a result in them may hold what a JSON column
/// does not take.
struct Notebooks;

impl MigrationName for Notebooks {
    fn name(&self) -> &str {
        "m0012_notebooks"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Notebooks {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "CREATE TABLE notebooks (
            name text PRIMARY KEY,
            revision bigint NOT NULL,
            cells text NOT NULL,
            cell_count integer NOT NULL,
            changed timestamptz NOT NULL
        )";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// How the labels of a graph look in drawings.
struct Looks;

impl MigrationName for Looks {
    fn name(&self) -> &str {
        "m0013_looks"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Looks {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "CREATE TABLE looks (
            graph_id bigint PRIMARY KEY REFERENCES graphs (id) ON DELETE CASCADE,
            labels text NOT NULL
        )";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Modules of procedures, every version of each.
struct Procedures;

impl MigrationName for Procedures {
    fn name(&self) -> &str {
        "m0014_procedures"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Procedures {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "CREATE TABLE procedures (
            name text NOT NULL,
            version bigint NOT NULL,
            current boolean NOT NULL,
            module bytea NOT NULL,
            checksum bigint NOT NULL,
            signature text NOT NULL,
            about text NOT NULL,
            steps bigint NOT NULL,
            memory_bytes bigint NOT NULL,
            time_ms bigint NOT NULL,
            graphs jsonb,
            uploaded timestamptz NOT NULL,
            uploaded_by text NOT NULL,
            PRIMARY KEY (name, version)
        );
        CREATE UNIQUE INDEX procedures_current ON procedures (name) WHERE current";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}

/// Drawings that were saved. The content is one text, as the cells of notebooks are.
struct Drawings;

impl MigrationName for Drawings {
    fn name(&self) -> &str {
        "m0015_drawings"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Drawings {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        let text = "CREATE TABLE drawings (
            graph_id bigint NOT NULL REFERENCES graphs (id) ON DELETE CASCADE,
            name text NOT NULL,
            revision bigint NOT NULL,
            content text NOT NULL,
            node_count integer NOT NULL,
            changed timestamptz NOT NULL,
            PRIMARY KEY (graph_id, name)
        )";
        manager.get_connection().execute_unprepared(text).await?;
        Ok(())
    }
}
