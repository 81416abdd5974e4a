//! Identities and people.

use std::{
    io::{BufRead, BufReader},
    process::Stdio,
};

use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};

use super::Driver;
use crate::harness::Place;

#[tokio::test]
async fn identities_and_people_are_looked_after() {
    let place = Place::new();
    crate::transports::make_certificates(&place);
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    service.identity("withy-drain", &["kind=station", "reach=meadows"]);
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    let type_into = async |selector: &str, text: &str| {
        let field = page.find(selector).await;
        field.clear().await.unwrap();
        field.send_keys(text).await.unwrap();
    };

    // Found by an attribute, changed, and what is wrong is said.
    page.click("a[href='#/identities']").await;
    page.wait_for("main table", |text| text.contains("withy-drain")).await;
    type_into("input[aria-label='Search identities']", "reach=gorge").await;
    page.wait_for("main table", |text| text.contains("kettle-weir") && !text.contains("withy-drain")).await;
    page.click_text("kettle-weir").await;
    type_into("#identity-attributes", "kind").await;
    page.click_text("Save").await;
    page.wait_for("[role=alert]", |text| text.contains("“kind” is not an attribute")).await;
    type_into("#identity-attributes", "kind=station\nreach=gorge\nsensors=2").await;
    type_into("#identity-certificates", "kettle").await;
    page.click_text("Save").await;
    page.wait_for("[role=alert]", |text| text.contains("\"kettle\" is not a valid certificate match")).await;
    type_into("#identity-certificates", "DNS:Kettle-Weir.example").await;
    page.click_text("Save").await;
    page.wait_for("[role=status]", |text| text == "kettle-weir changed.").await;
    let known = service.run(&["identities", "list", "--json"]).json();
    assert_eq!(known[0]["attributes"], serde_json::json!({ "kind": "station", "reach": "gorge", "sensors": 2.0 }));
    assert_eq!(known[0]["certificates"], serde_json::json!(["dns:kettle-weir.example"]));
    assert_eq!(known[0]["has_password"], true, "what was not typed stays");

    // A token is shown once.
    type_into("input[aria-label='Name of the token']", "visit").await;
    page.click_text("Create token").await;
    let shown = page.wait_for("[data-tokens] [role=status]", |text| text.contains("moor-")).await;
    let token = shown.split_whitespace().last().unwrap();
    let token = place.write("token", token);
    let level = "harrowmere/gorge/kettle-weir/stage/level";
    let arguments = ["publish", level, "1.83", "--as", "kettle-weir", "--password-file", token.to_str().unwrap()];
    service.run(&arguments).ok();
    page.click_text("Revoke").await;
    page.wait_for("[data-tokens]", |text| text.contains("Sessions that authenticated with it end.")).await;
    page.click_text("Revoke").await;
    page.wait_for("[role=status]", |text| text == "Token visit revoked.").await;
    service.run(&arguments).failed();

    // A new one, and away with it: it is asked first.
    type_into("input[aria-label='Search identities']", "-").await;
    page.click_text("New identity").await;
    type_into("#identity-name", "long-acre").await;
    page.click_text("Create").await;
    page.wait_for("[role=status]", |text| text == "long-acre created.").await;
    page.wait_for("main table", |text| text.contains("long-acre") && text.contains("no credential")).await;
    page.click_text("Remove").await;
    page.click_text("Cancel").await;
    assert_eq!(service.run(&["identities", "list", "--json"]).json().as_array().unwrap().len(), 3);
    page.click_text("Remove").await;
    page.click("button.text-wrong").await;
    page.wait_for("[role=status]", |text| text.contains("long-acre removed")).await;

    // An authority from a file.
    let pem = place.path().join("certificates/authority.pem");
    type_into("input[aria-label='Name of the authority']", "trust").await;
    page.find("input[type=file]").await.send_keys(pem.to_str().unwrap()).await.unwrap();
    page.click_text("Add authority").await;
    page.wait_for("[data-authorities]", |text| text.contains("CN=Moorfall authority")).await;

    // People.
    page.click("a[href='#/people']").await;
    page.wait_for("[data-people]", |text| text.contains("No people yet")).await;
    type_into("input[aria-label='Name of the person']", "wren").await;
    type_into("input[aria-label=Password]", "short").await;
    page.click_text("Save").await;
    page.wait_for("[role=alert]", |text| text.contains("at least 10 characters")).await;
    type_into("input[aria-label=Password]", "a-long-night").await;
    page.click_text("Save").await;
    page.wait_for("[role=status]", |text| text == "wren has the watch role.").await;
    page.find("select[aria-label='Role of wren']").await.send_keys("operate").await.unwrap();
    page.wait_for("[role=status]", |text| text == "wren has the operate role.").await;
    let people = service.run(&["people", "list", "--json"]).json();
    assert_eq!((&people[0]["name"], &people[0]["role"]), (&"wren".into(), &"operate".into()));
}

#[tokio::test]
async fn the_link_of_the_demo_signs_in_once() {
    let place = Place::new();
    let data = place.path().join("demo");
    let data = data.to_str().unwrap();
    let arguments = ["demo", "--data", data, "--mqtt", "127.0.0.1:0", "--http", "127.0.0.1:0", "--for", "60s"];
    let mut demo = place.program(&arguments).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let link = BufReader::new(demo.stdout.as_mut().unwrap())
        .lines()
        .find_map(|line| line.unwrap().split_whitespace().find(|word| word.contains("/#/sign-in/")).map(str::to_owned));
    let link = link.unwrap();

    let driver = Driver::start();
    let page = driver.browse().await;
    page.driver.goto(&link).await.unwrap();
    page.find("section[aria-label=Events]").await;
    let address = page.driver.current_url().await.unwrap();
    assert_eq!(address.fragment(), Some("/"), "it does not stay in the address, nor in what the browser remembers");
    page.driver.goto(address.as_str()).await.unwrap();
    page.find("section[aria-label=Events]").await;

    let driver = Driver::start();
    let other = driver.browse().await;
    other.driver.goto(&link).await.unwrap();
    other.wait_for("#refusal", |text| text.contains("link")).await;
    assert!(other.text("section[aria-label=Events]").await.is_empty(), "it is good for once");

    kill(Pid::from_raw(demo.id().try_into().unwrap()), Signal::SIGTERM).unwrap();
    assert!(demo.wait().unwrap().success());
}
