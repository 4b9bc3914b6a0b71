//! A node's neighbourhood as a drawable subgraph: limited hops and nodes, sampled hubs, and exact counts of omitted
//! edges.

use std::collections::{BTreeMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::ops::ControlFlow;
use std::sync::Arc;
use std::time::Instant;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use graphodrome_engine::known_names;
use graphodrome_formats::element_json;
use graphodrome_graph::{Dense, Direction, Element, LabelExpression, LabelSet, Snapshot};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use utoipa::{IntoParams, ToSchema};

use crate::extract;
use crate::problem::Problem;
use crate::routes::elements::{direction_named, seek};
use crate::state::App;

#[derive(Clone, Debug, Deserialize, IntoParams)]
pub struct NeighbourhoodParameters {
    /// How far, 1 to 10; 1 without it.
    pub hops: Option<u32>,
    /// `out`, `in` or `any` (the default).
    pub direction: Option<String>,
    /// Labels of the edges, with commas between them; all without it.
    pub edges: Option<String>,
    /// Nodes at most, 1 to 5,000; 300 without it.
    pub limit: Option<usize>,
    /// Of one node's edges of one label and direction so many at most, drawn by the seed; 50 without it.
    pub sample: Option<usize>,
    /// The same seed draws the same edges; 1 without it.
    pub seed: Option<u64>,
}

/// Edges of a node that lead to what is not there.
#[derive(Debug, Serialize, ToSchema)]
pub struct LeftOut {
    /// The node's id.
    pub node: String,
    pub edge: String,
    /// Whether the edges lead `out` of the node, `in` to it, or are `undirected`.
    pub direction: &'static str,
    /// How many edges the node has of this label and direction.
    pub all: u64,
    /// How many of them are in the answer.
    pub shown: u64,
}

#[derive(Debug, Serialize, ToSchema)]
pub struct Neighbourhood {
    pub graph: String,
    pub version: u64,
    /// The node that was asked for first, then by hops.
    #[schema(value_type = Vec<Object>)]
    pub nodes: Vec<Json_>,
    /// By node the hop at which it was reached.
    pub hops: Vec<u32>,
    #[schema(value_type = Vec<Object>)]
    pub edges: Vec<Json_>,
    /// For each node that was gone on from, what was left out: by the sample, or because there were nodes enough.
    pub left_out: Vec<LeftOut>,
    /// Whether the limit of nodes was reached.
    pub full: bool,
    pub seed: u64,
}

const MOST_HOPS: u32 = 10;
const MOST_NODES: usize = 5_000;

/// Edges of one node with their other ends, by labels and direction.
type Groups = BTreeMap<(LabelSet, &'static str), Vec<(Dense, Dense)>>;

struct Spread<'s> {
    snapshot: &'s Snapshot,
    direction: Direction,
    wanted: Option<LabelExpression>,
    limit: usize,
    sample: usize,
    seed: u64,
    nodes: Vec<Dense>,
    hops: Vec<u32>,
    known: HashSet<Dense>,
    edges: HashSet<Dense>,
    /// Nodes of which some edges were not taken, by place.
    partly: Vec<usize>,
    full: bool,
    deadline: Instant,
}

impl Spread<'_> {
    fn groups(&self, node: Dense) -> Groups {
        let mut groups = Groups::new();
        let test = self.snapshot.edge_test(self.wanted.as_ref());
        self.snapshot.for_each_adjacent(node, self.direction, &test, |edge, other| {
            let way = match self.snapshot.edge_directed(edge) {
                false => "undirected",
                true if self.snapshot.edge_ends(edge).0 == node => "out",
                true => "in",
            };
            groups.entry((self.snapshot.edge_labels(edge), way)).or_default().push((edge, other));
            ControlFlow::Continue(())
        });
        groups
    }

    /// Those that the seed draws, in the order of their ids: the same whatever else was asked for.
    fn drawn(&self, mut edges: Vec<(Dense, Dense)>) -> Vec<(Dense, Dense)> {
        let id = |edge: Dense| self.snapshot.edge_id(edge);
        if edges.len() > self.sample {
            edges.sort_by_cached_key(|(edge, _)| {
                let mut hasher = DefaultHasher::new();
                (self.seed, id(*edge)).hash(&mut hasher);
                hasher.finish()
            });
            edges.truncate(self.sample);
        }
        edges.sort_by_key(|(edge, _)| id(*edge));
        edges
    }

    /// Asked once a node: the greatest hub is gone through in a moment.
    fn check(&self) -> Result<(), Problem> {
        if Instant::now() < self.deadline {
            return Ok(());
        }
        Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "the neighbourhood took longer than a query may")
            .hint("ask for fewer hops or nodes, or name the edges' labels"))
    }

    fn go_on(&mut self, hops: u32) -> Result<(), Problem> {
        let mut at = 0;
        while at < self.nodes.len() && self.hops[at] < hops {
            self.check()?;
            let (node, hop) = (self.nodes[at], self.hops[at]);
            let mut left = false;
            for (_, edges) in self.groups(node) {
                left |= edges.len() > self.sample;
                for (edge, other) in self.drawn(edges) {
                    if !self.known.contains(&other) {
                        if self.nodes.len() == self.limit {
                            self.full = true;
                            left = true;
                            continue;
                        }
                        self.known.insert(other);
                        self.nodes.push(other);
                        self.hops.push(hop + 1);
                    }
                    self.edges.insert(edge);
                }
            }
            self.partly.extend(left.then_some(at));
            at += 1;
        }
        Ok(())
    }

    /// Edges of the nodes that were gone on from which are not in the answer: one that was not drawn here may have been
    /// at its other end.
    fn left_out(&self) -> Result<Vec<LeftOut>, Problem> {
        let mut left_out = vec![];
        for &at in &self.partly {
            self.check()?;
            let node = self.nodes[at];
            for ((labels, direction), all) in self.groups(node) {
                let shown = all.iter().filter(|(e, _)| self.edges.contains(e)).count();
                if shown < all.len() {
                    let node = format!("n{}", self.snapshot.node_id(node));
                    left_out.push(LeftOut {
                        node,
                        edge: labels.join("&"),
                        direction,
                        all: all.len() as u64,
                        shown: shown as u64,
                    });
                }
            }
        }
        Ok(left_out)
    }
}

fn wanted(snapshot: &Snapshot, edges: Option<&str>) -> Result<Option<LabelExpression>, Problem> {
    let Some(edges) = edges else { return Ok(None) };
    let known = known_names(snapshot).edge_labels;
    let mut all: Option<LabelExpression> = None;
    for label in edges.split(',').map(str::trim).filter(|l| !l.is_empty()) {
        if !known.iter().any(|k| **k == *label) {
            let problem = Problem::not_found(format!("there is no edge label {label} in this graph"));
            return Err(match graphodrome_language::nearest(label, known.iter().map(|k| &**k)) {
                Some(near) => problem.hint(format!("did you mean {near}?")),
                None => problem,
            });
        }
        let one = LabelExpression::Name(label.into());
        all = Some(match all {
            None => one,
            Some(before) => LabelExpression::Or(Box::new(before), Box::new(one)),
        });
    }
    Ok(all)
}

fn within(name: &str, given: Option<usize>, usual: usize, most: usize) -> Result<usize, Problem> {
    let given = given.unwrap_or(usual);
    if (1..=most).contains(&given) {
        return Ok(given);
    }
    Err(Problem::bad_request(format!("{name} is {given}: it must be from 1 to {most}")))
}

/// A node's neighbourhood: its nodes and edges, and exact counts of what was left out.
#[utoipa::path(get, path = "/v1/graphs/{graph}/nodes/{label}/{key}/neighbourhood", tag = "elements",
    params(("graph" = String, Path), ("label" = String, Path), ("key" = String, Path), NeighbourhoodParameters),
    responses((status = 200, body = Neighbourhood), (status = 404, body = Problem)))]
pub async fn node_neighbourhood(
    State(app): State<Arc<App>>, extract::Path((graph, label, key)): extract::Path<(String, String, String)>,
    extract::Query(parameters): extract::Query<NeighbourhoodParameters>,
) -> Result<Json<Neighbourhood>, Problem> {
    let snapshot = app.graph(&graph)?.snapshot();
    let node = seek(&snapshot, Element::Node, &label, &Json_::String(key))?;
    let direction = direction_named(parameters.direction.as_deref())?;
    let wanted = wanted(&snapshot, parameters.edges.as_deref())?;
    let hops = within("hops", parameters.hops.map(|h| h as usize), 1, MOST_HOPS as usize)? as u32;
    let limit = within("limit", parameters.limit, 300, MOST_NODES)?;
    let sample = within("sample", parameters.sample, 50, MOST_NODES)?;
    let seed = parameters.seed.unwrap_or(1);
    // A hub has many edges: as a query it takes a slot, a time, and a thread that answers no requests.
    let time = app.limits.query_time;
    let slot = app.slot(time).await?;
    let deadline = Instant::now() + time;
    let found = tokio::task::spawn_blocking(move || {
        let _slot = slot;
        let mut spread = Spread {
            snapshot: &snapshot,
            direction,
            wanted,
            limit,
            sample,
            seed,
            nodes: vec![node],
            hops: vec![0],
            known: HashSet::from([node]),
            edges: HashSet::new(),
            partly: vec![],
            deadline,
            full: false,
        };
        spread.go_on(hops)?;
        let left_out = spread.left_out()?;
        let mut edges: Vec<Dense> = spread.edges.iter().copied().collect();
        edges.sort_by_key(|edge| snapshot.edge_id(*edge));
        Ok(Neighbourhood {
            graph,
            version: snapshot.version,
            left_out,
            nodes: spread.nodes.iter().map(|n| element_json(Element::Node, *n, &snapshot)).collect(),
            hops: spread.hops,
            edges: edges.into_iter().map(|e| element_json(Element::Edge, e, &snapshot)).collect(),
            full: spread.full,
            seed,
        })
    });
    found.await?.map(Json)
}
