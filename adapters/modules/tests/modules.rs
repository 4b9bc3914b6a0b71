//! Modules in queries: the examples agree with plain implementations, and a faulty module fails its caller and
//! affects nobody else.

#![allow(clippy::unwrap_used)]

use std::sync::Arc;
use std::time::Duration;

use graphodrome_engine::{
    CancelToken, ExternalProcedure, Limits, MemoryPool, Parameters, prepare, set_external,
};
use graphodrome_graph::{NewEdge, NewNode, Snapshot, Transaction, Value, label_set};
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use graphodrome_modules::{Module, ModuleLimits};

const QUANTITIES: &[u8] = include_bytes!("../../../demo/parts/part_quantities.wasm");
const HOPS: &[u8] = include_bytes!("../../../docs/procedures/c/hops.wasm");

/// A core module with the functions that every one needs; `run` is what it does, `more` what stands beside.
fn module(signature: &str, more: &str, run: &str) -> Vec<u8> {
    let text = format!(
        r#"(module
            (import "graphodrome:procedure/part@0.1.0" "node-count" (func $node_count (result i32)))
            (import "graphodrome:procedure/part@0.1.0" "numbers" (func $numbers (param i32 i32 i32 i32)))
            (import "graphodrome:procedure/arguments@0.1.0" "number" (func $argument (param i32 i32 i32)))
            (import "graphodrome:procedure/results@0.1.0" "nodes" (func $nodes (param i32 i32 i32 i32)))
            (import "graphodrome:procedure/results@0.1.0" "wholes" (func $wholes (param i32 i32 i32 i32)))
            (import "graphodrome:procedure/results@0.1.0" "texts" (func $texts (param i32 i32 i32 i32)))
            (memory (export "memory") 2)
            (global $end (mut i32) (i32.const 65536))
            (data (i32.const 0) "\10\00\00\00\{low:02x}\{high:02x}\00\00")
            (data (i32.const 16) "{signature}")
            (data (i32.const 1024) "nodewordhowx")
            (data (i32.const 2048) "\00\00\00\00\01\00\00\00\02\00\00\00")
            (data (i32.const 2064) "\01\00\00\00\1c\08\00\00\08\00\00\00it is so")
            (func (export "cabi_realloc") (param i32 i32 i32 i32) (result i32)
                (local $at i32)
                (local.set $at (global.get $end))
                (global.set $end (i32.and (i32.add (i32.add (global.get $end) (local.get 3)) (i32.const 7)) (i32.const -8)))
                (block $enough
                    (br_if $enough (i32.lt_u (global.get $end) (i32.mul (memory.size) (i32.const 65536))))
                    (drop (memory.grow (i32.const 16))))
                (local.get $at))
            (func (export "signature") (result i32) (i32.const 0))
            {more}
            (func (export "run") (result i32) {run} (i32.const 4096)))"#,
        low = signature.len() & 255,
        high = signature.len() >> 8,
    );
    wat::parse_str(text).unwrap()
}

const ONE_COLUMN: &str = "odd() YIELD node NODE";

/// A tree of parts: each has so many of the next two.
fn parts() -> Snapshot {
    let mut transaction = Transaction::new(Snapshot::empty(None).unwrap());
    let parts: Vec<u32> = (0..10)
        .map(|n| {
            let properties =
                vec![("n".into(), Value::Int(n)), ("name".into(), Value::text(format!("part {n}")))];
            transaction.insert_node(NewNode { labels: label_set(["Part"]), properties }).unwrap()
        })
        .collect();
    for (n, source) in parts.iter().enumerate() {
        for (target, quantity) in parts.iter().skip(n + 1).take(2).zip([2, 3]) {
            let properties = vec![("quantity".into(), Value::Int(quantity))];
            let labels = label_set(["HAS"]);
            let edge = NewEdge { labels, properties, directed: true, source: *source, target: *target };
            transaction.insert_edge(edge).unwrap();
        }
    }
    transaction.finish().unwrap().0
}

fn known(modules: &[(&[u8], ModuleLimits)]) {
    let read = modules
        .iter()
        .map(|(bytes, limits)| Arc::new(Module::read(bytes, *limits).unwrap()) as Arc<dyn ExternalProcedure>);
    set_external(read.collect());
}

fn run(snapshot: &Snapshot, text: &str, limits: Limits) -> Result<Vec<Vec<Value>>, String> {
    let Statement::Query(query) = parse(text).unwrap().remove(0) else { panic!("{text}") };
    let prepared = prepare(&query, text, snapshot, &Parameters::new()).map_err(|e| e.0[0].message.clone())?;
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), limits);
    let mut rows = vec![];
    while let Some(batch) = execution.next_batch().map_err(|e| e.message)? {
        rows.extend((0..batch.len).map(|row| batch.columns.iter().map(|c| c.get(row)).collect()));
    }
    Ok(rows)
}

/// One test, since what can be called is the process's.
#[test]
fn modules_give_their_rows_or_an_error_and_nothing_else() {
    let snapshot = parts();
    the_examples(&snapshot);
    misbehaviour(&snapshot);
    the_same_again_and_again(&snapshot);
    limits_of_the_query(&snapshot);
    what_cannot_be_read();
}

fn the_examples(snapshot: &Snapshot) {
    known(&[(QUANTITIES, ModuleLimits::default()), (HOPS, ModuleLimits::default())]);
    // By all ways, one after the other.
    let plain = run(
        snapshot,
        "MATCH (a:Part {n: 0})-[e:HAS]->*(b:Part) RETURN b.n AS n, SUM(PRODUCT(e.quantity)) AS q, MAX(SIZE(e)) AS level ORDER BY n",
        Limits::default(),
    )
    .unwrap();
    let called = run(
        snapshot,
        "MATCH (a:Part {n: 0}) CALL part_quantities({of: a, edges: '-[:HAS]->', weight: 'quantity'}) YIELD node, quantity, level RETURN node.n AS n, quantity AS q, level ORDER BY n",
        Limits::default(),
    )
    .unwrap();
    assert_eq!(plain.len(), 10);
    for (plain, called) in plain.iter().zip(&called).skip(1) {
        assert_eq!((&plain[0], plain[1].as_f64(), &plain[2]), (&called[0], called[1].as_f64(), &called[2]));
    }
    assert_eq!(called[0][1], Value::Float(1.0));
    let hops =
        "MATCH (a:Part {n: 3}) CALL hops({from: [a]}) YIELD node, hops RETURN node.n AS n, hops ORDER BY n";
    let hops = run(snapshot, hops, Limits::default()).unwrap();
    let wanted: Vec<Vec<Value>> = (3..10).map(|n| vec![Value::Int(n), Value::Int((n - 2) / 2)]).collect();
    assert_eq!(hops, wanted);
    let near = "MATCH (a:Part {n: 3}) CALL hops({from: [a], most: 1}) YIELD node RETURN COUNT(*) AS n";
    assert_eq!(run(snapshot, near, Limits::default()).unwrap(), [[Value::Int(3)]]);
    // What the examples refuse, and what is wrong with a call.
    for (text, said) in [
        ("CALL part_quantities() YIELD node RETURN node", "needs its argument of"),
        (
            "MATCH (a {n: 0}) CALL hops({from: a, most: -1}) YIELD node RETURN node",
            "a whole number from 0 on",
        ),
        ("MATCH (a {n: 0}) CALL hops({from: a, least: 1}) YIELD node RETURN node", "no argument least"),
        (
            "MATCH (a {n: 0}) CALL hops({from: a, nodes: '(n WHERE n.n > 4)'}) YIELD node RETURN node",
            "not in the part looked at",
        ),
        ("MATCH (a {n: 0}) CALL hops({from: a}) YIELD steps RETURN steps", "no column steps"),
        (
            "MATCH (a {n: 0}) CALL part_quantities({of: a, edges: '-[:HAS]-'}) YIELD node RETURN node",
            "part of itself",
        ),
    ] {
        let error = run(snapshot, text, Limits::default()).unwrap_err();
        assert!(error.contains(said), "{text}: {error}");
    }
}

/// A module that ends its own call with an error, gives all memory back, and leaves another one alone.
fn ends_with(snapshot: &Snapshot, what: &str, bytes: &[u8], limits: ModuleLimits, said: &str) {
    known(&[(bytes, limits), (QUANTITIES, ModuleLimits::default())]);
    let memory = MemoryPool::new(1 << 30);
    let held = Limits { pool: Some(memory.clone()), ..Limits::default() };
    let error = run(snapshot, "CALL odd() RETURN *", held).unwrap_err();
    assert!(
        error.starts_with("odd: ") && error.to_lowercase().contains(&said.to_lowercase()),
        "{what}: {error}"
    );
    assert_eq!(memory.held(), 0, "{what}");
    // Nobody else notices.
    let other = "MATCH (a:Part {n: 8}) CALL part_quantities({of: a, weight: 'quantity'}) YIELD quantity RETURN SUM(quantity) AS n";
    assert_eq!(run(snapshot, other, Limits::default()).unwrap(), [[Value::Float(3.0)]], "{what}");
}

fn misbehaviour(snapshot: &Snapshot) {
    let usual = ModuleLimits { steps: 20_000_000, memory_bytes: 8 << 20, time: Duration::from_secs(20) };
    let long = ModuleLimits { steps: u64::MAX / 2, time: Duration::from_millis(200), ..usual };
    let give = |at: u32, length: u32, count: u32| {
        format!("(call $nodes (i32.const {at}) (i32.const {length}) (i32.const 2048) (i32.const {count}))")
    };
    let two = "odd() YIELD node NODE, how INT64";
    for (what, signature, more, body, limits, said) in [
        ("loops", ONE_COLUMN, "", "(loop $on (br $on))", usual, "it took more than 20000000 steps"),
        ("runs long", ONE_COLUMN, "", "(loop $on (br $on))", long, "it ran longer than 0.2 s"),
        (
            "takes all memory",
            ONE_COLUMN,
            "",
            "(loop $on (drop (memory.grow (i32.const 16))) (br $on))",
            usual,
            "it needs more than 8 MiB of memory",
        ),
        ("traps", ONE_COLUMN, "", "(unreachable)", usual, "it ended with a trap"),
        (
            "divides by zero",
            ONE_COLUMN,
            "",
            "(drop (i32.div_u (i32.const 1) (i32.const 0)))",
            usual,
            "divide by zero",
        ),
        ("reads outside", ONE_COLUMN, "", "(drop (i32.load (i32.const 900000000)))", usual, "out of bounds"),
        (
            "calls itself",
            ONE_COLUMN,
            "(func $deeper (call $deeper))",
            "(call $deeper)",
            usual,
            "call stack exhausted",
        ),
        (
            "gives a node that is not there",
            ONE_COLUMN,
            "(data (i32.const 3000) \"\\99\\00\\00\\00\")",
            "(call $nodes (i32.const 1024) (i32.const 4) (i32.const 3000) (i32.const 1))",
            usual,
            "it gave the node 153 for node: there are 10",
        ),
        ("gives a column that it has not", ONE_COLUMN, "", &give(1028, 4, 3), usual, "it gave a column word"),
        (
            "gives another type",
            two,
            "",
            &format!("{} {}", give(1024, 4, 3), give(1032, 3, 3)),
            usual,
            "its column how is a INT64, and it gave NODE",
        ),
        ("gives columns of two lengths", two, "", &give(1024, 4, 3), usual, "3 of node, 0 of how"),
        ("gives more than is there", ONE_COLUMN, "", &give(1024, 4, 900_000_000), usual, "out of bounds"),
        (
            "gives no text",
            "odd() YIELD how STRING",
            "(data (i32.const 3000) \"\\ff\\fe\") (data (i32.const 3008) \"\\b8\\0b\\00\\00\\02\\00\\00\\00\")",
            "(call $texts (i32.const 1032) (i32.const 3) (i32.const 3008) (i32.const 1))",
            usual,
            "utf-8",
        ),
        (
            "asks for an argument that it has not",
            ONE_COLUMN,
            "",
            "(call $argument (i32.const 1028) (i32.const 4) (i32.const 8192))",
            usual,
            "it asked for an argument word",
        ),
        (
            "reads texts as numbers",
            "odd() YIELD node NODE",
            "(data (i32.const 3000) \"name\")",
            "(call $numbers (i32.const 0) (i32.const 3000) (i32.const 4) (i32.const 8192))",
            usual,
            "name is STRING 'part 0', no number",
        ),
        ("says why it cannot", ONE_COLUMN, "", "(i32.const 2064) (return)", usual, "it is so"),
    ] {
        ends_with(snapshot, what, &module(signature, more, body), limits, said);
    }
    // One that does as it should.
    let bytes = module(ONE_COLUMN, "", &format!("{} {}", give(1024, 4, 3), give(1024, 4, 1)));
    known(&[(&bytes, usual)]);
    let rows = run(snapshot, "CALL odd() YIELD node RETURN node.n AS n", Limits::default()).unwrap();
    assert_eq!(rows, [0, 1, 2, 0].map(|n| vec![Value::Int(n)]));
}

/// A quarter of a million texts that are all the same 8 kB: what it gives at once is bounded before it is copied.
fn the_same_again_and_again(snapshot: &Snapshot) {
    let usual = ModuleLimits { steps: 20_000_000, memory_bytes: 8 << 20, time: Duration::from_secs(20) };
    let body = "(local $at i32)
        (drop (memory.grow (i32.const 32)))
        (loop $on
            (i32.store (i32.add (i32.const 131072) (local.get $at)) (i32.const 16))
            (i32.store (i32.add (i32.const 131076) (local.get $at)) (i32.const 8192))
            (local.set $at (i32.add (local.get $at) (i32.const 8)))
            (br_if $on (i32.lt_u (local.get $at) (i32.const 2000000))))
        (call $texts (i32.const 1032) (i32.const 3) (i32.const 131072) (i32.const 250000))";
    let bytes = module("odd() YIELD how STRING", "", body);
    ends_with(
        snapshot,
        "gives the same often",
        &bytes,
        usual,
        "it gave more at once than the 8 MiB of memory",
    );
}

fn limits_of_the_query(snapshot: &Snapshot) {
    let endless = module(ONE_COLUMN, "", "(loop $on (br $on))");
    let own = ModuleLimits { steps: u64::MAX / 2, time: Duration::from_secs(60), ..ModuleLimits::default() };
    let greedy =
        module("greedy() YIELD node NODE", "", "(loop $on (drop (memory.grow (i32.const 16))) (br $on))");
    known(&[(&endless, own), (&greedy, own)]);
    let short = Limits { time: Some(Duration::from_millis(100)), ..Limits::default() };
    let error = run(snapshot, "CALL odd() YIELD node RETURN node", short).unwrap_err();
    assert!(error.contains("longer than its limit of 0.1 s"), "{error}");
    let little = Limits { memory_bytes: 32 << 20, ..Limits::default() };
    let error = run(snapshot, "CALL greedy() YIELD node RETURN node", little).unwrap_err();
    assert!(error.contains("32 MiB"), "{error}");
    let cancel = CancelToken::default();
    let limits = Limits { cancel: cancel.clone(), ..Limits::default() };
    let cancelling = std::thread::spawn(move || cancel.cancel());
    let error = run(snapshot, "CALL odd() YIELD node RETURN node", limits).unwrap_err();
    cancelling.join().unwrap();
    assert!(error.contains("cancelled"), "{error}");
}

fn what_cannot_be_read() {
    let read = |bytes: &[u8]| Module::read(bytes, ModuleLimits::default()).unwrap_err().to_string();
    assert!(read(b"no module").contains("does not begin as one does"));
    assert!(read(&HOPS[..100]).len() > 10);
    let empty = wat::parse_str("(module)").unwrap();
    assert!(read(&empty).contains("does not fit the world"), "{}", read(&empty));
    let file = wat::parse_str(
        r#"(module (import "wasi_snapshot_preview1" "fd_write" (func (param i32 i32 i32 i32) (result i32))))"#,
    );
    assert!(read(&file.unwrap()).contains("does not fit the world"));
    let component =
        wat::parse_str(r#"(component (import "wasi:filesystem/types@0.2.0" (instance)))"#).unwrap();
    let said = read(&component);
    assert!(said.contains("does not fit the world") || said.contains("wasi:filesystem"), "{said}");
    assert!(read(&module("odd(of DATE) YIELD node NODE", "", "")).contains("an argument is a NODE"));
    // It may not do anything while it says what it is.
    let text = module(ONE_COLUMN, "", "");
    assert!(Module::read(&text, ModuleLimits::default()).is_ok());
}
