use graphodrome_service::parts::is_loopback_host;

#[test]
fn only_loopback_names_are_taken() {
    for host in ["localhost", "localhost:8620", "127.0.0.1:8620", "[::1]:8620", "LOCALHOST:1"] {
        assert!(is_loopback_host(host), "{host}");
    }
    for host in [
        "example.org",
        "127.0.0.1.example.org:8620",
        "localhost.example.org",
        "10.0.0.1:8620",
        "",
        "[::1].example.org",
        "[::1",
        "[::1]x:1",
        "[::2]",
    ] {
        assert!(!is_loopback_host(host), "{host}");
    }
}
