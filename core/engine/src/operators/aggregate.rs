//! Aggregate functions as accumulators: used by Group over rows and within a row over group
//! variables.

use hashbrown::HashSet;
use std::sync::Arc;

use graphodrome_graph::{Code, GraphError, Value};
use graphodrome_language::Span;
use graphodrome_language::ast::{Aggregate, BinaryOperator};

use crate::batch::NO_ELEMENT;
use crate::evaluate::arithmetic;
use crate::search::NodeSet;

#[derive(Clone, Debug)]
pub(crate) struct Accumulator {
    function: Aggregate,
    seen: Option<HashSet<Value>>,
    /// Distinct nodes, by their numbers alone.
    seen_nodes: NodeSet,
    count: u64,
    /// Sum, product, least or greatest so far.
    value: Value,
    items: Vec<Value>,
    /// Of a percentile.
    share: f64,
    /// Running mean and sum of squared differences (Welford 1962).
    mean: f64,
    squares: f64,
}

impl Accumulator {
    /// `node_bound` is one more than the greatest node number.
    pub fn new(function: Aggregate, distinct: bool, node_bound: u32) -> Self {
        Accumulator {
            function,
            seen: distinct.then(HashSet::new),
            seen_nodes: NodeSet::new(node_bound),
            count: 0,
            value: Value::Null,
            items: vec![],
            share: 0.0,
            mean: 0.0,
            squares: 0.0,
        }
    }

    pub fn with_share(mut self, share: Option<f64>) -> Self {
        self.share = share.unwrap_or(0.0);
        self
    }

    /// Adds one value; nulls do not count.
    pub fn add(&mut self, value: Value) -> Result<(), GraphError> {
        if value.is_null() {
            return Ok(());
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
        match self.function {
            Aggregate::Count => {}
            Aggregate::Sum => self.combine(BinaryOperator::Add, value)?,
            Aggregate::Product => self.combine(BinaryOperator::Multiply, value)?,
            Aggregate::Min => {
                if self.value.is_null() || value.compare(&self.value)?.is_some_and(|o| o.is_lt()) {
                    self.value = value;
                }
            }
            Aggregate::Max => {
                if self.value.is_null() || value.compare(&self.value)?.is_some_and(|o| o.is_gt()) {
                    self.value = value;
                }
            }
            Aggregate::CollectList => self.items.push(value),
            Aggregate::PercentileCont | Aggregate::PercentileDisc => {
                if !value.is_number() {
                    return Err(not_a_number(&value));
                }
                self.items.push(value);
            }
            Aggregate::Avg | Aggregate::StddevPop | Aggregate::StddevSamp => {
                let x = value.as_f64().ok_or_else(|| not_a_number(&value))?;
                if self.function == Aggregate::Avg && !matches!(value, Value::Float(_)) {
                    // Exact while the values are exact.
                    self.combine(BinaryOperator::Add, value)?;
                } else if self.function == Aggregate::Avg {
                    self.combine(BinaryOperator::Add, Value::Float(x))?;
                }
                let delta = x - self.mean;
                self.mean += delta / self.count as f64;
                self.squares += delta * (x - self.mean);
            }
        }
        Ok(())
    }

    /// Counts rows of `COUNT(*)`.
    pub fn add_rows(&mut self, rows: usize) {
        self.count += rows as u64;
    }

    /// Counts a column of nodes at once.
    pub fn count_nodes(&mut self, nodes: &[u32]) {
        let there = nodes.iter().filter(|&&node| node != NO_ELEMENT);
        self.count += match self.seen {
            None => there.count() as u64,
            Some(_) => there.filter(|&&node| self.seen_nodes.insert(node)).count() as u64,
        };
    }

    fn combine(&mut self, operator: BinaryOperator, value: Value) -> Result<(), GraphError> {
        if !value.is_number() && !matches!(value, Value::Duration(_)) {
            return Err(not_a_number(&value));
        }
        if self.value.is_null() {
            self.value = value;
            return Ok(());
        }
        let before = std::mem::replace(&mut self.value, Value::Null);
        self.value = arithmetic(operator, before, value, Span::default())
            .map_err(|d| GraphError::new(Code(d.code), d.message))?;
        Ok(())
    }

    pub fn finish(self) -> Value {
        match self.function {
            Aggregate::Count => Value::Int(self.count as i64),
            Aggregate::Sum | Aggregate::Product | Aggregate::Min | Aggregate::Max => self.value,
            Aggregate::CollectList => Value::List(Arc::from(self.items)),
            Aggregate::PercentileCont | Aggregate::PercentileDisc => self.percentile(),
            Aggregate::Avg => match &self.value {
                Value::Null => Value::Null,
                Value::Decimal(sum) => Value::Decimal(*sum / rust_decimal::Decimal::from(self.count)),
                sum => sum.as_f64().map_or(Value::Null, |sum| Value::Float(sum / self.count as f64)),
            },
            Aggregate::StddevPop if self.count > 0 => Value::Float((self.squares / self.count as f64).sqrt()),
            Aggregate::StddevSamp if self.count > 1 => {
                Value::Float((self.squares / (self.count - 1) as f64).sqrt())
            }
            Aggregate::StddevPop | Aggregate::StddevSamp => Value::Null,
        }
    }
}

impl Accumulator {
    /// Between the two values nearest to the share, or (DISC) the first value that has it.
    fn percentile(mut self) -> Value {
        self.items.sort_by(Value::order);
        let n = self.items.len();
        if n == 0 {
            return Value::Null;
        }
        if self.function == Aggregate::PercentileDisc {
            let place = ((self.share * n as f64).ceil() as usize).clamp(1, n);
            return self.items.swap_remove(place - 1);
        }
        let at = self.share * (n - 1) as f64;
        let (low, high) = (at.floor() as usize, at.ceil() as usize);
        let number = |i: usize| self.items[i].as_f64().unwrap_or(f64::NAN);
        Value::Float(number(low) + (number(high) - number(low)) * (at - low as f64))
    }
}

fn not_a_number(value: &Value) -> GraphError {
    GraphError::new(
        Code::WRONG_TYPE,
        format!("SUM, AVG and their kin take numbers, found {} {}", value.type_name(), value.excerpt()),
    )
}
