//! Alerts, the exchange of packets, and who receives what.

use moorfall_contract::kinds::NoticeWay;
use moorfall_wire::*;

use super::Driver;
use crate::{
    alerts::{LEVEL, Told, level, watched},
    harness::{Place, wait},
    peer::{Peer, V5, keeping, publish},
};

#[tokio::test]
async fn an_alert_is_seen_tried_tested_and_made_quiet() {
    let place = Place::new();
    // It ends outside of this test's own runtime.
    let told = std::thread::spawn(Told::start).join().unwrap();
    let service = told.serve(&place);
    watched(&service);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 2.61);
    // It is the first thing on the first page, and leads to the page of alerts.
    let first = page.wait_for("section[aria-label='Raised alerts']", |text| text.contains("gorge-high")).await;
    assert!(first.contains(LEVEL) && first.contains("2.61") && first.contains("critical"), "{first}");
    page.click("section[aria-label='Raised alerts'] a").await;
    let row = page.wait_for("[data-alert=gorge-high]", |text| text.contains("raised")).await;
    assert!(row.contains("at most 2.4") && row.contains("2.61"), "{row}");
    page.wait_for("section[aria-label=Alerts]", |text| text.contains("1 raised")).await;

    page.click("[data-alert=gorge-high] button").await;
    page.wait_for(&format!("[data-subject='{LEVEL}']"), |text| text.contains("that it is out")).await;
    page.wait_for("section[aria-label=Alerts]", |text| text.contains("Close the footpath.")).await;
    // Another band is tried on what is there now; nothing comes of it.
    page.click_text("Try").await;
    let now = page.wait_for("[data-tried]", |text| text.contains("Now 1 of 1 value would be out:")).await;
    assert!(now.contains("No history is kept of what it watches") && now.contains(LEVEL), "{now}");
    let field = "[data-trial] label:nth-of-type(2) input";
    let set = |value: &str| {
        let script = format!(
            "const field = document.querySelector({field:?}); field.value = '{value}';\
             field.dispatchEvent(new Event('input', {{ bubbles: true }}))"
        );
        page.driver.execute(script, vec![])
    };
    set("3").await.unwrap();
    page.click_text("Try").await;
    page.wait_for("[data-tried]", |text| text.contains("Now 0 of 1 value would be out.")).await;
    page.wait_for("[data-alert=gorge-high]", |text| text.contains("raised")).await;

    // A test goes to everyone whom it tells, and what becomes of it is seen.
    page.click_text("Send test").await;
    let notices = "section[aria-label=Notices]";
    let list = page.wait_for(notices, |text| text.matches("delivered").count() >= 6).await;
    assert!(list.contains("duty@harrowmere.example") && list.contains("harrowmere/alerts"), "{list}");
    wait("letter and test have come", || (told.received(NoticeWay::Mail).len() == 2).then_some(()));

    page.click_text("Quiet").await;
    page.wait_for("section[aria-label=Alerts]", |text| text.contains("quiet until")).await;
    page.wait_for("[data-alert=gorge-high]", |text| text.contains("quiet")).await;
    page.click_text("Tell again").await;
    page.wait_for("section[aria-label=Alerts]", |text| !text.contains("quiet until")).await;
    level(&mut weir, 1.9);
    page.wait_for("[data-alert=gorge-high]", |text| text.contains("ok")).await;
    page.wait_for("section[aria-label=Alerts]", |text| text.contains("none raised")).await;
    // Of a measure the past is tried, once there is some, and a band that is none is told.
    wait("something is measured", || {
        let tried = service.run(&["alerts", "try", "database", "--json"]).json();
        (tried["measured_seconds"].as_u64().unwrap() > 0).then_some(())
    });
    page.click("[data-alert=database] button").await;
    page.click_text("Try").await;
    page.wait_for("[data-tried]", |text| text.contains("raised 0 times in the last 24 h")).await;
    set("0").await.unwrap();
    page.click_text("Try").await;
    page.wait_for("[role=alert]", |text| text.contains("is above its high end")).await;
    std::thread::spawn(move || drop(told)).join().unwrap();
}

#[tokio::test]
async fn a_ladder_shows_both_sides_and_what_is_in_a_packet() {
    const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.goto(format!("{}/#/ladder?session=desk", service.http)).await.unwrap();
    page.click_text("Begin").await;
    page.wait_for("main", |text| text.contains("1: desk, running")).await;
    page.wait_for("main ol", |text| text.contains("No packets have passed yet.")).await;
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.publish(7, publish(TARGET, b"40.25".to_vec(), QoS::ExactlyOnce));
    page.wait_for("main", |text| text.contains("6 packets")).await;
    page.find("[data-packet=PUBCOMP]").await;
    let shown = "return [...document.querySelectorAll('[data-packet]')]\
        .map((packet) => `${packet.dataset.direction} ${packet.dataset.packet} ${packet.querySelector('[title]')?.title ?? ''}`)";
    let shown: Vec<String> = page.driver.execute(shown, vec![]).await.unwrap().convert().unwrap();
    let expected = [
        "to-broker CONNECT ",
        "to-client CONNACK ",
        "to-broker PUBLISH step 1 of 4 of QoS 2",
        "to-client PUBREC step 2 of 4 of QoS 2",
        "to-broker PUBREL step 3 of 4 of QoS 2",
        "to-client PUBCOMP step 4 of 4 of QoS 2",
    ];
    assert_eq!(shown, expected);
    page.click("[data-packet=PUBLISH]").await;
    let fields = page.wait_for("dl[aria-label=Fields]", |text| text.contains(TARGET)).await;
    assert!(fields.contains("5 B, not kept"), "payloads were not asked for: {fields}");
    // Both files are there for whoever wants to read on elsewhere.
    let files = "return Promise.all([...document.querySelectorAll('main a[download]')].map(async (link) => {\
        const answer = await fetch(link.href); return [answer.status, (await answer.arrayBuffer()).byteLength] }))";
    let files: Vec<(u16, usize)> = page.driver.execute(files, vec![]).await.unwrap().convert().unwrap();
    assert!(files.len() == 2 && files.iter().all(|(status, size)| *status == 200 && *size > 500), "{files:?}");

    // After a silence it says for how long, and a second one of another client stands beside the first.
    page.click_text("End now").await;
    page.wait_for("main", |text| text.contains("6 packets, ended")).await;
    desk.send(&Packet::PingReq);
    desk.receive();
    page.type_into("input[aria-label=Name]", "gauge").await;
    page.click_text("Begin").await;
    page.wait_for("main", |text| text.contains("2: gauge, running")).await;
    let chosen = "return document.querySelector('select[aria-label=Ladders]').options.length";
    let count: u64 = page.driver.execute(chosen, vec![]).await.unwrap().convert().unwrap();
    assert_eq!(count, 2);
    page.wait_for("main ol", |text| text.contains("No packets have passed yet.")).await;
}

#[tokio::test]
async fn who_receives_a_filter_stands_beside_what_it_matches() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut reader = Peer::open(service.mqtt, V5, "reader");
    reader.subscribe("harrowmere/+/kettle-weir/#", QoS::AtLeastOnce);
    let mut away = Peer::open_with(service.mqtt, keeping(V5, "night-desk"));
    away.subscribe("$share/desks/harrowmere/gorge/#", QoS::ExactlyOnce);
    drop(away);
    service.run(&["publish", LEVEL, "2.1", "--qos", "1"]).ok();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.goto(format!("{}/#/topics", service.http)).await.unwrap();
    page.type_into("input[placeholder^=harrowmere]", LEVEL).await;
    let found = page.wait_for("[data-subscribers]", |text| text.contains("night-desk")).await;
    let line = |name: &str| found.lines().find(|line| line.contains(name)).unwrap_or_default().to_owned();
    assert!(line("reader").contains("QoS 1") && !line("reader").contains("away"), "{found}");
    assert!(line("night-desk").contains("QoS 2, group desks, away, 1 queued"), "{found}");
    page.type_into("input[placeholder^=harrowmere]", "harrowmere/tidal/#").await;
    // A filter that some topics of the other's are in, too.
    let found = page.wait_for("[data-subscribers]", |text| !text.contains("night-desk")).await;
    assert!(found.contains("reader") && found.lines().count() == 1, "{found}");
}
