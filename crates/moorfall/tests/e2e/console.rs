//! The console in a browser.

use std::{
    io::{BufRead, BufReader},
    os::unix::process::CommandExt,
    process::{Child, Command, Stdio},
    time::Duration,
};

use nix::{
    sys::signal::{Signal, killpg},
    unistd::Pid,
};
use tempfile::TempDir;
use thirtyfour::{
    By, ChromiumLikeCapabilities, DesiredCapabilities, LoggingPrefsLogLevel, WebDriver, prelude::ElementQueryable,
};

use crate::harness::{PATIENCE, Place, Service};

/// Chromium's driver in a process group of its own, which ends with it.
struct Driver {
    child: Child,
    port: u16,
    profile: TempDir,
}

impl Driver {
    fn start() -> Self {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect("chromedriver is installed: `make tools`");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = lines
            .find_map(|line| {
                line.ok()?.split("on port ").nth(1)?.trim_end_matches('.').parse().ok().filter(|port| *port != 0)
            })
            .expect("chromedriver says its port");
        // Its output must be read on, or it stops when the pipe is full.
        std::thread::spawn(move || lines.for_each(drop));
        Self { child, port, profile: TempDir::new().unwrap() }
    }

    /// Opens a browser. It ends with this driver, so the session need not be closed for itself.
    async fn browse(&self) -> Page {
        let mut capabilities = DesiredCapabilities::chrome();
        let profile = format!("--user-data-dir={}", self.profile.path().display());
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,943",
            &profile,
        ] {
            capabilities.add_arg(argument).unwrap();
        }
        capabilities.set_logging_prefs("browser", LoggingPrefsLogLevel::All).unwrap();
        let driver = WebDriver::new(format!("http://127.0.0.1:{}", self.port), capabilities).await.unwrap();
        driver.clone().leak().unwrap();
        Page { driver }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = killpg(Pid::from_raw(self.child.id().try_into().unwrap()), Signal::SIGKILL);
        let _ = self.child.wait();
    }
}

/// A page and what can be done on it.
struct Page {
    driver: WebDriver,
}

impl Page {
    async fn find(&self, selector: &str) -> thirtyfour::WebElement {
        self.driver.query(By::Css(selector)).wait(PATIENCE, Duration::from_millis(50)).first().await.unwrap()
    }

    async fn click(&self, selector: &str) {
        self.find(selector).await.click().await.unwrap();
    }

    async fn click_text(&self, text: &str) {
        let path = format!("//button[normalize-space()='{text}']");
        let query = self.driver.query(By::XPath(&path)).wait(PATIENCE, Duration::from_millis(50));
        query.and_displayed().first().await.unwrap().click().await.unwrap();
    }

    /// Waits until an element's text is as wanted.
    async fn wait_for(&self, selector: &str, wanted: impl Fn(&str) -> bool) -> String {
        let began = std::time::Instant::now();
        loop {
            let text = self.text(selector).await;
            if wanted(&text) {
                return text;
            }
            assert!(began.elapsed() < PATIENCE, "{selector} stays {text:?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }

    /// The text now, empty if the element is not there.
    async fn text(&self, selector: &str) -> String {
        let script = format!("return document.querySelector({selector:?})?.innerText ?? ''");
        self.driver.execute(script, vec![]).await.unwrap().convert().unwrap()
    }

    async fn sign_in(&self, service: &Service<'_>) {
        self.driver.goto(&service.http).await.unwrap();
        self.find("#secret").await.send_keys(service.secret()).await.unwrap();
        self.click("button[type=submit]").await;
        self.find("section[aria-label=Sessions]").await;
    }

    fn headline(name: &str) -> String {
        format!("[data-headline='{name}'] p")
    }
}

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
    page.find("section[aria-label=Sessions]").await;
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
    page.wait_for("main", |text| text.contains("Nobody is connected,")).await;

    let file = place.write("password", "rotidua");
    let login = ["--as", "auditor", "--password-file", file.to_str().unwrap()];
    let reader = service
        .spawn(&[&["subscribe", "harrowmere/#", "--client-id", "audit-desk"], &login[..]].concat(), "subscribed");
    let refused = service.run(&[&["subscribe", "#", "--client-id", "audit-desk-2"], &login[..]].concat());
    assert_eq!(refused.code, Some(1));
    page.wait_for(&Page::headline("Sessions connected"), |text| text == "1").await;
    let row = page.wait_for("tr[data-client=audit-desk]", |text| text.contains("auditor")).await;
    assert!(row.contains("127.0.0.1:") && row.contains("5.0"), "{row}");
    page.wait_for(&Page::headline("Refused"), |text| text == "1").await;

    for number in 0..30 {
        service.run(&["publish", "harrowmere/gorge/kettle-weir/stage/level", &number.to_string()]).ok();
    }
    for name in ["Messages in per second", "Messages out per second"] {
        page.wait_for(&Page::headline(name), |text| text.parse::<f64>().is_ok_and(|rate| rate > 0.0)).await;
    }
    page.wait_for("tr[data-client=audit-desk] td:nth-child(7)", |text| text == "30").await;
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

    page.click("tr[data-client=audit-desk] button").await;
    page.click_text("End session").await;
    page.find("[role=alertdialog]").await;
    page.click("[role=alertdialog] button:last-child").await;
    assert!(reader.finish().failed().contains("the administrator ended the session"));
    page.wait_for(&Page::headline("Sessions connected"), |text| text == "0").await;

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
    page.find("section[aria-label=Sessions]").await;
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
    page.wait_for("main", |text| text.contains("The service does not answer")).await;
    page.find("[data-live=false]").await;
    let service = place.serve(&["--open", "--http", &http]);
    page.wait_for("main", |text| !text.contains("The service does not answer")).await;
    page.find("[data-live=true]").await;
    drop(service);
}

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
    page.wait_for(&format!("tr[data-topic='{level}']"), |text| text.contains("planned")).await;
    page.wait_for("[data-drift]", |text| text.contains(level) && text.contains("not of the schema")).await;
    page.find("input[placeholder^=harrowmere]").await.send_keys("harrowmere/gorge/+/level").await.unwrap();
    page.wait_for("[data-misses]", |text| text.contains("level 4: the filter wants `level`, and there is `stage`"))
        .await;

    // A refused attempt is explained.
    page.click("a[href='#/access']").await;
    page.click("[data-refusals] button").await;
    let verdict = page.wait_for("[data-verdict=refused]", |text| text.contains("decides")).await;
    assert!(
        verdict.contains("No. contractor-pumps may not publish to harrowmere/gorge/kettle-weir/gate/target"),
        "{verdict}"
    );
    page.wait_for("section[aria-label='Who may do what']", |text| text.contains("meadow-pumps")).await;

    // A draft is checked as it is typed; what fails can't be applied.
    page.click("a[href='#/design']").await;
    page.find("[data-sound=true]").await;
    let draft = async |from: &str, to: &str| {
        let script = "const text = document.querySelector('textarea'); \
            text.value = text.value.replace(arguments[0], arguments[1]); \
            text.dispatchEvent(new Event('input', { bubbles: true }));";
        page.driver.execute(script, vec![from.into(), to.into()]).await.unwrap();
    };
    draft("{identity}/gate/position\"", "{identity}/gate/#\"").await;
    page.wait_for("[data-sound=false]", |text| text.contains("stations-give-no-commands: kettle-weir can publish"))
        .await;
    assert!(!page.find("form button").await.is_enabled().await.unwrap());
    draft("{identity}/gate/#\"", "{identity}/gate/position\"").await;
    draft("cadence = \"2m\"", "cadence = \"1m\"").await;
    page.wait_for("[data-changes='1']", |text| text.contains("cadence: 120 s → 60 s")).await;
    page.find("[data-sound=true]").await;
    page.find("input[aria-label=Message]").await.send_keys("Readings every minute").await.unwrap();
    page.click("form button").await;
    page.wait_for("[role=status]", |text| text == "Revision 2 is in force.").await;
    page.click_text("Revert to it").await;
    page.wait_for("[role=status]", |text| text == "Revision 3 is in force.").await;
    assert_eq!(service.status()["revision"], 3);
    page.wait_for("[data-revisions]", |text| text.contains("back to revision 1")).await;

    // An unplanned topic is taken into a draft.
    let notes = format!(
        "{}\n[[rules]]\nname = \"notes\"\nwho = {{ identity = \"kettle-weir\" }}\nmay = [\"publish\"]\ntopics = [\"notes/weir\"]\n",
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
    page.find("section[aria-label=Sessions]").await;
    page.click("a[href='#/design']").await;
    page.find("[data-sound]").await;
    let message = page.find("input[aria-label=Message]").await;
    assert!(!message.is_enabled().await.unwrap() && !page.find("form button").await.is_enabled().await.unwrap());
    // Removed, she is out at the next look.
    service.run(&["people", "remove", "wren"]).ok();
    page.find("#secret").await;
}

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
    page.wait_for("[role=alert]", |text| text.contains("`kettle` can't be what a certificate is known by")).await;
    type_into("#identity-certificates", "DNS:Kettle-Weir.example").await;
    page.click_text("Save").await;
    page.wait_for("[role=status]", |text| text == "kettle-weir is changed.").await;
    let known = service.run(&["identities", "list", "--json"]).json();
    assert_eq!(known[0]["attributes"], serde_json::json!({ "kind": "station", "reach": "gorge", "sensors": 2.0 }));
    assert_eq!(known[0]["certificates"], serde_json::json!(["dns:kettle-weir.example"]));
    assert_eq!(known[0]["has_password"], true, "what was not typed stays");

    // A token is shown once.
    type_into("input[aria-label='Name of the token']", "visit").await;
    page.click_text("Make a token").await;
    let shown = page.wait_for("[data-tokens] [role=status]", |text| text.contains("moor-")).await;
    let token = shown.split_whitespace().last().unwrap();
    let token = place.write("token", token);
    let level = "harrowmere/gorge/kettle-weir/stage/level";
    let arguments = ["publish", level, "1.83", "--as", "kettle-weir", "--password-file", token.to_str().unwrap()];
    service.run(&arguments).ok();
    page.click_text("Revoke").await;
    page.wait_for("[data-tokens]", |text| text.contains("Sessions that rest on it end.")).await;
    page.click_text("Revoke").await;
    page.wait_for("[role=status]", |text| text == "The token visit is revoked.").await;
    service.run(&arguments).failed();

    // A new one, and away with it: it is asked first.
    type_into("input[aria-label='Search identities']", "-").await;
    page.click_text("New").await;
    type_into("#identity-name", "long-acre").await;
    page.click_text("Make").await;
    page.wait_for("[role=status]", |text| text == "long-acre is made.").await;
    page.wait_for("main table", |text| text.contains("long-acre") && text.contains("no credential")).await;
    page.click_text("Remove").await;
    page.click_text("Don’t").await;
    assert_eq!(service.run(&["identities", "list", "--json"]).json().as_array().unwrap().len(), 3);
    page.click_text("Remove").await;
    page.click("button.text-wrong").await;
    page.wait_for("[role=status]", |text| text.contains("long-acre is removed")).await;

    // An authority from a file.
    let pem = place.path().join("certificates/authority.pem");
    type_into("input[aria-label='Name of the authority']", "trust").await;
    page.find("input[type=file]").await.send_keys(pem.to_str().unwrap()).await.unwrap();
    page.click_text("Trust it").await;
    page.wait_for("[data-authorities]", |text| text.contains("CN=Moorfall authority")).await;

    // People.
    page.click("a[href='#/people']").await;
    page.wait_for("[data-people]", |text| text.contains("Nobody yet")).await;
    type_into("input[aria-label='Name of the person']", "wren").await;
    type_into("input[aria-label=Password]", "short").await;
    page.click_text("Make or change").await;
    page.wait_for("[role=alert]", |text| text.contains("at least ten characters")).await;
    type_into("input[aria-label=Password]", "a-long-night").await;
    page.click_text("Make or change").await;
    page.wait_for("[role=status]", |text| text == "wren has the role watch.").await;
    page.find("select[aria-label='Role of wren']").await.send_keys("operate").await.unwrap();
    page.wait_for("[role=status]", |text| text == "wren has the role operate.").await;
    let people = service.run(&["people", "list", "--json"]).json();
    assert_eq!((&people[0]["name"], &people[0]["role"]), (&"wren".into(), &"operate".into()));
}

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
    page.click("button[title='Choose all below harrowmere/gorge/old-mill']").await;
    page.wait_for("[data-choice]", |text| text.contains("1 chosen")).await;
    page.click_text("Clear").await;
    page.wait_for("[data-choice]", |text| text.contains("Exactly these 1 go")).await;
    assert_eq!(service.status()["retained"], 3);
    page.click("[data-choice] button.text-wrong").await;
    page.wait_for("[data-cleared]", |text| text.contains(old)).await;
    assert_eq!(service.status()["retained"], 2);

    // What would become of a message.
    page.click("a[href='#/journey']").await;
    page.find("input[aria-label=Topic]").await.send_keys("harrowmere/gorge/kettle-weir/gate/target").await.unwrap();
    page.find("input[aria-label=Payload]").await.send_keys("much").await.unwrap();
    page.click_text("Follow it").await;
    page.wait_for("[data-step=Access]", |text| text.contains("no rule limits administrator")).await;
    page.find("[data-step=Plan]").await;
    page.wait_for("[data-recipients]", |text| text.contains("Nobody")).await;
    page.click("a[href='#/retained']").await;
    page.wait_for("[data-cleared]", |text| text.contains(old)).await;

    // All that is listed, and back.
    let filter = page.find("input[aria-label='Topic filter']").await;
    filter.clear().await.unwrap();
    filter.send_keys("harrowmere/+/+/status").await.unwrap();
    page.wait_for("main table", |text| text.contains("nine-arches") && text.contains("kettle-weir")).await;
    page.click("input[aria-label='Choose all that is listed']").await;
    page.wait_for("[data-choice]", |text| text.contains("2 chosen")).await;
    page.click_text("Clear").await;
    page.click("[data-choice] button.text-wrong").await;
    page.wait_for("[data-cleared]", |text| text.contains("2 topics")).await;
    service.run(&["publish", "harrowmere/gorge/kettle-weir/status", "offline", "--retain"]).ok();
    page.click("[data-cleared] button").await;
    page.wait_for("[data-choice] [role=status]", |text| text.contains("1 brought back; 1 had a new one meanwhile"))
        .await;
    assert_eq!(service.status()["retained"], 2);
}
