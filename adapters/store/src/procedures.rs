//! Modules of procedures as records: every upload is a version, one of which is called.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder, QuerySelect,
    TransactionTrait,
};

use crate::entities::procedure::{self, Column};
use crate::{Catalog, StoreError};

/// Versions of a procedure that stay.
const MOST_VERSIONS: u64 = 20;

/// A version of a procedure.
#[derive(Clone, Debug, PartialEq)]
pub struct ProcedureRecord {
    pub name: String,
    pub version: i64,
    /// The one that is called.
    pub current: bool,
    pub bytes: u64,
    pub signature: String,
    pub about: String,
    pub steps: u64,
    pub memory_bytes: u64,
    pub time_ms: u64,
    /// The graphs that it may be called over; `None`: all.
    pub graphs: Option<Vec<String>>,
    pub uploaded: String,
    pub uploaded_by: String,
}

/// What is uploaded.
#[derive(Clone, Debug)]
pub struct NewProcedure {
    pub name: String,
    pub module: Vec<u8>,
    pub signature: String,
    pub about: String,
    pub steps: u64,
    pub memory_bytes: u64,
    pub time_ms: u64,
    pub graphs: Option<Vec<String>>,
    pub uploaded_by: String,
}

fn whole(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

fn record(row: procedure::Model) -> ProcedureRecord {
    ProcedureRecord {
        bytes: row.module.len() as u64,
        name: row.name,
        version: row.version,
        current: row.current,
        signature: row.signature,
        about: row.about,
        steps: row.steps as u64,
        memory_bytes: row.memory_bytes as u64,
        time_ms: row.time_ms as u64,
        graphs: row.graphs.and_then(|graphs| serde_json::from_value(graphs).ok()),
        uploaded: row.uploaded.to_rfc3339(),
        uploaded_by: row.uploaded_by,
    }
}

impl Catalog {
    /// Those that are called, by name, with their modules; a module that is damaged is told.
    pub async fn procedures(&self) -> Result<Vec<(ProcedureRecord, Vec<u8>)>, StoreError> {
        let current = procedure::Entity::find().filter(Column::Current.eq(true));
        let rows = current.order_by_asc(Column::Name).all(&self.database).await?;
        let mut found = vec![];
        for row in rows {
            if crc32fast::hash(&row.module) as i64 != row.checksum {
                tracing::error!(
                    procedure = row.name,
                    "the stored module has a wrong checksum and is not called"
                );
                continue;
            }
            let module = row.module.clone();
            found.push((record(row), module));
        }
        Ok(found)
    }

    /// All versions of one, the newest first; none where there is no such procedure.
    pub async fn procedure_versions(&self, name: &str) -> Result<Vec<ProcedureRecord>, StoreError> {
        if name.contains('\0') {
            return Ok(vec![]);
        }
        let all = procedure::Entity::find().filter(Column::Name.eq(name)).order_by_desc(Column::Version);
        Ok(all.all(&self.database).await?.into_iter().map(record).collect())
    }

    /// The module of a version; of the one that is called where none is named.
    pub async fn procedure_module(
        &self, name: &str, version: Option<i64>,
    ) -> Result<Option<Vec<u8>>, StoreError> {
        if name.contains('\0') {
            return Ok(None);
        }
        let one = procedure::Entity::find().filter(Column::Name.eq(name));
        let one = match version {
            Some(version) => one.filter(Column::Version.eq(version)),
            None => one.filter(Column::Current.eq(true)),
        };
        let Some(row) = one.one(&self.database).await? else { return Ok(None) };
        match crc32fast::hash(&row.module) as i64 == row.checksum {
            true => Ok(Some(row.module)),
            false => Err(StoreError::Damaged(format!("the module of {name} has a wrong checksum"))),
        }
    }

    /// Keeps a module as the version that is called from now on; the same module with the same limits is no new version.
    /// Versions that are too many go, the oldest first.
    pub async fn add_procedure(&self, new: NewProcedure) -> Result<ProcedureRecord, StoreError> {
        let transaction = self.database.begin().await?;
        let of_name = || procedure::Entity::find().filter(Column::Name.eq(&new.name));
        let known = of_name().order_by_desc(Column::Version).lock_exclusive().all(&transaction).await?;
        let graphs = match &new.graphs {
            Some(graphs) => {
                Some(serde_json::to_value(graphs).map_err(|e| StoreError::Damaged(e.to_string()))?)
            }
            None => None,
        };
        let limits = (whole(new.steps), whole(new.memory_bytes), whole(new.time_ms));
        if let Some(current) = known.iter().find(|row| row.current)
            && current.module == new.module
            && (current.steps, current.memory_bytes, current.time_ms) == limits
            && current.graphs == graphs
        {
            return Ok(record(current.clone()));
        }
        let version = known.first().map_or(1, |row| row.version + 1);
        let none = procedure::Entity::update_many().col_expr(Column::Current, Expr::value(false));
        none.filter(Column::Name.eq(&new.name)).exec(&transaction).await?;
        let row = procedure::ActiveModel {
            name: Set(new.name.clone()),
            version: Set(version),
            current: Set(true),
            checksum: Set(crc32fast::hash(&new.module) as i64),
            module: Set(new.module),
            signature: Set(new.signature),
            about: Set(new.about),
            steps: Set(limits.0),
            memory_bytes: Set(limits.1),
            time_ms: Set(limits.2),
            graphs: Set(graphs),
            uploaded: Set(chrono::Utc::now().fixed_offset()),
            uploaded_by: Set(new.uploaded_by),
        };
        let row = procedure::Entity::insert(row).exec_with_returning(&transaction).await?;
        let oldest = version - MOST_VERSIONS as i64;
        let old = procedure::Entity::delete_many().filter(Column::Name.eq(&new.name));
        old.filter(Column::Version.lte(oldest)).exec(&transaction).await?;
        transaction.commit().await?;
        Ok(record(row))
    }

    /// Makes a version the one that is called. False where there is none.
    pub async fn use_procedure(&self, name: &str, version: i64) -> Result<bool, StoreError> {
        if name.contains('\0') {
            return Ok(false);
        }
        let transaction = self.database.begin().await?;
        let one = procedure::Entity::find().filter(Column::Name.eq(name)).filter(Column::Version.eq(version));
        if one.count(&transaction).await? == 0 {
            return Ok(false);
        }
        for (is_it, current) in [(false, false), (true, true)] {
            let rows = procedure::Entity::update_many().col_expr(Column::Current, Expr::value(current));
            let rows = rows.filter(Column::Name.eq(name));
            let rows = if is_it { rows.filter(Column::Version.eq(version)) } else { rows };
            rows.exec(&transaction).await?;
        }
        transaction.commit().await?;
        Ok(true)
    }

    /// Forgets every version. False where there was none.
    pub async fn remove_procedure(&self, name: &str) -> Result<bool, StoreError> {
        if name.contains('\0') {
            return Ok(false);
        }
        let all = procedure::Entity::delete_many().filter(Column::Name.eq(name));
        Ok(all.exec(&self.database).await?.rows_affected > 0)
    }
}
