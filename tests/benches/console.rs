//! Speed of the console: the first page, drawings of 300, 3,000 and 20,000 nodes while they are moved and zoomed,
//! and a table of 100,000 rows while it is scrolled. Frames are those of headless Chromium, which draws on the
//! processor.
//!
//! `cargo bench --bench console`

#![allow(clippy::unwrap_used)]

#[path = "../tests/browser/page.rs"]
#[allow(dead_code)]
mod page;

use graphodrome_tests::query;
use page::{Session, press, see, session, until, value, write};
use thirtyfour::prelude::*;

/// Milliseconds between frames while `step` is done in each: the median, the 95th percentile, the longest.
async fn frames(page: &WebDriver, prepare: &str, step: &str) -> String {
    let script = format!(
        "const done = arguments[arguments.length - 1];
        {prepare};
        const times = [];
        let last = performance.now();
        const next = (now) => {{
            times.push(now - last);
            last = now;
            if (times.length > 120) {{
                const sorted = times.slice(1).sort((a, b) => a - b);
                const at = (share) => sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))].toFixed(0);
                return done(`${{at(0.5)}} / ${{at(0.95)}} / ${{at(1)}}`);
            }}
            const i = times.length;
            {step};
            requestAnimationFrame(next);
        }};
        requestAnimationFrame(next);"
    );
    page.execute_async(&script, vec![]).await.unwrap().json().as_str().unwrap().to_string()
}

/// Milliseconds from `act` until `selector` has other text than before, or is there.
async fn answers(page: &WebDriver, act: &str, selector: &str) -> String {
    let script = format!(
        "const done = arguments[arguments.length - 1];
        const text = () => document.querySelector('{selector}')?.textContent ?? '';
        const [before, started] = [text(), performance.now()];
        const observer = new MutationObserver(() => {{
            if (text() !== before) {{ observer.disconnect(); requestAnimationFrame(() => done((performance.now() - started).toFixed(0))); }}
        }});
        observer.observe(document.body, {{ subtree: true, childList: true, characterData: true, attributes: true }});
        {act};"
    );
    page.execute_async(&script, vec![]).await.unwrap().json().as_str().unwrap().to_string()
}

const CY: &str = "const cy = document.querySelector('.drawing')._cyreg.cy";

async fn first_page(session: &Session) {
    let Session { service, page, .. } = session;
    page.goto(&service.url).await.unwrap();
    see(page, ".graph-size", "nodes").await;
    let bytes = value(page, "performance.getEntriesByType('resource').concat(performance.getEntriesByType('navigation')).filter((e) => !e.name.includes('/v1/') && !/Editor|language/.test(e.name)).reduce((n, e) => n + e.transferSize, 0)").await;
    let shown =
        value(page, "Math.round(performance.getEntriesByName('first-contentful-paint')[0].startTime)").await;
    let kilobytes = bytes.parse::<f64>().unwrap_or(0.0) / 1e3;
    println!("first page                      shown after {shown} ms, {kilobytes:.0} kB without the editor");
}

async fn drawing(session: &Session, nodes: usize) {
    let Session { service, client, page, .. } = session;
    let graph = format!("drawn{nodes}");
    client.create_graph(&graph, None).await.unwrap();
    query(client, &graph, &format!("FOR i IN {} INSERT (:Place {{id: i}})", list(nodes))).await;
    query(client, &graph, "CREATE KEY place OVER (:Place {id})").await;
    for step in [1, 37] {
        // Explore draws 25,000 rows of a query.
        let starts = if step == 1 { nodes } else { (nodes * 2 / 3).min(24_900 - nodes.min(24_000)) };
        let text = format!(
            "MATCH (a:Place WHERE a.id < {starts}) MATCH (b:Place {{id: a.id + {step}}}) INSERT (a)-[:ROAD]->(b)"
        );
        query(client, &graph, &text).await;
    }
    let text = "MATCH%20(a)-%5Be%5D-%3E(b)%20RETURN%20a,%20e,%20b";
    let began = std::time::Instant::now();
    page.goto(&format!("{}/explore?graph={graph}&text={text}", service.url)).await.unwrap();
    let there = "return Number.parseInt(document.querySelector('.drawing')?.dataset.drawn ?? '0') > 10 && !document.querySelector('.is-arranging')";
    while !page.execute(there, vec![]).await.is_ok_and(|found| found.json() == true) {
        assert!(began.elapsed().as_secs() < 180, "{nodes} nodes are not drawn");
        tokio::task::yield_now().await;
    }
    let seconds = began.elapsed().as_secs_f64();
    let drawn = value(page, "document.querySelector('.drawing').dataset.drawn").await;
    let moved = frames(page, CY, "cy.panBy({ x: i % 40 < 20 ? 6 : -6, y: 2 })").await;
    let zoomed = frames(page, CY, "cy.zoom(cy.zoom() * (i % 40 < 20 ? 1.03 : 1 / 1.03))").await;
    let chosen = answers(page, &format!("{CY}; cy.nodes()[7].select()"), ".explore-side h3").await;
    println!(
        "{drawn:<31} there after {seconds:.1} s, moved {moved} ms, zoomed {zoomed} ms, a node chosen after {chosen} ms"
    );
}

fn list(n: usize) -> String {
    let numbers: Vec<String> = (0..n).map(|i| i.to_string()).collect();
    format!("[{}]", numbers.join(","))
}

async fn table(session: &Session) {
    let Session { service, page, .. } = session;
    page.goto(&format!("{}/?graph=averley", service.url)).await.unwrap();
    see(page, ".cm-content", "").await;
    write(page, "MATCH (a:Junction), (b:Junction) RETURN a.code AS a, b.code AS b, a.elevation_m AS elevation LIMIT 100000").await;
    press(page, "#run", "Run").await;
    until(page, "document.querySelector('table.result')?.getAttribute('aria-rowcount') > 9000").await;
    let rows =
        value(page, "Number(document.querySelector('table.result').getAttribute('aria-rowcount')) - 1").await;
    let scrolled =
        frames(page, "const box = document.querySelector('.result-scroll')", "box.scrollTop += 420").await;
    println!("table of {rows:<22} scrolled {scrolled} ms");
}

#[tokio::main]
async fn main() {
    let session = session().await;
    println!("frames in milliseconds: median / 95th percentile / longest\n");
    first_page(&session).await;
    for nodes in [300, 3_000, 20_000] {
        drawing(&session, nodes).await;
    }
    table(&session).await;
    session.page.clone().quit().await.unwrap();
}
