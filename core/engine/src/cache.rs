//! Plan cache: plans kept for requests with the same text or shape. A plan refers to its base's tables by number,
//! so it is valid as long as that base; it is replaced when the graph has grown much.

use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use graphodrome_graph::{Base, Snapshot, Value};
use graphodrome_language::Diagnostics;
use graphodrome_language::ast::{Query, Statement};
use graphodrome_language::parse;
use lru::LruCache;

use crate::Parameters;
use crate::execution::{Facts, Prepared, prepare_with};
use crate::rules::Rules;
use crate::shape::Shape;

/// Texts kept a graph; the one not asked for the longest goes first.
const TEXTS: NonZeroUsize = NonZeroUsize::new(512).unwrap();
/// Plans kept a text, where they are made for certain values.
const VARIANTS: usize = 8;
/// A graph that has grown or shrunk by more than this is planned for anew.
const GROWTH: f64 = 1.5;

struct Plan {
    prepared: Arc<Prepared>,
    base: Weak<Base>,
    label_sets: usize,
    nodes: u64,
    edges: u64,
}

/// The plan that serves these parameters; those that are out of date go.
fn serving(plans: &mut Vec<Plan>, snapshot: &Snapshot, parameters: &Parameters) -> Option<Arc<Prepared>> {
    plans.retain(|plan| plan.holds_for(snapshot));
    plans.iter().find(|plan| plan.prepared.serves(parameters)).map(|plan| plan.prepared.clone())
}

fn with_literals(parameters: &Parameters, literals: &[(String, Value)]) -> Parameters {
    let mut all = parameters.clone();
    all.extend(literals.iter().cloned());
    all
}

impl Plan {
    fn new(prepared: Arc<Prepared>, snapshot: &Snapshot) -> Plan {
        Plan {
            prepared,
            base: Arc::downgrade(&snapshot.base),
            label_sets: snapshot.overlay_label_sets(),
            nodes: snapshot.node_count(),
            edges: snapshot.edge_count(),
        }
    }

    fn holds_for(&self, snapshot: &Snapshot) -> bool {
        let near = |then: u64, now: u64| {
            let (then, now) = (then as f64 + 100.0, now as f64 + 100.0);
            now <= then * GROWTH && then <= now * GROWTH
        };
        std::ptr::eq(self.base.as_ptr(), Arc::as_ptr(&snapshot.base))
            && self.label_sets == snapshot.overlay_label_sets()
            && near(self.nodes, snapshot.node_count())
            && near(self.edges, snapshot.edge_count())
    }
}

/// What is kept of texts of one shape.
#[derive(Default)]
struct OfShape {
    plans: Vec<Plan>,
    /// A plan of the shape would not serve the texts: their columns are named by what stands in them, or the
    /// plan depends on their literals.
    unlike: bool,
}

/// A plan with the literals of the text that it was found for, where it is a plan of the text's shape.
pub struct Found {
    pub prepared: Arc<Prepared>,
    /// Parameters to add to the request's. Positions in such a plan are those of no text: where it fails, a plan
    /// of the text itself says where.
    pub literals: Vec<(String, Value)>,
}

/// By text.
struct KeptPlans {
    plans: LruCache<String, Vec<Plan>>,
    shapes: LruCache<String, OfShape>,
    facts: Option<(Weak<Base>, u64, Arc<Facts>)>,
}

/// The plans of one graph.
pub struct PlanCache {
    kept: Mutex<KeptPlans>,
}

impl Default for PlanCache {
    fn default() -> PlanCache {
        let (plans, shapes) = (LruCache::new(TEXTS), LruCache::new(TEXTS));
        PlanCache { kept: Mutex::new(KeptPlans { plans, shapes, facts: None }) }
    }
}

/// Adds a plan; of many the first one goes.
fn keep_plan(plans: &mut Vec<Plan>, plan: Plan) {
    if plans.len() >= VARIANTS {
        plans.remove(0);
    }
    plans.push(plan);
}

impl PlanCache {
    fn kept(&self) -> MutexGuard<'_, KeptPlans> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A plan for this text that serves these parameters on this snapshot.
    pub fn find(&self, text: &str, snapshot: &Snapshot, parameters: &Parameters) -> Option<Found> {
        let mut kept = self.kept();
        if let Some(plans) = kept.plans.get_mut(text) {
            let prepared = serving(plans, snapshot, parameters)?;
            return Some(Found { prepared, literals: vec![] });
        }
        if kept.shapes.is_empty() {
            return None;
        }
        drop(kept);
        let Shape { text, literals } = Shape::of(text)?;
        let mut kept = self.kept();
        let shape = kept.shapes.get_mut(&text)?;
        let parameters = with_literals(parameters, &literals);
        Some(Found { prepared: serving(&mut shape.plans, snapshot, &parameters)?, literals })
    }

    /// Checks and plans a query, and with `keep` keeps the plan for the next request with `text`.
    pub fn prepare(
        &self, query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters, keep: bool,
    ) -> Result<Arc<Prepared>, Diagnostics> {
        let facts = self.facts(snapshot);
        let prepared = Arc::new(prepare_with(&facts, query, text, snapshot, parameters, Rules::all())?);
        // A warning may be about a name that is unknown now: it must be looked up again.
        if keep && prepared.warnings.is_empty() {
            self.keep_shape(&facts, text, &prepared, snapshot, parameters);
            let mut kept = self.kept();
            let plans = kept.plans.get_or_insert_mut(text.to_string(), Vec::new);
            keep_plan(plans, Plan::new(prepared.clone(), snapshot));
        }
        Ok(prepared)
    }

    /// Notes a text's shape, and from its second text on keeps a plan of it for others.
    fn keep_shape(
        &self, facts: &Facts, text: &str, prepared: &Prepared, snapshot: &Snapshot, parameters: &Parameters,
    ) {
        let Some(Shape { text, literals }) = Shape::of(text) else { return };
        {
            let mut kept = self.kept();
            match kept.shapes.get(&text) {
                None => {
                    kept.shapes.put(text, OfShape::default());
                    return;
                }
                Some(shape) if shape.unlike => return,
                Some(_) => {}
            }
        }
        let parameters = with_literals(parameters, &literals);
        let made = match parse(&text).ok().and_then(|mut statements| statements.pop()) {
            Some(Statement::Query(query)) => {
                prepare_with(facts, &query, &text, snapshot, &parameters, Rules::all()).ok()
            }
            _ => None,
        };
        let like = |made: &Prepared| {
            made.columns == prepared.columns && made.warnings.is_empty() && !made.depends_on(&literals)
        };
        let made = made.filter(like);
        if let Some(shape) = self.kept().shapes.get_mut(&text) {
            match made {
                None => shape.unlike = true,
                Some(made) => keep_plan(&mut shape.plans, Plan::new(Arc::new(made), snapshot)),
            }
        }
    }

    /// Names and counts of a version, found once.
    fn facts(&self, snapshot: &Snapshot) -> Arc<Facts> {
        {
            let kept = self.kept();
            if let Some((base, version, facts)) = &kept.facts
                && *version == snapshot.version
                && std::ptr::eq(base.as_ptr(), Arc::as_ptr(&snapshot.base))
            {
                return facts.clone();
            }
        }
        let facts = Arc::new(Facts::of(snapshot));
        let entry = (Arc::downgrade(&snapshot.base), snapshot.version, facts.clone());
        self.kept().facts = Some(entry);
        facts
    }
}
