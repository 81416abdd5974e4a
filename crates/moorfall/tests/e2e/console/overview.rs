//! Signing in, the numbers and the chart, the theme.

use std::time::Duration;

use thirtyfour::By;

use super::{Driver, Page};
use crate::harness::{PATIENCE, Place};

#[tokio::test]
async fn one_signs_in_with_the_secret_and_out_again() {
    let place = Place::new();
    let service = place.serve(&[]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.driver.goto(&service.http).await.unwrap();
    page.find("#secret").await.send_keys("guess").await.unwrap();
    page.click("button[type=submit]").await;
    page.wait_for("#refusal", |text| text.contains("not the administrator's secret")).await;
    page.sign_in(&service).await;
    page.driver.refresh().await.unwrap();
    page.find("section[aria-label=Events]").await;
    page.click_text("Sign out").await;
    page.find("#secret").await;
    page.driver.refresh().await.unwrap();
    page.find("#secret").await;
}

#[tokio::test]
async fn numbers_chart_and_sessions_are_live() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;

    let file = place.write("password", "rotidua");
    let login = ["--as", "auditor", "--password-file", file.to_str().unwrap()];
    let reader = service
        .spawn(&[&["subscribe", "harrowmere/#", "--client-id", "audit-desk"], &login[..]].concat(), "subscribed");
    let refused = service.run(&[&["subscribe", "#", "--client-id", "audit-desk-2"], &login[..]].concat());
    assert_eq!(refused.code, Some(1));
    page.wait_for(&Page::headline("Connected sessions"), |text| text == "1").await;
    page.wait_for(&Page::headline("Refused"), |text| text == "1").await;

    for number in 0..30 {
        service.run(&["publish", "harrowmere/gorge/kettle-weir/stage/level", &number.to_string()]).ok();
    }
    for name in ["Messages in/s", "Messages out/s"] {
        page.wait_for(&Page::headline(name), |text| text.parse::<f64>().is_ok_and(|rate| rate > 0.0)).await;
    }
    page.find("[data-live=true]").await;

    // The chart moves: two pictures of its canvas differ.
    let canvas = "return document.querySelector('canvas').toDataURL()";
    let before: String = page.driver.execute(canvas, vec![]).await.unwrap().convert().unwrap();
    let began = std::time::Instant::now();
    loop {
        let after: String = page.driver.execute(canvas, vec![]).await.unwrap().convert().unwrap();
        if after != before {
            break;
        }
        assert!(began.elapsed() < PATIENCE, "the chart stands still");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }

    page.find("[data-event=subscribed]").await;
    page.driver.goto(format!("{}/#/sessions", service.http)).await.unwrap();
    let row = page.wait_for("[data-client=audit-desk]", |text| text.contains("auditor")).await;
    assert!(row.contains("127.0.0.1:"), "{row}");
    page.click("[data-client=audit-desk] button").await;
    let facts = page.wait_for("section[aria-label=audit-desk]", |text| text.contains("30 messages")).await;
    assert!(facts.contains("MQTT 5.0, Keep Alive") && facts.contains("harrowmere/# at QoS 1"), "{facts}");
    page.click_text("End session").await;
    // Once more, to be sure.
    page.click("section[aria-label=audit-desk] .text-wrong").await;
    assert!(reader.finish().failed().contains("was ended by an administrator"));
    page.wait_for("main", |text| text.contains("1 session ended.") && text.contains("No sessions match.")).await;

    // Nothing that the page did was blocked or failed, but for the look before signing in.
    let complaints: Vec<String> = page
        .driver
        .browser_log()
        .await
        .unwrap()
        .into_iter()
        .map(|entry| entry.message)
        .filter(|message| !message.contains("401"))
        .collect();
    assert_eq!(complaints, Vec::<String>::new());
}

#[tokio::test]
async fn the_theme_is_kept_and_an_open_broker_is_warned_of() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.wait_for("main [role=alert]", |text| text.contains("The broker is open")).await;
    let ground = "return getComputedStyle(document.documentElement).backgroundColor";
    let light: String = page.driver.execute(ground, vec![]).await.unwrap().convert().unwrap();
    page.click_text("Dark").await;
    let dark: String = page.driver.execute(ground, vec![]).await.unwrap().convert().unwrap();
    assert_ne!(light, dark);
    page.driver.refresh().await.unwrap();
    page.find("section[aria-label=Events]").await;
    let kept: String = page.driver.execute(ground, vec![]).await.unwrap().convert().unwrap();
    assert_eq!(kept, dark);
}

#[tokio::test]
async fn a_service_that_goes_away_is_said_and_its_past_is_shown_when_it_is_back() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let http = service.http.trim_start_matches("http://").to_owned();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.find("[data-live=true]").await;
    service.terminate();
    page.wait_for("main", |text| text.contains("The service does not respond")).await;
    page.find("[data-live=false]").await;
    let service = place.serve(&["--open", "--http", &http]);
    page.wait_for("main", |text| !text.contains("The service does not respond")).await;
    page.find("[data-live=true]").await;
    drop(service);
}

/// A button or choice of the panel with the chart.
fn of_chart(text: &str) -> By {
    By::XPath(format!("//section[@aria-label='History']//button[normalize-space()='{text}']"))
}

#[tokio::test]
async fn the_chart_has_other_measures_ranges_and_a_table() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let reader = service.spawn(&["subscribe", "harrowmere/#", "--client-id", "desk"], "subscribed");
    for number in 0..20 {
        service.run(&["publish", "harrowmere/gorge/kettle-weir/stage/level", &number.to_string()]).ok();
    }
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    let panel = "section[aria-label=History]";
    page.wait_for(panel, |text| text.contains("Messages per second. Pale: peaks.") && text.contains("Live")).await;
    // What is drawn can be read, too; a span of ten seconds has to be over for the first row.
    page.click_on(of_chart("Table")).await;
    let table = "section[aria-label=History] table";
    page.wait_for(table, |text| text.contains("In, peak") && text.contains("Out, peak")).await;
    page.wait_for("section[aria-label=History] tbody tr td:nth-child(2)", |text| text.parse::<f64>().is_ok()).await;
    page.click_on(of_chart("Sessions")).await;
    page.wait_for(table, |text| text.contains("Connected") && !text.contains("Out, peak")).await;
    page.wait_for("section[aria-label=History] tbody tr td:nth-child(2)", |text| text == "1").await;
    page.click_on(of_chart("Latency")).await;
    page.wait_for(panel, |text| text.contains("Milliseconds from publisher to receiver")).await;
    page.click_on(of_chart("1 y")).await;
    page.wait_for(panel, |text| text.contains("A point each")).await;
    // A range is laid over another.
    page.click_on(of_chart("24 h")).await;
    page.click("section[aria-label=History] select option:nth-child(3)").await;
    page.wait_for(panel, |text| text.contains("Dashed: the week before.")).await;
    page.wait_for(table, |text| text.contains("Median, before")).await;
    page.click_on(of_chart("Chart")).await;
    page.find("section[aria-label=History] canvas").await;
    // The averages are right from the first minute.
    let notes = page.wait_for("[data-headline='Messages in/s']", |text| text.contains("15 min")).await;
    assert!(notes.contains("1 min") && notes.contains("5 min"), "{notes}");
    drop(reader);
}

#[tokio::test]
async fn events_come_by_themselves_and_are_found() {
    let place = Place::new();
    let service = place.serve(&[]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.execute("location.hash = '/events'", vec![]).await.unwrap();
    page.wait_for("main", |text| text.contains("live")).await;
    let ran = service.run(&["publish", "harrowmere/gorge", "1", "--as", "nobody", "--password-file", "/dev/null"]);
    assert_ne!(ran.code, Some(0));
    service.run(&["identities", "set", "auditor", "--note", "Reads, never writes"]).ok();
    page.wait_for("tr[data-event=identity-changed]", |text| text.contains("identity auditor")).await;
    page.wait_for("main", |text| text.contains("identity changed")).await;
    page.type_into("input[aria-label='Search events']", "auditor").await;
    page.wait_for("tbody", |text| text.contains("identity auditor") && text.lines().count() == 1).await;
    page.type_into("input[aria-label='Search events']", "nothing like this").await;
    page.wait_for("tbody", |text| text.contains("No events match.")).await;
    page.type_into("input[aria-label='Search events']", " ").await;
    page.click("select[aria-label=Kinds] option:nth-child(6)").await;
    page.wait_for("tbody", |text| text.contains("identity auditor") && !text.contains("connected")).await;
    // Of a range of time only what was in it, and nothing comes by itself that is not.
    let choose = |label: &str, at: &str| {
        let field = format!(
            "const field = [...document.querySelectorAll('main label')]\
            .find((label) => label.textContent.trim() === '{label}').querySelector('input');\
            field.value = '{at}'; field.dispatchEvent(new Event('input', {{ bubbles: true }}))"
        );
        page.driver.execute(field, vec![])
    };
    choose("to", "2026-01-01T00:00").await.unwrap();
    page.wait_for("tbody", |text| text.contains("No events match.")).await;
    page.wait_for("main", |text| !text.contains("live")).await;
    choose("to", "").await.unwrap();
    choose("from", "2026-01-01T00:00").await.unwrap();
    page.wait_for("tbody", |text| text.contains("identity auditor")).await;
    choose("from", "2199-01-01T00:00").await.unwrap();
    page.wait_for("tbody", |text| text.contains("No events match.")).await;
}
