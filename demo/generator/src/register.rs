//! The register: part of the same data as a relational database holds it, with its keys, its foreign
//! keys, a self-reference and a join table, as an SQL script.

use std::io::Write;
use std::path::Path;

use crate::write::create;
use crate::{GenerateError, Made};

const SCHEMA: &str = "\
-- The made-up utility's register of works, as a relational database holds it. Running it again replaces it.
BEGIN;
DROP SCHEMA IF EXISTS register CASCADE;
CREATE SCHEMA register;
CREATE TABLE register.district (
  code text PRIMARY KEY,
  name text NOT NULL UNIQUE,
  population integer
);
CREATE TABLE register.site (
  code text PRIMARY KEY,
  name text NOT NULL,
  kind text NOT NULL,
  elevation_m double precision,
  capacity_m3 integer,
  opened date,
  district text NOT NULL REFERENCES register.district,
  maker text
);
CREATE TABLE register.crew (
  name text PRIMARY KEY,
  base text
);
CREATE TABLE register.work_order (
  number text PRIMARY KEY,
  kind text NOT NULL,
  opened date NOT NULL,
  closed date,
  cost numeric(10, 2),
  asset text,
  follows text REFERENCES register.work_order DEFERRABLE INITIALLY DEFERRED,
  reason text
);
CREATE TABLE register.work_order_crew (
  work_order text REFERENCES register.work_order,
  crew text REFERENCES register.crew,
  hours double precision,
  PRIMARY KEY (work_order, crew)
);
";

/// A table of the register, the file it is made of, and the columns taken, in the table's order.
const TABLES: [(&str, &str, &[&str]); 5] = [
    ("district", "districts", &["code", "name", "population"]),
    (
        "site",
        "asset_register",
        &["asset_code", "asset_name", "kind", "elevation", "capacity", "opened", "district", "maker"],
    ),
    ("crew", "crews", &["name", "base"]),
    (
        "work_order",
        "work_orders",
        &["number", "kind", "opened", "closed", "cost", "asset", "follows", "reason"],
    ),
    ("work_order_crew", "orders_crews", &["order_number", "crew", "hours"]),
];

/// Rows of one INSERT.
const ROWS: usize = 200;

/// Writes `register.sql` from the tables that are there already.
pub(crate) fn write(folder: &Path, made: &mut Made) -> Result<(), GenerateError> {
    let path = folder.join("register.sql");
    let failed =
        |e: std::io::Error| GenerateError::Write { path: path.display().to_string(), reason: e.to_string() };
    let mut out = create(&path)?;
    out.write_all(SCHEMA.as_bytes()).map_err(failed)?;
    for (table, file, columns) in TABLES {
        let source = folder.join(format!("tables/{file}.csv"));
        let unread = |e: csv::Error| GenerateError::Write {
            path: source.display().to_string(),
            reason: e.to_string(),
        };
        let mut reader = csv::Reader::from_path(&source).map_err(unread)?;
        let header = reader.headers().map_err(unread)?.clone();
        let places: Vec<usize> = columns.iter().filter_map(|c| header.iter().position(|h| h == *c)).collect();
        debug_assert_eq!(places.len(), columns.len(), "{file} has all columns");
        for (number, record) in reader.records().enumerate() {
            let record = record.map_err(unread)?;
            let value = |place: &usize| match record.get(*place) {
                None | Some("") => "NULL".to_string(),
                Some(text) => format!("'{}'", text.replace('\'', "''")),
            };
            let values: Vec<String> = places.iter().map(value).collect();
            let before = match number {
                0 => format!("INSERT INTO register.{table} VALUES\n"),
                n if n % ROWS == 0 => format!(";\nINSERT INTO register.{table} VALUES\n"),
                _ => ",\n".to_string(),
            };
            write!(out, "{before}({})", values.join(", ")).map_err(failed)?;
            made.rows += 1;
        }
        writeln!(out, ";").map_err(failed)?;
    }
    writeln!(out, "COMMIT;").and_then(|()| out.flush()).map_err(failed)?;
    made.files += 1;
    Ok(())
}
