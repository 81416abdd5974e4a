//! The page of bridges: the map, what is said of each, and what they are told.

use moorfall_contract::kinds::LinkState;
use moorfall_links::WeakLink;

use super::{Driver, Page};
use crate::harness::{Place, wait};

/// The names of what the keyboard comes to, in order.
async fn reachable(page: &Page) -> Vec<String> {
    let script = "return [...document.querySelectorAll('[aria-label=\"Map of bridges\"] button')]
        .map((button) => button.getAttribute('aria-label') ?? button.innerText)";
    page.driver.execute(script, vec![]).await.unwrap().convert().unwrap()
}

#[tokio::test]
async fn a_bridge_is_seen_on_the_map_told_what_to_do_and_previewed() {
    let (here, there) = (Place::new(), Place::new());
    let remote = there.serve(&["--open"]);
    let link = WeakLink::start(remote.mqtt).await.unwrap();
    let design = format!(
        "name = \"harrowmere\"\n[[bridges]]\nname = \"tideway\"\npurpose = \"Levels for the barrier\"\n\
         remotes = [\"mqtt://{}\"]\n[[bridges.push]]\nfilter = \"river/#\"\nas = \"harrowmere/#\"\n\
         [[bridges.pull]]\nfilter = \"tide/#\"\n",
        link.address()
    );
    let file = here.write("harrowmere.toml", &design);
    let service = here.serve(&["--open", "--blueprint", file.to_str().unwrap()]);
    let send = |payload: &str| service.run(&["publish", "river/level", payload]).ok().to_owned();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;
    page.driver.goto(format!("{}/#/bridges", service.http)).await.unwrap();
    page.wait_for("[data-bridge=tideway][data-phase=up]", |text| text.contains("up")).await;
    assert_eq!(
        reachable(&page).await,
        [
            "push river/# as harrowmere/#, nothing now, bridge tideway up",
            "pull tide/#, nothing now, bridge tideway up",
            "tideway\n● up"
        ]
    );
    send("1.83");
    let detail = "[data-detail=tideway]";
    page.wait_for(detail, |text| text.contains("Levels for the barrier") && text.contains("1 message,")).await;

    link.set(LinkState::Cut);
    page.wait_for("[data-bridge=tideway][data-phase=down]", |text| text.contains("✕ down")).await;
    let dashed = "return [...document.querySelectorAll('svg path[marker-end]')]
        .every((path) => getComputedStyle(path).strokeDasharray !== 'none')";
    let is_dashed: bool = page.driver.execute(dashed, vec![]).await.unwrap().convert().unwrap();
    assert!(is_dashed, "a link that is down is not told by its colour alone");
    // That it closed the link, or already that it does not take another one.
    let is_told = |text: &str| text.contains("closed") || text.contains("did not accept");
    page.wait_for(&format!("{detail} [role=alert]"), is_told).await;
    send("1.91");
    page.wait_for("[data-bridge=tideway]", |text| text.contains("1 waiting")).await;
    link.set(LinkState::Open);
    page.click_text("Connect anew").await;
    page.wait_for("[data-bridge=tideway][data-phase=up]", |text| !text.contains("waiting")).await;

    page.click_text("Preview").await;
    let preview = page.wait_for("section[aria-label=Preview]", |text| text.contains("→ harrowmere/level")).await;
    assert!(preview.contains("push: 1 of 1 topic here"), "{preview}");
    page.click_text("Pause").await;
    page.wait_for("[data-bridge=tideway][data-phase=paused]", |text| text.contains("‖ paused")).await;
    page.click_text("Resume").await;
    page.wait_for("[data-bridge=tideway][data-phase=up]", |text| text.contains("up")).await;
    // What would take nothing new is asked for twice.
    page.click_text("Drain").await;
    page.click(&format!("{detail} button.border-wrong")).await;
    page.wait_for("[data-bridge=tideway][data-phase=paused]", |text| text.contains("paused")).await;
    wait("it is known who did so", || service.run(&["audit", "--json"]).ok().contains("\"drain\"").then_some(()));
}
