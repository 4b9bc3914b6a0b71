//! Every page in both modes, looked at by axe: nothing serious or critical.

use graphodrome_tests::*;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

use crate::page::{Session, press, see, session, until, value, write};

async fn violations(page: &WebDriver) -> Vec<String> {
    let run = "const done = arguments[arguments.length - 1];
        axe.run(document, { resultTypes: ['violations'] }).then((found) => done(JSON.stringify(found.violations
            .filter((v) => v.impact === 'serious' || v.impact === 'critical')
            .map((v) => v.id + ': ' + v.nodes.slice(0, 3).map((n) => n.target.join(' ') + ' ' + n.failureSummary).join(' | ')))));";
    let found = page.execute_async(run, vec![]).await.unwrap();
    let found: Value = serde_json::from_str(found.json().as_str().unwrap()).unwrap();
    found.as_array().unwrap().iter().map(|v| v.as_str().unwrap().to_string()).collect()
}

/// Every page, and what is there when it is ready.
const PAGES: [(&str, &str); 10] = [
    ("/?graph=averley", ".cm-content"),
    ("/explore?graph=averley&text=MATCH%20(d%3ADistrict)~%5Be%5D~(f)%20RETURN%20d,%20e,%20f", ".legend"),
    ("/notebooks?graph=averley&notebook=Sites", ".notebook .cell-query"),
    ("/model?graph=averley", ".model-picture .box"),
    ("/load?graph=averley", "input[type=file]"),
    ("/versions?graph=averley", "table.versions td"),
    ("/runs?graph=averley", "section .faint"),
    ("/jobs", ".job-title"),
    ("/settings?graph=averley", ".labels-table th"),
    ("/nowhere", "h1"),
];

#[tokio::test(flavor = "multi_thread")]
async fn axe_finds_nothing_serious_on_any_page() {
    let axe = std::fs::read_to_string(root().join("apps/console/node_modules/axe-core/axe.min.js")).unwrap();
    let Session { service, client, page, .. } = &session().await;
    let result = json!({
        "graph": "averley", "version": 1, "at": "2026-05-31T10:00:00Z", "row_count": 1,
        "columns": [{ "name": "n", "kind": "value" }], "rows": [[7]]
    });
    let query = json!({ "kind": "query", "text": "MATCH (s:Site) RETURN COUNT(*) AS n", "result": result });
    let cells = json!([{ "kind": "text", "text": "# Sites\n\nHow many." }, query]);
    client.put("/v1/notebooks/Sites", &json!({ "cells": cells })).await.unwrap();
    let mut found = vec![];
    for theme in ["light", "dark"] {
        page.goto(&service.url).await.unwrap();
        page.execute(&format!("localStorage.setItem('theme', '{theme}')"), vec![]).await.unwrap();
        for (path, ready) in PAGES {
            page.goto(&format!("{}{path}", service.url)).await.unwrap();
            see(page, ready, "").await;
            page.execute(&axe, vec![]).await.unwrap();
            found.extend(violations(page).await.into_iter().map(|v| format!("{theme} {path}: {v}")));
            if path.starts_with("/?") {
                write(page, "MATCH p = ANY SHORTEST (:Reservoir {code: 'S-001'})-[:PIPE]->+(:Junction {code: 'J-00050'}) RETURN p, '$code' AS text").await;
                for (button, shown) in [
                    ("#profile", ".operator"),
                    (".flame-frame summary", ".flame-frame[open] .flame-bar"),
                    ("#run", ".result-pane .problem, table.result"),
                    ("[aria-expanded]", ".panel"),
                ] {
                    press(page, button, "").await;
                    until(page, &format!("document.querySelector('{shown}')")).await;
                    let what = format!("{theme} {path} after {button}");
                    found.extend(violations(page).await.into_iter().map(|v| format!("{what}: {v}")));
                }
            }
        }
    }
    assert!(found.is_empty(), "{}", found.join("\n"));
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn no_page_is_wider_than_a_narrow_window() {
    let Session { service, client, page, .. } = &session().await;
    client.put("/v1/notebooks/Sites", &json!({ "cells": [{ "kind": "text", "text": "# Sites" }, { "kind": "query", "text": "MATCH (s:Site) RETURN s" }] })).await.unwrap();
    // The browser makes no window narrower than 500 pixels.
    page.set_window_rect(0, 0, 390, 844).await.unwrap();
    let mut wide = vec![];
    for (path, ready) in PAGES {
        page.goto(&format!("{}{path}", service.url)).await.unwrap();
        see(page, ready, "").await;
        let over = "document.documentElement.scrollWidth - document.documentElement.clientWidth";
        let over: i32 = value(page, over).await.parse().unwrap();
        if over > 0 {
            wide.push(format!("{path} is {over} pixels too wide"));
        }
    }
    assert!(wide.is_empty(), "{}", wide.join("\n"));
    page.clone().quit().await.unwrap();
}
