//! Kept profiles as records: stored with everything needed to compare them later, searched, and removed by age and
//! number. A saved query can have one as its baseline.

use sea_orm::{
    ActiveModelTrait,
    ActiveValue::Set,
    ColumnTrait, Condition, EntityTrait, FromQueryResult, QueryFilter, QueryOrder, QuerySelect, QueryTrait,
    sea_query::{Expr, OnConflict},
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::entities::{baseline, run};
use crate::texts::{legible, legible_json};
use crate::{Catalog, StoreError};

/// Why a run is there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunKind {
    /// Somebody asked for it to be kept.
    Profile,
    /// A query took long, and its profile was kept by itself.
    Slow,
}

impl RunKind {
    pub fn name(self) -> &'static str {
        match self {
            RunKind::Profile => "profile",
            RunKind::Slow => "slow",
        }
    }

    fn of(name: &str) -> RunKind {
        if name == "slow" { RunKind::Slow } else { RunKind::Profile }
    }
}

/// A run that is to be kept.
#[derive(Clone, Debug)]
pub struct NewRun {
    pub kind: RunKind,
    pub name: Option<String>,
    pub tags: Vec<String>,
    pub graph: String,
    pub version: u64,
    pub statistics_version: u64,
    pub client: String,
    pub text: String,
    pub parameters: Json,
    pub settings: Json,
    /// JSON.
    pub profile: String,
    pub rows: u64,
    pub execute_us: f64,
    pub edges_looked: u64,
}

/// A kept run without its profile.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunSummary {
    pub id: i64,
    pub kind: RunKind,
    pub name: Option<String>,
    pub tags: Vec<String>,
    pub graph: String,
    pub version: u64,
    pub statistics_version: u64,
    /// RFC 3339.
    pub made: String,
    pub client: String,
    pub text: String,
    pub rows: u64,
    pub execute_us: f64,
    pub edges_looked: u64,
}

/// A kept run, whole.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunRecord {
    #[serde(flatten)]
    pub summary: RunSummary,
    pub parameters: Json,
    pub settings: Json,
    /// JSON.
    pub profile: String,
}

/// Which runs are wanted; nothing given: all of them.
#[derive(Clone, Debug, Default)]
pub struct RunFilter {
    pub graph: Option<String>,
    pub kind: Option<RunKind>,
    pub name: Option<String>,
    pub tag: Option<String>,
    /// Part of the query's text, whatever its case.
    pub text: Option<String>,
    /// Older than this one.
    pub before: Option<i64>,
    pub limit: u64,
}

/// How many runs stay, and how long. Those with a name and those that a saved query is held against always stay.
#[derive(Clone, Copy, Debug)]
pub struct RunLimits {
    /// Of each kind and graph.
    pub most: u64,
    pub days: u64,
}

impl Default for RunLimits {
    fn default() -> Self {
        RunLimits { most: 200, days: 30 }
    }
}

/// The accepted run of a saved query on a graph.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct BaselineRecord {
    pub saved_query: String,
    pub graph: String,
    pub run: i64,
    /// How many times the accepted work it may become.
    pub allow: f64,
    /// RFC 3339.
    pub accepted: String,
}

/// The columns of a summary: a list of runs does not read their profiles.
#[derive(FromQueryResult)]
struct Listed {
    id: i64,
    kind: String,
    name: Option<String>,
    tags: Json,
    graph: String,
    version: i64,
    statistics_version: i64,
    made: chrono::DateTime<chrono::FixedOffset>,
    client: String,
    query_text: String,
    result_rows: i64,
    execute_us: f64,
    edges_looked: i64,
}

impl From<Listed> for RunSummary {
    fn from(row: Listed) -> Self {
        RunSummary {
            id: row.id,
            kind: RunKind::of(&row.kind),
            name: row.name,
            tags: serde_json::from_value(row.tags).unwrap_or_default(),
            graph: row.graph,
            version: row.version as u64,
            statistics_version: row.statistics_version as u64,
            made: row.made.to_rfc3339(),
            client: row.client,
            text: row.query_text,
            rows: row.result_rows as u64,
            execute_us: row.execute_us,
            edges_looked: row.edges_looked as u64,
        }
    }
}

impl From<run::Model> for RunRecord {
    fn from(row: run::Model) -> Self {
        let run::Model { parameters, settings, profile, .. } = row.clone();
        let summary = RunSummary::from(Listed {
            id: row.id,
            kind: row.kind,
            name: row.name,
            tags: row.tags,
            graph: row.graph,
            version: row.version,
            statistics_version: row.statistics_version,
            made: row.made,
            client: row.client,
            query_text: row.text,
            result_rows: row.result_rows,
            execute_us: row.execute_us,
            edges_looked: row.edges_looked,
        });
        RunRecord { summary, parameters, settings, profile }
    }
}

impl From<baseline::Model> for BaselineRecord {
    fn from(row: baseline::Model) -> Self {
        BaselineRecord {
            saved_query: row.saved_query,
            graph: row.graph,
            run: row.run_id,
            allow: row.allow,
            accepted: row.accepted.to_rfc3339(),
        }
    }
}

const LISTED: [run::Column; 13] = [
    run::Column::Id,
    run::Column::Kind,
    run::Column::Name,
    run::Column::Tags,
    run::Column::Graph,
    run::Column::Version,
    run::Column::StatisticsVersion,
    run::Column::Made,
    run::Column::Client,
    run::Column::Text,
    run::Column::ResultRows,
    run::Column::ExecuteUs,
    run::Column::EdgesLooked,
];

impl Catalog {
    /// Keeps a run; its number.
    pub async fn keep_run(&self, new: NewRun) -> Result<i64, StoreError> {
        let tags: Vec<String> = new.tags.iter().map(|tag| legible(tag)).collect();
        let row = run::ActiveModel {
            kind: Set(new.kind.name().into()),
            name: Set(new.name.as_deref().map(legible)),
            tags: Set(serde_json::json!(tags)),
            graph: Set(legible(&new.graph)),
            version: Set(new.version as i64),
            statistics_version: Set(new.statistics_version as i64),
            made: Set(chrono::Utc::now().fixed_offset()),
            client: Set(legible(&new.client)),
            text: Set(legible(&new.text)),
            parameters: Set(legible_json(new.parameters)),
            settings: Set(legible_json(new.settings)),
            // In JSON that character is written as an escape.
            profile: Set(legible(&new.profile)),
            result_rows: Set(new.rows as i64),
            execute_us: Set(new.execute_us),
            edges_looked: Set(new.edges_looked as i64),
            ..Default::default()
        };
        Ok(row.insert(&self.database).await?.id)
    }

    /// The newest first.
    pub async fn runs(&self, filter: &RunFilter) -> Result<Vec<RunSummary>, StoreError> {
        let mut wanted = Condition::all();
        if let Some(graph) = &filter.graph {
            wanted = wanted.add(run::Column::Graph.eq(legible(graph)));
        }
        if let Some(kind) = filter.kind {
            wanted = wanted.add(run::Column::Kind.eq(kind.name()));
        }
        if let Some(name) = &filter.name {
            wanted = wanted.add(run::Column::Name.eq(legible(name)));
        }
        if let Some(tag) = &filter.tag {
            let list = serde_json::json!([legible(tag)]).to_string();
            wanted = wanted.add(Expr::cust_with_values("tags @> $1::jsonb", [list]));
        }
        if let Some(text) = &filter.text {
            let text = legible(text).to_lowercase();
            wanted = wanted.add(Expr::cust_with_values("position($1 in lower(query_text)) > 0", [text]));
        }
        if let Some(before) = filter.before {
            wanted = wanted.add(run::Column::Id.lt(before));
        }
        let rows = run::Entity::find()
            .select_only()
            .columns(LISTED)
            .filter(wanted)
            .order_by_desc(run::Column::Id)
            .limit(filter.limit.min(i64::MAX as u64))
            .into_model::<Listed>()
            .all(&self.database)
            .await?;
        Ok(rows.into_iter().map(RunSummary::from).collect())
    }

    /// By its number, or the newest of that name.
    pub async fn run(&self, which: &str) -> Result<Option<RunRecord>, StoreError> {
        if let Ok(id) = which.parse::<i64>() {
            return Ok(run::Entity::find_by_id(id).one(&self.database).await?.map(RunRecord::from));
        }
        if which.contains('\0') {
            return Ok(None);
        }
        let named = run::Entity::find().filter(run::Column::Name.eq(which)).order_by_desc(run::Column::Id);
        Ok(named.one(&self.database).await?.map(RunRecord::from))
    }

    /// Gives a run another name and other tags; whether it is there.
    pub async fn label_run(&self, id: i64, name: Option<&str>, tags: &[String]) -> Result<bool, StoreError> {
        let tags: Vec<String> = tags.iter().map(|tag| legible(tag)).collect();
        let done = run::Entity::update_many()
            .col_expr(run::Column::Name, Expr::value(name.map(legible)))
            .col_expr(run::Column::Tags, Expr::value(serde_json::json!(tags)))
            .filter(run::Column::Id.eq(id))
            .exec(&self.database)
            .await?;
        Ok(done.rows_affected > 0)
    }

    /// Removes a run; whether it was there. One that a saved query is held against is not removed: its query comes
    /// back instead.
    pub async fn remove_run(&self, id: i64) -> Result<Result<bool, BaselineRecord>, StoreError> {
        let held =
            baseline::Entity::find().filter(baseline::Column::RunId.eq(id)).one(&self.database).await?;
        if let Some(held) = held {
            return Ok(Err(held.into()));
        }
        Ok(Ok(run::Entity::delete_by_id(id).exec(&self.database).await?.rows_affected > 0))
    }

    /// Removes runs without a name that are too old or too many, but for those that saved queries are held against;
    /// how many went.
    pub async fn prune_runs(&self, limits: &RunLimits) -> Result<u64, StoreError> {
        let held = baseline::Entity::find().select_only().column(baseline::Column::RunId).into_query();
        let days = i64::try_from(limits.days).unwrap_or(i64::MAX).min(365_000);
        let oldest = chrono::Utc::now().fixed_offset() - chrono::Duration::days(days);
        let most = i64::try_from(limits.most).unwrap_or(i64::MAX);
        let too_many = Expr::cust_with_values(
            "(SELECT count(*) FROM runs newer WHERE newer.graph = runs.graph AND newer.kind = runs.kind \
             AND newer.name IS NULL AND newer.id > runs.id) >= $1",
            [most],
        );
        let done = run::Entity::delete_many()
            .filter(run::Column::Name.is_null())
            .filter(run::Column::Id.not_in_subquery(held))
            .filter(Condition::any().add(run::Column::Made.lt(oldest)).add(too_many))
            .exec(&self.database)
            .await?;
        Ok(done.rows_affected)
    }

    /// Holds a saved query on a graph against a run from now on.
    pub async fn accept_baseline(
        &self, saved_query: &str, graph: &str, run: i64, allow: f64,
    ) -> Result<(), StoreError> {
        let row = baseline::ActiveModel {
            saved_query: Set(saved_query.into()),
            graph: Set(graph.into()),
            run_id: Set(run),
            allow: Set(allow),
            accepted: Set(chrono::Utc::now().fixed_offset()),
        };
        use baseline::Column::*;
        let replace =
            OnConflict::columns([SavedQuery, Graph]).update_columns([RunId, Allow, Accepted]).to_owned();
        baseline::Entity::insert(row).on_conflict(replace).exec_without_returning(&self.database).await?;
        Ok(())
    }

    /// By query and graph; of one graph where it is given.
    pub async fn baselines(&self, graph: Option<&str>) -> Result<Vec<BaselineRecord>, StoreError> {
        let mut all = baseline::Entity::find()
            .order_by_asc(baseline::Column::SavedQuery)
            .order_by_asc(baseline::Column::Graph);
        if let Some(graph) = graph {
            all = all.filter(baseline::Column::Graph.eq(legible(graph)));
        }
        Ok(all.all(&self.database).await?.into_iter().map(BaselineRecord::from).collect())
    }

    /// Whether there was one.
    pub async fn remove_baseline(&self, saved_query: &str, graph: &str) -> Result<bool, StoreError> {
        if saved_query.contains('\0') || graph.contains('\0') {
            return Ok(false);
        }
        let key = (saved_query.to_string(), graph.to_string());
        Ok(baseline::Entity::delete_by_id(key).exec(&self.database).await?.rows_affected > 0)
    }
}
