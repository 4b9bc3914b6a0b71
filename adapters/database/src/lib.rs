//! Tables of a foreign PostgreSQL database as sources for drafts: their rows as CSV, and their declared keys and
//! types.
//!
//! Invariant: read-only. Everything happens in one read-only transaction, so that all tables are from one moment.

use std::collections::BTreeMap;

use futures::TryStreamExt;
use graphodrome_formats::{ColumnKind, Declared, DeclaredReference};
use sea_orm::sqlx::postgres::PgConnection;
use sea_orm::sqlx::{self, Column as _, Connection, Executor, Row, SqlSafeStr, Statement, TypeInfo};

/// A table and what is declared of it.
pub struct ForeignTable {
    pub name: String,
    /// With a header; no value is an empty field.
    pub csv: Vec<u8>,
    pub declared: Declared,
}

#[derive(Debug, thiserror::Error)]
pub enum DatabaseError {
    #[error("PostgreSQL: {0}")]
    Driver(#[from] sqlx::Error),
    #[error("the rows cannot be kept: {0}")]
    Write(#[from] std::io::Error),
    #[error("the schema {0} has no table; the database has {1}")]
    NoTable(String, String),
}

struct Column {
    name: String,
    kind: ColumnKind,
    /// The expression that gives the column's text as it is drafted and loaded from.
    text: String,
}

/// `name` as SQL writes it.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// What a column of an SQL type holds, and how its text is asked for.
fn column(name: String, sql_type: &str, precision: Option<i32>, scale: Option<i32>) -> Column {
    let own = quoted(&name);
    let moment = |of: &str, zone: &str| format!("to_char({of}, 'YYYY-MM-DD\"T\"HH24:MI:SS.US{zone}')");
    let (kind, text) = match sql_type {
        "smallint" | "integer" | "bigint" => (ColumnKind::Whole, format!("{own}::text")),
        "real" | "double precision" => (ColumnKind::Float, format!("{own}::text")),
        "numeric" => match (precision, scale) {
            (Some(digits), Some(scale)) if (1..=28).contains(&digits) && (0..=digits).contains(&scale) => {
                (ColumnKind::Decimal { digits: digits as u32, scale: scale as u32 }, format!("{own}::text"))
            }
            _ => (ColumnKind::Float, format!("{own}::text")),
        },
        "boolean" => (ColumnKind::Bool, format!("{own}::text")),
        "date" => (ColumnKind::Date, format!("to_char({own}, 'YYYY-MM-DD')")),
        "timestamp without time zone" => (ColumnKind::LocalDateTime, moment(&own, "")),
        "timestamp with time zone" => {
            (ColumnKind::ZonedDateTime, moment(&format!("({own} AT TIME ZONE 'UTC')"), "\"Z\""))
        }
        _ => (ColumnKind::Text, format!("{own}::text")),
    };
    Column { name, kind, text }
}

/// The rows of a query, or of a table, as CSV with a header, written as they come; null is written as
/// `null`. Returns the number of bytes.
pub async fn query_csv(
    url: &str, query: &str, null: &str, out: &mut (dyn std::io::Write + Send),
) -> Result<u64, DatabaseError> {
    let mut connection = PgConnection::connect(url).await?;
    let mut transaction = connection.begin().await?;
    sqlx::query("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        .execute(&mut *transaction)
        .await?;
    let query = query.trim().trim_end_matches(';');
    let is_name = !query.contains(char::is_whitespace) && !query.contains('(');
    let query = if is_name { format!("SELECT * FROM {query}") } else { query.to_string() };
    // What the columns are, without a row of them.
    let none = format!("SELECT * FROM ({query}) AS q LIMIT 0");
    let described = (&mut *transaction).prepare(sqlx::AssertSqlSafe(none).into_sql_str()).await?;
    let columns = described.columns().iter().map(|c| {
        let made = column(c.name().to_string(), sql_type_of(c.type_info().name()), None, None);
        format!("{} AS {}", made.text, quoted(&made.name))
    });
    let columns: Vec<String> = columns.collect();
    let null = null.replace('\'', "''");
    let copy = format!(
        "COPY (SELECT {} FROM ({query}) AS q) TO STDOUT (FORMAT csv, HEADER, NULL '{null}')",
        columns.join(", ")
    );
    let mut total = 0u64;
    {
        let mut rows = transaction.copy_out_raw(&copy).await?;
        while let Some(chunk) = rows.try_next().await? {
            total += chunk.len() as u64;
            out.write_all(&chunk)?;
        }
    }
    transaction.commit().await?;
    Ok(total)
}

/// The name that the information schema has for a type of the driver's.
fn sql_type_of(name: &str) -> &'static str {
    match name {
        "INT2" | "INT4" | "INT8" => "bigint",
        "FLOAT4" | "FLOAT8" => "double precision",
        "BOOL" => "boolean",
        "DATE" => "date",
        "TIMESTAMP" => "timestamp without time zone",
        "TIMESTAMPTZ" => "timestamp with time zone",
        _ => "text",
    }
}

/// Every table of a schema, in the order of their names. `file_of` says what the mapping will call a
/// table's file.
pub async fn schema_tables(
    url: &str, schema: &str, file_of: &(dyn Fn(&str) -> String + Sync),
) -> Result<Vec<ForeignTable>, DatabaseError> {
    let mut connection = PgConnection::connect(url).await?;
    let mut transaction = connection.begin().await?;
    sqlx::query("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        .execute(&mut *transaction)
        .await?;
    let names: Vec<String> = sqlx::query(
        "SELECT table_name::text FROM information_schema.tables
         WHERE table_schema = $1 AND table_type = 'BASE TABLE' ORDER BY table_name",
    )
    .bind(schema)
    .fetch_all(&mut *transaction)
    .await?
    .iter()
    .map(|row| row.try_get(0))
    .collect::<Result<_, _>>()?;
    if names.is_empty() {
        let schemas = sqlx::query(
            "SELECT DISTINCT table_schema::text FROM information_schema.tables
             WHERE table_type = 'BASE TABLE' AND table_schema NOT IN ('pg_catalog', 'information_schema')
             ORDER BY 1",
        )
        .fetch_all(&mut *transaction)
        .await?;
        let known: Vec<String> = schemas.iter().map(|row| row.try_get(0)).collect::<Result<_, _>>()?;
        let known = match known.is_empty() {
            true => "no table in any schema".to_string(),
            false => format!("tables in {}", known.join(", ")),
        };
        return Err(DatabaseError::NoTable(schema.to_string(), known));
    }
    let mut tables = vec![];
    for name in names {
        let columns: Vec<Column> = sqlx::query(
            "SELECT column_name::text, data_type::text, numeric_precision::int, numeric_scale::int
             FROM information_schema.columns WHERE table_schema = $1 AND table_name = $2
             ORDER BY ordinal_position",
        )
        .bind(schema)
        .bind(&name)
        .fetch_all(&mut *transaction)
        .await?
        .iter()
        .map(|row| {
            let sql_type: String = row.try_get(1)?;
            Ok(column(row.try_get(0)?, &sql_type, row.try_get(2)?, row.try_get(3)?))
        })
        .collect::<Result<_, sqlx::Error>>()?;
        let declared = Declared {
            kinds: columns.iter().map(|c| (c.name.clone(), c.kind)).collect(),
            primary_key: key_columns(&mut transaction, schema, &name).await?,
            references: references(&mut transaction, schema, &name, file_of).await?,
        };
        let texts: Vec<String> =
            columns.iter().map(|c| format!("{} AS {}", c.text, quoted(&c.name))).collect();
        let query = format!("SELECT {} FROM {}.{}", texts.join(", "), quoted(schema), quoted(&name));
        // In the order of the key, so that the same rows give the same file.
        let order: Vec<String> = declared.primary_key.iter().map(|c| quoted(c)).collect();
        let order = if order.is_empty() { String::new() } else { format!(" ORDER BY {}", order.join(", ")) };
        let copy = format!("COPY ({query}{order}) TO STDOUT (FORMAT csv, HEADER)");
        let mut csv = vec![];
        {
            let mut rows = transaction.copy_out_raw(&copy).await?;
            while let Some(chunk) = rows.try_next().await? {
                csv.extend_from_slice(&chunk);
            }
        }
        tables.push(ForeignTable { name, csv, declared });
    }
    transaction.rollback().await?;
    Ok(tables)
}

/// The columns of a table's primary key, in its order.
async fn key_columns(
    connection: &mut PgConnection, schema: &str, table: &str,
) -> Result<Vec<String>, sqlx::Error> {
    let rows = sqlx::query(
        "SELECT a.attname::text FROM pg_constraint c
         CROSS JOIN LATERAL unnest(c.conkey) WITH ORDINALITY AS k (number, place)
         JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.number
         JOIN pg_class t ON t.oid = c.conrelid JOIN pg_namespace n ON n.oid = t.relnamespace
         WHERE c.contype = 'p' AND n.nspname = $1 AND t.relname = $2 ORDER BY k.place",
    )
    .bind(schema)
    .bind(table)
    .fetch_all(connection)
    .await?;
    rows.iter().map(|row| row.try_get(0)).collect()
}

/// A table's foreign keys to tables of the same schema.
async fn references(
    connection: &mut PgConnection, schema: &str, table: &str, file_of: &(dyn Fn(&str) -> String + Sync),
) -> Result<Vec<DeclaredReference>, sqlx::Error> {
    let rows = sqlx::query(
        "SELECT c.conname::text, f.relname::text, a.attname::text, b.attname::text FROM pg_constraint c
         CROSS JOIN LATERAL unnest(c.conkey, c.confkey) WITH ORDINALITY AS k (own, other, place)
         JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.own
         JOIN pg_attribute b ON b.attrelid = c.confrelid AND b.attnum = k.other
         JOIN pg_class t ON t.oid = c.conrelid JOIN pg_namespace n ON n.oid = t.relnamespace
         JOIN pg_class f ON f.oid = c.confrelid
         WHERE c.contype = 'f' AND n.nspname = $1 AND t.relname = $2 AND f.relnamespace = n.oid
         ORDER BY c.conname, k.place",
    )
    .bind(schema)
    .bind(table)
    .fetch_all(connection)
    .await?;
    let mut found: BTreeMap<String, DeclaredReference> = BTreeMap::new();
    for row in &rows {
        let (name, other): (String, String) = (row.try_get(0)?, row.try_get(1)?);
        let reference = found.entry(name).or_insert_with(|| DeclaredReference {
            columns: vec![],
            file: file_of(&other),
            to: vec![],
        });
        reference.columns.push(row.try_get(2)?);
        reference.to.push(row.try_get(3)?);
    }
    Ok(found.into_values().collect())
}
