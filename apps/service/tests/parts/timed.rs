use graphodrome_service::parts::{ProfileRequest, Timing};

#[test]
fn several_runs_are_told_by_their_quartiles() {
    assert_eq!(Timing::of(&[]), None);
    assert_eq!(Timing::of(&[3.0]), None);
    let timing = Timing::of(&[9.0, 1.0, 2.0, 3.0, 4.0]).unwrap_or_default();
    let wanted = Timing {
        runs: 5,
        first_us: 9.0,
        median_us: 3.0,
        least_us: 1.0,
        most_us: 9.0,
        quartiles_us: (2.0, 4.0),
    };
    assert_eq!(timing, wanted);
}

#[test]
fn what_a_request_may_hold_is_said_where_it_holds_more() {
    let read = |text: &str| serde_json::from_str::<ProfileRequest>(text).map_err(|e| e.to_string());
    let all = read(
        "{\"text\": \"RETURN 1\", \"with\": [\"DROP INDEX i\"], \"repeat\": 3, \"keep\": {\"name\": \"a\"}, \"timeout_ms\": 5}",
    );
    let all = all.unwrap_or_default();
    assert_eq!((all.query.timeout_ms, all.repeat, all.with.len()), (Some(5), Some(3), 1));
    assert_eq!(all.keep.and_then(|k| k.name).as_deref(), Some("a"));
    assert!(read("{\"text\": \"RETURN 1\", \"repaet\": 3}").is_err_and(|e| e.contains("repaet")));
    assert!(read("{\"text\": \"RETURN 1\", \"keep\": {\"nam\": 3}}").is_err_and(|e| e.contains("nam")));
    assert!(read("{\"text\": \"RETURN 1\", \"repeat\": -1}").is_err_and(|e| e.starts_with("repeat")));
}
