//! The Versions page: versions, differences, and a restore.

use graphodrome_tests::*;
use serde_json::json;

use crate::page::{Session, fill, press, see, session, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_change_is_seen_and_taken_back() {
    let Session { service, client, page, .. } = &session().await;
    query(client, "averley", "MATCH (s:Site {code: 'S-001'}) SET s.name = 'Oops'").await;
    query(client, "averley", "MATCH (s:Site {code: 'S-009'}) DETACH DELETE s").await;
    page.goto(&format!("{}/versions?graph=averley", service.url)).await.unwrap();
    see(page, "table.versions td", "commit").await;
    see(page, "table.versions", "3,061 (−1)").await;

    // What is different, in words and as a file.
    press(page, "input[aria-label='from version 1']", "").await;
    press(page, "input[aria-label='to version 3']", "").await;
    see(page, ".difference .status", "0 added, 1 changed, 5 removed.").await;
    see(page, ".difference table", "Oops").await;
    see(
        page,
        ".difference table",
        ":PIPE {code: 'P-000011'} (:Junction {code: 'J-00159'})->(:Site&Tank {code: 'S-009'})",
    )
    .await;

    // Nothing is restored by one press.
    press(page, "table.versions tr:nth-child(3) button", "Restore").await;
    press(page, "table.versions tr:nth-child(3) button", "No").await;
    assert_eq!(client.get("/v1/graphs/averley").await.unwrap()["version"], json!(3));
    press(page, "table.versions tr:nth-child(3) button", "Restore").await;
    press(page, "table.versions tr:nth-child(3) button", "Make version 1 the newest").await;
    see(
        page,
        ".status",
        "averley is as it was in version 1: 3,062 nodes and 6,505 edges. It is at version 4.",
    )
    .await;
    see(page, "table.versions td", "restore").await;
    let name = single(client, "averley", "MATCH (s:Site {code: 'S-001'}) RETURN s.name AS name").await;
    assert_eq!(name, json!("Copper Combe Reservoir"));

    // How long they stay, and whether what is stored is whole.
    fill(page, "#keep-versions", "25").await;
    press(page, "form button", "Keep").await;
    until(page, "document.querySelector('form button[disabled]')").await;
    let told = client.get("/v1/graphs/averley/versions").await.unwrap();
    assert_eq!(told["retention"], json!({ "versions": 25, "days": 7 }));
    press(page, "button", "Verify what is stored").await;
    see(page, ".status", "Everything stored is as it should be").await;

    // A query of an earlier version is written, and not run by itself.
    press(page, "table.versions tr:nth-child(2) a", "Query it").await;
    see(page, ".cm-content", "USE averley AT VERSION 3").await;
    page.clone().quit().await.unwrap();
}
