//! The page of sessions, of any number of them.

use moorfall_wire::ProtocolVersion;

use super::Driver;
use crate::{
    harness::{Place, wait},
    peer::Peer,
};

#[tokio::test]
async fn of_many_sessions_only_those_in_view_are_drawn_and_some_are_ended_by_filter() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let open = |name: String| Peer::open(service.mqtt, ProtocolVersion::V5, &name);
    let gauges: Vec<Peer> = (0..300).map(|number| open(format!("gauge-{number:03}"))).collect();
    let mut pumps: Vec<Peer> = (0..3).map(|number| open(format!("pump-{number}"))).collect();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.goto(format!("{}/#/sessions", service.http)).await.unwrap();
    page.wait_for("main", |text| text.contains("303 sessions")).await;
    page.find("[data-client=gauge-000]").await;
    let drawn = "return document.querySelectorAll('[data-client]').length";
    let count: u64 = page.driver.execute(drawn, vec![]).await.unwrap().convert().unwrap();
    assert!(count < 60, "{count}");
    let last = "const list = document.querySelector('[role=rowgroup]').parentElement; \
        list.scrollTop = list.scrollHeight";
    page.driver.execute(last, vec![]).await.unwrap();
    page.find("[data-client=pump-2]").await;
    // The other way round the last come first.
    page.click("[role=columnheader] button").await;
    page.driver.execute(last.replace("list.scrollHeight", "0"), vec![]).await.unwrap();
    page.find("[data-client=pump-2]").await;

    page.type_into("input[type=search]", "pump").await;
    page.wait_for("main", |text| text.contains("3 sessions that match")).await;
    page.click_text("End these…").await;
    let preview = page.wait_for("[role=alertdialog]", |text| text.contains("End 3 sessions?")).await;
    assert!(preview.contains("pump-0") && preview.contains("pump-2") && !preview.contains("gauge"), "{preview}");
    page.click("[role=alertdialog] button:last-child").await;
    page.wait_for("main", |text| text.contains("3 sessions ended.")).await;
    for pump in &mut pumps {
        assert!(pump.receive().is_some(), "DISCONNECT says it");
    }
    wait("the others stay", || (service.status()["sessions"] == 300).then_some(()));
    drop(gauges);

    page.click_text("Busiest").await;
    page.find("[aria-label=Of]").await;
}
