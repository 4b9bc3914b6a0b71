//! The property graph itself: values, value types, graph types, columns, adjacency, snapshots,
//! changes and statistics.
//!
//! Invariant: pure computation. Nothing here opens a socket, a file or a database, prints, or knows
//! the query language. Everything a reader sees is immutable: a [`Snapshot`] never changes.

mod adjacency;
mod base;
mod bound;
mod buckets;
mod change;
mod column;
mod counted;
mod counting;
mod decimal;
mod difference;
mod edge_extents;
mod error;
mod evolve;
mod extents;
mod finding_query;
mod folding;
mod graph_type;
mod ints;
mod keys;
mod labels;
mod lookups;
mod neighbours;
mod observed;
mod overlay;
mod properties;
mod quoting;
mod radix_heap;
mod range_index;
mod rebase;
mod renaming;
mod schema;
mod seeking;
mod snapshot;
mod statistics;
mod suspicions;
mod tables;
mod text;
mod types;
mod unit;
mod value;
mod value_kind;
mod view;
mod zone;

pub use adjacency::{Adjacency, Direction, ForwardBuilder};
pub use base::{Base, BaseParts, Collision, EdgePart, NodePart, StoredTables};
pub use bound::{
    BoundDefinition, BoundSource, DistanceBound, LANDMARKS, MOST_COORDINATES, MOST_LANDMARKS, TowardsNode,
    UsableBound,
};
pub use buckets::Buckets;
pub use change::{Change, NewEdge, NewNode, Transaction};
pub use column::{Column, ColumnBuilder, Pick, TextCodes, fold_text};
pub use counted::counted;
pub use decimal::{Decimal, DecimalError, DecimalSum, MAX_DIGITS};
pub use difference::{ElementDifference, differences, same_value};
pub use error::{Code, GraphError};
pub use evolve::{Difference, Migration, kept_lookups, migrate, rename_elements};
pub use extents::Extent;
pub use graph_type::{
    Cardinality, EdgeType, Element, Endpoint, GraphType, KeyDefinition, NodeType, PropertyType, Violation,
};
pub use ints::{Ints, IntsBuilder, Narrow, WholeNumbers, Width};
pub use keys::{ASK_EVERY, KeyIndex, hash_key, hash_values};
pub use labels::{LabelExpression, LabelSet, label_set};
pub use neighbours::{Passing, PlainPart, PlainRows};
pub use observed::{Finding, observed_type, violations};
pub use overlay::{EdgeRecord, NodeRecord};
pub use properties::Properties;
pub use quoting::quoted;
pub use radix_heap::RadixHeap;
pub use range_index::{IndexSearch, RangeIndex, ValueRange};
pub use rebase::{Touched, rebase};
pub use renaming::Renaming;
pub use schema::{Created, Schema, same_place};
pub use snapshot::{ColumnsByTable, EdgeTest, NodeTest, NumbersByTable, PropertyReader, Snapshot};
pub use statistics::{ColumnStatistics, DegreeStatistics, EdgeEnd, Statistics, Triple};
pub use suspicions::suspicions;
pub use tables::{EdgeTable, Ids, NodeTable};
pub use text::{parse_day, parse_text, parse_whole};
pub use types::{Field, ValueType};
pub use unit::{Measure, Unit};
pub use value::{Duration, MAX_VALUE_DEPTH, PathValue, Truth, Value};
pub use value_kind::ValueKind;
pub use view::ViewDefinition;
pub use zone::Zone;

/// Dense number of a node or edge inside one snapshot and the snapshots that follow it on the same
/// base. Not stable across a fold: outside, elements are named by their [`ElementId`].
pub type Dense = u32;

/// Stable identity of a node or edge within its graph, never reused.
pub type ElementId = u64;
