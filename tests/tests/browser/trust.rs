//! Trust in the console: results match their queries, nothing runs twice or by itself, nothing is lost.

use graphodrome_tests::*;
use thirtyfour::prelude::*;

use crate::page::{Session, fill, press, see, session, until, value, write};

#[tokio::test(flavor = "multi_thread")]
async fn results_say_what_they_are_of_and_are_exact() {
    let session = &session().await;
    let Session { service, client, page, .. } = session;

    // A link to a graph that is not there runs nothing and asks.
    page.goto(&format!("{}/?graph=averly&text=MATCH%20(n)%20DETACH%20DELETE%20n", service.url))
        .await
        .unwrap();
    see(page, "h1", "There is no graph averly").await;
    press(page, ".choices button", "averley").await;
    see(page, ".graph-size", "3,062 nodes").await;

    // Whole numbers beyond a double are whole in the table and as JSON.
    run(page, "RETURN 9007199254740993 AS n, 12345678901234567890.5 AS d").await;
    see(page, "table.result td", "9007199254740993").await;
    press(page, "[role=tab]", "JSON").await;
    see(page, ".json", "9007199254740993").await;
    press(page, "[role=tab]", "Table").await;

    // A result names its graph and version, and says when the text has moved on.
    see(page, ".status", "averley, version").await;
    write(page, "RETURN 2 AS n").await;
    see(page, ".moved", "The text has changed since").await;

    // Many rows are all there, a few of them on the page.
    run(page, "FOR x IN [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] FOR y IN [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] FOR z IN [0, 1, 2, 3, 4, 5, 6, 7, 8, 9] FOR u IN [0, 1, 2] RETURN x * 1000 + y * 100 + z * 10 + u AS n ORDER BY n").await;
    see(page, ".status", "3,000 rows").await;
    assert!(
        value(page, "document.querySelectorAll('table.result tbody tr').length")
            .await
            .parse::<u32>()
            .unwrap()
            < 120
    );
    page.execute(
        "const box = document.querySelector('.result-scroll'); box.scrollTop = box.scrollHeight",
        vec![],
    )
    .await
    .unwrap();
    see(page, "table.result td", "9992").await;
    fill(page, ".filter", "998").await;
    see(page, ".result-pane", "of 3,000 rows").await;

    // Parameters have fields; what is no literal is a text.
    run(page, "MATCH (j:Junction {code: $code}) RETURN j.code AS code, $least AS least").await;
    see(page, "body", "the parameter $code has no value").await;
    fill(page, ".parameters label:nth-of-type(1) input", "J-00050").await;
    fill(page, ".parameters label:nth-of-type(2) input", "12").await;
    press(page, "#run", "Run").await;
    see(page, "table.result td", "J-00050").await;
    see(page, "table.result td.number", "12").await;

    // What is downloaded is what is shown: a change is not done again.
    let count = "MATCH (c:Crew) RETURN COUNT(*) AS n";
    let crews = async || query(client, "averley", count).await.rows[0][0].as_i64().unwrap();
    let before = crews().await;
    run(page, "INSERT (c:Crew {name: 'Night Watch'}) RETURN c.name AS name").await;
    see(page, ".status", "1 node inserted").await;
    press(page, ".dropdown-toggle", "Download").await;
    until(page, "document.querySelector('.dropdown-menu.show')").await;
    assert!(!see(page, ".dropdown-menu", "CSV").await.text().await.unwrap().contains("asked again"));
    press(page, ".dropdown-item", "CSV").await;
    see(page, "table.result td", "Night Watch").await;
    assert_eq!(crews().await, before + 1);

    // Enter takes no completion that nobody chose.
    write(page, "MATCH (d:District) RETURN d.code AS c ORDER BY c").await;
    let editor = page.find(By::Css(".cm-content")).await.unwrap();
    editor.send_keys(Key::End + "").await.unwrap();
    editor.send_keys("a").await.unwrap();
    until(page, "document.querySelector('.cm-tooltip-autocomplete')").await;
    editor.send_keys(Key::Enter + "LIMIT 5").await.unwrap();
    until(page, "document.querySelector('.cm-content').innerText.includes('ORDER BY ca')").await;
    see(page, ".cm-content", "LIMIT 5").await;

    // A failure is shown in place of what was there before.
    run(page, "MATCH (d:District) RETURN d.nme").await;
    see(page, ".problem", "did you mean name?").await;
    assert!(page.find_all(By::Css("table.result")).await.unwrap().is_empty());

    sheets_outlive_a_reload(session).await;
    page.clone().quit().await.unwrap();
}

/// Runs a text as a person does.
async fn run(page: &WebDriver, text: &str) {
    write(page, text).await;
    see(page, ".sheet.is-open", &text[..20]).await;
    press(page, "#run", "Run").await;
}

async fn sheets_outlive_a_reload(Session { client, page, .. }: &Session) {
    // Sheets and their texts outlive a reload; a query goes on while another page is looked at.
    press(page, ".sheet-add", "+").await;
    until(page, "document.querySelector('.cm-placeholder')").await;
    run(page, "MATCH (a:Junction), (b:Crew) WHERE a.elevation_m < -1000 RETURN COUNT(*) AS none").await;
    press(page, "nav a", "Jobs").await;
    see(page, "h1", "Jobs").await;
    press(page, "nav a", "Query").await;
    see(page, "table.result td", "0").await;
    page.refresh().await.unwrap();
    see(page, ".sheet", "MATCH (d:District)").await;
    see(page, ".cm-content", "elevation_m").await;

    // The history has it, and a saved query can be taken again.
    press(page, "button", "History").await;
    see(page, "[aria-label='History']", "Night Watch").await;
    press(page, "button", "Saved queries").await;
    fill(page, "[aria-label='Name']", "low_pairs").await;
    press(page, "[aria-label='Saved queries'] button", "Save the sheet").await;
    see(page, "[aria-label='Saved queries'] li", "low_pairs").await;
    let saved = client.get("/v1/saved-queries/low_pairs").await.unwrap();
    assert!(saved["text"].as_str().unwrap().contains("elevation_m"), "{saved}");
}
