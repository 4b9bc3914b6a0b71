use graphodrome_service::parts::allowed;
use url::Url;

#[test]
fn only_named_hosts_are_allowed() {
    let hosts = ["data.example".to_string(), "other.example:8443".to_string()];
    let ask = |url: &str| allowed(&hosts, &Url::parse(url).unwrap());
    assert!(ask("https://data.example/a.csv").is_ok());
    assert!(ask("http://DATA.example:8080/a.csv").is_ok());
    assert!(ask("https://other.example:8443/a.csv").is_ok());
    assert!(ask("https://other.example/a.csv").unwrap_err().contains("other.example:443"));
    assert!(ask("https://data.example.evil/a.csv").is_err());
    assert!(ask("file:///etc/passwd").is_err());
    assert!(allowed(&[], &Url::parse("http://127.0.0.1/").unwrap()).is_err());
}
