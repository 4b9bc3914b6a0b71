//! Host functions for modules: the subgraph, the arguments, and the results.

use std::sync::Arc;

use graphodrome_algorithms::{Arcs, Rows, Stopped};
use graphodrome_engine::{ExternalCall, Table, Vector};
use graphodrome_graph::Value;
use graphodrome_language::Gives;
use wasmtime::{ResourceLimiter, Result};

use crate::{ModuleLimits, Signature};

wasmtime::component::bindgen!({
    path: "../../docs/procedures/procedure.wit",
    world: "procedure",
    imports: { default: trappable },
});

use graphodrome::procedure::{arguments, part, results};

/// What comes of one call.
pub(crate) struct State {
    /// `None` while it only says its signature.
    call: Option<Arc<ExternalCall>>,
    signature: Option<Signature>,
    limits: ModuleLimits,
    /// In the order of the signature's.
    columns: Vec<Vector>,
    /// The query was cancelled, or had no more time or memory.
    stopped: bool,
}

/// Elements of a table of functions.
const MOST_ELEMENTS: usize = 1 << 20;

fn error(text: impl Into<String>) -> wasmtime::Error {
    wasmtime::Error::msg(text.into())
}

impl State {
    pub fn new(call: Option<Arc<ExternalCall>>, signature: Option<Signature>, limits: ModuleLimits) -> State {
        let columns = signature.as_ref().map_or(0, |s| s.procedure.yields.len());
        let empty = |place: usize| match signature.as_ref().map(|s| s.procedure.yields[place].gives) {
            Some(Gives::Node) => Vector::Nodes(vec![]),
            Some(Gives::Edge) => Vector::Edges(vec![]),
            _ => Vector::Values(vec![]),
        };
        let columns = (0..columns).map(empty).collect();
        State { call, signature, limits, columns, stopped: false }
    }

    pub fn limits(&self) -> ModuleLimits {
        self.limits
    }

    pub fn is_stopped(&self) -> bool {
        self.stopped
    }

    /// Whether the query that it is a part of may go on.
    pub fn ask(&mut self) -> Result<()> {
        let asked = self.call.as_ref().map_or(Ok(()), |call| call.ask());
        self.or_stop(asked)
    }

    fn hold(&mut self, bytes: usize) -> Result<()> {
        let held = self.call.as_ref().map_or(Ok(()), |call| call.hold(bytes));
        self.or_stop(held)
    }

    fn or_stop(&mut self, asked: Result<(), Stopped>) -> Result<()> {
        asked.map_err(|_| {
            self.stopped = true;
            error("the query was stopped")
        })
    }

    fn call(&self) -> Result<Arc<ExternalCall>> {
        self.call.clone().ok_or_else(|| error("there is no graph while it says its signature"))
    }

    /// A list for the module: what it takes until it has been copied is held.
    fn list<T: Clone>(&mut self, list: &[T]) -> Result<Vec<T>> {
        self.hold(size_of_val(list))?;
        Ok(list.to_vec())
    }

    fn rows(&mut self, direction: part::Direction, of: impl Fn(&Rows) -> &[u32]) -> Result<Vec<u32>> {
        let call = self.call()?;
        let arcs = match direction {
            part::Direction::Along => Arcs::Out,
            part::Direction::Against => Arcs::In,
            part::Direction::Both => Arcs::Both,
        };
        self.list(of(call.graph().rows(arcs)))
    }

    /// A property of all elements.
    fn property(&mut self, of: part::Element, name: &str) -> Result<Vec<Value>> {
        let call = self.call()?;
        let (element, count) = match of {
            part::Element::Node => (graphodrome_graph::Element::Node, call.graph().node_count()),
            part::Element::Edge => (graphodrome_graph::Element::Edge, call.graph().edge_count()),
        };
        self.hold(count * size_of::<Value>())?;
        Ok(call.property(element, name).collect())
    }

    /// What an argument is, given or usual.
    fn argument(&self, name: &str) -> Result<Option<Value>> {
        let call = self.call()?;
        let signature = self.signature.as_ref();
        if signature.is_none_or(|s| s.procedure.argument(name).is_none()) {
            return Err(error(format!("it asked for an argument {name}, which its signature has not")));
        }
        let usual = signature.and_then(|s| s.defaults.get(name));
        Ok(call.value(name).or(usual).cloned())
    }

    /// The column of this name, which must be of this type.
    fn column(&mut self, name: &str, gives: Gives) -> Result<&mut Vector> {
        let procedure = &self.signature.as_ref().ok_or_else(|| error("it has no columns yet"))?.procedure;
        let place = procedure.column(name);
        let place =
            place.ok_or_else(|| error(format!("it gave a column {name}, which its signature has not")))?;
        let declared = procedure.yields[place].gives;
        if declared != gives {
            let text =
                format!("its column {name} is a {}, and it gave {}", declared.describe(), gives.describe());
            return Err(error(text));
        }
        Ok(&mut self.columns[place])
    }

    fn give(&mut self, name: &str, gives: Gives, values: impl ExactSizeIterator<Item = Value>) -> Result<()> {
        self.hold(values.len() * size_of::<Value>())?;
        if let Vector::Values(column) = self.column(name, gives)? {
            column.extend(values);
        }
        Ok(())
    }

    /// Elements by the part's numbers; `all` are those of the graph.
    fn give_elements(&mut self, name: &str, gives: Gives, numbers: &[u32], all: &[u32]) -> Result<()> {
        self.hold(size_of_val(numbers))?;
        let outside = |n: u32| {
            let what = if gives == Gives::Node { "node" } else { "edge" };
            error(format!("it gave the {what} {n} for {name}: there are {}", all.len()))
        };
        let found = numbers.iter().map(|n| all.get(*n as usize).copied().ok_or_else(|| outside(*n)));
        let found = found.collect::<Result<Vec<u32>>>()?;
        if let Vector::Nodes(own) | Vector::Edges(own) = self.column(name, gives)? {
            own.extend(found);
        }
        Ok(())
    }

    /// The rows that were given.
    pub fn table(self) -> Result<Table, Stopped> {
        let lengths: Vec<usize> = self.columns.iter().map(Vector::len).collect();
        if let Some(signature) = &self.signature
            && lengths.windows(2).any(|pair| pair[0] != pair[1])
        {
            let columns = signature.procedure.yields.iter().zip(&lengths);
            let told: Vec<String> = columns.map(|(c, length)| format!("{length} of {}", c.name)).collect();
            return Err(Stopped::NoAnswer(format!("its columns are not of one length: {}", told.join(", "))));
        }
        Ok(self.columns)
    }
}

impl part::Host for State {
    fn node_count(&mut self) -> Result<u32> {
        Ok(self.call()?.graph().node_count() as u32)
    }

    fn edge_count(&mut self) -> Result<u32> {
        Ok(self.call()?.graph().edge_count() as u32)
    }

    fn starts(&mut self, direction: part::Direction) -> Result<Vec<u32>> {
        self.rows(direction, Rows::starts)
    }

    fn neighbours(&mut self, direction: part::Direction) -> Result<Vec<u32>> {
        self.rows(direction, |rows| rows.all().0)
    }

    fn edges(&mut self, direction: part::Direction) -> Result<Vec<u32>> {
        self.rows(direction, |rows| rows.all().1)
    }

    fn weights(&mut self) -> Result<Vec<f64>> {
        let call = self.call()?;
        let edges = call.graph().edge_count();
        self.hold(8 * edges)?;
        Ok((0..edges).map(|edge| call.graph().weight(edge)).collect())
    }

    fn numbers(&mut self, of: part::Element, property: String) -> Result<Vec<f64>> {
        let values = self.property(of, &property)?;
        let number = |value: Value| match value.as_f64() {
            Some(number) => Ok(number),
            None if value.is_null() => Ok(f64::NAN),
            None => Err(error(format!("{property} is {} {}, no number", value.type_name(), value.excerpt()))),
        };
        values.into_iter().map(number).collect()
    }

    fn texts(&mut self, of: part::Element, property: String) -> Result<Vec<Option<String>>> {
        let values = self.property(of, &property)?;
        let mut bytes = 0;
        let mut texts = Vec::with_capacity(values.len());
        for value in values {
            let text = match value {
                Value::Null => None,
                Value::Text(text) => Some(text.to_string()),
                other => Some(other.to_string()),
            };
            bytes += 24 + text.as_ref().map_or(0, String::len);
            texts.push(text);
        }
        self.hold(bytes)?;
        Ok(texts)
    }
}

impl arguments::Host for State {
    fn number(&mut self, name: String) -> Result<Option<f64>> {
        let value = self.argument(&name)?;
        value.map(|v| v.as_f64().ok_or_else(|| error(format!("{name} is no number")))).transpose()
    }

    fn text(&mut self, name: String) -> Result<Option<String>> {
        match self.argument(&name)? {
            None => Ok(None),
            Some(Value::Text(text)) => Ok(Some(text.to_string())),
            Some(_) => Err(error(format!("{name} is no text"))),
        }
    }

    fn nodes(&mut self, name: String) -> Result<Vec<u32>> {
        self.argument(&name)?;
        self.call()?.nodes(&name).map_err(error)
    }
}

impl results::Host for State {
    fn nodes(&mut self, column: String, values: Vec<u32>) -> Result<()> {
        let call = self.call()?;
        self.give_elements(&column, Gives::Node, &values, call.graph().nodes())
    }

    fn edges(&mut self, column: String, values: Vec<u32>) -> Result<()> {
        let call = self.call()?;
        self.give_elements(&column, Gives::Edge, &values, call.graph().edges())
    }

    fn numbers(&mut self, column: String, values: Vec<f64>) -> Result<()> {
        self.give(&column, Gives::Float, values.into_iter().map(Value::Float))
    }

    fn wholes(&mut self, column: String, values: Vec<i64>) -> Result<()> {
        self.give(&column, Gives::WholeNumber, values.into_iter().map(Value::Int))
    }

    fn truths(&mut self, column: String, values: Vec<bool>) -> Result<()> {
        self.give(&column, Gives::Truth, values.into_iter().map(Value::Bool))
    }

    fn texts(&mut self, column: String, values: Vec<String>) -> Result<()> {
        self.hold(values.iter().map(String::len).sum())?;
        self.give(&column, Gives::Text, values.into_iter().map(|text| Value::Text(text.into())))
    }
}

impl ResourceLimiter for State {
    fn memory_growing(&mut self, current: usize, desired: usize, _: Option<usize>) -> Result<bool> {
        if desired as u64 > self.limits.memory_bytes {
            return Err(error(format!(
                "it needs more than {} MiB of memory",
                self.limits.memory_bytes >> 20
            )));
        }
        self.hold(desired - current)?;
        Ok(true)
    }

    fn table_growing(&mut self, _: usize, desired: usize, _: Option<usize>) -> Result<bool> {
        Ok(desired <= MOST_ELEMENTS)
    }

    fn instances(&self) -> usize {
        16
    }

    fn tables(&self) -> usize {
        16
    }

    fn memories(&self) -> usize {
        4
    }
}
