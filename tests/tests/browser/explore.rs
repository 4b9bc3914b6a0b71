//! The Explore page: from one node outward, and back to a query.

use crate::page::{Session, fill, press, see, session, until, value};

#[tokio::test(flavor = "multi_thread")]
async fn an_exploration_is_a_list_of_queries() {
    let Session { service, page, .. } = &session().await;
    page.goto(&format!("{}/explore?graph=averley", service.url)).await.unwrap();

    // Found by a part of its key; its neighbours are counted before any is drawn.
    until(page, "document.querySelector('.find-form input').placeholder.includes('code')").await;
    fill(page, ".find-form input", "j-00297").await;
    press(page, "#find", "Find").await;
    press(page, ".find-hits button", "Junction J-00297").await;
    see(page, ".explore-side h3", "Junction J-00297").await;
    see(page, ".expand", "41").await;
    let drawn = "document.querySelector('.drawing').dataset.drawn";
    assert_eq!(value(page, drawn).await, "1 nodes, 0 edges");
    press(page, ".expand", "41").await;
    until(page, "document.querySelector('.drawing').dataset.drawn.startsWith('41 nodes')").await;

    // Steps can be undone, done again and gone back to.
    press(page, ".explore-tools button", "Undo").await;
    until(page, "document.querySelector('.drawing').dataset.drawn.startsWith('1 nodes')").await;
    press(page, ".explore-tools button", "Redo").await;
    until(page, "document.querySelector('.drawing').dataset.drawn.startsWith('41 nodes')").await;

    // A second node, and the way between the two.
    fill(page, ".find-form input", "S-001").await;
    press(page, "#find", "Find").await;
    press(page, ".find-hits button", "Reservoir&Site S-001").await;
    until(page, "document.querySelector('.drawing').dataset.drawn.startsWith('42 nodes')").await;
    press(page, ".drawn-table summary", "Nodes that are drawn").await;
    press(page, ".drawn-table label", "Junction J-00297").await;
    page.execute("document.querySelectorAll('.drawn-table input[type=checkbox]').forEach((box) => { const one = box.closest('label').textContent.includes('J-00297'); if (one && !box.checked) box.click(); })", vec![]).await.unwrap();
    see(page, ".explore-side h3", "2 nodes are chosen").await;
    fill(page, "[aria-label='Least of']", "length_m").await;
    press(page, "#path", "Path between them").await;
    see(page, ".steps", "Least length_m between two").await;
    until(page, "!document.querySelector('.drawing').dataset.drawn.startsWith('42 nodes')").await;

    // Sizes by a measure; the labels of the legend count.
    page.execute(
        "document.querySelectorAll('.explore-side details').forEach((d) => { d.open = true; })",
        vec![],
    )
    .await
    .unwrap();
    fill(page, "#size-by", "degree:degree").await;
    see(page, ".legend", "Junction").await;
    let nodes = value(page, drawn).await;

    // The picture is a query, and its text is what is drawn; another page and back loses nothing.
    press(page, "#as-query", "As a query").await;
    see(page, ".cm-content", "IS LABELED Junction").await;
    press(page, "#run", "Run").await;
    see(page, ".status", "rows").await;
    press(page, "#explore-result", "Explore this").await;
    until(
        page,
        &format!(
            "document.querySelector('.drawing')?.dataset.drawn?.startsWith('{}')",
            nodes.split(',').next().unwrap()
        ),
    )
    .await;
    page.clone().quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_draws_a_query_and_a_hub_asks_first() {
    let Session { service, page, .. } = &session().await;
    let text = "MATCH%20(d%3ADistrict%20%7Bcode%3A%20'TE'%7D)%20RETURN%20d";
    page.goto(&format!("{}/explore?graph=averley&text={text}", service.url)).await.unwrap();
    until(page, "document.querySelector('.drawing')?.dataset.drawn === '1 nodes, 0 edges'").await;
    press(page, ".drawn-table summary", "Nodes that are drawn").await;
    press(page, ".drawn-table input[type=checkbox]", "").await;
    see(page, ".explore-side h3", "District TE").await;
    // More than sixty edges: a sample is offered, and nothing is drawn before it is taken.
    press(page, ".expand", "[IN]").await;
    see(page, ".hub", "edges are many").await;
    assert_eq!(value(page, "document.querySelector('.drawing').dataset.drawn").await, "1 nodes, 0 edges");
    press(page, ".hub button", "30 of them").await;
    until(page, "document.querySelector('.drawing').dataset.drawn === '31 nodes, 30 edges'").await;
    page.clone().quit().await.unwrap();
}
