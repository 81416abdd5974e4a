//! Topics, retained messages and journeys.

use std::process::{Command, Stdio};

use super::Driver;
use crate::harness::{Place, Ran, wait};

#[tokio::test]
async fn stale_retained_messages_are_found_cleared_and_brought_back() {
    let place = Place::new();
    let service = place.serve_catchment();
    for station in ["kettle-weir", "nine-arches"] {
        service.run(&["publish", &format!("harrowmere/gorge/{station}/status"), "online", "--retain"]).ok();
    }
    let old = "harrowmere/gorge/old-mill/level";
    let payload = "{\"m\": 1.2}";
    service.run(&["publish", old, payload, "--retain", "--property", "sensor=2"]).ok();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.click("a[href='#/retained']").await;
    page.wait_for("main table", |text| text.contains(old) && text.contains("not planned")).await;

    // One message, with all that it carries.
    page.click(&format!("tr[data-topic='{old}'] button")).await;
    page.wait_for("[data-message]", |text| text.contains("\"m\": 1.2") && text.contains("sensor")).await;

    // A branch is chosen; what goes is said before it goes.
    page.click("button[title='Select all below harrowmere/gorge/old-mill']").await;
    page.wait_for("[data-choice]", |text| text.contains("1 selected")).await;
    page.click_text("Clear").await;
    page.wait_for("[data-choice]", |text| text.contains("Clear 1 retained message?")).await;
    assert_eq!(service.status()["retained"], 3);
    page.click("[data-choice] button.text-wrong").await;
    page.wait_for("[data-cleared]", |text| text.contains(old)).await;
    assert_eq!(service.status()["retained"], 2);

    // What would become of a message.
    page.click("a[href='#/journey']").await;
    page.find("input[aria-label=Topic]").await.send_keys("harrowmere/gorge/kettle-weir/gate/target").await.unwrap();
    page.find("input[aria-label=Payload]").await.send_keys("much").await.unwrap();
    page.click_text("Preview").await;
    page.wait_for("[data-step=Access]", |text| text.contains("no rules apply to administrator")).await;
    page.find("[data-step=Plan]").await;
    page.wait_for("[data-recipients]", |text| text.contains("No recipients")).await;
    page.click("a[href='#/retained']").await;
    page.wait_for("[data-cleared]", |text| text.contains(old)).await;

    // All that is listed, and back.
    let filter = page.find("input[aria-label='Topic filter']").await;
    filter.clear().await.unwrap();
    filter.send_keys("harrowmere/+/+/status").await.unwrap();
    page.wait_for("main table", |text| text.contains("nine-arches") && text.contains("kettle-weir")).await;
    page.click("input[aria-label='Select all listed']").await;
    page.wait_for("[data-choice]", |text| text.contains("2 selected")).await;
    page.click_text("Clear").await;
    page.click("[data-choice] button.text-wrong").await;
    page.wait_for("[data-cleared]", |text| text.contains("2 topics")).await;
    service.run(&["publish", "harrowmere/gorge/kettle-weir/status", "offline", "--retain"]).ok();
    page.click("[data-cleared] button").await;
    page.wait_for("[data-choice] [role=status]", |text| text.contains("1 restored; 1 have a newer message")).await;
    assert_eq!(service.status()["retained"], 2);
}

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

#[tokio::test]
async fn the_hierarchy_shows_values_and_leads_to_a_topic() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let reading = |level: &str| format!(r#"{{"m": {level}, "at": "2031-03-02T06:15:00Z", "quality": "good"}}"#);
    let publish = |level: &str| service.run(&["publish", LEVEL, &reading(level)]).ok().len();
    publish("1.83");
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.click("a[href='#/topics']").await;
    let mut branch = String::new();
    for level in ["harrowmere", "gorge", "kettle-weir", "stage"] {
        branch = if branch.is_empty() { level.to_owned() } else { format!("{branch}/{level}") };
        page.click(&format!("tr[data-topic='{branch}'] button")).await;
    }
    page.wait_for(&format!("tr[data-topic='{LEVEL}']"), |text| text.contains(r#""m": 1.83"#)).await;
    page.find(&format!("tr[data-topic='{branch}'] svg[aria-label^=rate]")).await;
    page.wait_for("main", |text| text.contains("refreshes every 2 s")).await;

    // The search leads to the topic as its row does.
    page.type_into("input[placeholder='harrowmere/+/+/stage/level']", "harrowmere/+/+/stage/level").await;
    page.wait_for("[data-subscribers]", str::is_empty).await;
    page.wait_for("main", |text| text.contains("Received by 0 subscriptions")).await;
    page.click("[data-matches] a").await;
    page.wait_for("[data-facts]", |text| {
        ["None.", "stations-report", "JSON with a schema", "administrator"].iter().all(|part| text.contains(part))
    })
    .await;
    page.wait_for("[data-messages]", |text| text.contains("No messages since")).await;
    publish("1.85");
    page.wait_for("[data-messages]", |text| text.contains("1.85")).await;
    publish("1.90");
    // What changed is seen at once, and the number is drawn.
    page.wait_for("[data-difference]", |text| text.contains(r#"−   "m": 1.85"#) && text.contains(r#"+   "m": 1.9"#))
        .await;
    page.find("[data-chart=m] canvas").await;
    publish("1.95");
    page.wait_for("[data-messages]", |text| text.contains("1.95")).await;
    // The newest against the oldest of the list.
    page.click("[data-messages] tbody tr:last-child button").await;
    page.wait_for("[data-difference]", |text| text.contains("1.85") && text.contains("1.95") && !text.contains("1.9,"))
        .await;
    page.click("a[href^='#/journey?recorded&']").await;
    page.find("input[aria-label='Topic filter']").await;
}

#[tokio::test]
async fn a_recording_shows_who_got_a_message_and_who_did_not() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    service.identity("contractor-pumps", &["kind=contractor", "operator=fenwater"]);
    let password = place.write("auditor", "rotidua");
    let reading = ["subscribe", "harrowmere/#", "--as", "auditor", "--password-file", password.to_str().unwrap()];
    let reader = service.spawn(&reading, "subscribed");
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.click("a[href='#/journey']").await;
    page.click("a[href='#/journey?recorded']").await;
    page.wait_for("[data-messages]", |text| text.contains("No recordings yet")).await;
    page.type_into("input[aria-label='Topic filter']", "harrowmere/gorge/#").await;
    page.click_text("Record").await;
    page.find("[data-recording=running]").await;
    service.run(&["publish", LEVEL, "1.83"]).ok();
    let pumps = place.write("pumps", "spmup-rotcartnoc");
    let target = "harrowmere/gorge/kettle-weir/gate/target";
    let by = ["--as", "contractor-pumps", "--password-file", pumps.to_str().unwrap()];
    assert_eq!(service.run(&[&["publish", target, "90"][..], &by].concat()).code, Some(1));
    page.wait_for("[data-messages]", |text| text.contains("1 acknowledged") && text.contains("refused")).await;
    page.click("[data-messages] tbody tr:first-child button").await;
    page.wait_for("[data-journey]", |text| text.contains("contractor-pumps is not allowed to publish")).await;
    page.click("[data-messages] tbody tr:last-child button").await;
    page.wait_for("[data-recipients]", |text| text.contains("auditor") && text.contains("acknowledged")).await;
    page.wait_for("[data-journey] [data-step=Plan]", |text| text.contains("does not match the plan")).await;
    page.click_text("Stop recording").await;
    page.find("[data-recording=stopped]").await;
    drop(reader);
}

#[tokio::test]
async fn clients_stand_side_by_side_at_the_desk() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.click("a[href='#/desk']").await;
    let of = |client: u32, what: &str| format!("section[aria-label='Client {client}'] {what}");
    page.type_into(&of(1, "input[aria-label=Identity]"), "auditor").await;
    page.type_into(&of(2, "input[aria-label=Identity]"), "kettle-weir").await;
    page.find(&of(2, "select[aria-label=Version]")).await.send_keys("3.1.1").await.unwrap();
    page.click_text("Connect all").await;
    page.wait_for(&of(1, "[data-state]"), |text| text.contains("connected as")).await;
    page.wait_for(&of(2, "[data-lines]"), |text| text.contains("connected")).await;
    page.type_into(&of(1, "input[aria-label='Topic filter']"), "harrowmere/#").await;
    page.find(&of(1, "input[aria-label='Topic filter']")).await.send_keys("\u{e007}").await.unwrap();
    page.wait_for(&of(1, "[data-filters]"), |text| text.contains("harrowmere/#")).await;

    page.type_into(&of(2, "input[aria-label=Topic]"), LEVEL).await;
    page.type_into(&of(2, "textarea[aria-label=Payload]"), "{\"m\": 1.8").await;
    page.find(&of(2, "select[aria-label=Encoding]")).await.send_keys("JSON").await.unwrap();
    page.find(&of(2, "input[aria-label=Topic]")).await.send_keys("\u{e007}").await.unwrap();
    page.wait_for(&of(2, "[data-lines]"), |text| text.contains("not JSON")).await;
    page.type_into(&of(2, "textarea[aria-label=Payload]"), "{\"m\": 1.83}").await;
    page.find(&of(2, "input[aria-label=Topic]")).await.send_keys("\u{e007}").await.unwrap();
    page.wait_for(&of(1, "[data-lines]"), |text| text.contains("1.83") && text.contains("QoS 1")).await;
    page.type_into(&of(1, "input[aria-label=Topic]"), LEVEL).await;
    page.find(&of(1, "input[aria-label=Topic]")).await.send_keys("\u{e007}").await.unwrap();
    page.wait_for(&of(1, "[data-lines]"), |text| text.contains("auditor is not allowed to publish")).await;

    // The desk outlives a look at another page, and a setup the visit.
    page.type_into("input[aria-label='Name of the setup']", "level trial").await;
    page.click_text("Save").await;
    page.wait_for("select[aria-label=Setup]", |text| text.contains("level trial")).await;
    page.click("a[href='#/topics']").await;
    page.click("a[href='#/desk']").await;
    page.wait_for(&of(1, "[data-lines]"), |text| text.contains("1.83")).await;
    page.driver.refresh().await.unwrap();
    page.wait_for("select[aria-label=Setup]", |text| text.contains("level trial")).await;
    page.wait_for(&of(1, "[data-state]"), |text| text == "not connected").await;
    page.find("select[aria-label=Setup]").await.send_keys("level trial").await.unwrap();
    page.wait_for(&of(1, "[data-filters]"), |text| text.contains("harrowmere/#")).await;
    page.click_text("Connect all").await;
    page.wait_for(&of(1, "[data-lines]"), |text| text.contains("subscribe harrowmere/#: Granted")).await;
}

#[tokio::test]
async fn programs_that_are_shown_connect_and_the_page_says_so() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    service.identity("auditor", &["kind=person"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    for (language, file, interpreter) in [("Python", "connect.py", "python3"), ("JavaScript", "connect.cjs", "node")] {
        // From another page, so that nothing is filled in yet.
        page.click("a[href='#/topics']").await;
        page.click("a[href='#/first-connection']").await;
        page.type_into("input[aria-label=Identity]", "kettle-weir\t").await;
        page.type_into("input[aria-label=Topic]", LEVEL).await;
        page.type_into(
            "input[aria-label=Payload]",
            "{\"m\": 1.83, \"at\": \"2031-03-02T06:15:00Z\", \"quality\": \"good\"}",
        )
        .await;
        page.wait_for("[data-step=Publish][data-good=true]", |text| text.contains("stations-report")).await;
        page.find("select[aria-label=Language]").await.send_keys(language).await.unwrap();
        let selector = format!("[data-program={language}]");
        let program = page.wait_for(&selector, |text| text.contains("1.83")).await;
        assert!(program.contains("put-the-password-here"), "{program}");
        page.wait_for("[data-arrival]", |text| text.contains("Waiting for kettle-weir to connect")).await;
        let saved = place.write(file, &program.replace("put-the-password-here", "riew-elttek"));
        let ran = Command::new(interpreter).arg(&saved).stdin(Stdio::null()).output().unwrap();
        let ran = Ran::from(ran);
        assert!(ran.ok().contains("connected\n") && ran.out.contains("the broker has the message"), "{ran:?}");

        // One that listens stays, and is seen.
        page.click("a[href='#/topics']").await;
        page.click("a[href='#/first-connection']").await;
        page.type_into("input[aria-label=Identity]", "auditor\t").await;
        page.type_into("input[aria-label='Topic filter']", "harrowmere/#").await;
        page.wait_for("[data-step=Subscribe][data-good=true]", |text| text.contains("auditor-reads-all")).await;
        page.find("select[aria-label=Language]").await.send_keys(language).await.unwrap();
        let program = page.wait_for(&selector, |text| text.contains("harrowmere/#")).await;
        page.wait_for("[data-arrival=no]", |text| text.contains("Waiting for auditor to connect")).await;
        let saved = place.write(file, &program.replace("put-the-password-here", "rotidua"));
        let heard = place.path().join("heard");
        let out = std::fs::File::create(&heard).unwrap();
        let mut child = Command::new(interpreter).arg(&saved).stdin(Stdio::null()).stdout(out).spawn().unwrap();
        let seen = page.wait_for("[data-arrival=yes]", |text| text.contains("auditor connected")).await;
        assert!(seen.contains("3.1.1") && seen.contains("password"), "{seen}");
        wait("it has subscribed", || (service.status()["subscriptions"] == 1).then_some(()));
        service.run(&["publish", LEVEL, "1.85"]).ok();
        wait("the program shows the message", || {
            std::fs::read_to_string(&heard).unwrap().contains(&format!("{LEVEL} 1.85")).then_some(())
        });
        child.kill().unwrap();
        child.wait().unwrap();
        wait("it is gone", || (service.status()["sessions"] == 0).then_some(()));
    }
}
