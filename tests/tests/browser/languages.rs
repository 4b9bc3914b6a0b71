//! The pages in their second language: chosen in the settings, kept, and nothing left in the first.

use std::collections::BTreeSet;

use graphodrome_tests::*;
use serde_json::Value;
use thirtyfour::prelude::*;

use crate::page::{Session, fill, press, see, session, until, write};

/// English texts that read otherwise in German. What a German text happens to be is left out.
fn english() -> BTreeSet<String> {
    let text = std::fs::read_to_string(root().join("apps/console/src/words/de.json")).unwrap();
    let words: Value = serde_json::from_str(&text).unwrap();
    let words = words.as_object().unwrap();
    let german: BTreeSet<&str> = words.values().filter_map(Value::as_str).collect();
    let plain = words.iter().filter(|(key, value)| value.as_str() != Some(key) && !key.contains("{{"));
    plain.map(|(key, _)| key.clone()).filter(|key| key.len() > 2 && !german.contains(key.as_str())).collect()
}

/// What a person sees or is read to, but for what comes from the graph and the service.
async fn read(page: &WebDriver) -> BTreeSet<String> {
    let script = "const foreign = '.cm-editor, .operator, .operator-details, table.result:not(.hops):not(.runs):not(.versions), .problem, code, .model-picture, .run-query, .mapping';
        const found = new Set();
        const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
        while (texts.nextNode()) {
            const { parentElement, data } = texts.currentNode;
            if (data.trim() !== '' && !parentElement.closest(foreign) && !parentElement.closest('script, style')) found.add(data.trim());
        }
        for (const name of ['aria-label', 'title', 'placeholder', 'label'])
            document.querySelectorAll('[' + name + ']').forEach((e) => { if (!e.closest(foreign)) found.add(e.getAttribute(name)); });
        return JSON.stringify([...found])";
    let found = page.execute(script, vec![]).await.unwrap();
    serde_json::from_str(found.json().as_str().unwrap()).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn no_page_in_german_has_an_english_text() {
    let Session { service, client, page, .. } = &session().await;
    load_mapping(client, "averley", &root().join("demo/dirty/load.toml")).await;
    page.goto(&format!("{}/settings?graph=averley", service.url)).await.unwrap();
    see(page, "h1", "Settings").await;
    press(page, "#language-de", "").await;
    see(page, "h1", "Einstellungen").await;
    let mut english = english();
    let names = client.get("/v1/graphs/averley/names").await.unwrap();
    for property in
        ["node_properties", "edge_properties"].iter().flat_map(|list| names[*list].as_array().unwrap())
    {
        english.remove(property.as_str().unwrap());
    }
    assert!(english.len() > 300, "{}", english.len());

    let mut left = vec![];
    for (path, ready, button) in [
        ("/settings?graph=averley", ".labels-table th", ""),
        ("/?graph=averley", ".cm-content", "[aria-expanded]"),
        (
            "/explore?graph=averley&text=MATCH%20(d%3ADistrict)~%5Be%5D~(f)%20RETURN%20d,%20e,%20f",
            ".legend",
            ".drawn-table input[type=checkbox]",
        ),
        ("/notebooks?graph=averley", ".notebook-list input", ""),
        ("/model?graph=averley", ".model-picture .box", "#check"),
        ("/load?graph=averley", "input[type=file]", ""),
        ("/versions?graph=averley", "table.versions td", ""),
        ("/runs?graph=averley", "section .faint", ""),
        ("/jobs", ".job-title", ".job-title"),
        ("/nowhere", "h1", ""),
    ] {
        page.goto(&format!("{}{path}", service.url)).await.unwrap();
        see(page, ready, "").await;
        if !button.is_empty() {
            press(page, button, "").await;
        }
        let seen = read(page).await;
        left.extend(seen.intersection(&english).map(|text| format!("{path}: {text}")));
    }
    assert!(left.is_empty(), "{}", left.join("\n"));

    // One and many, figures with their own marks, and the language is there after a reload.
    page.goto(&format!("{}/?graph=averley", service.url)).await.unwrap();
    until(page, "/^3[.][0-9]{3} Knoten, 6[.][0-9]{3} Kanten$/.test(document.querySelector('.graph-size')?.textContent)").await;
    write(page, "MATCH (d:District {code: 'TE'}) RETURN d.name AS name").await;
    press(page, "#run", "Ausführen").await;
    see(page, ".status", "1 Zeile,").await;
    see(page, ".status", ", Version ").await;
    page.refresh().await.unwrap();
    see(page, "#run", "Ausführen").await;
    until(page, "document.documentElement.lang === 'de'").await;
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drawing_is_saved_shared_and_opened_as_it_was() {
    let Session { service, client, page, .. } = &session().await;
    let text = "MATCH%20(d%3ADistrict)%20RETURN%20d";
    page.goto(&format!("{}/explore?graph=averley&text={text}", service.url)).await.unwrap();
    see(page, ".legend", "District").await;
    let drawn = "document.querySelector('.drawing').dataset.drawn";
    let before = crate::page::value(page, drawn).await;
    until(page, "!document.querySelector('.is-arranging')").await;
    page.execute(
        "document.querySelectorAll('.explore-side details').forEach((d) => { d.open = true; })",
        vec![],
    )
    .await
    .unwrap();
    fill(page, "#colour-by", "code").await;
    fill(page, "[aria-label='Arrangement']", "circle").await;
    fill(page, "[aria-label='Name of the drawing']", "Districts").await;
    until(page, "!document.querySelector('.is-arranging')").await;
    press(page, "#save-drawing", "Save").await;
    see(page, ".drawings-list", "Districts").await;
    let kept = client.get("/v1/graphs/averley/drawings/Districts").await.unwrap();
    let content = &kept["content"];
    assert_eq!((content["colour_by"].as_str(), content["layout"].as_str()), (Some("code"), Some("circle")));
    let nodes = content["nodes"].as_array().unwrap().len();
    assert_eq!(content["places"].as_object().unwrap().len(), nodes);
    assert!(before.starts_with(&format!("{nodes} nodes")), "{before}");

    // Its link draws it in a page that has drawn nothing, with its looks; what is gone since is told.
    query(client, "averley", "MATCH (d:District {code: 'TE'}) DETACH DELETE d").await;
    page.execute("sessionStorage.clear(); localStorage.clear()", vec![]).await.unwrap();
    page.goto(&format!("{}/explore?graph=averley&drawing=Districts", service.url)).await.unwrap();
    see(page, ".problem", "1 element of the drawing Districts is no longer in the graph.").await;
    until(page, &format!("{drawn} === '{} nodes, 0 edges'", nodes - 1)).await;
    assert_eq!(
        crate::page::value(page, "document.querySelector('[aria-label=\"Arrangement\"]').value").await,
        "circle"
    );
    see(page, ".steps", "Districts").await;
    let near = format!(
        "(() => {{ const places = {}; return document.querySelector('.drawing')._cyreg.cy.nodes().every((n) =>
            Math.hypot(n.position('x') - places[n.id()][0], n.position('y') - places[n.id()][1]) < 0.2) }})()",
        content["places"]
    );
    until(page, &near).await;

    // Saved over; another one that was opened before is not.
    press(page, "#save-drawing", "Save over it").await;
    see(page, ".drawings-list .count", &(nodes - 1).to_string()).await;
    let newer = serde_json::json!({ "revision": 2, "content": kept["content"] });
    client.put("/v1/graphs/averley/drawings/Districts", &newer).await.unwrap();
    press(page, "#save-drawing", "Save over it").await;
    see(page, ".drawing-save, .side-part .problem", "was saved by somebody else since").await;
    page.clone().quit().await.unwrap();
}
