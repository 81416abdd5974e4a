//! The blueprint and who may change it.

use super::Driver;
use crate::harness::Place;

#[tokio::test]
async fn the_design_is_looked_at_changed_and_taken_back() {
    let place = Place::new();
    let service = place.serve_catchment();
    for (name, attributes) in [
        ("kettle-weir", &["kind=station", "reach=gorge"][..]),
        ("contractor-pumps", &["kind=contractor", "operator=fenwater"]),
    ] {
        service.identity(name, attributes);
    }
    let level = "harrowmere/gorge/kettle-weir/stage/level";
    let weir = place.write("weir", "riew-elttek");
    let weir = ["--as", "kettle-weir", "--password-file", weir.to_str().unwrap()];
    service.run(&[&["publish", level, "1.83", "--qos", "1"][..], &weir].concat()).ok();
    let pumps = place.write("pumps", "spmup-rotcartnoc");
    let gate = "harrowmere/gorge/kettle-weir/gate/target";
    let arguments = ["publish", gate, "90", "--as", "contractor-pumps", "--password-file", pumps.to_str().unwrap()];
    service.run(&arguments).failed();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.sign_in(&service).await;

    // The hierarchy, level by level; a filter; and what breaks the plan.
    page.click("a[href='#/topics']").await;
    page.click("tr[data-topic=harrowmere] button").await;
    page.click("tr[data-topic='harrowmere/gorge'] button").await;
    page.click("tr[data-topic='harrowmere/gorge/kettle-weir'] button").await;
    page.click("tr[data-topic='harrowmere/gorge/kettle-weir/stage'] button").await;
    page.wait_for(&format!("tr[data-topic='{level}']"), |text| text.contains("yes")).await;
    page.wait_for("[data-drift]", |text| text.contains(level) && text.contains("violates the schema")).await;
    page.find("input[placeholder^=harrowmere]").await.send_keys("harrowmere/gorge/+/level").await.unwrap();
    page.wait_for("[data-misses]", |text| text.contains("level 4: expected level, found stage")).await;

    // A refused attempt is explained.
    page.click("a[href='#/access']").await;
    page.click("[data-refusals] button").await;
    let verdict = page.wait_for("[data-verdict=refused]", |text| text.contains("decides")).await;
    assert!(
        verdict.contains(
            "Not allowed. contractor-pumps is not allowed to publish to harrowmere/gorge/kettle-weir/gate/target"
        ),
        "{verdict}"
    );
    page.wait_for("section[aria-label='Access matrix']", |text| text.contains("meadow-pumps")).await;

    // A draft is checked as it is typed; what fails can't be applied.
    page.click("a[href='#/design']").await;
    page.find("[data-ready=true]").await;
    let draft = async |from: &str, to: &str| {
        let script = "const text = document.querySelector('textarea'); \
            text.value = text.value.replace(arguments[0], arguments[1]); \
            text.dispatchEvent(new Event('input', { bubbles: true }));";
        page.driver.execute(script, vec![from.into(), to.into()]).await.unwrap();
    };
    draft("{identity}/gate/position\"", "{identity}/gate/#\"").await;
    page.wait_for("[data-ready=false]", |text| text.contains("stations-give-no-commands: kettle-weir can publish"))
        .await;
    assert!(!page.find("form button").await.is_enabled().await.unwrap());
    draft("{identity}/gate/#\"", "{identity}/gate/position\"").await;
    draft("cadence = \"2m\"", "cadence = \"1m\"").await;
    page.wait_for("[data-changes='1']", |text| text.contains("cadence: 2 min → 60 s")).await;
    page.find("[data-ready=true]").await;
    page.find("input[aria-label=Message]").await.send_keys("Readings every minute").await.unwrap();
    page.click("form button").await;
    page.wait_for("[role=status]", |text| text == "Revision 2 is in force.").await;
    page.click_text("Revert to this").await;
    page.wait_for("[role=status]", |text| text == "Revision 3 is in force.").await;
    assert_eq!(service.status()["revision"], 3);
    page.wait_for("[data-revisions]", |text| text.contains("Revert to revision 1")).await;

    // Somebody else is faster: it is said, and still stands there when the list of revisions has come.
    draft("cadence = \"2m\"", "cadence = \"3m\"").await;
    page.wait_for("[data-changes='1']", |text| text.contains("cadence: 2 min → 3 min")).await;
    service.run(&["blueprint", "revert", "2"]).ok();
    page.click("form button").await;
    page.wait_for("[data-revisions]", |text| text.contains("Revert to revision 2")).await;
    page.wait_for("[role=alert]", |text| text.contains("Revision 4 is in force")).await;
    assert_eq!(service.status()["revision"], 4);

    // An unplanned topic is taken into a draft.
    let notes = format!(
        "{}\n[[rules]]\nname = \"notes\"\nwho = {{ identity = \"kettle-weir\" }}\nmay = [\"publish\"]\ntopics = \
         [\"notes/weir\"]\n",
        crate::harness::BLUEPRINT
    );
    let file = place.write("notes.toml", &notes);
    service.run(&["blueprint", "apply", file.to_str().unwrap()]).ok();
    service.run(&[&["publish", "notes/weir", "all is well", "--qos", "1"][..], &weir].concat()).ok();
    page.click("a[href='#/topics']").await;
    page.click("a[href='#/design?plan=notes%2Fweir']").await;
    page.wait_for("[data-changes='1']", |text| text.contains("topic notes/weir")).await;

    page.click("a[href='#/audit']").await;
    page.wait_for("main", |text| text.contains("revert design") && text.contains("put identity")).await;
}

#[tokio::test]
async fn a_person_who_may_look_only_can_t_change_the_design() {
    let place = Place::new();
    let service = place.serve_catchment();
    let password = place.write("password", "a-long-night");
    let arguments = ["people", "set", "wren", "--role", "watch", "--password-file", password.to_str().unwrap()];
    service.run(&arguments).ok();
    let chromium = Driver::start();
    let page = chromium.browse().await;
    page.driver.goto(&service.http).await.unwrap();
    page.find("#name").await.send_keys("wren").await.unwrap();
    page.find("#secret").await.send_keys("a-long-night").await.unwrap();
    page.click("button[type=submit]").await;
    page.find("section[aria-label=Events]").await;
    page.click("a[href='#/design']").await;
    page.find("[data-ready]").await;
    let message = page.find("input[aria-label=Message]").await;
    assert!(!message.is_enabled().await.unwrap() && !page.find("form button").await.is_enabled().await.unwrap());
    // Removed, she is out at the next look.
    service.run(&["people", "remove", "wren"]).ok();
    page.find("#secret").await;
}
