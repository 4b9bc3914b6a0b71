//! SeaORM entities, one a table.

pub mod baseline;
pub mod commit;
pub mod drawing;
pub mod graph;
pub mod graph_type;
pub mod job;
pub mod look;
pub mod manifest;
pub mod notebook;
pub mod procedure;
pub mod reject;
pub mod run;
pub mod saved_query;
pub mod segment;
