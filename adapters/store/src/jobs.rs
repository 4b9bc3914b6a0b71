//! Jobs and rejects as records, which outlive the service process.

use graphodrome_records::{Job, JobState, Reject, RejectKind};
use sea_orm::{
    ActiveModelTrait, ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter, QueryOrder,
    QuerySelect,
};

use crate::entities::{job, reject};
use crate::texts::{legible, legible_json};
use crate::{Catalog, StoreError};

/// Rejects are written in groups of this many.
const REJECT_ROWS: usize = 2_000;

fn job_of(row: job::Model) -> Result<Job, StoreError> {
    let unknown = || StoreError::Damaged(format!("job {} has the unknown state {}", row.id, row.state));
    Ok(Job {
        id: row.id,
        state: JobState::named(&row.state).ok_or_else(unknown)?,
        kind: row.kind,
        graph: row.graph,
        title: row.title,
        started: row.started.to_rfc3339(),
        finished: row.finished.map(|t| t.to_rfc3339()),
        progress: None,
        detail: row.detail,
    })
}

fn reject_of(row: reject::Model) -> Result<Reject, StoreError> {
    let unknown =
        || StoreError::Damaged(format!("a reject of job {} is of the unknown kind {}", row.job_id, row.kind));
    Ok(Reject {
        kind: RejectKind::named(&row.kind).ok_or_else(unknown)?,
        table: row.source_table,
        line: row.line as u64,
        column: row.column_name,
        value: row.value,
        reason: row.reason,
        record: row.record,
    })
}

impl Catalog {
    /// A job that was running when the service died did not finish, and published nothing.
    pub(crate) async fn fail_unfinished_jobs(&self) -> Result<(), StoreError> {
        let unfinished = job::Entity::find()
            .filter(job::Column::State.eq(JobState::Running.name()))
            .all(&self.database)
            .await?;
        for row in unfinished {
            let mut row: job::ActiveModel = row.into();
            row.state = Set(JobState::Failed.name().into());
            row.detail = Set(
                serde_json::json!({ "error": "the service stopped while the job was running; nothing of it was published" }),
            );
            row.finished = Set(Some(chrono::Utc::now().fixed_offset()));
            row.update(&self.database).await?;
        }
        Ok(())
    }

    pub async fn create_job(&self, kind: &str, graph: &str, title: &str) -> Result<Job, StoreError> {
        let row = job::ActiveModel {
            kind: Set(kind.into()),
            graph: Set(graph.into()),
            state: Set(JobState::Running.name().into()),
            title: Set(legible(title)),
            detail: Set(serde_json::json!({})),
            started: Set(chrono::Utc::now().fixed_offset()),
            finished: Set(None),
            ..Default::default()
        };
        job_of(row.insert(&self.database).await?)
    }

    pub async fn finish_job(
        &self, id: i64, state: JobState, detail: serde_json::Value,
    ) -> Result<(), StoreError> {
        let row = job::ActiveModel {
            id: Set(id),
            state: Set(state.name().into()),
            detail: Set(legible_json(detail)),
            finished: Set(Some(chrono::Utc::now().fixed_offset())),
            ..Default::default()
        };
        row.update(&self.database).await?;
        Ok(())
    }

    pub async fn jobs(&self, limit: u64) -> Result<Vec<Job>, StoreError> {
        let rows =
            job::Entity::find().order_by_desc(job::Column::Id).limit(limit).all(&self.database).await?;
        rows.into_iter().map(job_of).collect()
    }

    pub async fn job(&self, id: i64) -> Result<Option<Job>, StoreError> {
        job::Entity::find_by_id(id).one(&self.database).await?.map(job_of).transpose()
    }

    pub async fn add_rejects(&self, job_id: i64, rejects: &[Reject]) -> Result<(), StoreError> {
        for group in rejects.chunks(REJECT_ROWS) {
            let rows = group.iter().map(|r| reject::ActiveModel {
                job_id: Set(job_id),
                source_table: Set(legible(&r.table)),
                line: Set(r.line as i64),
                column_name: Set(r.column.as_deref().map(legible)),
                value: Set(r.value.as_deref().map(legible)),
                kind: Set(r.kind.name().into()),
                reason: Set(legible(&r.reason)),
                record: Set(legible(&r.record)),
                ..Default::default()
            });
            reject::Entity::insert_many(rows).exec_without_returning(&self.database).await?;
        }
        Ok(())
    }

    pub async fn rejects(
        &self, job_id: i64, offset: u64, limit: u64,
    ) -> Result<(u64, Vec<Reject>), StoreError> {
        // PostgreSQL counts to INT64.
        let offset = offset.min(i64::MAX as u64);
        let of_job = reject::Entity::find().filter(reject::Column::JobId.eq(job_id));
        let total = of_job.clone().count(&self.database).await?;
        let rows =
            of_job.order_by_asc(reject::Column::Id).offset(offset).limit(limit).all(&self.database).await?;
        Ok((total, rows.into_iter().map(reject_of).collect::<Result<_, _>>()?))
    }

    /// Tables with rejects of a job, and how many each has.
    pub async fn rejected_tables(&self, job_id: i64) -> Result<Vec<(String, i64)>, StoreError> {
        let counts = reject::Entity::find()
            .select_only()
            .column(reject::Column::SourceTable)
            .column_as(reject::Column::Id.count(), "rejects")
            .filter(reject::Column::JobId.eq(job_id))
            .group_by(reject::Column::SourceTable)
            .order_by_asc(reject::Column::SourceTable);
        Ok(counts.into_tuple().all(&self.database).await?)
    }

    /// All rejects of a job's table.
    pub async fn rejects_of(&self, job_id: i64, table: &str) -> Result<Vec<Reject>, StoreError> {
        let found = reject::Entity::find()
            .filter(reject::Column::JobId.eq(job_id))
            .filter(reject::Column::SourceTable.eq(table))
            .order_by_asc(reject::Column::Id);
        found.all(&self.database).await?.into_iter().map(reject_of).collect()
    }
}
