use graphodrome_service::parts::asks_the_time;

#[test]
fn only_what_asks_the_time_has_another_answer_each_time() {
    for text in
        ["RETURN CURRENT_DATE", "RETURN date ( )", "RETURN zoned_datetime()", "RETURN LOCAL_TIMESTAMP"]
    {
        assert!(asks_the_time(text), "{text}");
    }
    for text in ["MATCH () RETURN DATE '2026-01-01'", "MATCH (d:Day {date: $date}) RETURN date(d.text)"] {
        assert!(!asks_the_time(text), "{text}");
    }
}
