//! Real sessions in the real console, in headless Chromium.

#![allow(clippy::unwrap_used)]

mod accessible;
mod explore;
mod languages;
mod notebooks;
mod page;
mod runs;
mod trust;
mod versions;

use std::time::{Duration, Instant};

use graphodrome_tests::*;
use thirtyfour::prelude::*;

use crate::page::{Session, press, see, session, write};

#[tokio::test(flavor = "multi_thread")]
async fn a_session_in_the_console() {
    let session = &session().await;
    let Session { service, client, page, .. } = session;

    let opened = Instant::now();
    page.goto(&service.url).await.unwrap();
    see(page, ".graph-size", "3,062 nodes").await;
    println!("the page answered after {:?}", opened.elapsed());

    // Run with the keyboard, read the table.
    write(page, "MATCH (d:District {code: 'TE'}) RETURN d, d.name AS name").await;
    page.find(By::Css(".cm-content")).await.unwrap().send_keys(Key::Control + Key::Enter).await.unwrap();
    see(page, "table.result td", "District TE").await;
    see(page, ".status", "1 row").await;

    // An error is underlined where it is, with its hint.
    write(page, "MATCH (d:Distrct) RETURN d").await;
    page.find(By::Id("run")).await.unwrap().click().await.unwrap();
    see(page, ".problem", "did you mean District?").await;
    let marked = see(page, ".cm-lintRange-error", "").await;
    assert_eq!(marked.text().await.unwrap(), "Distrct");

    // A drawing of a route.
    write(page, "MATCH p = ANY SHORTEST (:Reservoir {code: 'S-001'})-[:PIPE]->+(:Junction {code: 'J-00050'}) RETURN p").await;
    page.find(By::Id("run")).await.unwrap().click().await.unwrap();
    see(page, ".status", "1 row").await;
    see(page, ".nav-link", "Drawing").await.click().await.unwrap();
    see(page, ".legend", "Junction").await;
    let drawn =
        page.find(By::Css(".drawing[data-drawn]")).await.unwrap().attr("data-drawn").await.unwrap().unwrap();
    assert!(drawn.contains("nodes") && !drawn.starts_with("0 "), "{drawn}");

    // The profile of the same text, with its hop table.
    page.find(By::Id("profile")).await.unwrap().click().await.unwrap();
    see(page, ".operator", "ShortestPaths").await;
    see(page, "table.hops", "frontier").await;

    // A load shows on the Jobs page with its account and rejects.
    see(page, "nav a", "Jobs").await.click().await.unwrap();
    see(page, ".job-title", "Job 1").await;
    load_mapping(client, "averley", &root().join("demo/dirty/load.toml")).await;
    see(page, ".job-title", "Job 2").await.click().await.unwrap();
    see(page, "table.result", "J-99999").await;

    the_model_is_edited_both_ways(session).await;
    tables_become_a_graph(session).await;

    // A graph made elsewhere appears in the chooser; the service's restart is survived.
    client.create_graph("second", None).await.unwrap();
    see(page, "select option", "second").await;
    page.clone().quit().await.unwrap();
}

/// The Model page: diagram and text, each editing the other.
async fn the_model_is_edited_both_ways(Session { client, page, .. }: &Session) {
    // The model as diagram and text; the graph is checked against it.
    see(page, "nav a", "Model").await.click().await.unwrap();
    see(page, ".model-text .cm-content", "CREATE GRAPH TYPE water_network").await;
    see(page, ".model-picture .box", "Junction").await;
    see(page, "#check", "").await.click().await.unwrap();
    see(page, ".status", "Nothing breaks the model").await;
    // A box is chosen, its type is changed in the form, and the text has it.
    press(page, ".model-picture .box", "Sensor").await;
    see(page, ".model-picture .box.chosen", "Sensor").await;
    press(page, "#add-property", "").await;
    see(page, ".model-text .cm-content", "property STRING").await;
    press(page, "#compare", "").await;
    see(page, ".findings", "node type :Sensor: property property STRING is new").await;
    press(page, "#apply", "Apply to averley").await;
    see(page, ".status", "averley has its new model; it is at version").await;
    let model = client.get("/v1/graphs/averley/model").await.unwrap();
    assert!(model["text"].as_str().unwrap().contains("property STRING"), "{model}");
    // What would be lost must be meant: the property goes again, with a value in it.
    query(client, "averley", "MATCH (s:Sensor) SET s.property = 'a'").await;
    press(page, ".model-picture .box", "Sensor").await;
    press(page, "[aria-label='Drop property']", "").await;
    press(page, "#compare", "").await;
    see(page, ".findings", "values lost").await;
    assert!(!see(page, "#apply", "").await.is_enabled().await.unwrap());
    press(page, "#meant", "").await;
    press(page, "#apply", "Apply to averley").await;
    see(page, ".status", "averley has its new model").await;
    // The text changes the diagram, and what is wrong with it is said in place.
    see(page, ".model-text .cm-content", "CREATE GRAPH TYPE water_network").await;

    page.execute(
        "document.querySelector('.model-text .cm-content').focus(); document.execCommand('selectAll');
         document.execCommand('insertText', false, 'CREATE GRAPH TYPE t AS { (:Lonely { x INT65 }) }');",
        vec![],
    )
    .await
    .unwrap();
    see(page, ".problem", "there is no value type INT65").await;
    page.execute(
        "document.querySelector('.model-text .cm-content').focus(); document.execCommand('selectAll');
         document.execCommand('insertText', false, 'CREATE GRAPH TYPE t AS { (:Lonely { x INT64 }) }');",
        vec![],
    )
    .await
    .unwrap();
    see(page, ".model-picture .box", "Lonely").await;
    press(page, "#back", "").await;
    see(page, ".model-picture .box", "Junction").await;
}

/// A draft from tables, and a load into a graph that is there.
async fn tables_become_a_graph(Session { client, page, .. }: &Session) {
    // A draft from two tables, created and loaded.
    see(page, ".nav-link", "Draft from tables").await.click().await.unwrap();
    let tables = ["districts.csv", "junctions.csv"]
        .map(|name| root().join("demo/tables").join(name).display().to_string());
    page.find(By::Css("input[type=file]")).await.unwrap().send_keys(tables.join("\n")).await.unwrap();
    see(page, "#propose", "").await.click().await.unwrap();
    see(page, ".status", "2 node types and 1 edge types").await;
    see(page, "#create", "").await.click().await.unwrap();
    see(page, ".job-title", "load, draft").await;
    let draft = client.jobs().await.unwrap().into_iter().find(|j| j.graph == "draft").unwrap();
    let loaded = client.wait(draft.id).await.unwrap();
    assert_eq!((loaded.graph.as_str(), loaded.state.name()), ("draft", "done"), "{}", loaded.detail);

    // Tables into the graph: columns, a proposal, a change by keyboard, a preview, a check, the load, rejects.
    see(page, "nav a", "Load").await.click().await.unwrap();
    page.find(By::Css("[aria-label='Graph']")).await.unwrap().send_keys("averley").await.unwrap();
    see(page, "h1", "Load into averley").await;
    let tables = ["junctions.csv", "valves.csv"]
        .map(|name| root().join("demo/dirty").join(name).display().to_string());
    page.find(By::Css("input[type=file]")).await.unwrap().send_keys(tables.join("\n")).await.unwrap();
    see(page, ".column-chip", "elevation_m").await;
    see(page, "[aria-label='valves.csv'] .edge-rule legend", "Edge").await;
    let mapped = "return document.querySelector('textarea.mapping').value";
    let text = async || page.execute(mapped, vec![]).await.unwrap().json().as_str().unwrap().to_string();
    assert!(text().await.contains("labels = [\"Junction\"]"), "{}", text().await);
    let existing = "[aria-label='junctions.csv'] [aria-label='If the element exists']";
    page.find(By::Css(existing)).await.unwrap().send_keys("updated").await.unwrap();
    let started = Instant::now();
    while !text().await.contains("existing = \"update\"") {
        assert!(started.elapsed() < Duration::from_secs(20), "{}", text().await);
        tokio::task::yield_now().await;
    }
    press(page, "#preview", "").await;
    see(page, ".element", "(:Junction {code: 'J-90001'").await;
    see(page, ".element", "-[:ISOLATES").await;
    press(page, "#check-load", "").await;
    see(page, ".load-page", "This was a check: nothing was published").await;
    press(page, "#load", "").await;
    see(page, ".load-page .status", "are new").await;
    see(page, ".load-page td", "it is not a number").await;
    see(page, ".reject-file", "junctions.csv").await;
    let job = client.jobs().await.unwrap().remove(0);
    assert_eq!((job.kind.as_str(), job.state.name()), ("load", "done"), "{}", job.detail);
    // These tables were loaded before: one row now changes what it disagreed with.
    assert_eq!(job.detail["account"]["changed"], 1, "{}", job.detail);
}
