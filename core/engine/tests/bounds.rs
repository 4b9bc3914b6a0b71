//! Distance bounds: cheapest paths found towards their ends, against the same questions asked without bounds, on graphs
//! that were changed after the bound was learnt.

#![allow(clippy::unwrap_used)]

mod asked;
mod folded;

use std::sync::Arc;

use graphodrome_engine::{Limits, Parameters, Rule, Rules, TextOptions, prepare_by, render_profile};
use graphodrome_graph::{
    BoundDefinition, BoundSource, Created, Decimal, Direction, NewEdge, NewNode, Schema, Snapshot,
    Transaction, Value, label_set,
};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::asked::run_as;
use crate::folded::folded;

#[derive(Clone, Copy, Debug, PartialEq)]
enum Weights {
    Whole,
    /// That do not fit into 32 bits.
    Huge,
    Decimals,
    Floats,
    Mixed,
    /// At least as long as the straight line.
    Lengths,
}

const WEIGHTS: &[Weights] =
    &[Weights::Whole, Weights::Huge, Weights::Decimals, Weights::Floats, Weights::Mixed, Weights::Lengths];

struct Draw {
    rng: ChaCha8Rng,
    weights: Weights,
    directed: f64,
    places: Vec<(u32, (f64, f64))>,
}

impl Draw {
    fn weight(&mut self, length: f64) -> Value {
        let rng = &mut self.rng;
        if rng.random_bool(0.05) {
            return Value::Null;
        }
        let tenths = rng.random_range(0..60i64);
        match self.weights {
            Weights::Whole => Value::Int(tenths / 5),
            Weights::Huge => Value::Int(tenths << 40 | tenths),
            Weights::Decimals => {
                Value::Decimal(format!("{}.{}", tenths / 10, tenths % 10).parse::<Decimal>().unwrap())
            }
            Weights::Floats => Value::Float(tenths as f64 / 7.0),
            Weights::Lengths => Value::Float(length * (1.0 + tenths as f64 / 100.0) + 1e-9),
            Weights::Mixed => match rng.random_range(0..3) {
                0 => Value::Int(tenths / 5),
                1 => Value::Float(tenths as f64 / 10.0),
                _ => Value::Decimal(format!("{}.{}", tenths / 10, tenths % 10).parse::<Decimal>().unwrap()),
            },
        }
    }

    fn node(&mut self, transaction: &mut Transaction, x: i64) {
        let place = (self.rng.random_range(0.0..10.0), self.rng.random_range(0.0..10.0));
        let properties = vec![
            ("x".into(), Value::Int(x)),
            ("east".into(), Value::Float(place.0)),
            ("north".into(), Value::Float(place.1)),
        ];
        let id = transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap();
        self.places.push((id, place));
    }

    fn edge(&mut self, transaction: &mut Transaction) {
        let ends = [(); 2].map(|()| self.rng.random_range(0..self.places.len()));
        let [a, b] = ends.map(|end| self.places[end].1);
        let weight = self.weight(((a.0 - b.0).powi(2) + (a.1 - b.1).powi(2)).sqrt());
        let mut properties = vec![("share".into(), Value::Int(self.rng.random_range(0..4)))];
        if !weight.is_null() {
            properties.push(("w".into(), weight));
        }
        let labels = label_set([["R", "S"][self.rng.random_range(0..4usize) / 3]]);
        let [source, target] = ends.map(|end| self.places[end].0);
        let directed = self.rng.random_bool(self.directed);
        transaction.insert_edge(NewEdge { labels, properties, directed, source, target }).unwrap();
    }

    fn graph(&mut self) -> Snapshot {
        let nodes = self.rng.random_range(4..14);
        let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
        (0..nodes).for_each(|x| self.node(&mut transaction, x));
        for _ in 0..self.rng.random_range(nodes..nodes * 3) {
            self.edge(&mut transaction);
        }
        folded(&transaction.finish().unwrap().0)
    }

    fn bound(&mut self) -> BoundDefinition {
        let directions = [
            Direction::Any,
            Direction::Any,
            Direction::Out,
            Direction::OutOrUndirected,
            Direction::Undirected,
        ];
        let source = match self.weights == Weights::Lengths && self.rng.random_bool(0.7) {
            true => BoundSource::Coordinates(vec!["east".into(), "north".into()]),
            false => BoundSource::Landmarks(self.rng.random_range(1..6)),
        };
        BoundDefinition {
            name: "near".into(),
            labels: [vec![], vec!["R".into()], vec!["R".into(), "S".into()]][self.rng.random_range(0..3)]
                .clone(),
            direction: directions[self.rng.random_range(0..directions.len())],
            property: "w".into(),
            source,
        }
    }

    fn changed(&mut self, snapshot: Snapshot) -> Snapshot {
        let mut transaction = Transaction::new(snapshot);
        for _ in 0..self.rng.random_range(0..3) {
            let x = self.places.len() as i64;
            self.node(&mut transaction, x);
        }
        for _ in 0..self.rng.random_range(0..5) {
            self.edge(&mut transaction);
        }
        transaction.finish().unwrap().0
    }

    fn question(&mut self) -> String {
        let rng = &mut self.rng;
        let mode = ["", "TRAIL ", "ACYCLIC ", "SIMPLE ", ""][rng.random_range(0..5)];
        let labels = ["", ":R", ":S", ":R|S"][rng.random_range(0..4)];
        let (left, right) = [("-", "->"), ("<-", "-"), ("-", "-"), ("~", "~"), ("~", "~>"), ("<-", "->")]
            [rng.random_range(0..6)];
        let condition = ["", " WHERE e.share > 0", " WHERE e.share < 3"][rng.random_range(0..3)];
        let quantifier = ["+", "*"][rng.random_range(0..2)];
        let (from, to) = [("a", "b"), ("b", "a")][rng.random_range(0..2)];
        format!(
            "MATCH (a:A), (b:A) MATCH ANY SHORTEST BY e.w {mode}({from}){left}[e{labels}{condition}]{right}{quantifier}({to}) \
             RETURN a.x AS a, b.x AS b, SUM(e.w) AS w"
        )
    }
}

/// Sums of floats depend on their order.
fn cell(value: &Value) -> String {
    match value {
        Value::Float(f) => format!("{f:.6}"),
        Value::Decimal(d) => format!("{:.6}", d.to_f64()),
        Value::Int(i) => format!("{:.6}", *i as f64),
        other => other.to_string(),
    }
}

fn profile(snapshot: &Snapshot, text: &str) -> String {
    let [Statement::Query(query)] = &parse(text).unwrap()[..] else { panic!("{text}") };
    let none = Parameters::new();
    let prepared = prepare_by(query, text, snapshot, &none, Rules::all()).unwrap();
    let mut execution = prepared.run(snapshot.clone(), &none, Limits::default());
    while execution.next_batch().unwrap().is_some() {}
    render_profile(&execution.profile(), &[], &TextOptions::default())
}

fn with_bound(snapshot: &Snapshot, bound: BoundDefinition) -> Result<Snapshot, String> {
    let schema = Schema::new(None, Created { bounds: vec![Arc::new(bound)], ..Created::default() });
    snapshot.with_schema(schema, &|| Ok(())).map_err(|error| error.message)
}

fn cases() -> u64 {
    std::env::var("CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(250)
}

#[test]
fn bounds_change_no_answer() {
    let without = Rules::all().without(Rule::DistanceBounds);
    let (mut towards, mut stale) = (0, 0);
    for seed in 0..cases() {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let weights = WEIGHTS[rng.random_range(0..WEIGHTS.len())];
        let directed = [1.0, 0.0, 0.6][rng.random_range(0..3)];
        let mut draw = Draw { rng, weights, directed, places: vec![] };
        let base = draw.graph();
        let bound = draw.bound();
        let shown = bound.to_string();
        let bounded = with_bound(&base, bound).unwrap_or_else(|e| panic!("seed {seed}, {shown}: {e}"));
        let snapshot = if draw.rng.random_bool(0.5) { draw.changed(bounded) } else { bounded };
        for _ in 0..4 {
            let text = draw.question();
            let (rows, plan) = run_as(cell, &snapshot, &text, Rules::all(), false);
            let (expected, _) = run_as(cell, &snapshot, &text, without, false);
            assert_eq!(rows, expected, "seed {seed}, {weights:?}, {shown}\n{text}\n{plan}");
            if plan.contains("by a distance bound") && rows.is_ok() {
                let said = profile(&snapshot, &text);
                let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
                towards += usize::from(said.contains(": towards the end by the distance bound near ("));
                stale += usize::from(said.contains("not towards the end by the distance bound"));
            }
        }
    }
    // Both happen often enough to say something.
    assert!(towards > 200 && stale > 5, "{towards} towards the end, {stale} not");
}

fn grid(side: i64) -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let mut ids = vec![];
    for x in 0..side * side {
        let properties = vec![
            ("x".into(), Value::Int(x)),
            ("east".into(), Value::Int(10 * (x % side))),
            ("north".into(), Value::Int(10 * (x / side))),
        ];
        ids.push(transaction.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap());
    }
    let mut rng = ChaCha8Rng::seed_from_u64(1);
    for x in 0..side * side {
        let right = (x % side < side - 1).then_some(x + 1);
        let below = (x / side < side - 1).then_some(x + side);
        for other in [right, below].into_iter().flatten() {
            let (source, target) = (ids[x as usize], ids[other as usize]);
            let properties = vec![("w".into(), Value::Int(rng.random_range(10..30)))];
            let labels = label_set(["R"]);
            transaction.insert_edge(NewEdge { labels, properties, directed: false, source, target }).unwrap();
        }
    }
    folded(&transaction.finish().unwrap().0)
}

fn bound(source: BoundSource) -> BoundDefinition {
    let labels = vec!["R".into()];
    BoundDefinition { name: "near".into(), labels, direction: Direction::Any, property: "w".into(), source }
}

const ACROSS: &str =
    "MATCH ANY SHORTEST BY e.w (a:A WHERE a.x = 820)-[e:R]-+(b:A WHERE b.x = 1470) RETURN SUM(e.w) AS w";

fn followed(said: &str) -> u64 {
    let (_, rest) =
        said.split_once("towards the end by the distance bound near (").unwrap_or_else(|| panic!("{said}"));
    // `): nodes expanded 106, met 143`, over two lines where it does not fit into one.
    let mut words = rest.split_once("):").unwrap().1.split_whitespace();
    let settled = words.nth(2).unwrap().trim_end_matches(',');
    settled.parse().unwrap_or_else(|_| panic!("{said}"))
}

#[test]
fn a_bound_leads_to_the_end() {
    let grid = grid(50);
    let (plain, _) = run_as(cell, &grid, ACROSS, Rules::all(), false);
    for source in [BoundSource::Landmarks(8), BoundSource::Coordinates(vec!["east".into(), "north".into()])] {
        let bounded = with_bound(&grid, bound(source.clone())).unwrap();
        let (rows, plan) = run_as(cell, &bounded, ACROSS, Rules::all(), false);
        assert_eq!(rows, plain, "{source:?}\n{plan}");
        let said = profile(&bounded, ACROSS);
        // Of 2,500; the way is 13 edges or more.
        assert!((15..400).contains(&followed(&said)), "{source:?}\n{said}");
    }
}

#[test]
fn what_is_changed_is_compared_with_the_bound() {
    let bounded = with_bound(&grid(50), bound(BoundSource::Landmarks(8))).unwrap();
    // The grid's nodes are numbered in their order.
    let with_edge = |weight: i64| {
        let mut transaction = Transaction::new(bounded.clone());
        let properties = vec![("w".into(), Value::Int(weight))];
        let (labels, source, target) = (label_set(["R"]), 820, 1470);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
        transaction.finish().unwrap().0
    };
    // As dear as it is far: the bound still holds.
    let said = profile(&with_edge(5000), ACROSS);
    assert!(said.contains("towards the end by the distance bound near (8 landmarks)"), "{said}");
    // A shorter way than there was.
    let said = profile(&with_edge(1), ACROSS);
    assert!(said.contains("not towards the end by the distance bound"), "{said}");
    assert!(said.contains("made ways shorter"), "{said}");
    let (rows, _) = run_as(cell, &with_edge(1), ACROSS, Rules::all(), false);
    assert_eq!(rows, Ok(vec![vec!["1.000000".to_string()]]));
}

#[test]
fn what_cannot_be_a_bound_is_refused_with_the_edge() {
    let mut draw =
        Draw { rng: ChaCha8Rng::seed_from_u64(3), weights: Weights::Whole, directed: 1.0, places: vec![] };
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    (0..3).for_each(|x| draw.node(&mut transaction, x));
    let mut edge = |weight: Value| {
        let [source, target] = [0, 1].map(|end| draw.places[end].0);
        let properties = vec![("w".into(), weight)];
        let labels = label_set(["R"]);
        transaction.insert_edge(NewEdge { labels, properties, directed: true, source, target }).unwrap();
    };
    edge(Value::Int(-3));
    let snapshot = folded(&transaction.finish().unwrap().0);
    let refused = with_bound(&snapshot, bound(BoundSource::Landmarks(2))).unwrap_err();
    assert!(refused.contains("has INT64 -3") || refused.contains("-3"), "{refused}");
    let short = with_bound(&grid(3), bound(BoundSource::Coordinates(vec!["east".into()])));
    assert!(short.is_ok(), "{short:?}");
    let wide = with_bound(&grid(3), bound(BoundSource::Coordinates(vec!["x".into(), "north".into()])));
    assert!(wide.is_ok(), "{wide:?}");
    let mut far = Transaction::new(grid(3));
    let properties = vec![("x".into(), Value::Int(9)), ("east".into(), Value::Int(500))];
    let new = far.insert_node(NewNode { labels: label_set(["A"]), properties }).unwrap();
    let target = 0;
    let properties = vec![("w".into(), Value::Int(20))];
    far.insert_edge(NewEdge { labels: label_set(["R"]), properties, directed: false, source: new, target })
        .unwrap();
    let far = folded(&far.finish().unwrap().0);
    let refused = with_bound(&far, bound(BoundSource::Coordinates(vec!["east".into()]))).unwrap_err();
    assert!(refused.contains("the straight line between its ends is 500"), "{refused}");
    let refused = with_bound(&far, bound(BoundSource::Coordinates(vec!["north".into()]))).unwrap_err();
    assert!(refused.contains("has no coordinates"), "{refused}");
}

#[test]
fn a_bound_is_written_as_it_is_read() {
    let name = |text: &str| Arc::<str>::from(text);
    for (text, labels, direction, source) in [
        (
            "CREATE DISTANCE BOUND b OVER -[:R {w}]- FROM 16 LANDMARKS",
            vec!["R"],
            Direction::Any,
            BoundSource::Landmarks(16),
        ),
        (
            "CREATE DISTANCE BOUND b OVER -[:R|S {w}]-> FROM 3 LANDMARKS",
            vec!["R", "S"],
            Direction::Out,
            BoundSource::Landmarks(3),
        ),
        (
            "CREATE DISTANCE BOUND b OVER ~[{w}]~ FROM 1 LANDMARKS",
            vec![],
            Direction::Undirected,
            BoundSource::Landmarks(1),
        ),
        (
            "CREATE DISTANCE BOUND b OVER ~[:`a road` {`how far`}]~> FROM COORDINATES {x, `the y`}",
            vec!["a road"],
            Direction::OutOrUndirected,
            BoundSource::Coordinates(vec![name("x"), name("the y")]),
        ),
        (
            "CREATE DISTANCE BOUND b OVER <-[:R {w}]-> FROM 64 LANDMARKS",
            vec!["R"],
            Direction::OutOrIn,
            BoundSource::Landmarks(64),
        ),
    ] {
        let [Statement::CreateBound(new)] = &parse(text).unwrap()[..] else { panic!("{text}") };
        let read = BoundDefinition {
            name: new.name.text.clone(),
            labels: new.labels.iter().map(|label| label.text.clone()).collect(),
            direction: new.direction,
            property: new.property.text.clone(),
            source: new.source.clone(),
        };
        assert_eq!(read.to_string(), text);
        assert_eq!(
            (read.labels, read.direction, read.source),
            (labels.into_iter().map(name).collect(), direction, source)
        );
    }
    // Against the edges is along them from the other end.
    let [Statement::CreateBound(new)] =
        &parse("CREATE DISTANCE BOUND b OVER <-[:R {w}]- FROM LANDMARKS").unwrap()[..]
    else {
        panic!("it is a bound")
    };
    assert_eq!((new.direction, &new.source), (Direction::Out, &BoundSource::Landmarks(16)));
    for (text, said) in [
        ("CREATE DISTANCE BOUND b OVER (:R {w}) FROM LANDMARKS", "expected"),
        ("CREATE DISTANCE BOUND b OVER -[:R {w, v}]- FROM LANDMARKS", "expected"),
        ("CREATE DISTANCE BOUND b OVER -[:R {w}]- FROM 0 LANDMARKS", "from 1 to 64 landmarks"),
        ("CREATE DISTANCE BOUND b OVER -[:R {w}]- FROM COORDINATES {a, b, c, d}", "at most 3 coordinates"),
        ("CREATE DISTANCE BOUND b OVER -[:R {w}]-", "expected FROM"),
    ] {
        let errors = parse(text).unwrap_err();
        assert!(errors.0[0].message.contains(said), "{text}: {}", errors.0[0].message);
    }
}
