//! What the pages ask the service for, how often, and after they were left.

use std::collections::BTreeMap;

use super::{Driver, Page};
use crate::harness::{PATIENCE, Place};

/// How often each call was made since the page was loaded.
async fn calls(page: &Page) -> BTreeMap<String, usize> {
    let script = "return performance.getEntriesByType('resource').map((one) => new URL(one.name).pathname)
        .filter((path) => path.startsWith('/api/'))";
    let all: Vec<String> = page.driver.execute(script, vec![]).await.unwrap().convert().unwrap();
    let mut counts = BTreeMap::new();
    all.into_iter().for_each(|path| *counts.entry(path).or_default() += 1);
    counts
}

/// Waits until a call was made so often, and gives all.
async fn wait_for(page: &Page, path: &str, least: usize) -> BTreeMap<String, usize> {
    let began = std::time::Instant::now();
    loop {
        let counts = calls(page).await;
        if counts.get(path).copied().unwrap_or(0) >= least {
            return counts;
        }
        assert!(began.elapsed() < PATIENCE, "{path} is not asked {least} times: {counts:?}");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
}

#[tokio::test]
async fn a_page_asks_once_in_a_while_and_not_after_it_was_left() {
    let place = Place::new();
    let service = place.serve_catchment();
    let level = "harrowmere/gorge/kettle-weir/stage/level";
    service.run(&["publish", level, "1.83", "--retain"]).ok();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    // The status is asked for every two seconds on every page: the clock that the others are held against.
    let status = "/api/v1/status";
    let topic = format!("topic?name={level}");
    for (address, own, per_status) in [
        ("topics", "/api/v1/topics/drift", 1),
        (topic.as_str(), "/api/v1/topics/topic", 2),
        ("events", "/api/v1/events", 2),
        ("bridges", "/api/v1/bridges", 1),
        ("access", "/api/v1/access/matrix", 1),
        ("journey?recorded", "/api/v1/recordings", 2),
        ("first-connection?identity=auditor", "/api/v1/sessions", 3),
    ] {
        page.driver.execute("performance.clearResourceTimings()", vec![]).await.unwrap();
        let script = format!("location.hash = '/{address}'");
        page.driver.execute(script, vec![]).await.unwrap();
        let counts = wait_for(&page, status, 3).await;
        let (asked, looks) = (counts.get(own).copied().unwrap_or(0), counts[status]);
        assert!((1..=(looks + 1) * per_status + 1).contains(&asked), "{address}: {counts:?}");

        page.driver.execute("location.hash = '/audit'", vec![]).await.unwrap();
        page.find("main").await;
        wait_for(&page, "/api/v1/audit", 1).await;
        page.driver.execute("performance.clearResourceTimings()", vec![]).await.unwrap();
        let counts = wait_for(&page, status, 2).await;
        let own = if own == "/api/v1/sessions" { "/api/v1/access/explain" } else { own };
        assert_eq!(counts.get(own), None, "{address} was left: {counts:?}");
        assert!(counts.values().sum::<usize>() <= 2 * counts[status] + 2, "{address} was left: {counts:?}");
    }
}

#[tokio::test]
async fn the_overview_is_there_after_five_calls() {
    let place = Place::new();
    let service = place.serve_catchment();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.refresh().await.unwrap();
    page.find("section[aria-label=Events]").await;
    page.find("section[aria-label=History] canvas").await;
    let counts = wait_for(&page, "/api/v1/history", 1).await;
    assert!(counts.values().sum::<usize>() <= 5, "{counts:?}");
}
