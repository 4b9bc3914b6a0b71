//! Profiles of random queries, as data and as text: what must hold of every one of them.

use graphodrome_engine::{
    Change, Limits, Parameters, PlanTree, Prepared, Rules, TextOptions, compare, folded_stacks, prepare_by,
    render_comparison, render_plan, render_profile, speedscope_profile,
};
use graphodrome_graph::Snapshot;
use graphodrome_language::ast::Statement;
use graphodrome_language::parse;
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::graphs::Graph;
use crate::{queries, setting};

fn prepared(snapshot: &Snapshot, text: &str, rules: Rules) -> Option<Prepared> {
    let statements = parse(text).ok()?;
    let [Statement::Query(query)] = &statements[..] else { return None };
    prepare_by(query, text, snapshot, &Parameters::new(), rules).ok()
}

/// The profile of a run that comes to its end.
fn profiled(snapshot: &Snapshot, prepared: &Prepared) -> Option<(PlanTree, u64)> {
    let limits = Limits { time: Some(std::time::Duration::from_millis(200)), ..Limits::default() };
    let mut execution = prepared.run(snapshot.clone(), &Parameters::new(), limits);
    let mut rows = 0;
    while let Some(batch) = execution.next_batch().ok()? {
        rows += batch.len as u64;
    }
    Some((execution.profile(), rows))
}

fn widest(text: &str) -> usize {
    text.lines().map(|line| line.chars().count()).max().unwrap_or(0)
}

#[test]
fn every_profile_adds_up_compares_with_itself_and_keeps_its_width() {
    let (cases, seed) = (setting("CASES", 20_000) / 20, setting("SEED", 20_261_129));
    let (mut seen, mut others) = (0, 0);
    for case in 0..cases {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_add(case));
        let graph = Graph::random(&mut rng);
        let text = queries::question(&mut rng).text;
        let snapshot = graph.snapshot(usize::MAX, rng.random());
        let Some(with) = prepared(&snapshot, &text, Rules::all()) else { continue };
        let Some((tree, rows)) = profiled(&snapshot, &with) else { continue };
        let at = format!("case {case}: {text}");
        seen += 1;
        // What is kept as data comes back as it was.
        let kept = serde_json::to_string(&tree).unwrap();
        let again = serde_json::to_string(&serde_json::from_str::<PlanTree>(&kept).unwrap()).unwrap();
        assert_eq!(again, kept, "{at}");
        // The root's rows are the result's, own times add up to no more than the whole, and a way is chosen
        // wherever there was a choice.
        let all = tree.walk();
        let actual = tree.actual.as_ref().unwrap();
        assert_eq!(actual.rows_out, rows, "{at}");
        for (_, operator) in &all {
            let chosen = operator.alternatives.iter().filter(|a| a.chosen).count();
            assert_eq!(chosen, usize::from(!operator.alternatives.is_empty()), "{at}");
            let hops: u64 = operator.actual.iter().flat_map(|a| &a.hops).map(|hop| hop.edges_looked).sum();
            let looked = operator.actual.as_ref().unwrap().counters.edges_looked;
            assert!(hops <= looked, "{at}\n{} {hops} {looked}", operator.operator);
        }
        // Folded stacks have the time of the operators, to half a microsecond each.
        let folded: f64 =
            folded_stacks(&tree).lines().map(|l| l.rsplit_once(' ').unwrap().1.parse::<f64>().unwrap()).sum();
        let own: f64 = all.iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.own_us).sum();
        // The same stacks as samples: every frame is one of the list, and the weights are the same.
        let file = speedscope_profile(&tree, &text);
        let profile = &file["profiles"][0];
        let frames = file["shared"]["frames"].as_array().unwrap().len() as u64;
        let weights: u64 = profile["weights"].as_array().unwrap().iter().map(|w| w.as_u64().unwrap()).sum();
        assert_eq!((weights as f64, profile["endValue"].as_u64()), (folded, Some(weights)), "{at}");
        let samples = profile["samples"].as_array().unwrap();
        assert_eq!(samples.len(), folded_stacks(&tree).lines().count(), "{at}");
        let used = |sample: &serde_json::Value| {
            sample.as_array().unwrap().iter().all(|f| f.as_u64().unwrap() < frames)
        };
        assert!(samples.iter().all(used), "{at}");
        let hops: usize = all.iter().filter_map(|(_, t)| t.actual.as_ref()).map(|a| a.hops.len()).sum();
        assert!((folded - own).abs() <= (all.len() + hops) as f64, "{at}\n{folded} {own}");
        // With itself there is no difference; with another way to the same rows the rows are the same.
        let same = compare(&tree, &tree);
        assert!(same.same_plan && same.same_work && same.operators.len() == all.len(), "{at}");
        let plain = prepared(&snapshot, &text, Rules::none()).and_then(|plain| profiled(&snapshot, &plain));
        if let Some((plain, _)) = plain {
            let comparison = compare(&plain, &tree);
            others += usize::from(!comparison.same_plan);
            let of = |change| comparison.operators.iter().filter(|o| o.change == change).count();
            assert_eq!(
                of(Change::Removed) + of(Change::Same) + of(Change::Changed),
                plain.walk().len(),
                "{at}"
            );
            assert_eq!(of(Change::Added) + of(Change::Same) + of(Change::Changed), all.len(), "{at}");
            let back = compare(&tree, &plain);
            assert_eq!((back.work.0, back.work.1), (comparison.work.1, comparison.work.0), "{at}");
            assert!(widest(&render_comparison(&comparison, &TextOptions::default())) <= 100 + 40, "{at}");
        }
        // However deep it is, nothing is wider than asked for but what cannot be broken.
        for verbose in [false, true] {
            let options = TextOptions { verbose, all_hops: verbose, width: 100 };
            for shown in [render_plan(&with.plan(), &[], &options), render_profile(&tree, &[], &options)] {
                let deepest = all.iter().map(|(depth, t)| 3 * depth + t.operator.len()).max().unwrap();
                // A name with its rails and figures is never broken.
                assert!(
                    widest(&shown) <= 100.max(deepest + 70),
                    "{at}\n{} {deepest}\n{shown}",
                    widest(&shown)
                );
            }
        }
    }
    assert!(seen > cases / 3 && others > cases as usize / 10, "{seen} {others}");
}
