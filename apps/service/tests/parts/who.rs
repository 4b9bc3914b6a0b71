use axum::http::{HeaderMap, header};
use graphodrome_service::parts::{asked_by, client, named_by, spawn, with};

#[test]
fn a_person_comes_before_a_program() {
    let headers = |fields: &[(header::HeaderName, &'static str)]| -> HeaderMap {
        fields.iter().map(|(name, value)| (name.clone(), header::HeaderValue::from_static(value))).collect()
    };
    assert_eq!(&*named_by(&headers(&[(header::USER_AGENT, "curl/8.5.0")])), "curl/8.5.0");
    assert_eq!(&*named_by(&headers(&[(header::USER_AGENT, "Mozilla/5.0 (X11)")])), "browser");
    let both = [(header::USER_AGENT, "curl/8.5.0"), (header::FROM, "ann@averley.example")];
    assert_eq!(&*named_by(&headers(&both)), "ann@averley.example");
    assert_eq!(&*named_by(&headers(&[])), "");
}

#[tokio::test]
async fn a_task_works_for_who_began_it() {
    let told = asked_by("ann".into(), async { spawn(async { with("job 3") }).await }).await;
    assert_eq!(told.ok().as_deref(), Some("ann, job 3"));
    assert_eq!(with("job 3"), "job 3");
    assert_eq!(&*client(), "");
}
