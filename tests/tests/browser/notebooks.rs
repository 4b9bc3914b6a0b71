//! The Notebooks page, and what pages keep when another one is opened.

use graphodrome_tests::*;
use serde_json::json;
use thirtyfour::prelude::*;

use crate::page::{Session, fill, press, see, session, until, value, write};

const NOTEBOOK: &str = "/v1/notebooks/Pressure%20in%20May";

#[tokio::test(flavor = "multi_thread")]
async fn a_notebook_is_written_run_kept_and_opened_again() {
    let Session { service, client, page, .. } = &session().await;
    page.goto(&format!("{}/notebooks?graph=averley", service.url)).await.unwrap();
    see(page, ".empty", "Begin one by its name").await;
    fill(page, "[aria-label='Name of a new notebook']", "Pressure in May").await;
    press(page, ".notebook-list button", "Begin").await;
    see(page, ".notebook h2", "Pressure in May").await;
    see(page, ".cell-read h1", "Pressure in May").await;

    // A query with a parameter, run by the keyboard, seen as table and as drawing.
    see(page, ".cm-content", "").await;
    write(page, "MATCH (s:Site)-[e:PIPE]->(j) WHERE s.code = $code RETURN s, e, j").await;
    until(page, "document.querySelector('.notebook .parameters input')").await;
    fill(page, ".notebook .parameters input", "S-001").await;
    page.find(By::Css(".cm-content")).await.unwrap().send_keys(Key::Control + Key::Enter).await.unwrap();
    see(page, ".cell-result", "averley, version").await;
    press(page, ".cell-result .nav-link", "Drawing").await;
    until(page, "document.querySelector('.cell-result [data-drawn]:not([data-drawn^=\"0 \"])')").await;

    // A text. What looks like markup of a page is text.
    press(page, ".notebook > .cell-between button", "+ text").await;
    see(page, ".cell-write", "")
        .await
        .send_keys("Two *pipes* leave.\n\n<img src=x onerror=alert(1)>")
        .await
        .unwrap();
    press(page, ".cell-tools button", "Done").await;
    see(page, ".cell-read em", "pipes").await;
    assert_eq!(value(page, "document.querySelectorAll('.notebook img').length").await, "0");

    // Unsaved, it outlives another page and a reload.
    press(page, "nav a", "Jobs").await;
    see(page, ".job-title", "Job 1").await;
    page.goto(&format!("{}/notebooks?graph=averley&notebook=Pressure%20in%20May", service.url))
        .await
        .unwrap();
    see(page, ".cell-read em", "pipes").await;
    press(page, "#save-notebook", "Save").await;
    see(page, "#save-notebook", "Saved").await;
    let kept = client.get(NOTEBOOK).await.unwrap();
    assert_eq!(
        (&kept["revision"], &kept["cells"][1]["parameters"]),
        (&json!(2), &json!({ "code": "S-001" }))
    );
    assert_eq!(kept["cells"][1]["result"]["graph"], "averley");
    assert!(kept["cells"][1]["drawing"].as_str().unwrap().starts_with("<svg "), "{kept}");
    let file = client.get_as(&format!("{NOTEBOOK}/file?format=ipynb"), "*/*").await.unwrap();
    assert!(file.contains("image/svg+xml"));

    // Somebody else saves it: what is written here is not lost, nor written over theirs.
    client.put(NOTEBOOK, &json!({ "revision": 2, "cells": kept["cells"] })).await.unwrap();
    press(page, ".cell-tools [aria-label='Move up']:not([disabled])", "").await;
    press(page, "#save-notebook", "Save").await;
    see(page, ".problem", "saved by somebody else since").await;
    press(page, ".dropdown-toggle", "More").await;
    press(page, ".dropdown-item", "Go back to what is saved").await;
    see(page, "#save-notebook", "Saved").await;

    // An error stays with its cell.
    press(page, ".cell-query", "").await;
    see(page, ".cm-content", "").await;
    write(page, "MATCH (s:Sit) RETURN s").await;
    press(page, ".cell-tools button", "Run").await;
    see(page, ".notebook-cell .problem", "did you mean Site?").await;

    // From the Query page into the notebook.
    page.goto(&format!("{}/?graph=averley&text=RETURN%2041%20%2B%201%20AS%20n", service.url)).await.unwrap();
    see(page, ".cm-content", "41 + 1").await;
    press(page, "#run", "").await;
    see(page, "table.result td", "42").await;
    press(page, "#into-notebook", "").await;
    press(page, ".dropdown-item", "Pressure in May").await;
    see(page, ".tools a", "Open Pressure in May").await;
    let kept = client.get(NOTEBOOK).await.unwrap();
    assert_eq!(kept["cells"][3]["result"]["rows"], json!([[42]]));
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn settings_change_how_labels_look_for_everybody() {
    let Session { service, client, page, .. } = &session().await;
    page.goto(&format!("{}/settings?graph=averley", service.url)).await.unwrap();
    see(page, ".labels-table th", "District").await;
    press(page, "[aria-label='#a63d57 for District']", "").await;
    fill(page, "[aria-label='Caption of District']", "name").await;
    until(page, "document.querySelector(\"[aria-label='Caption of District']\").value === 'name'").await;
    let kept = async || client.get("/v1/graphs/averley/looks").await.unwrap();
    while kept().await["labels"]["District"]["caption"] != "name" {
        tokio::task::yield_now().await;
    }
    assert_eq!(kept().await["labels"], json!({ "District": { "colour": "#a63d57", "caption": "name" } }));
    page.goto(&format!(
        "{}/explore?graph=averley&text=MATCH%20(d%3ADistrict%20%7Bcode%3A%20'TE'%7D)%20RETURN%20d",
        service.url
    ))
    .await
    .unwrap();
    see(page, ".legend", "District").await;
    until(
        page,
        "getComputedStyle(document.querySelector('.legend .dot')).backgroundColor === 'rgb(166, 61, 87)'",
    )
    .await;

    // The appearance is this browser's, and goes with the system until it is chosen.
    page.goto(&format!("{}/settings?graph=averley", service.url)).await.unwrap();
    see(page, "label", "As the system has it").await;
    assert_eq!(value(page, "document.querySelector('#theme-system').checked").await, "true");
    press(page, "#theme-dark", "").await;
    until(page, "document.documentElement.dataset.bsTheme === 'dark'").await;
    page.refresh().await.unwrap();
    until(page, "document.querySelector('#theme-dark:checked') && document.documentElement.dataset.bsTheme === 'dark'").await;
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_unfinished_is_there_after_another_page_and_a_reload() {
    let Session { service, page, .. } = &session().await;
    let folder = folder();
    let table = folder.path().join("wells.csv");
    std::fs::write(&table, "code,depth\nW-1,10\nW-2,20\n").unwrap();

    // A mapping that was changed.
    page.goto(&format!("{}/load?graph=averley", service.url)).await.unwrap();
    see(page, "input[type=file]", "").await.send_keys(table.to_str().unwrap()).await.unwrap();
    see(page, ".table-card h2", "wells.csv").await;
    press(page, ".table-card button", "Add a node").await;
    until(page, "document.querySelector('.mapping').value.includes('[[table.node]]')").await;
    let mapping = value(page, "document.querySelector('.mapping').value").await;
    press(page, "nav a", "Jobs").await;
    see(page, ".job-title", "Job 1").await;
    press(page, "nav a", "Load").await;
    until(page, "document.querySelector('#check-load:not([disabled])')").await;
    assert_eq!(value(page, "document.querySelector('.mapping').value").await, mapping);
    page.refresh().await.unwrap();
    see(page, ".lost-files", "choose wells.csv again").await;
    assert_eq!(value(page, "document.querySelector('.mapping').value").await, mapping);
    see(page, "input[type=file]", "").await.send_keys(table.to_str().unwrap()).await.unwrap();
    until(page, "document.querySelector('#check-load:not([disabled])')").await;
    assert_eq!(value(page, "document.querySelector('.mapping').value").await, mapping);
    press(page, "#start-over", "").await;
    see(page, ".empty", "Choose the tables to load").await;

    // A model's text.
    page.goto(&format!("{}/model?graph=averley", service.url)).await.unwrap();
    see(page, ".cm-content", "CREATE GRAPH TYPE").await;
    write(page, "CREATE GRAPH TYPE mine { (:Well { depth INT }) }").await;
    see(page, "#back", "").await;
    page.refresh().await.unwrap();
    see(page, ".cm-content", "CREATE GRAPH TYPE mine").await;
    press(page, "#back", "").await;
    see(page, ".cm-content", "Junction").await;

    // An exploration, with its steps.
    page.goto(&format!("{}/explore?graph=averley&text=MATCH%20(d%3ADistrict)%20RETURN%20d", service.url))
        .await
        .unwrap();
    until(page, "document.querySelector('[data-drawn]:not([data-drawn^=\"0 \"])')").await;
    let drawn = value(page, "document.querySelector('[data-drawn]').dataset.drawn").await;
    page.goto(&format!("{}/explore?graph=averley", service.url)).await.unwrap();
    see(page, ".legend", "District").await;
    assert_eq!(value(page, "document.querySelector('[data-drawn]').dataset.drawn").await, drawn);
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_editor_says_what_a_word_is_and_what_a_call_takes() {
    let Session { service, client, page, .. } = &session().await;
    let level = json!([{ "name": "level", "type": "FLOAT64" }]);
    let body = json!({ "parameters": level, "text": "MATCH (s:Site) WHERE s.elevation_m > $level RETURN s.code AS code" });
    client.put("/v1/saved-queries/sites_above", &body).await.unwrap();
    page.goto(&format!("{}/?graph=averley", service.url)).await.unwrap();
    see(page, ".cm-content", "").await;
    let editor = page.find(By::Css(".cm-content")).await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys("RETURN SUBSTRING(").await.unwrap();
    see(page, ".help-tip", "SUBSTRING(text FROM first [FOR n])").await;
    write(page, "MATCH (s:Site) RETURN PATH_LENGTH(s)").await;
    // The pointer rests on a label.
    let word = "const range = document.createRange();
        const walker = document.createTreeWalker(document.querySelector('.cm-content'), NodeFilter.SHOW_TEXT);
        while (walker.nextNode() && !walker.currentNode.data.includes('Site'));
        const at = walker.currentNode.data.indexOf('Site');
        range.setStart(walker.currentNode, at); range.setEnd(walker.currentNode, at + 4);
        const box = range.getBoundingClientRect();
        document.querySelector('.cm-content').dispatchEvent(new MouseEvent('mousemove', { bubbles: true, clientX: box.x + 5, clientY: box.y + 5 }));";
    page.execute(word, vec![]).await.unwrap();
    see(page, ".help-tip", "A label of nodes: ").await;
    // Behind CALL saved queries are offered beside measures, with what they take.
    write(page, "CALL ").await;
    let editor = page.find(By::Css(".cm-content")).await.unwrap();
    editor.send_keys(Key::Control + " ").await.unwrap();
    see(page, ".cm-tooltip-autocomplete li", "sites_above").await.click().await.unwrap();
    see(page, ".cm-content", "CALL sites_above({level: })").await;
    page.clone().quit().await.unwrap();
}
