use std::time::{Duration, Instant};

use graphodrome_service::parts::SlowLog;

#[test]
fn no_more_than_so_many_a_minute_of_each_graph() {
    let log = SlowLog::default();
    let began = Instant::now();
    let kept = |graph: &str, after: u64| log.admits(graph, 2, began + Duration::from_secs(after));
    assert_eq!([0, 1, 2, 59].map(|after| kept("one", after)), [true, true, false, false]);
    assert!(kept("other", 59));
    assert_eq!([61, 62, 63].map(|after| kept("one", after)), [true, true, false]);
}
