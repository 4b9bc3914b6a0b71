use graphodrome_engine::{Comparison, Work};
use graphodrome_service::parts::{Verdict, judge};

fn comparison(before: u64, after: u64, same_plan: bool) -> Comparison {
    let work = |edges_looked| Work { edges_looked, rows_out: 7, ..Work::default() };
    Comparison {
        same_plan,
        same_work: before == after,
        estimated_cost: (before as f64, after as f64),
        work: (work(before), work(after)),
        own_us: (1.0, 2.0),
        operators: vec![],
    }
}

#[test]
fn more_work_than_is_allowed_is_worse_and_less_is_better() {
    let verdict =
        |before, after, same_plan, run| judge(&comparison(before, after, same_plan), run, 1.1, &mut vec![]);
    assert_eq!(verdict(10_000, 10_900, true, true), Verdict::Same);
    assert_eq!(verdict(10_000, 11_200, true, true), Verdict::Worse);
    assert_eq!(verdict(10_000, 9_200, true, true), Verdict::Same);
    assert_eq!(verdict(10_000, 5_000, false, true), Verdict::Better);
    assert_eq!(verdict(10_000, 10_000, false, true), Verdict::Changed);
    // A few more of a few are no news.
    assert_eq!(verdict(10, 40, true, true), Verdict::Same);
    // A plan that stays costs more where there is more: that is no worse plan.
    assert_eq!(verdict(10_000, 20_000, true, false), Verdict::Same);
    assert_eq!(verdict(10_000, 20_000, false, false), Verdict::Worse);
    assert_eq!(verdict(20_000, 10_000, false, false), Verdict::Better);
}
