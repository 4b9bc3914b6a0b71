use graphodrome_service::parts::{Phase, Registry, RunningKind};

#[test]
fn a_request_is_listed_until_it_ends_and_cancelled_when_it_is_dropped() {
    let registry = Registry::default();
    let one = registry.enter(RunningKind::Query, "g", "RETURN 1");
    let other = registry.enter(RunningKind::Profile, "g", "RETURN 2");
    one.waits();
    let listed = registry.list();
    assert_eq!(listed.iter().map(|r| r.text.as_str()).collect::<Vec<_>>(), ["RETURN 1", "RETURN 2"]);
    assert_eq!((listed[0].phase, listed[1].phase), (Phase::Waiting, Phase::Planning));
    let (kept, left) = (one.token(), other.token());
    one.finish();
    drop(other);
    assert!(!kept.is_cancelled() && left.is_cancelled() && registry.is_empty());
    assert!(!registry.cancel(1));
}
