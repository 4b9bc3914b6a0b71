//! Operators, one in each file: inputs, outputs, and description.

mod aggregate;
mod arms;
mod call_procedure;
mod check_exists;
mod checks;
mod combine;
mod common_counts;
mod compute;
mod count_triangles;
mod count_walks;
mod cross_join;
mod delete_elements;
mod distinct;
mod edges_by_value;
mod exact_sum;
mod fetch_value;
mod filter;
mod fold_paths;
mod follow_edges;
mod for_each;
mod for_rows;
mod group;
mod group_keys;
mod group_parts;
mod group_totals;
mod grouping;
mod hash_join;
mod inner_rows;
mod insert_elements;
mod intersect_edges;
mod list_triangles;
mod listed_values;
mod merge_ends;
pub(crate) mod merge_rows;
mod order;
mod outer_rows;
mod page;
mod per_row;
mod percentiles;
mod plain_edges;
mod probe_edge;
mod range_join;
mod reach;
mod reach_in_order;
mod reach_within;
mod return_rows;
mod rings_both_ways;
mod scan_nodes;
mod search_paths;
mod seek_edges;
mod seek_index;
mod seek_key;
mod set_properties;
mod share_out;
pub(crate) mod shortest_paths;
mod sorted;
mod tables;
mod top_part;
mod totals;
mod values;

pub(crate) use aggregate::{Accumulator, follows};
pub(crate) use arms::{Arm, IntersectEdges};
pub(crate) use call_procedure::CallProcedure;
pub(crate) use check_exists::CheckExists;
pub(crate) use checks::{EdgeCheck, NodeCheck};
pub(crate) use combine::Combine;
pub(crate) use compute::Compute;
pub(crate) use count_triangles::CountTriangles;
pub(crate) use count_walks::CountWalks;
pub(crate) use cross_join::CrossJoin;
pub(crate) use delete_elements::DeleteElements;
pub(crate) use distinct::Distinct;
pub(crate) use edges_by_value::ComparedValues;
pub(crate) use fetch_value::FetchValue;
pub(crate) use filter::Filter;
pub(crate) use fold_paths::{FoldPaths, Folding};
pub(crate) use follow_edges::FollowEdges;
pub(crate) use for_each::ForEach;
pub(crate) use for_rows::ForRows;
pub(crate) use group_parts::GroupParts;
pub(crate) use grouping::{AggregateSpec, Group};
pub(crate) use hash_join::{HashJoin, JoinSide};
pub(crate) use insert_elements::{FindSpec, InsertEdgeSpec, InsertElements, InsertNodeSpec};
pub(crate) use list_triangles::{ListTriangles, NODES};
pub(crate) use listed_values::ListedValues;
pub(crate) use merge_ends::MergeEnds;
pub(crate) use order::{Order, SortSpec};
pub(crate) use outer_rows::{OneRow, OuterRows};
pub(crate) use page::Page as PageRows;
pub(crate) use per_row::PerRow;
pub(crate) use probe_edge::ProbeEdge;
pub(crate) use range_join::{Comparison, RangeJoin};
pub(crate) use reach::Reach;
pub(crate) use reach_in_order::ReachInOrder;
pub(crate) use reach_within::ReachWithin;
pub(crate) use return_rows::ReturnRows;
pub(crate) use scan_nodes::ScanNodes;
pub(crate) use search_paths::SearchPaths;
pub(crate) use seek_edges::SeekEdges;
pub(crate) use seek_index::SeekIndex;
pub(crate) use seek_key::SeekKey;
pub(crate) use set_properties::{ChangeSpec, PropertyChange, SetProperties};
pub(crate) use share_out::ShareOut;
pub(crate) use shortest_paths::ShortestPaths;
pub(crate) use sorted::seek;
pub(crate) use tables::{AfterAll, AttachRow, ReadTable, WithTable};
pub(crate) use top_part::TopPart;

use crate::batch::Batch;
use crate::context::Context;
use crate::outcome::Outcome;
use crate::plan::Input;

/// Drains an input into one batch, accounting for its memory. `None` where there is no row.
pub(crate) fn drain(input: &mut Input, context: &mut Context) -> Outcome<Option<Batch>> {
    let mut all: Option<Batch> = None;
    while let Some(batch) = input.next(context)? {
        context.reserve(batch.bytes())?;
        match &mut all {
            Some(all) => all.append(batch),
            None => all = Some(batch),
        }
    }
    Ok(all)
}
