//! Aggregate functions as accumulators: used by Group over rows and within a row over group
//! variables.

use std::sync::Arc;

use hashbrown::HashSet;

use graphodrome_graph::{Code, GraphError, Value};
use graphodrome_language::ast::{Aggregate, Progression};

use crate::batch::NO_ELEMENT;
use crate::operators::exact_sum::FloatSum;
use crate::operators::percentiles::Items;
use crate::operators::totals::{Product, RunningSum};
use crate::operators::values::{between_equals, not_a_number};
use crate::search::NodeSet;

#[derive(Clone, Debug)]
pub(crate) struct Accumulator {
    function: Aggregate,
    seen: Option<HashSet<Value>>,
    /// Distinct nodes, by their numbers alone.
    seen_nodes: NodeSet,
    count: u64,
    state: AggregateState,
    /// Of a percentile.
    share: f64,
}

/// What a function keeps beside the number of values.
#[derive(Clone, Debug)]
enum AggregateState {
    Count,
    Sum(Box<RunningSum>),
    Product(Box<Product>),
    /// The least or greatest so far.
    Extreme(Value),
    Items(Items),
    /// The last value, and whether all so far were in order.
    InOrder {
        last: Value,
        holds: bool,
    },
    /// Running mean and sum of squared differences (Welford 1962).
    Spread {
        mean: f64,
        squares: f64,
    },
}

/// Whether the value, or those of a list one by one, may follow the last one, which it becomes.
pub(crate) fn follows(value: &Value, last: &mut Value, progression: Progression) -> Result<bool, GraphError> {
    if let Value::List(items) = value {
        return items.iter().try_fold(true, |holds, item| Ok(follows(item, last, progression)? && holds));
    }
    if value.is_null() {
        return Ok(true);
    }
    let before = std::mem::replace(last, value.clone());
    // NaN follows nothing, and nothing follows it.
    Ok(before.is_null() || value.compare(&before)?.is_some_and(|ordering| progression.allows(ordering)))
}

impl Accumulator {
    /// `node_bound` is one more than the greatest node number.
    pub fn new(function: Aggregate, distinct: bool, node_bound: u32) -> Self {
        let state = match function {
            Aggregate::Count => AggregateState::Count,
            Aggregate::Sum | Aggregate::Avg => AggregateState::Sum(Box::default()),
            Aggregate::Product => AggregateState::Product(Box::default()),
            Aggregate::Min | Aggregate::Max => AggregateState::Extreme(Value::Null),
            Aggregate::CollectList | Aggregate::PercentileCont | Aggregate::PercentileDisc => {
                AggregateState::Items(Items::Values(vec![]))
            }
            Aggregate::StddevPop | Aggregate::StddevSamp => {
                AggregateState::Spread { mean: 0.0, squares: 0.0 }
            }
            Aggregate::InOrder(_) => AggregateState::InOrder { last: Value::Null, holds: true },
        };
        Accumulator {
            function,
            seen: distinct.then(HashSet::new),
            seen_nodes: NodeSet::new(node_bound),
            count: 0,
            state,
            share: 0.0,
        }
    }

    pub fn with_share(mut self, share: Option<f64>) -> Self {
        self.share = share.unwrap_or(0.0);
        self
    }

    /// Adds one value; nulls do not count.
    pub fn add(&mut self, value: Value) -> Result<(), GraphError> {
        self.add_times(value, 1)
    }

    /// Adds a value so many times.
    pub fn add_times(&mut self, value: Value, times: usize) -> Result<(), GraphError> {
        if value.is_null() || times == 0 {
            return Ok(());
        }
        if self.seen.is_none() && times > 1 {
            match &mut self.state {
                AggregateState::Count => {
                    self.add_rows(times);
                    return Ok(());
                }
                AggregateState::Sum(sum) => {
                    if times < usize::MAX {
                        sum.add_times(&value, times as u64)?;
                    }
                    self.add_rows(times);
                    return Ok(());
                }
                _ => {}
            }
        }
        let new = match (&mut self.seen, &value) {
            (None, _) => true,
            (Some(_), Value::Node(node)) => self.seen_nodes.insert(*node),
            (Some(seen), value) => seen.insert(value.clone()),
        };
        if !new {
            return Ok(());
        }
        self.count += 1;
        match &mut self.state {
            AggregateState::Count => {}
            AggregateState::Sum(sum) => sum.add(&value)?,
            AggregateState::Product(product) => product.multiply(&value)?,
            AggregateState::Extreme(extreme) => {
                // Values that cannot be compared are an error; NaN is above every number.
                value.compare(extreme)?;
                if extreme.is_null() || is_better(self.function, &value, extreme) {
                    *extreme = value;
                }
            }
            AggregateState::Items(items) => {
                if self.function != Aggregate::CollectList && !value.is_number() {
                    return Err(not_a_number(&value));
                }
                items.push(value);
            }
            AggregateState::InOrder { last, holds } => {
                if let Aggregate::InOrder(progression) = self.function {
                    *holds &= follows(&value, last, progression)?;
                }
            }
            AggregateState::Spread { mean, squares } => {
                let x = value.as_f64().ok_or_else(|| not_a_number(&value))?;
                let delta = x - *mean;
                *mean += delta / self.count as f64;
                *squares += delta * (x - *mean);
            }
        }
        Ok(())
    }

    /// Adds so many whole numbers by their sum.
    pub fn merge_whole(&mut self, sum: i128, count: u64) -> Result<(), GraphError> {
        if let (AggregateState::Sum(own), true) = (&mut self.state, count > 0) {
            own.add_whole(sum)?;
            self.count += count;
        }
        Ok(())
    }

    /// Adds so many decimals of one scale by the sum of their coefficients.
    pub fn merge_decimals(&mut self, sum: i128, scale: u8, count: u64) -> Result<(), GraphError> {
        if let (AggregateState::Sum(own), true) = (&mut self.state, count > 0) {
            own.add_decimals(sum, scale)?;
            self.count += count;
        }
        Ok(())
    }

    /// Adds so many floats by their sum.
    pub fn merge_floats(&mut self, sum: &FloatSum, count: u64) -> Result<(), GraphError> {
        if let (AggregateState::Sum(own), true) = (&mut self.state, count > 0) {
            own.add_floats(sum)?;
            self.count += count;
        }
        Ok(())
    }

    /// Adds the least or greatest of so many values.
    pub fn merge_extreme(&mut self, value: Value, count: u64) -> Result<(), GraphError> {
        if count > 0 {
            self.add(value)?;
            self.count += count - 1;
        }
        Ok(())
    }

    /// Adds values of a percentile.
    pub fn merge_items(&mut self, items: Items) {
        if let AggregateState::Items(own) = &mut self.state {
            self.count += items.len() as u64;
            own.extend(items);
        }
    }

    /// Whether it comes to the same when its values are added up in parts, whatever the parts are.
    pub fn is_of_parts(function: Aggregate, distinct: bool) -> bool {
        match function {
            Aggregate::Count | Aggregate::Min | Aggregate::Max => true,
            // Of values that are equal and of several types the first one counts.
            Aggregate::Sum | Aggregate::Avg | Aggregate::PercentileCont | Aggregate::PercentileDisc => {
                !distinct
            }
            Aggregate::Product | Aggregate::CollectList | Aggregate::StddevPop | Aggregate::StddevSamp => {
                false
            }
            Aggregate::InOrder(_) => false,
        }
    }

    /// Adds what was added up elsewhere, where it [is of parts](Self::is_of_parts).
    pub fn merge(&mut self, other: Accumulator) -> Result<(), GraphError> {
        if let Some(seen) = other.seen {
            if self.function == Aggregate::Count {
                self.count_nodes(&other.seen_nodes.iter().collect::<Vec<u32>>());
            } else {
                other.seen_nodes.iter().try_for_each(|node| self.add(Value::Node(node)))?;
            }
            return seen.into_iter().try_for_each(|value| self.add(value));
        }
        match (&mut self.state, other.state) {
            (AggregateState::Sum(own), AggregateState::Sum(other)) => own.merge(&other)?,
            (AggregateState::Items(own), AggregateState::Items(other)) => own.extend(other),
            (AggregateState::Extreme(_), AggregateState::Extreme(value)) => {
                return self.merge_extreme(value, other.count);
            }
            _ => {}
        }
        self.count = self.count.saturating_add(other.count);
        Ok(())
    }

    /// Counts rows of `COUNT(*)`; the greatest number stands for all that are too many to count.
    pub fn add_rows(&mut self, rows: usize) {
        self.count = self.count.saturating_add(rows as u64);
    }

    /// Counts a column of nodes at once; how many bytes more are held.
    pub fn count_nodes(&mut self, nodes: &[u32]) -> usize {
        let before = self.seen_nodes.bytes();
        let there = nodes.iter().filter(|&&node| node != NO_ELEMENT);
        self.count += match self.seen {
            None => there.count() as u64,
            Some(_) => there.filter(|&&node| self.seen_nodes.insert(node)).count() as u64,
        };
        self.seen_nodes.bytes().saturating_sub(before)
    }

    /// The result; an error where it is out of range for its type.
    pub fn finish(self) -> Result<Value, GraphError> {
        let count = self.count;
        let too_many = || GraphError::new(Code::NUMBER_OUT_OF_RANGE, "the count is out of range");
        if count == u64::MAX {
            return Err(too_many());
        }
        Ok(match self.state {
            AggregateState::Count => Value::Int(i64::try_from(count).map_err(|_| too_many())?),
            AggregateState::InOrder { holds, .. } => Value::Bool(holds),
            _ if count == 0 && self.function != Aggregate::CollectList => Value::Null,
            AggregateState::Sum(sum) if self.function == Aggregate::Avg => sum.mean(count)?,
            AggregateState::Sum(sum) => sum.finish()?,
            AggregateState::Product(product) => product.finish()?,
            AggregateState::Extreme(value) => value,
            AggregateState::Items(items) if self.function == Aggregate::CollectList => {
                Value::List(Arc::from(items.into_values()))
            }
            AggregateState::Items(items) => {
                items.percentile(self.share, self.function == Aggregate::PercentileDisc)
            }
            AggregateState::Spread { squares, .. } => match self.function {
                Aggregate::StddevPop => Value::Float((squares / count as f64).sqrt()),
                _ if count > 1 => Value::Float((squares / (count - 1) as f64).sqrt()),
                _ => Value::Null,
            },
        })
    }
}

/// Whether a value takes the place of the least or greatest so far.
fn is_better(function: Aggregate, value: &Value, extreme: &Value) -> bool {
    let order = value.order(extreme).then_with(|| match (value, extreme, between_equals(value, extreme)) {
        // Of the zeros the one with a sign is the less.
        (Value::Float(_), Value::Float(_), order) => order,
        (_, _, order) if function == Aggregate::Max => order.reverse(),
        (_, _, order) => order,
    });
    if function == Aggregate::Min { order.is_lt() } else { order.is_gt() }
}
