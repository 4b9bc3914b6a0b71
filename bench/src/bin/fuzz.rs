//! Fuzzing of parser, checker and executor: `cargo run --release --bin fuzz -- parser 60`.
//!
//! Arguments are `parser`, `checker` or `executor`, seconds, and a seed. Texts are pieces of the language's test
//! cases, cut, repeated, nested and joined. Every text must give an answer or an error: a panic is printed with its
//! text and seed, and fails the run.

#![allow(clippy::unwrap_used)] // A tool for developers: it should stop with the place.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::Path;
use std::time::{Duration, Instant};

use graphodrome_engine::{CancelToken, Limits, Parameters, prepare};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Statement;
use graphodrome_language::{Known, check_query, format, parse, tokenize};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

const GRAPH: &str = "INSERT (a:Site {code: 'S1', height: 120}), (b:Junction {code: 'J1', height: 100}),
  (c:Junction {code: 'J2'}), (a)-[:PIPE {code: 'P1', length: 10}]->(b), (b)-[:PIPE {code: 'P2', length: 20}]->(c),
  (c)-[:PIPE {code: 'P3', length: 5}]->(b), (c)-[:PIPE {code: 'P4'}]->(c), (b)~[:NEAR {metres: 3}]~(c)";

fn corpus() -> Vec<String> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../core/engine/tests/cases");
    let mut texts = vec![];
    for entry in std::fs::read_dir(folder).unwrap() {
        let text = std::fs::read_to_string(entry.unwrap().path()).unwrap();
        let lines = text.lines().filter(|l| !l.starts_with('#') && !l.is_empty());
        texts.extend(lines.map(|l| l.split(" => ").next().unwrap_or(l).replace(" ;; ", "; ")));
    }
    texts.sort();
    texts
}

/// Pieces that lie between tokens of a text.
fn pieces(text: &str) -> Vec<&str> {
    let (tokens, _) = tokenize(text);
    let piece = |t: &graphodrome_language::Token| text.get(t.span.start as usize..t.span.end as usize);
    tokens.iter().filter_map(piece).filter(|p| !p.is_empty()).collect()
}

fn made(rng: &mut ChaCha8Rng, corpus: &[String]) -> String {
    let pick = |rng: &mut ChaCha8Rng| corpus[rng.random_range(0..corpus.len())].clone();
    let mut text = pick(rng);
    for _ in 0..rng.random_range(1..6) {
        let other = pick(rng);
        let (mine, theirs) = (pieces(&text), pieces(&other));
        if mine.is_empty() || theirs.is_empty() {
            continue;
        }
        let at = rng.random_range(0..mine.len());
        let from = rng.random_range(0..theirs.len());
        let to = (from + rng.random_range(1..12)).min(theirs.len());
        let mut out: Vec<String> = mine.iter().map(|p| p.to_string()).collect();
        match rng.random_range(0..8) {
            0 => {
                out.remove(at);
            }
            1 => out.insert(at, theirs[from].to_string()),
            2 => out[at] = theirs[from].to_string(),
            3 => out.splice(at..at, theirs[from..to].iter().map(|p| p.to_string())).for_each(drop),
            4 => {
                let end = (at + rng.random_range(1..8)).min(out.len());
                let run: Vec<String> = out[at..end].to_vec();
                let times = rng.random_range(1..30);
                out.splice(at..at, std::iter::repeat_n(run, times).flatten()).for_each(drop);
            }
            5 => out.truncate(at + 1),
            6 => {
                let (open, close) =
                    [("(", ")"), ("{", "}"), ("[", "]"), ("CALL {", "}")][rng.random_range(0..4)];
                let times = rng.random_range(1..300);
                out.insert(at, [open].repeat(times).join(" "));
                out.push([close].repeat(times).join(" "));
            }
            _ => {
                let numbers =
                    ["0", "-1", "9223372036854775807", "1e308", "0.1", "''", "NULL", "[]", "{}", "$p"];
                out[at] = numbers[rng.random_range(0..numbers.len())].into();
            }
        }
        text = out.join(" ");
    }
    text
}

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let target = arguments.first().map_or("parser", String::as_str).to_string();
    let seconds: u64 = arguments.get(1).map_or(60, |s| s.parse().unwrap());
    let first: u64 = arguments.get(2).map_or(1, |s| s.parse().unwrap());
    // As deep queries have it in the service.
    let work = std::thread::Builder::new().stack_size(32 << 20).spawn(move || run(&target, seconds, first));
    std::process::exit(work.unwrap().join().unwrap());
}

fn run(target: &str, seconds: u64, first: u64) -> i32 {
    let corpus = corpus();
    let empty = Snapshot::empty(None).unwrap();
    let none = Parameters::new();
    let Statement::Query(query) = parse(GRAPH).unwrap().remove(0) else { return 1 };
    let mut making = prepare(&query, GRAPH, &empty, &none).map(|p| {
        let mut execution = p.run(empty.clone(), &none, Limits::default());
        while execution.next_batch().unwrap().is_some() {}
        execution.finish().unwrap().unwrap().0
    });
    let snapshot = making.as_mut().unwrap().clone();
    let parameters = Parameters::from([("p".to_string(), graphodrome_graph::Value::Int(2))]);
    let began = Instant::now();
    let (mut seed, mut answered, mut slowest) = (first, 0u64, (Duration::ZERO, String::new()));
    std::panic::set_hook(Box::new(|_| {}));
    while began.elapsed() < Duration::from_secs(seconds) {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let text = made(&mut rng, &corpus);
        let started = Instant::now();
        let outcome = catch_unwind(AssertUnwindSafe(|| {
            let parsed = parse(&text);
            if target == "parser" {
                let _ = format(&text);
                return parsed.is_ok();
            }
            let Ok(statements) = parsed else { return false };
            let mut fine = true;
            for statement in statements {
                let Statement::Query(query) = statement else { continue };
                if target == "checker" {
                    fine &= check_query(&query, &Known::default(), None).is_empty();
                    continue;
                }
                let Ok(prepared) = prepare(&query, &text, &snapshot, &parameters) else { return false };
                let limits = Limits {
                    time: Some(Duration::from_secs(2)),
                    memory_bytes: 64 << 20,
                    cancel: CancelToken::default(),
                    ..Limits::default()
                };
                let mut execution = prepared.run(snapshot.clone(), &parameters, limits);
                loop {
                    match execution.next_batch() {
                        Ok(Some(_)) => {}
                        Ok(None) => break,
                        Err(_) => return false,
                    }
                }
                fine &= execution.finish().is_ok();
            }
            fine
        }));
        if started.elapsed() > slowest.0 {
            slowest = (started.elapsed(), text.clone());
        }
        match outcome {
            Ok(fine) => answered += fine as u64,
            Err(panic) => {
                let said = panic.downcast_ref::<String>().map(String::as_str);
                let said = said.or(panic.downcast_ref::<&str>().copied()).unwrap_or("");
                println!("seed {seed}: a panic: {said}\n{text}");
                return 1;
            }
        }
        seed += 1;
    }
    println!(
        "{target}: {} texts in {:.0} s, {answered} of them with an answer, no panic; the slowest took {:.0} ms",
        seed - first,
        began.elapsed().as_secs_f64(),
        slowest.0.as_secs_f64() * 1e3
    );
    if slowest.0 > Duration::from_secs(1) {
        println!("{}", slowest.1.chars().take(600).collect::<String>());
    }
    0
}
