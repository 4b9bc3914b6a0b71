//! The Runs page, and findings that are tried: a profile is kept, seen again, set beside another; what runs is cancelled.

use graphodrome_tests::*;
use serde_json::json;

use crate::page::{Session, fill, press, see, session, until};

#[tokio::test(flavor = "multi_thread")]
async fn profiles_are_kept_compared_and_findings_tried() {
    let Session { service, client, page, .. } = &session().await;
    let slow =
        "MATCH (c:Consumer {name: 'Moss Combe Bakery'})<-[:SERVES]-(j:Junction) RETURN j.code AS junction";
    let link = |text: &str| {
        let text: String = text.bytes().map(|b| format!("%{b:02X}")).collect();
        format!("{}/?graph=averley&text={text}", service.url)
    };
    page.goto(&link(slow)).await.unwrap();
    press(page, "#profile", "").await;
    see(page, ".plan-findings", "750 nodes Consumer were gone through").await;
    see(page, ".operator-details", "estimate").await;
    // Its time as bars: one is chosen, and its details stand beside the tree.
    see(page, ".flame-frame summary", "Time as bars").await.click().await.unwrap();
    press(page, ".flame-bar", "ReturnRows").await;
    see(page, ".operator-details h3", "ReturnRows").await;

    // The finding's statement is tried, and nothing is built.
    press(page, ".plan-findings button", "Try it").await;
    see(page, "table.tried", "751").await;
    until(
        page,
        "[...document.querySelectorAll('table.tried tr')].some(r => r.textContent === 'properties read7512')",
    )
    .await;
    assert_eq!(client.get("/v1/graphs/averley").await.unwrap()["version"], json!(1));

    // Kept under a name, and found again.
    fill(page, ".keep-run input", "before").await;
    press(page, ".keep-run button", "").await;
    see(page, ".keep-run", "Kept as run 1").await;
    press(page, ".keep-run a", "run 1").await;
    see(page, "h2", "Run 1 (before)").await;
    see(page, ".run-query", "Moss Combe Bakery").await;
    see(page, "table.runs", "before").await;

    // Beside another one.
    query(client, "averley", "CREATE INDEX consumer_name OVER (:Consumer {name})").await;
    let keep = json!({ "graph": "averley", "text": slow, "keep": { "name": "after", "tags": ["tried"] } });
    client.call("POST", "/v1/profile", &keep).await.unwrap();
    see(page, "table.runs", "tried").await;
    press(page, "input[aria-label='run 1 before']", "").await;
    press(page, "input[aria-label='run 2 after']", "").await;
    see(page, ".comparison .status", "The plan is another. The work differs.").await;
    see(page, ".comparison", "instead of ScanNodes").await;
    fill(page, ".run-search", "nothing like it").await;
    see(page, ".empty", "No run that is kept fits.").await;
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_runs_is_shown_and_cancelled() {
    let Session { service, client, page, .. } = &session().await;
    page.goto(&format!("{}/runs?graph=averley", service.url)).await.unwrap();
    see(page, "section", "No query runs.").await;
    let long = "MATCH p = TRAIL (a:Junction)-[:PIPE]-{1,40}(b:Junction) RETURN MAX(PATH_LENGTH(p) + SIZE(NODES(p))) AS n";
    let (asking, asked) = (client.clone(), request("averley", long));
    let running = tokio::spawn(async move { asking.query(&asked).await });
    see(page, "table.running", "TRAIL").await;
    see(page, "table.running", "running").await;
    press(page, "table.running button", "Cancel").await;
    assert!(running.await.unwrap().unwrap_err().to_string().contains("R0001"));
    see(page, "section", "No query runs.").await;
    // It took long: its profile was kept by itself.
    see(page, "table.runs", "slow").await;
    page.clone().quit().await.unwrap();
}
