//! Every measure against its definition, written down the slow way, on random small graphs: directed or read both
//! ways, with loops, parallel edges, islands and equal weights; and on one thread against several.

#![allow(clippy::unwrap_used, clippy::needless_range_loop)]

mod definitions;

use graphodrome_algorithms::*;
use proptest::prelude::*;

use crate::definitions::*;

const GO_ON: Ask<'static> = &|_| Ok(());

#[derive(Clone, Debug)]
struct Drawn {
    nodes: usize,
    ends: Vec<(u32, u32)>,
    weights: Vec<f64>,
    both_ways: bool,
    weighted: bool,
}

impl Drawn {
    fn graph(&self) -> Subgraph {
        let weights = self.weighted.then_some(&self.weights[..]);
        Subgraph::of_ends(self.nodes, &self.ends, self.both_ways, weights)
    }

    fn plain(&self) -> Plain {
        Plain::of(&self.graph())
    }
}

fn drawn() -> impl Strategy<Value = Drawn> {
    (1..8usize, any::<bool>(), any::<bool>()).prop_flat_map(|(nodes, both_ways, weighted)| {
        let node = 0..nodes as u32;
        let edge = ((node.clone(), node), prop::sample::select(vec![0.5, 1.0, 1.0, 2.0, 3.0]));
        prop::collection::vec(edge, 0..14).prop_map(move |edges| {
            let (ends, weights) = edges.into_iter().unzip();
            Drawn { nodes, ends, weights, both_ways, weighted }
        })
    })
}

/// Edges that lead to greater numbers only.
fn acyclic() -> impl Strategy<Value = Drawn> {
    drawn().prop_map(|mut drawn| {
        drawn.both_ways = false;
        let kept = |(a, b): &(u32, u32)| a != b;
        (drawn.ends, drawn.weights) = drawn.ends.iter().zip(&drawn.weights).filter(|(e, _)| kept(e)).unzip();
        drawn.ends.iter_mut().for_each(|(a, b)| (*a, *b) = ((*a).min(*b), (*a).max(*b)));
        drawn
    })
}

fn near(a: f64, b: f64) -> bool {
    a == b || (a - b).abs() <= 1e-9 * (1.0 + a.abs().max(b.abs()))
}

fn all_near(a: &[f64], b: &[f64]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| near(*a, *b))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn page_rank_is_the_fixed_point(drawn in drawn(), begin in prop::collection::vec(0..8u32, 0..3)) {
        let graph = drawn.graph();
        let begin: Vec<u32> = begin.into_iter().filter(|b| (*b as usize) < drawn.nodes).collect();
        let options = PageRank { damping: 0.85, iterations: 500, tolerance: 1e-12, begin: Some(&begin) };
        let found = page_rank(&graph, &options, GO_ON).unwrap();
        prop_assert!(found.converged);
        prop_assert!(near(found.scores.iter().sum::<f64>(), 1.0));
        let once_more = drawn.plain().page_rank_step(&found.scores, 0.85, &begin);
        prop_assert!(all_near(&found.scores, &once_more), "{:?} {once_more:?}", found.scores);
    }

    #[test]
    fn katz_counts_walks(drawn in drawn()) {
        let found = katz(&drawn.graph(), 0.01, 200, 1e-14, GO_ON).unwrap();
        prop_assert!(all_near(&found.scores, &drawn.plain().katz(0.01, 60)));
    }

    #[test]
    fn eigenvector_centrality_is_an_eigenvector(drawn in drawn()) {
        let found = eigenvector(&drawn.graph(), 20_000, 1e-13, GO_ON).unwrap();
        if found.converged {
            let product = drawn.plain().shifted_product(&found.scores);
            let factor = product.iter().map(|p| p * p).sum::<f64>().sqrt();
            for (score, product) in found.scores.iter().zip(&product) {
                prop_assert!((score * factor - product).abs() < 1e-6 * factor.max(1.0));
            }
        }
    }

    #[test]
    fn betweenness_counts_shortest_paths(drawn in drawn()) {
        let found = betweenness(&drawn.graph(), None, GO_ON).unwrap();
        prop_assert!(all_near(&found.scores, &drawn.plain().betweenness()), "{:?}", found.scores);
        prop_assert_eq!(found.error, 0.0);
        let all = Sampled { sources: drawn.nodes, seed: 1 };
        prop_assert_eq!(betweenness(&drawn.graph(), Some(all), GO_ON).unwrap(), found);
    }

    #[test]
    fn closeness_is_what_distances_say(drawn in drawn()) {
        let (found, plain) = (closeness(&drawn.graph(), GO_ON).unwrap(), drawn.plain());
        let others = (drawn.nodes - 1).max(1) as f64;
        for (from, found) in found.iter().enumerate() {
            let far = plain.distances_from(from);
            let far: Vec<f64> =
                far.iter().enumerate().filter(|(to, d)| *to != from && d.is_finite()).map(|(_, d)| *d).collect();
            let sum: f64 = far.iter().sum();
            prop_assert_eq!(found.reached, far.len());
            let part = far.len() as f64;
            let expected = if sum > 0.0 { part * part / others / sum } else { 0.0 };
            prop_assert!(near(found.closeness, expected));
            prop_assert!(near(found.harmonic, far.iter().map(|d| 1.0 / d).sum::<f64>() / others));
            prop_assert!(near(found.farthest, far.iter().copied().fold(0.0, f64::max)));
        }
    }

    #[test]
    fn distances_are_least(drawn in drawn()) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        for from in 0..drawn.nodes {
            let found = distances(&graph, Arcs::Out, from as u32, GO_ON).unwrap();
            prop_assert!(all_near(&found.to, &plain.distances_from(from)));
            prop_assert!(found.reached.windows(2).all(|w| found.to[w[0] as usize] <= found.to[w[1] as usize]));
            prop_assert_eq!(found.reached.len(), found.to.iter().filter(|d| d.is_finite()).count());
        }
    }

    #[test]
    fn cores_are_what_peeling_leaves(drawn in drawn()) {
        prop_assert_eq!(core_numbers(&drawn.graph(), GO_ON).unwrap(), drawn.plain().cores());
    }

    #[test]
    fn triangles_are_threes_of_neighbours(drawn in drawn()) {
        let (found, (by_node, total)) = (triangles(&drawn.graph(), GO_ON).unwrap(), drawn.plain().triangles());
        prop_assert_eq!(&found.of_nodes, &by_node);
        prop_assert_eq!(found.total, total);
        prop_assert!(found.clustering.iter().all(|c| (0.0..=1.0).contains(c)));
    }

    #[test]
    fn components_are_what_can_be_reached(drawn in drawn()) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let (weak, weak_count) = weak_components(&graph, GO_ON).unwrap();
        let (strong, strong_count) = strong_components(&graph, GO_ON).unwrap();
        prop_assert_eq!((weak, weak_count), grouped(drawn.nodes, |a, b| plain.connected(a, b, None, None)));
        let both = |a: usize, b: usize| plain.distances_from(a)[b].is_finite() && plain.distances_from(b)[a].is_finite();
        prop_assert_eq!((strong, strong_count), grouped(drawn.nodes, both));
    }

    #[test]
    fn bridges_and_articulation_points_cut(drawn in drawn()) {
        let (found, plain) = (cuts(&drawn.graph(), GO_ON).unwrap(), drawn.plain());
        let bridges = (0..drawn.ends.len()).filter(|e| {
            let (a, b) = drawn.ends[*e];
            a != b && !plain.connected(a as usize, b as usize, Some(*e), None)
        });
        prop_assert_eq!(found.bridges.iter().map(|b| *b as usize).collect::<Vec<_>>(), bridges.collect::<Vec<_>>());
        for (bridge, cut_off) in found.bridges.iter().zip(&found.cut_off) {
            let (a, b) = drawn.ends[*bridge as usize];
            let side = |from: u32| (0..drawn.nodes).filter(|n| plain.connected(from as usize, *n, Some(*bridge as usize), None)).count();
            prop_assert_eq!(*cut_off as usize, side(a).min(side(b)));
        }
        for node in 0..drawn.nodes {
            let parts = |without: Option<usize>| {
                let members: Vec<usize> =
                    (0..drawn.nodes).filter(|n| Some(*n) != without && plain.connected(node, *n, None, None)).collect();
                let mut firsts: Vec<usize> = members.iter().map(|a| {
                    *members.iter().find(|b| plain.connected(*a, **b, None, without)).unwrap()
                }).collect();
                firsts.sort_unstable();
                firsts.dedup();
                firsts.len()
            };
            prop_assert_eq!(found.parts[node] as usize, parts(Some(node)).saturating_sub(1), "node {}", node);
        }
    }

    #[test]
    fn dominators_are_on_every_way(drawn in drawn()) {
        let (found, plain) = (dominators(&drawn.graph(), 0, GO_ON).unwrap(), drawn.plain());
        for node in 0..drawn.nodes {
            // Those without which the node cannot be reached, the one nearest to it last.
            let mut all: Vec<usize> = (0..drawn.nodes)
                .filter(|d| *d != node && plain.reachable(0, node, None) && !plain.reachable(0, node, Some(*d)))
                .collect();
            all.sort_by_key(|d| (0..drawn.nodes).filter(|e| e != d && !plain.reachable(0, *d, Some(*e))).count());
            prop_assert_eq!(found[node].map(|d| d as usize), all.last().copied(), "node {}", node);
        }
    }

    #[test]
    fn orders_lead_on(drawn in acyclic()) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let found = layers(&graph, GO_ON).unwrap();
        prop_assert_eq!(found.order.len(), drawn.nodes);
        let place = |node: u32| found.order.iter().position(|n| *n == node).unwrap();
        prop_assert!(drawn.ends.iter().all(|(a, b)| place(*a) < place(*b)));
        let (longest, ways) = (longest_paths(&graph, GO_ON).unwrap(), plain.longest());
        let by_edges = Subgraph::of_ends(drawn.nodes, &drawn.ends, false, None);
        let edges = Plain::of(&by_edges).longest();
        for node in 0..drawn.nodes {
            prop_assert!(near(longest[node].0, ways[node]), "{} {}", longest[node].0, ways[node]);
            prop_assert!(near(f64::from(found.layer[node]), edges[node]));
        }
    }

    #[test]
    fn a_reduction_keeps_what_can_be_reached_and_no_edge_more(drawn in acyclic()) {
        let (kept, plain) = (transitive_reduction(&drawn.graph(), GO_ON).unwrap(), drawn.plain());
        let ends: Vec<(u32, u32)> = kept.iter().map(|e| drawn.ends[*e as usize]).collect();
        let reduced = |ends: &[(u32, u32)]| Plain::of(&Subgraph::of_ends(drawn.nodes, ends, false, None));
        let same = |other: &Plain| (0..drawn.nodes).all(|a| (0..drawn.nodes).all(|b| plain.reachable(a, b, None) == other.reachable(a, b, None)));
        prop_assert!(same(&reduced(&ends)));
        for left_out in 0..ends.len() {
            let mut fewer = ends.clone();
            fewer.remove(left_out);
            prop_assert!(!same(&reduced(&fewer)));
        }
    }

    #[test]
    fn a_cycle_has_no_order(drawn in drawn()) {
        let plain = drawn.plain();
        let cyclic = drawn.ends.iter().any(|(a, b)| plain.reachable(*b as usize, *a as usize, None));
        prop_assert_eq!(layers(&drawn.graph(), GO_ON).is_err(), cyclic);
    }

    #[test]
    fn a_spanning_forest_is_the_least_that_connects(drawn in drawn()) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let kept = spanning_forest(&graph, GO_ON).unwrap();
        let weight = |edges: &[u32]| edges.iter().map(|e| graph.weight(*e as usize)).sum::<f64>();
        let connects = |edges: &[u32]| {
            let ends: Vec<(u32, u32)> = edges.iter().map(|e| drawn.ends[*e as usize]).collect();
            let part = Plain::of(&Subgraph::of_ends(drawn.nodes, &ends, true, None));
            (0..drawn.nodes).all(|a| (0..drawn.nodes).all(|b| part.connected(a, b, None, None) == plain.connected(a, b, None, None)))
        };
        prop_assert!(connects(&kept));
        if drawn.ends.len() <= 9 {
            let all = 0..1u32 << drawn.ends.len();
            let chosen = all.map(|bits| (0..drawn.ends.len() as u32).filter(|e| bits >> e & 1 == 1).collect::<Vec<_>>());
            let least = chosen.filter(|edges| connects(edges)).map(|edges| weight(&edges)).fold(f64::INFINITY, f64::min);
            prop_assert!(near(weight(&kept), least));
        }
    }

    #[test]
    fn a_flow_is_as_large_as_the_least_cut(drawn in drawn()) {
        prop_assume!(drawn.nodes > 1);
        let graph = drawn.graph();
        let (source, target) = (0u32, drawn.nodes as u32 - 1);
        let found = maximum_flow(&graph, source, target, GO_ON).unwrap();
        let cut_weight = |inside: &dyn Fn(u32) -> bool| -> f64 {
            drawn.ends.iter().enumerate().map(|(e, (a, b))| {
                let (a, b) = (inside(*a), inside(*b));
                if a && !b || drawn.both_ways && b && !a { graph.weight(e) } else { 0.0 }
            }).sum()
        };
        let sides = (0..1u32 << drawn.nodes).filter(|side| side & 1 == 1 && side >> target & 1 == 0);
        let least = sides.map(|side| cut_weight(&|n| side >> n & 1 == 1)).fold(f64::INFINITY, f64::min);
        prop_assert!(near(found.value, least), "{} {}", found.value, least);
        prop_assert!(near(cut_weight(&|n| found.on_source_side[n as usize]), found.value));
        prop_assert!(near(found.cut.iter().map(|e| graph.weight(*e as usize)).sum(), found.value));
        let mut balance = vec![0.0; drawn.nodes];
        for (e, (a, b)) in drawn.ends.iter().enumerate() {
            let least = if drawn.both_ways { -graph.weight(e) } else { 0.0 };
            prop_assert!((least - 1e-9..=graph.weight(e) + 1e-9).contains(&found.through[e]));
            balance[*a as usize] -= found.through[e];
            balance[*b as usize] += found.through[e];
        }
        prop_assert!(near(balance[target as usize], found.value) && near(balance[0], -found.value));
        prop_assert!(balance[1..drawn.nodes - 1].iter().all(|b| near(*b, 0.0)));
    }

    #[test]
    fn similar_nodes_share_neighbours(drawn in drawn()) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        for likeness in [Likeness::Jaccard, Likeness::Overlap, Likeness::Cosine] {
            let found = similar(&graph, likeness, usize::MAX, 0.0, GO_ON).unwrap();
            let mut pairs = 0;
            for a in 0..drawn.nodes {
                for b in (0..drawn.nodes).filter(|b| *b != a) {
                    let score = plain.likeness(likeness, a, b);
                    let pair = found.iter().find(|p| (p.a as usize, p.b as usize) == (a, b));
                    prop_assert!(near(pair.map_or(0.0, |p| p.score), score));
                    pairs += usize::from(score > 0.0);
                }
            }
            prop_assert_eq!(found.len(), pairs);
            let best = similar(&graph, likeness, 1, 0.0, GO_ON).unwrap();
            prop_assert!(best.iter().all(|b| found.iter().filter(|p| p.a == b.a).all(|p| p.score <= b.score)));
        }
    }

    #[test]
    fn diameter_bounds_hold(drawn in drawn(), searches in 0..4usize) {
        let graph = drawn.graph();
        let (least, most) = diameter_bounds(&graph, searches, GO_ON).unwrap();
        let known = diameter_bounds(&graph, 100, GO_ON).unwrap();
        prop_assert_eq!(known.0, known.1);
        prop_assert!(least <= known.0 + 1e-9 && most >= known.0 - 1e-9, "{least} {most} {known:?}");
        prop_assert!(near(known.0, drawn.plain().largest_diameter()));
    }

    #[test]
    fn modularity_is_its_definition_and_communities_gain(drawn in drawn(), seed in 0..5u64) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let alone: Vec<u32> = (0..drawn.nodes as u32).collect();
        let found = louvain(&graph, 1.0, seed, GO_ON).unwrap();
        prop_assert!(near(found.modularity, plain.modularity(&found.of_nodes)));
        prop_assert!(found.modularity >= modularity(&graph, &alone, 1.0) - 1e-9);
        prop_assert_eq!(louvain(&graph, 1.0, seed, GO_ON).unwrap(), found);
        let labels = label_propagation(&graph, 50, seed, GO_ON).unwrap();
        prop_assert!(near(labels.modularity, plain.modularity(&labels.of_nodes)));
        let weak = weak_components(&graph, GO_ON).unwrap().0;
        for (a, b) in (0..drawn.nodes).flat_map(|a| (0..a).map(move |b| (a, b))) {
            prop_assert!(labels.of_nodes[a] != labels.of_nodes[b] || weak[a] == weak[b]);
        }
    }

    #[test]
    fn communities_of_leiden_hang_together_and_gain(drawn in drawn(), seed in 0..5u64, resolution in 0.3..2.0f64) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let alone: Vec<u32> = (0..drawn.nodes as u32).collect();
        let found = leiden(&graph, 1.0, seed, GO_ON).unwrap();
        prop_assert!(near(found.modularity, plain.modularity(&found.of_nodes)));
        prop_assert!(found.modularity >= modularity(&graph, &alone, 1.0) - 1e-9);
        prop_assert_eq!(&leiden(&graph, 1.0, seed, GO_ON).unwrap(), &found);
        let found = leiden(&graph, resolution, seed, GO_ON).unwrap();
        prop_assert!(found.modularity >= modularity(&graph, &alone, resolution) - 1e-9);
        // From the first node of each community all others are reached within it.
        let same = |a: usize, b: usize| found.of_nodes[a] == found.of_nodes[b];
        let joined = |a: usize, b: usize| plain.has_arc(a, b) || plain.has_arc(b, a);
        for first in 0..drawn.nodes {
            let mut reached = vec![first];
            let mut at = 0;
            while let Some(&node) = reached.get(at) {
                at += 1;
                let next = (0..drawn.nodes).filter(|n| same(*n, first) && joined(node, *n) && !reached.contains(n));
                let next: Vec<usize> = next.collect();
                reached.extend(next);
            }
            prop_assert_eq!(reached.len(), (0..drawn.nodes).filter(|n| same(*n, first)).count());
        }
    }

    #[test]
    fn walks_follow_edges(drawn in drawn(), seed in 0..50u64) {
        let (graph, plain) = (drawn.graph(), drawn.plain());
        let from: Vec<u32> = (0..drawn.nodes as u32).collect();
        let options = Walks { each: 2, length: 5, seed };
        let found = random_walks(&graph, &from, options, GO_ON).unwrap();
        prop_assert_eq!(found.len(), 2 * drawn.nodes);
        for (i, walk) in found.iter().enumerate() {
            prop_assert_eq!(walk[0] as usize, i / 2);
            prop_assert!(walk.windows(2).all(|w| plain.has_arc(w[0] as usize, w[1] as usize)));
            let last = *walk.last().unwrap() as usize;
            prop_assert!(walk.len() == 6 || (0..drawn.nodes).all(|n| !plain.has_arc(last, n)));
        }
        // A start walks the same way whatever else is walked from.
        let alone = random_walks(&graph, &from[drawn.nodes - 1..], options, GO_ON).unwrap();
        prop_assert_eq!(&alone[..], &found[found.len() - 2..]);
    }

    #[test]
    fn results_do_not_depend_on_threads(drawn in drawn()) {
        let graph = drawn.graph();
        let on = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            pool.install(|| {
                let options = PageRank { damping: 0.85, iterations: 30, tolerance: 0.0, begin: None };
                (
                    page_rank(&graph, &options, GO_ON).unwrap(),
                    betweenness(&graph, None, GO_ON).unwrap(),
                    closeness(&graph, GO_ON).unwrap(),
                    triangles(&graph, GO_ON).unwrap(),
                    similar(&graph, Likeness::Cosine, 3, 0.1, GO_ON).unwrap(),
                )
            })
        };
        prop_assert_eq!(on(1), on(3));
    }
}

#[test]
fn stars_have_known_assortativity() {
    let star = Subgraph::of_ends(4, &[(0, 1), (0, 2), (0, 3)], false, None);
    assert!((assortativity(&star).unwrap() + 1.0).abs() < 1e-12);
    let ring = Subgraph::of_ends(3, &[(0, 1), (1, 2), (2, 0)], false, None);
    assert_eq!(assortativity(&ring), None);
    assert_eq!(assortativity(&Subgraph::of_ends(2, &[], false, None)), None);
}

#[test]
fn two_rings_joined_by_an_edge_are_two_communities() {
    let ring = |first: u32| (0..5).map(move |i| (first + i, first + (i + 1) % 5));
    let chords = |first: u32| (0..5).map(move |i| (first + i, first + (i + 2) % 5));
    let ends: Vec<_> = ring(0).chain(chords(0)).chain(ring(5)).chain(chords(5)).chain([(0, 5)]).collect();
    let graph = Subgraph::of_ends(10, &ends, true, None);
    for found in [
        louvain(&graph, 1.0, 7, GO_ON).unwrap(),
        leiden(&graph, 1.0, 7, GO_ON).unwrap(),
        label_propagation(&graph, 50, 7, GO_ON).unwrap(),
    ] {
        assert_eq!(found.of_nodes, [0, 0, 0, 0, 0, 1, 1, 1, 1, 1]);
    }
    let found = cuts(&graph, GO_ON).unwrap();
    assert_eq!((found.bridges, found.cut_off), (vec![20], vec![5]));
}

#[test]
fn planted_communities_are_found_by_louvain_and_leiden_alike() {
    use rand::{Rng, SeedableRng};
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(3);
    // Ten groups of 24 nodes: inside one of five pairs is joined, outside one of sixty.
    let ends: Vec<(u32, u32)> = (0..240u32)
        .flat_map(|a| (0..a).map(move |b| (a, b)))
        .filter(|(a, b)| random.random_bool(if a / 24 == b / 24 { 0.2 } else { 1.0 / 60.0 }))
        .collect();
    let graph = Subgraph::of_ends(240, &ends, true, None);
    let planted: Vec<u32> = (0..240).map(|node| node / 24).collect();
    let wanted = modularity(&graph, &planted, 1.0);
    for seed in 0..4 {
        let (one, other) =
            (louvain(&graph, 1.0, seed, GO_ON).unwrap(), leiden(&graph, 1.0, seed, GO_ON).unwrap());
        assert!(
            one.modularity > wanted - 0.04 && other.modularity > wanted - 0.04,
            "{one:?} {other:?} {wanted}"
        );
    }
}

#[test]
fn a_sample_says_how_far_it_may_be_off() {
    let ends: Vec<(u32, u32)> =
        (0..400u32).map(|i| (i, (i * 7 + 1) % 400)).chain((0..400).map(|i| (i, (i + 1) % 400))).collect();
    let graph = Subgraph::of_ends(400, &ends, true, None);
    let exact = betweenness(&graph, None, GO_ON).unwrap();
    let sampled = betweenness(&graph, Some(Sampled { sources: 200, seed: 3 }), GO_ON).unwrap();
    let pairs = 400.0 * 399.0 / 2.0;
    assert!(sampled.error > 0.0 && sampled.error < 0.2 * pairs, "{}", sampled.error);
    for (a, b) in exact.scores.iter().zip(&sampled.scores) {
        assert!((a - b).abs() <= sampled.error);
    }
}

#[test]
fn what_has_no_answer_says_why() {
    let ring = Subgraph::of_ends(3, &[(0, 1), (1, 2), (2, 0)], false, None);
    let text = |stopped: Stopped| match stopped {
        Stopped::NoAnswer(text) => text,
        Stopped::Asked => panic!("nobody asked"),
    };
    assert!(text(layers(&ring, GO_ON).unwrap_err()).contains("3 of 3 nodes"));
    assert!(text(katz(&ring, 1.5, 10_000, 1e-9, GO_ON).unwrap_err()).contains("grow without end"));
    assert!(text(maximum_flow(&ring, 1, 1, GO_ON).unwrap_err()).contains("two different nodes"));
    let zero = Subgraph::of_ends(2, &[(0, 1)], false, Some(&[0.0]));
    assert!(text(betweenness(&zero, None, GO_ON).unwrap_err()).contains("above 0"));
}

#[test]
fn every_measure_can_be_stopped() {
    let nodes = 20_000u32;
    let ends: Vec<(u32, u32)> =
        (1..nodes).map(|i| (i / 2, i)).chain((1..nodes).map(|i| (i - 1, i))).collect();
    let graph = Subgraph::of_ends(nodes as usize, &ends, false, None);
    let stop: Ask<'_> = &|_| Err(Stopped::Asked);
    let all: Vec<u32> = (0..nodes).collect();
    let options = PageRank { damping: 0.85, iterations: 20, tolerance: 0.0, begin: None };
    let stopped = [
        page_rank(&graph, &options, stop).err(),
        eigenvector(&graph, 10, 0.0, stop).err(),
        katz(&graph, 0.01, 10, 0.0, stop).err(),
        betweenness(&graph, None, stop).err(),
        closeness(&graph, stop).err(),
        distances(&graph, Arcs::Out, 0, stop).err(),
        core_numbers(&graph, stop).err(),
        triangles(&graph, stop).err(),
        weak_components(&graph, stop).err(),
        strong_components(&graph, stop).err(),
        cuts(&graph, stop).err(),
        dominators(&graph, 0, stop).err(),
        label_propagation(&graph, 3, 1, stop).err(),
        louvain(&graph, 1.0, 1, stop).err(),
        leiden(&graph, 1.0, 1, stop).err(),
        layers(&graph, stop).err(),
        longest_paths(&graph, stop).err(),
        transitive_reduction(&graph, stop).err(),
        spanning_forest(&graph, stop).err(),
        maximum_flow(&graph, 0, nodes - 1, stop).err(),
        random_walks(&graph, &all, Walks { each: 1, length: 5, seed: 1 }, stop).err(),
        similar(&graph, Likeness::Jaccard, 3, 0.0, stop).err(),
        diameter_bounds(&graph, 3, stop).err(),
    ];
    for (i, stopped) in stopped.into_iter().enumerate() {
        assert_eq!(stopped, Some(Stopped::Asked), "measure {i}");
    }
}
