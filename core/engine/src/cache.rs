//! Plans kept for the next request with the same text. A plan refers to its base's tables by number, so
//! it lives as long as that base; it is made anew when the graph has grown much since.

use std::sync::{Arc, Mutex, PoisonError, Weak};

use graphodrome_graph::{Base, Snapshot};
use graphodrome_language::Diagnostics;
use graphodrome_language::ast::Query;
use hashbrown::HashMap;

use crate::Parameters;
use crate::execution::{Facts, Prepared, prepare_with};

/// Texts kept a graph; the one not asked for the longest goes first.
const TEXTS: usize = 512;
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

impl Plan {
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

#[derive(Default)]
struct Kept {
    plans: HashMap<String, (u64, Vec<Plan>)>,
    facts: Option<(Weak<Base>, u64, Arc<Facts>)>,
    tick: u64,
}

/// The plans of one graph.
#[derive(Default)]
pub struct PlanCache {
    kept: Mutex<Kept>,
}

impl PlanCache {
    /// A plan for this text that serves these parameters on this snapshot.
    pub fn find(&self, text: &str, snapshot: &Snapshot, parameters: &Parameters) -> Option<Arc<Prepared>> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.tick += 1;
        let tick = kept.tick;
        let (used, plans) = kept.plans.get_mut(text)?;
        plans.retain(|plan| plan.holds_for(snapshot));
        *used = tick;
        plans.iter().find(|plan| plan.prepared.serves(parameters)).map(|plan| plan.prepared.clone())
    }

    /// Checks and plans a query, and with `keep` keeps the plan for the next request with `text`.
    pub fn prepare(
        &self, query: &Query, text: &str, snapshot: &Snapshot, parameters: &Parameters, keep: bool,
    ) -> Result<Arc<Prepared>, Diagnostics> {
        let facts = self.facts(snapshot);
        let prepared = Arc::new(prepare_with(&facts, query, text, snapshot, parameters)?);
        // A warning may be about a name that is unknown now: it must be looked up again.
        if keep && prepared.warnings.is_empty() {
            let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            kept.tick += 1;
            let tick = kept.tick;
            if kept.plans.len() >= TEXTS
                && !kept.plans.contains_key(text)
                && let Some(oldest) =
                    kept.plans.iter().min_by_key(|(_, (used, _))| *used).map(|(text, _)| text.clone())
            {
                kept.plans.remove(&oldest);
            }
            let (used, plans) = kept.plans.entry(text.to_string()).or_default();
            *used = tick;
            if plans.len() >= VARIANTS {
                plans.remove(0);
            }
            plans.push(Plan {
                prepared: prepared.clone(),
                base: Arc::downgrade(&snapshot.base),
                label_sets: snapshot.overlay_label_sets(),
                nodes: snapshot.node_count(),
                edges: snapshot.edge_count(),
            });
        }
        Ok(prepared)
    }

    /// Names and counts of a version, found once.
    fn facts(&self, snapshot: &Snapshot) -> Arc<Facts> {
        {
            let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((base, version, facts)) = &kept.facts
                && *version == snapshot.version
                && std::ptr::eq(base.as_ptr(), Arc::as_ptr(&snapshot.base))
            {
                return facts.clone();
            }
        }
        let facts = Arc::new(Facts::of(snapshot));
        let entry = (Arc::downgrade(&snapshot.base), snapshot.version, facts.clone());
        self.kept.lock().unwrap_or_else(PoisonError::into_inner).facts = Some(entry);
        facts
    }
}
