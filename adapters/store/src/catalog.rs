//! The catalog: graphs and graph types by name, opened and recovered at the start.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use graphodrome_graph::{Code, Created, GraphError, GraphType, Schema, Snapshot, violations};
use parking_lot::RwLock;
use sea_orm::sqlx::{self, Connection, PgConnection, Row};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, ConnectOptions, Database, DatabaseConnection,
    EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, TransactionTrait,
};
use sea_orm_migration::MigratorTrait;

use crate::StoreError;
use crate::contents::Contents;
use crate::entities::{graph, graph_type};
use crate::fence::Fence;
use crate::graph_handle::GraphHandle;
use crate::head::{Head, is_there, lock_catalog};
use crate::json_rows::{parsed_type, to_json};
use crate::migration::Migrator;
use crate::opening::{Bases, LogRead, Opened, StoredGraph};
use crate::pages::remove_segments;
use crate::past::Past;
use crate::schema_rows::{SchemaRows, TypeRow, remove_rows};
use crate::segments::Layout;
use crate::versions::VersionKind;

/// Any number will do, as long as every service on a database asks for the same.
const SERVICE_LOCK: i64 = 0x6772_6170_686f_6472;

const CONNECTIONS: u32 = 16;

/// How long PostgreSQL may take to give a connection.
const CONNECTING: Duration = Duration::from_secs(5);

/// How long a start waits for a PostgreSQL that says that it is starting, and for one that says nothing.
const STARTING: Duration = Duration::from_secs(120);
const ANSWERING: Duration = Duration::from_secs(20);

/// Between two looks whether the service's lock is still held.
const LOOK_AT_LOCK: Duration = Duration::from_secs(1);

pub struct Catalog {
    pub(crate) database: DatabaseConnection,
    graphs: RwLock<BTreeMap<String, Arc<GraphHandle>>>,
    /// Graphs that cannot be opened.
    offline: RwLock<BTreeMap<String, OfflineGraph>>,
    pub(crate) fence: Arc<Fence>,
    /// Earlier versions that are being read.
    pub(crate) past: Past,
    /// Catalog changes come one after the other. Who needs a graph's turn as well takes that first.
    pub(crate) changing: tokio::sync::Mutex<()>,
    /// Held while commits of several graphs are shown, so that nobody sees one graph's and not another's.
    pub(crate) shown_together: Arc<RwLock<()>>,
}

#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct GraphInfo {
    pub name: String,
    /// Name of its type, or `null` where the type is the graph's own.
    pub graph_type: Option<String>,
    pub closed: bool,
    pub version: u64,
    pub nodes: u64,
    pub edges: u64,
    /// Why it cannot be opened, where it cannot; its numbers are 0 then.
    pub offline: Option<String>,
}

/// A graph that is stored and cannot be opened.
#[derive(Clone, Debug, PartialEq)]
pub struct OfflineGraph {
    pub id: i64,
    pub name: String,
    pub reason: String,
}

#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct GraphTypeInfo {
    pub name: String,
    pub text: String,
}

/// What a new graph is to be. With neither type it is open.
#[derive(Default)]
pub struct NewGraph {
    pub type_name: Option<String>,
    pub own: Option<GraphType>,
    pub created: Created,
    /// The graph whose elements it begins with.
    pub copy_of: Option<Arc<Snapshot>>,
}

fn taken(name: &str) -> StoreError {
    StoreError::Exists { what: "graph", name: name.into() }
}

/// An error with the first of what breaks the type, if anything does.
fn conforms(snapshot: &Snapshot, graph_type: &GraphType) -> Result<(), StoreError> {
    let found = violations(snapshot, graph_type, &|| Ok(()))?;
    let Some(first) = found.first() else { return Ok(()) };
    let total: u64 = found.iter().map(|f| f.count).sum();
    let message = format!("{} :{}: {}", first.element, first.labels.join("&"), first.message);
    let hint = format!("violations of the graph type: {total}; graphodrome model check lists them");
    Err(GraphError::new(Code::GRAPH_TYPE_VIOLATION, message).hint(hint).into())
}

/// What to do where the name is taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OpenMode {
    Fail,
    KeepExisting,
    Replace,
}

impl Catalog {
    /// Connects, migrates, takes the service's lock, and recovers every graph.
    pub async fn open(url: &str) -> Result<Catalog, StoreError> {
        wait_until_ready(url).await?;
        let mut options = ConnectOptions::new(url);
        options
            .max_connections(CONNECTIONS)
            .connect_timeout(CONNECTING)
            .acquire_timeout(CONNECTING)
            .sqlx_logging(false);
        let database = Database::connect(options).await?;
        let lock = take_lock(url).await?;
        Migrator::up(&database, None).await?;
        let fence = Arc::new(Fence::take(database.get_postgres_connection_pool()).await?);
        tokio::spawn(watch_lock(url.to_string(), lock, fence.clone(), database.clone()));
        let catalog = Catalog {
            database,
            graphs: RwLock::default(),
            offline: RwLock::default(),
            fence,
            past: Past::default(),
            changing: tokio::sync::Mutex::new(()),
            shown_together: Arc::default(),
        };
        catalog.recover().await?;
        catalog.fail_unfinished_jobs().await?;
        Ok(catalog)
    }

    /// Returns once another service has taken over the database, with the reason: nothing more can be written.
    pub async fn taken_over(&self) -> String {
        self.fence.lost().await
    }

    /// An error where nothing can be written any more.
    pub fn may_write(&self) -> Result<(), StoreError> {
        self.fence.check()
    }

    /// Graphs that cannot be opened.
    pub fn offline_graphs(&self) -> Vec<OfflineGraph> {
        self.offline.read().values().cloned().collect()
    }

    async fn recover(&self) -> Result<(), StoreError> {
        let orphans =
            "SELECT id FROM segments s WHERE NOT EXISTS (SELECT FROM graphs g WHERE g.id = s.graph_id)";
        let pool = self.database.get_postgres_connection_pool();
        let orphans: Vec<i64> = sqlx::query_scalar(orphans).fetch_all(pool).await?;
        remove_segments(pool, &orphans).await?;
        let orphans = "DELETE FROM commits c WHERE NOT EXISTS (SELECT FROM graphs g WHERE g.id = c.graph_id)";
        sqlx::query(orphans).execute(pool).await?;
        for row in graph::Entity::find().order_by_asc(graph::Column::Id).all(&self.database).await? {
            let started = std::time::Instant::now();
            let handle = match self.open_graph(&row).await {
                Ok(handle) => handle,
                // PostgreSQL does not answer: that is no fault of this graph.
                Err(error @ (StoreError::Database(_) | StoreError::Driver(_))) => return Err(error),
                Err(error) => {
                    tracing::error!(graph = row.name, %error, "graph is offline");
                    let offline = OfflineGraph { id: row.id, name: row.name, reason: error.to_string() };
                    self.offline.write().insert(offline.name.clone(), offline);
                    continue;
                }
            };
            let snapshot = handle.snapshot();
            tracing::info!(
                graph = row.name,
                nodes = snapshot.node_count(),
                edges = snapshot.edge_count(),
                version = snapshot.version,
                elapsed_ms = started.elapsed().as_millis() as u64,
                "graph opened"
            );
            self.graphs.write().insert(row.name.clone(), handle);
        }
        Ok(())
    }

    /// The newest manifest's segments, then the commits after it.
    pub(crate) async fn open_graph(&self, row: &graph::Model) -> Result<Arc<GraphHandle>, StoreError> {
        let head = sqlx::query("SELECT version, ticket FROM heads WHERE graph_id = $1")
            .bind(row.id)
            .fetch_optional(self.database.get_postgres_connection_pool())
            .await?
            .ok_or_else(|| StoreError::Damaged(format!("the head of graph {} is missing", row.name)))?;
        let (written, ticket): (i64, i64) = (head.try_get(0)?, head.try_get(1)?);
        let bases = Arc::<Bases>::default();
        let stored = StoredGraph { database: &self.database, id: row.id, name: &row.name, bases: &bases };
        let (opened, damaged) = stored.open(None).await?;
        let base = opened.snapshot.base.clone();
        tokio::task::spawn_blocking(move || base.make_ready());
        if opened.snapshot.version != written as u64 {
            let text = format!(
                "graph {} was written up to version {written}, and its log ends at {}",
                row.name, opened.snapshot.version
            );
            return Err(StoreError::Damaged(text));
        }
        let handle = self.handle(Head::new(row.id, ticket), &row.name, opened, bases);
        // Not before what replaces it has been read.
        handle.prune_unnamed(&damaged).await?;
        Ok(handle)
    }

    pub fn graph(&self, name: &str) -> Option<Arc<GraphHandle>> {
        self.graphs.read().get(name).cloned()
    }

    pub fn graphs(&self) -> Vec<Arc<GraphHandle>> {
        self.graphs.read().values().cloned().collect()
    }

    pub fn graph_names(&self) -> Vec<String> {
        self.graphs.read().keys().cloned().collect()
    }

    pub async fn graph_infos(&self) -> Result<Vec<GraphInfo>, StoreError> {
        let types: BTreeMap<i64, Option<String>> = graph_type::Entity::find()
            .all(&self.database)
            .await?
            .into_iter()
            .map(|t| (t.id, t.name))
            .collect();
        let rows = graph::Entity::find().order_by_asc(graph::Column::Name).all(&self.database).await?;
        Ok(rows
            .into_iter()
            .filter_map(|row| {
                let snapshot = self.graph(&row.name).map(|graph| graph.snapshot());
                let offline = self.offline.read().get(&row.name).map(|offline| offline.reason.clone());
                if snapshot.is_none() && offline.is_none() {
                    return None;
                }
                Some(GraphInfo {
                    graph_type: row.graph_type_id.and_then(|id| types.get(&id).cloned().flatten()),
                    closed: row.graph_type_id.is_some(),
                    version: snapshot.as_ref().map_or(0, |s| s.version),
                    nodes: snapshot.as_ref().map_or(0, |s| s.node_count()),
                    edges: snapshot.as_ref().map_or(0, |s| s.edge_count()),
                    offline,
                    name: row.name,
                })
            })
            .collect())
    }

    pub async fn graph_types(&self) -> Result<Vec<GraphTypeInfo>, StoreError> {
        let rows = graph_type::Entity::find()
            .filter(graph_type::Column::Name.is_not_null())
            .order_by_asc(graph_type::Column::Name)
            .all(&self.database)
            .await?;
        rows.into_iter()
            .map(|row| {
                let parsed = parsed_type(row.definition)?;
                Ok(GraphTypeInfo { name: row.name.unwrap_or_default(), text: parsed.to_string() })
            })
            .collect()
    }

    /// A graph type by name.
    pub async fn graph_type(&self, name: &str) -> Result<GraphType, StoreError> {
        let found = self.find_type(name).await?.ok_or_else(|| StoreError::NoGraphType(name.into()))?;
        parsed_type(found.definition)
    }

    /// The name of the type in a row; `None` where it is one graph's own.
    pub(crate) async fn type_name(&self, id: i64) -> Result<Option<String>, StoreError> {
        let found = graph_type::Entity::find_by_id(id).one(&self.database).await?;
        Ok(found.and_then(|row| row.name))
    }

    pub(crate) async fn find_type(&self, name: &str) -> Result<Option<graph_type::Model>, StoreError> {
        // There is none that PostgreSQL cannot be asked for.
        if name.contains('\0') {
            return Ok(None);
        }
        Ok(graph_type::Entity::find().filter(graph_type::Column::Name.eq(name)).one(&self.database).await?)
    }

    /// Creates a graph type; false where it was there and stays.
    pub async fn create_graph_type(
        &self, definition: &GraphType, mode: OpenMode,
    ) -> Result<bool, StoreError> {
        let _changing = self.changing.lock().await;
        let name = definition.name.to_string();
        let json = to_json(definition)?;
        if let Some(found) = self.find_type(&name).await? {
            match mode {
                OpenMode::Fail => return Err(StoreError::Exists { what: "graph type", name }),
                OpenMode::KeepExisting => return Ok(false),
                OpenMode::Replace => {
                    self.refuse_in_use(&found, &name).await?;
                    let mut changed: graph_type::ActiveModel = found.into();
                    changed.definition = Set(json);
                    changed.update(&self.database).await?;
                    return Ok(true);
                }
            }
        }
        let row =
            graph_type::ActiveModel { name: Set(Some(name)), definition: Set(json), ..Default::default() };
        row.insert(&self.database).await?;
        Ok(true)
    }

    async fn refuse_in_use(&self, found: &graph_type::Model, name: &str) -> Result<(), StoreError> {
        let user =
            graph::Entity::find().filter(graph::Column::GraphTypeId.eq(found.id)).one(&self.database).await?;
        match user {
            Some(graph) => Err(StoreError::InUse { name: name.into(), graph: graph.name }),
            None => Ok(()),
        }
    }

    pub async fn drop_graph_type(&self, name: &str, if_exists: bool) -> Result<bool, StoreError> {
        let _changing = self.changing.lock().await;
        let Some(found) = self.find_type(name).await? else {
            return if if_exists { Ok(false) } else { Err(StoreError::NoGraphType(name.into())) };
        };
        self.refuse_in_use(&found, name).await?;
        graph_type::Entity::delete_by_id(found.id).exec(&self.database).await?;
        Ok(true)
    }

    /// Creates a graph: open, of a named type or of one of its own; empty, or with the elements of another.
    /// One that it takes the place of is there until the new one is.
    pub async fn create_graph(&self, name: &str, new: NewGraph, mode: OpenMode) -> Result<bool, StoreError> {
        let old = self.graph(name);
        match (&old, mode) {
            (Some(_), OpenMode::Fail) => return Err(taken(name)),
            (Some(_), OpenMode::KeepExisting) => return Ok(false),
            _ => {}
        }
        let offline = self.offline_graphs().into_iter().find(|g| g.name == name);
        if let (Some(offline), true) = (&offline, mode != OpenMode::Replace) {
            return Err(StoreError::Offline { name: name.into(), reason: offline.reason.clone() });
        }
        // Always a graph's turn first, then the catalog's.
        let _turn = match &old {
            Some(old) => {
                let turn = old.turn().await?;
                // What is on its way to the log would be left there.
                turn.settled().await?;
                Some(turn)
            }
            None => None,
        };
        let _changing = self.changing.lock().await;
        self.is_still(name, old.as_ref())?;
        let (type_id, graph_type) = match (new.type_name, new.own) {
            (Some(type_name), _) => {
                let found = self.find_type(&type_name).await?;
                let found = found.ok_or_else(|| StoreError::NoGraphType(type_name))?;
                (Some(found.id), Some(Arc::new(parsed_type(found.definition)?)))
            }
            (None, own) => (None, own.map(Arc::new)),
        };
        let schema = Schema::new(graph_type.clone(), new.created.clone());
        let rows = SchemaRows {
            new_graph: Some(name.into()),
            replaces: old.as_ref().map(|old| old.id).or(offline.map(|offline| offline.id)),
            lookups: to_json(&new.created)?,
            graph_type: match (type_id, &graph_type) {
                (Some(id), _) => TypeRow::Use(id),
                (None, Some(own)) => TypeRow::Insert(None, to_json(&**own)?),
                (None, None) => TypeRow::Keep,
            },
        };
        let pool = self.database.get_postgres_connection_pool();
        let id = sqlx::query("SELECT nextval('graphs_id_seq')").fetch_one(pool).await?.try_get(0)?;
        let empty = Opened {
            snapshot: Snapshot::empty_with(schema.clone())?,
            layout: Layout::default(),
            log: LogRead::default(),
        };
        let handle = self.handle(Head::new(id, 0), name, empty, Arc::default());
        let turn = handle.turn().await?;
        match new.copy_of {
            Some(source) => {
                let ids = source.next_ids();
                let copied = tokio::task::spawn_blocking(move || {
                    graph_type.map_or(Ok(()), |t| conforms(&source, &t))?;
                    Ok::<_, StoreError>(source.fold())
                });
                let parts = copied.await??;
                let contents = Contents::Parts(parts);
                turn.publish_under(contents, ids, schema, rows, VersionKind::Create).await?;
            }
            None => turn.begin(rows).await?,
        }
        if let Some(old) = &old {
            old.forget();
        }
        self.offline.write().remove(name);
        self.graphs.write().insert(name.into(), handle);
        Ok(true)
    }

    pub async fn drop_graph(&self, name: &str, if_exists: bool) -> Result<bool, StoreError> {
        let Some(old) = self.graph(name) else {
            if let Some(offline) = self.offline_graphs().into_iter().find(|g| g.name == name) {
                let _changing = self.changing.lock().await;
                self.remove(offline.id).await?;
                self.offline.write().remove(name);
                return Ok(true);
            }
            return if if_exists { Ok(false) } else { Err(StoreError::NoGraph(name.into())) };
        };
        let turn = old.turn().await?;
        // What is on its way to the log would be left there.
        turn.settled().await?;
        let _changing = self.changing.lock().await;
        self.is_still(name, Some(&old))?;
        self.remove(old.id).await?;
        self.graphs.write().remove(name);
        old.forget();
        Ok(true)
    }

    pub(crate) async fn remove(&self, id: i64) -> Result<(), StoreError> {
        let transaction = self.database.begin().await?;
        self.fence.hold(&transaction).await?;
        lock_catalog(&transaction).await?;
        remove_rows(id, &transaction).await?;
        match transaction.commit().await {
            Err(error) if is_there(id, &self.database).await => Err(error.into()),
            _ => Ok(()),
        }
    }

    pub(crate) fn handle(
        &self, row: Head, name: &str, opened: Opened, bases: Arc<Bases>,
    ) -> Arc<GraphHandle> {
        let (fence, database) = (self.fence.clone(), self.database.clone());
        Arc::new(GraphHandle::new(row, name.into(), opened, bases, fence, database))
    }

    /// A graph that was offline is open.
    pub(crate) fn bring_back(&self, handle: Arc<GraphHandle>) {
        self.offline.write().remove(&handle.name);
        self.graphs.write().insert(handle.name.clone(), handle);
    }

    /// An error where another graph, or none, has come to have the name while a turn was waited for.
    fn is_still(&self, name: &str, known: Option<&Arc<GraphHandle>>) -> Result<(), StoreError> {
        match (self.graph(name), known) {
            (Some(_), None) => Err(taken(name)),
            (now, known) if now.as_ref().map(|g| g.id) == known.map(|g| g.id) => Ok(()),
            _ => Err(StoreError::NoGraph(name.into())),
        }
    }

    /// Whether PostgreSQL answers.
    pub async fn ping(&self) -> Result<(), StoreError> {
        graph::Entity::find().count(&self.database).await?;
        Ok(())
    }
}

/// Waits for a PostgreSQL that is starting, which after a crash takes its time.
async fn wait_until_ready(url: &str) -> Result<(), StoreError> {
    let began = std::time::Instant::now();
    loop {
        let error = match PgConnection::connect(url).await {
            Ok(connection) => return Ok(connection.close().await?),
            Err(error) => error,
        };
        let patience = match &error {
            // It says that it cannot take connections now.
            sqlx::Error::Database(said) if said.code().is_some_and(|code| code.starts_with("57P")) => {
                STARTING
            }
            sqlx::Error::Io(_) => ANSWERING,
            _ => return Err(error.into()),
        };
        if began.elapsed() > patience {
            return Err(error.into());
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

async fn take_lock(url: &str) -> Result<PgConnection, StoreError> {
    let mut connection = PgConnection::connect(url).await?;
    // A service that was just killed keeps the lock until PostgreSQL sees its connection closed.
    for _ in 0..50 {
        if try_lock(&mut connection).await? {
            return Ok(connection);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    Err(StoreError::Server("another Graphodrome service is using this database".into()))
}

async fn try_lock(connection: &mut PgConnection) -> Result<bool, sqlx::Error> {
    sqlx::query_scalar("SELECT pg_try_advisory_lock($1)").bind(SERVICE_LOCK).fetch_one(connection).await
}

/// Looks at the service's lock now and then, and takes it again where its connection was lost. Who took it meanwhile
/// has begun an epoch, and this service writes no more.
async fn watch_lock(url: String, lock: PgConnection, fence: Arc<Fence>, database: DatabaseConnection) {
    let mut held = Some(lock);
    while fence.check().is_ok() {
        tokio::time::sleep(LOOK_AT_LOCK).await;
        if let Some(connection) = &mut held {
            let asked = tokio::time::timeout(CONNECTING, sqlx::query("SELECT 1").execute(connection)).await;
            if !matches!(asked, Ok(Ok(_))) {
                tracing::warn!("the connection that holds the service's lock was lost");
                held = None;
            }
        }
        if held.is_none()
            && let Ok(Ok(mut connection)) =
                tokio::time::timeout(CONNECTING, PgConnection::connect(&url)).await
            && fence.is_ours(database.get_postgres_connection_pool()).await.is_ok_and(|ours| ours)
            && try_lock(&mut connection).await.is_ok_and(|taken| taken)
        {
            tracing::info!("the service's lock is held again");
            held = Some(connection);
        }
    }
}
