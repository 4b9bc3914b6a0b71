//! Finding where a pattern begins by a key or an index.

use std::sync::Arc;

use graphodrome_graph::{Element, LabelExpression, PropertyType};
use graphodrome_language::ast::*;
use graphodrome_language::{VariableKind, expression_variables};

use crate::lookup::{Lookup, SearchedIndex};
use crate::operators::*;
use crate::outcome::Outcome;
use crate::plan::{PlanNode, Schema};
use crate::planner::builder::Builder;
use crate::planner::elements::show_node;
use crate::planner::pattern_graph::StepKind;
use crate::planner::property_conditions::{RangeSide, bound, key_list, key_value};
use crate::planner::state::Planner;
use crate::profile::{Alternative, Basis, Estimate};
use crate::rules::Rule;

/// How a node is found where a pattern begins.
pub(super) enum Start {
    /// Key indexes, each of which finds one at most, with the condition for each of their properties.
    Seek(Vec<usize>, Vec<usize>),
    /// The same where conditions list values, and how many combinations of these there may be.
    Listed(Vec<usize>, Vec<usize>, f64),
    Search(FoundIndex),
    Scan,
}

/// An index, and the conditions that say what to look for in it.
pub(super) struct FoundIndex {
    pub index: usize,
    equal: Vec<usize>,
    /// The condition, and whether its bound is among what is looked for.
    lower: Option<(usize, bool)>,
    upper: Option<(usize, bool)>,
    /// Elements it is estimated to find.
    pub rows: f64,
    /// Few enough of all, that finding them one by one is better than looking at each.
    pub few: bool,
}

/// A step whose edges a key or an index finds.
pub(super) struct FoundEdges {
    step: usize,
    by: EdgesBy,
    pub name: Arc<str>,
    pub rows: f64,
}

enum EdgesBy {
    Key(usize, Vec<usize>),
    Index(FoundIndex),
}

/// An index is used where it leaves out at least this share of the elements: it finds them one by one.
const MOST_SHARE: f64 = 0.25;

/// Keys that are asked for one node, at most.
const MOST_KEYS: usize = 16;

impl Planner<'_> {
    /// The key that the waiting conditions give all values of, from what `schema` has.
    pub(super) fn start(&self, node: usize, schema: &Schema, b: &Builder<'_>) -> Start {
        let pattern = &b.graph.nodes[node];
        let given = |property: &Arc<str>| {
            b.graph.conditions.iter().position(|c| {
                c.waits()
                    && key_value(&c.expression, &pattern.name, property).is_some_and(|value| {
                        expression_variables(value).iter().all(|v| schema.slot(v).is_some())
                    })
            })
        };
        if let Some((keys, conditions)) = self.keys_for(pattern.labels.as_ref(), &given) {
            return Start::Seek(keys, conditions);
        }
        let given_or_listed =
            |property: &Arc<str>| given(property).or_else(|| self.listed(&pattern.name, property, schema, b));
        if let Some((keys, conditions)) = self.keys_for(pattern.labels.as_ref(), &given_or_listed) {
            let combinations = self.combinations(&conditions, b);
            let total = self.node_total(&pattern.labels);
            if combinations * keys.len() as f64 <= MOST_SHARE * total || total < 100.0 {
                return Start::Listed(keys, conditions, combinations);
            }
        }
        let Some(labels) = &pattern.labels else { return Start::Scan };
        let labels = self.implied_labels(labels);
        match self.index_for(Element::Node, &pattern.name, pattern.labels.as_ref(), &labels, schema, b) {
            Some(found) if found.few => Start::Search(found),
            _ => Start::Scan,
        }
    }

    /// The keys that find every node with these labels for which `given` has a value of each of their properties.
    fn keys_for(
        &self, labels: Option<&LabelExpression>, given: &dyn Fn(&Arc<str>) -> Option<usize>,
    ) -> Option<(Vec<usize>, Vec<usize>)> {
        if !self.may(Rule::KeyLookup) {
            return None;
        }
        let all = &self.scope.keys;
        let usable = all.iter().enumerate().filter(|(_, key)| key.element == Element::Node);
        let usable: Vec<(usize, Vec<usize>)> = usable
            .filter_map(|(k, key)| Some((k, key.properties.iter().map(given).collect::<Option<_>>()?)))
            .collect();
        for label in labels.map(|labels| self.implied_labels(labels)).into_iter().flatten() {
            if let Some((k, conditions)) = usable.iter().find(|(k, _)| all[*k].label == label) {
                return Some((vec![*k], conditions.clone()));
            }
        }
        if !self.may(Rule::SeveralKeys) {
            return None;
        }
        usable.iter().find_map(|(first, conditions)| {
            let properties = &all[*first].properties;
            let mut keys: Vec<usize> = vec![];
            for labels in self.alternatives(labels, properties)? {
                let of_these = |(k, _): &&(usize, Vec<usize>)| {
                    all[*k].properties == *properties && labels.contains(&all[*k].label)
                };
                let (k, _) = usable.iter().find(of_these)?;
                if !keys.contains(k) {
                    keys.push(*k);
                }
            }
            (1..=MOST_KEYS).contains(&keys.len()).then(|| (keys, conditions.clone()))
        })
    }

    /// Labels of which a node that matches and has values of these properties has all of at least one alternative; `None`
    /// where that is not known.
    fn alternatives(
        &self, labels: Option<&LabelExpression>, properties: &[Arc<str>],
    ) -> Option<Vec<Vec<Arc<str>>>> {
        if let Some(graph_type) = &self.scope.graph_type {
            let has = |property: &Arc<str>, of: &[PropertyType]| of.iter().any(|p| p.name == *property);
            let types = graph_type.nodes.iter().filter(|t| {
                labels.is_none_or(|labels| labels.matches(&t.labels))
                    && properties.iter().all(|property| has(property, &t.properties))
            });
            return Some(types.map(|t| t.labels.to_vec()).collect());
        }
        fn parts(labels: &LabelExpression, found: &mut Vec<Vec<Arc<str>>>) {
            match labels {
                LabelExpression::Or(a, b) => {
                    parts(a, found);
                    parts(b, found);
                }
                other => found.push(other.required()),
            }
        }
        let mut found = vec![];
        parts(labels?, &mut found);
        Some(found)
    }

    /// An index that could find a node and finds too many: what is said of it.
    pub(super) fn index_left_out(&self, node: usize, b: &Builder<'_>) -> Option<Alternative> {
        let pattern = &b.graph.nodes[node];
        let labels = self.implied_labels(pattern.labels.as_ref()?);
        let schema = Schema::default();
        let found =
            self.index_for(Element::Node, &pattern.name, pattern.labels.as_ref(), &labels, &schema, b)?;
        let name = &self.scope.indexes[found.index].name;
        let total = self.node_total(&pattern.labels);
        (!found.few).then(|| {
            let reason = format!("it would find {:.0} of {total:.0} nodes", found.rows);
            Alternative::left(format!("index {name}"), Some(found.rows), reason)
        })
    }

    /// The index that leaves the fewest elements.
    fn index_for(
        &self, element: Element, name: &Arc<str>, pattern: Option<&LabelExpression>, labels: &[Arc<str>],
        schema: &Schema, b: &Builder<'_>,
    ) -> Option<FoundIndex> {
        if !self.may(Rule::IndexLookup) {
            return None;
        }
        let conditions = &b.graph.conditions;
        let of =
            |property: &Arc<str>, value: fn(&Expression, &str, &str, RangeSide) -> bool, side: RangeSide| {
                conditions.iter().position(|c| {
                    c.waits() && value(&c.expression, name, property, side) && {
                        let others = c.variables.iter().filter(|v| *v != name);
                        others.into_iter().all(|v| schema.slot(v).is_some())
                    }
                })
            };
        let mut best: Option<FoundIndex> = None;
        for (i, index) in self.scope.indexes.iter().enumerate() {
            if index.element != element || !labels.contains(&index.label) {
                continue;
            }
            let equals: fn(&Expression, &str, &str, RangeSide) -> bool = |e, name, property, _| {
                key_value(e, name, property).is_some_and(|v| !expression_variables(v).contains(name))
            };
            let lists: fn(&Expression, &str, &str, RangeSide) -> bool = |e, name, property, _| {
                key_list(e, name, property).is_some_and(|v| !expression_variables(v).contains(name))
            };
            let may_list = self.may(Rule::ListedKeys);
            let equals_or_lists = |p: &Arc<str>| {
                let listed = || of(p, lists, RangeSide::Lower).filter(|_| may_list);
                of(p, equals, RangeSide::Lower).or_else(listed)
            };
            let bounds: fn(&Expression, &str, &str, RangeSide) -> bool =
                |e, name, property, side| bound(e, name, property, side).is_some();
            let equal: Vec<usize> = index.properties.iter().map_while(equals_or_lists).collect();
            let (mut lower, mut upper) = (None, None);
            if let Some(next) = index.properties.get(equal.len()) {
                let side = |side: RangeSide| {
                    let condition = of(next, bounds, side)?;
                    let (_, inclusive) = bound(&conditions[condition].expression, name, next, side)?;
                    Some((condition, inclusive))
                };
                (lower, upper) = (side(RangeSide::Lower), side(RangeSide::Upper));
            }
            if equal.is_empty() && lower.is_none() && upper.is_none() {
                continue;
            }
            let pattern = pattern.cloned();
            let total = match element {
                Element::Node => self.node_total(&pattern),
                Element::Edge => self.edge_total(&pattern),
            };
            let share_of = |c: usize| self.condition_share(&conditions[c].expression, &pattern, element);
            let between = match (lower, upper) {
                (Some((a, _)), Some((b, _))) if a != b => (share_of(a) + share_of(b) - 1.0).max(1e-4),
                (Some((c, _)), _) | (_, Some((c, _))) => share_of(c),
                _ => 1.0,
            };
            let share: f64 = equal.iter().map(|&c| share_of(c)).product::<f64>() * between;
            let rows = (total * share).max(1.0);
            if best.as_ref().is_none_or(|known| rows < known.rows) {
                let few = share <= MOST_SHARE || total < 100.0;
                best = Some(FoundIndex { index: i, equal, lower, upper, rows, few });
            }
        }
        best
    }

    fn lookup_spec(
        &self, found: &FoundIndex, name: &Arc<str>, schema: &Schema, b: &Builder<'_>,
    ) -> Outcome<(Lookup, String)> {
        let definition = &self.scope.indexes[found.index];
        let mut shown = vec![];
        let mut equal = vec![];
        for (property, &c) in definition.properties.iter().zip(&found.equal) {
            let expression = &b.graph.conditions[c].expression;
            shown.push(self.shown(expression));
            if let Some(value) = key_value(expression, name, property) {
                equal.push(self.compile(value, schema)?);
            }
        }
        let mut side = |side: RangeSide, given: Option<(usize, bool)>| -> Outcome<_> {
            let Some((c, inclusive)) = given else { return Ok(None) };
            let expression = &b.graph.conditions[c].expression;
            let text = self.shown(expression);
            if !shown.contains(&text) {
                shown.push(text);
            }
            let property = &definition.properties[found.equal.len()];
            let value = bound(expression, name, property, side);
            value.map(|(value, _)| Ok((self.compile(value, schema)?, inclusive))).transpose()
        };
        let (lower, upper) = (side(RangeSide::Lower, found.lower)?, side(RangeSide::Upper, found.upper)?);
        let spec = SearchedIndex { index: found.index, equal, lower, upper };
        let lookup = Lookup::Index(Box::new(spec));
        Ok((lookup, format!("{} ({})", definition.name, shown.join(" AND "))))
    }

    pub(super) fn search_index(
        &mut self, input: PlanNode, node: usize, found: &FoundIndex, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let pattern = b.graph.nodes[node].clone();
        // Of all values together, so many are found.
        let of_input = input.estimate.rows;
        let input = self.spread_lists(input, &found.equal, b)?;
        let (lookup, index_name) = self.lookup_spec(found, &pattern.name, &input.schema, b)?;
        let share = self.share(&pattern.name, &pattern.labels, &b.graph.conditions, Element::Node);
        let total = self.node_total(&pattern.labels);
        let mut schema = input.schema.clone();
        schema.push(pattern.name.clone(), VariableKind::Node);
        let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let estimate = Estimate {
            rows: (of_input * (total * share).min(found.rows)).max(1.0),
            cost: input.estimate.cost + of_input * found.rows,
            basis: Basis::Histogram,
            source: format!("the index finds {:.0} of {total:.0} nodes", found.rows),
        };
        let plan = SeekIndex {
            pattern: show_node(&pattern),
            index_name,
            lookup,
            test: self.scope.node_test(pattern.labels.as_ref()),
            conditions,
            shown_conditions,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    /// The edges of a step with two new ends that a key or an index finds; the fewest of them.
    pub(super) fn edge_lookup(&self, schema: &Schema, b: &Builder<'_>) -> Option<FoundEdges> {
        let mut best: Option<FoundEdges> = None;
        for (i, step) in b.graph.steps.iter().enumerate().filter(|(i, _)| !b.done[*i]) {
            let StepKind::Edge { name, labels: Some(labels), .. } = &step.kind else { continue };
            let new = |node: usize| schema.slot(&b.graph.nodes[node].name).is_none();
            if step.from == step.to || !new(step.from) || !new(step.to) {
                continue;
            }
            let required = labels.required();
            let given = |property: &Arc<str>| {
                let equal = b.graph.conditions.iter().position(|c| {
                    c.waits()
                        && key_value(&c.expression, name, property).is_some_and(|value| {
                            expression_variables(value).iter().all(|v| schema.slot(v).is_some())
                        })
                });
                equal.or_else(|| self.listed(name, property, schema, b))
            };
            let keys = self.scope.keys.iter().enumerate();
            let key = keys
                .filter(|(_, k)| {
                    self.may(Rule::KeyLookup) && k.element == Element::Edge && required.contains(&k.label)
                })
                .find_map(|(k, key)| {
                    Some((k, key, key.properties.iter().map(given).collect::<Option<Vec<usize>>>()?))
                });
            let found = match key {
                Some((k, key, conditions)) => Some(FoundEdges {
                    step: i,
                    rows: self.combinations(&conditions, b),
                    by: EdgesBy::Key(k, conditions),
                    name: key.name.clone(),
                }),
                None => {
                    self.index_for(Element::Edge, name, Some(labels), &required, schema, b).map(|index| {
                        FoundEdges {
                            step: i,
                            name: self.scope.indexes[index.index].name.clone(),
                            rows: index.rows,
                            by: EdgesBy::Index(index),
                        }
                    })
                }
            };
            if let Some(found) = found
                && best.as_ref().is_none_or(|known| found.rows < known.rows)
            {
                best = Some(found);
            }
        }
        best
    }

    pub(super) fn seek_edges(
        &mut self, input: PlanNode, found: FoundEdges, b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let step = b.graph.steps[found.step].clone();
        let StepKind::Edge { name, direction, labels } = &step.kind else { return Ok(input) };
        let rows = input.estimate.rows * found.rows;
        let listed = match &found.by {
            EdgesBy::Key(_, conditions) => conditions,
            EdgesBy::Index(index) => &index.equal,
        };
        let input = self.spread_lists(input, listed, b)?;
        let (lookup, shown) = match &found.by {
            EdgesBy::Index(index) => {
                let (lookup, shown) = self.lookup_spec(index, name, &input.schema, b)?;
                (lookup, format!("by index {shown}"))
            }
            EdgesBy::Key(key, conditions) => {
                let definition = self.scope.keys[*key].clone();
                let (mut values, mut shown) = (vec![], vec![]);
                for (property, &c) in definition.properties.iter().zip(conditions) {
                    let expression = b.graph.conditions[c].expression.clone();
                    if let Some(value) = key_value(&expression, name, property) {
                        values.push(self.compile(value, &input.schema)?);
                    }
                    shown.push(self.shown(&expression));
                    b.graph.conditions[c].done = true;
                }
                (Lookup::Key(*key, values), format!("by key {} ({})", definition.name, shown.join(", ")))
            }
        };
        let different_from = self.different_from(found.step, &input.schema, b);
        b.done[found.step] = true;
        let (left, right) = (b.graph.nodes[step.from].clone(), b.graph.nodes[step.to].clone());
        let mut schema = input.schema.clone();
        schema.push(left.name.clone(), VariableKind::Node);
        schema.push(name.clone(), VariableKind::Edge);
        schema.push(right.name.clone(), VariableKind::Node);
        let (conditions, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let estimate = Estimate {
            rows: rows.max(1.0),
            cost: input.estimate.cost + rows,
            basis: Basis::Histogram,
            source: format!("{} finds {:.0} edges", found.name, found.rows),
        };
        let plan = SeekEdges {
            pattern: format!("{}{}{}", show_node(&left), step.shown, show_node(&right)),
            shown,
            lookup,
            edge: EdgeCheck {
                test: self.scope.edge_test(labels.as_ref()),
                direction: *direction,
                different_from,
            },
            left: self.scope.node_test(left.labels.as_ref()),
            right: self.scope.node_test(right.labels.as_ref()),
            conditions,
            shown_conditions,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }

    /// Labels that every matching node has: those the expression requires, and in a closed graph those
    /// that all matching node types share, so that a tank is found by the key of sites.
    fn implied_labels(&self, labels: &LabelExpression) -> Vec<Arc<str>> {
        let mut implied = labels.required();
        if let Some(graph_type) = &self.scope.graph_type {
            let matching: Vec<_> = graph_type.nodes.iter().filter(|t| labels.matches(&t.labels)).collect();
            if let Some(first) = matching.first() {
                let shared = first.labels.iter().filter(|l| matching.iter().all(|t| t.labels.contains(l)));
                implied.extend(shared.cloned());
            }
        }
        implied
    }

    pub(super) fn seek(
        &mut self, input: PlanNode, node: usize, keys: &[usize], conditions: &[usize], b: &mut Builder<'_>,
    ) -> Outcome<PlanNode> {
        let pattern = b.graph.nodes[node].clone();
        let input = self.spread_lists(input, conditions, b)?;
        let definition = self.scope.keys[keys[0]].clone();
        let mut values = vec![];
        let mut given = Some(vec![]);
        for (property, &c) in definition.properties.iter().zip(conditions) {
            let expression = b.graph.conditions[c].expression.clone();
            if let Some(value) = key_value(&expression, &pattern.name, property) {
                values.push(self.compile(value, &input.schema)?);
                let known = match &value.kind {
                    ExpressionKind::Literal(value) => Some(value.clone()),
                    ExpressionKind::Parameter(name) => self.parameters.peek(name),
                    _ => None,
                };
                given = given.zip(known).map(|(mut given, known)| {
                    given.push(known);
                    given
                });
            }
            b.graph.conditions[c].done = true;
        }
        // What it leads to is estimated for this very node; another value of a parameter is served all the same.
        let found = given.filter(|given| given.len() == definition.properties.len());
        match found.and_then(|given| keys.iter().find_map(|key| self.scope.seek(*key, &given))) {
            Some(node) => self.found.insert(pattern.name.clone(), node),
            None => self.found.remove(&pattern.name),
        };
        let mut schema = input.schema.clone();
        schema.push(pattern.name.clone(), VariableKind::Node);
        let (compiled, shown_conditions, _) = self.take_conditions(&schema, b)?;
        let shown_key: Vec<String> =
            conditions.iter().map(|&c| self.shown(&b.graph.conditions[c].expression)).collect();
        let estimate = Estimate {
            rows: input.estimate.rows,
            cost: input.estimate.cost + input.estimate.rows * keys.len() as f64,
            basis: Basis::Fact,
            source: match keys {
                [_] => format!("the key {} finds at most one", definition.name),
                _ => "each key finds at most one".into(),
            },
        };
        let names: Vec<&str> = keys.iter().map(|key| &*self.scope.keys[*key].name).collect();
        let plan = SeekKey {
            pattern: show_node(&pattern),
            key_name: format!("{} ({})", names.join(" or "), shown_key.join(", ")),
            keys: keys.to_vec(),
            values,
            test: self.scope.node_test(pattern.labels.as_ref()),
            conditions: compiled,
            shown_conditions,
        };
        Ok(self.node(plan, vec![input], schema, estimate))
    }
}
