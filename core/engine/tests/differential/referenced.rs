//! The plain way itself against the reference: what all rules are compared with is right.

use graphodrome_engine::Rules;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

use crate::graphs::Graph;
use crate::queries::{self, Compared};
use crate::reference::{Trouble, answer};
use crate::{MOST_WRONG, limited, run, setting};

/// No walk is followed further: more than any shortest path of these graphs has.
const LONGEST: usize = 11;

/// Edges tried before a case is left out.
const STEPS: u64 = 60_000;

#[test]
fn the_plain_way_is_that_of_the_reference() {
    let (cases, seed) = (setting("CASES", 4_000), setting("SEED", 20_261_130));
    println!("{cases} cases from seed {seed}");
    let (mut compared, mut failed, mut large, mut wrong) = (0, 0, 0, 0);
    for seed in seed..seed.wrapping_add(cases) {
        if wrong == MOST_WRONG {
            break;
        }
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let graph = Graph::random(&mut rng);
        let question = queries::question(&mut rng);
        let text = &question.text;
        let ours = run(&graph.snapshot(usize::MAX, false), text, Rules::none(), false);
        if ours.as_ref().is_err_and(|e| e.starts_with("42")) || limited(&ours) {
            continue;
        }
        let statements = parse(text).unwrap();
        let [Statement::Query(query)] = &statements[..] else { panic!("{text} is no query") };
        let theirs = match answer(&graph.for_reference(), query, LONGEST, STEPS) {
            Ok(theirs) => theirs,
            Err(Trouble::TooMuch) => {
                large += 1;
                continue;
            }
            // The engine may have tested another condition first.
            Err(Trouble::Data) => {
                failed += 1;
                continue;
            }
        };
        compared += 1;
        let mut ours = match ours {
            Ok(rows) => rows,
            // A condition of a row that another condition leaves out may fail first.
            Err(e) if e.starts_with("22G0") => continue,
            Err(e) => {
                wrong += 1;
                println!("WRONG seed {seed}: CASES=1 SEED={seed}\n{graph:?}\n{text}\n  error {e}");
                continue;
            }
        };
        let mut rows = theirs.rows;
        let same = match question.compared {
            Compared::Ordered if theirs.ordered => ours == rows,
            Compared::Count => ours.len() == rows.len(),
            Compared::Ordered if text.contains("LIMIT") => ours.len() == rows.len(),
            _ => {
                ours.sort();
                rows.sort();
                ours == rows
            }
        };
        if !same {
            wrong += 1;
            println!(
                "WRONG seed {seed}: CASES=1 SEED={seed}\n{graph:?}\n{text}\n  ours {ours:?}\n  reference {rows:?}"
            );
        }
    }
    println!("{compared} compared, {failed} failed, {large} too large");
    assert_eq!(wrong, 0, "answers that are not the reference's: each with the seed that brings it back");
    assert!(compared > cases * 6 / 10, "only {compared} of {cases} cases were compared");
}
