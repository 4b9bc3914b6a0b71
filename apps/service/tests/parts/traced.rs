use axum::http::HeaderMap;
use graphodrome_service::parts::TraceParent;

fn parent(text: &str) -> Option<TraceParent> {
    let mut headers = HeaderMap::new();
    headers.insert("traceparent", text.parse().unwrap());
    TraceParent::of(&headers)
}

#[test]
fn a_traceparent_is_read_as_its_recommendation_says() {
    let good = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
    let read = parent(good).unwrap();
    assert_eq!(format!("{:032x}", read.trace), "4bf92f3577b34da6a3ce929d0e0e4736");
    assert_eq!((read.span, read.sampled), (0x00f0_67aa_0ba9_02b7, true));
    assert!(!parent(&good.replace("-01", "-00")).unwrap().sampled);
    assert!(parent(&good.replace("00-4", "cc-4").replace("-01", "-01-more")).is_some());
    for bad in [
        "",
        "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7",
        "ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
        "00-00000000000000000000000000000000-00f067aa0ba902b7-01",
        "00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01",
        "00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01",
        "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-more",
    ] {
        assert_eq!(parent(bad), None, "{bad}");
    }
}
