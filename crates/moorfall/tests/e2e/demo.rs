//! The demo.

use std::{
    io::{BufRead, BufReader, Read},
    process::Stdio,
};

use crate::harness::{Place, database_pid, wait};

#[test]
fn the_demo_runs_the_catchment_and_ends_by_itself() {
    let place = Place::new();
    let data = place.path().join("demo");
    let data_text = data.to_str().unwrap();
    let arguments = ["demo", "--data", data_text, "--mqtt", "127.0.0.1:0", "--http", "127.0.0.1:0", "--for", "50s"];
    let mut child = place.program(&arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let told: Vec<String> = lines.by_ref().take(13).map(Result::unwrap).collect();
    let text = told.join("\n");
    for part in [
        "Console  http://127.0.0.1:",
        "/#/sign-in/",
        "administrator.secret",
        "MQTT     mqtt://127.0.0.1:",
        "Barrier  http://127.0.0.1:",
        " subscribe ",
        " publish ",
    ] {
        assert!(text.contains(part), "{text}");
    }

    wait("the stations are connected", || {
        let status = place.run(&["status", "--json"]).json();
        (status["sessions"].as_u64().unwrap() >= 16).then_some(())
    });
    let levels = place.run(&["subscribe", "harrowmere/+/+/stage/level", "--take", "12"]);
    assert!(levels.ok().lines().all(|line| line.contains("/stage/level {\"m\":")), "{levels:?}");
    let statuses = place.run(&["subscribe", "harrowmere/+/+/status", "--take", "12"]);
    assert!(statuses.ok().lines().all(|line| line.contains("(retained) o")), "{statuses:?}");

    let target = "harrowmere/gorge/kettle-weir/gate/target";
    assert!(place.run(&["publish", target, r#"{"percent": 40}"#, "--qos", "1"]).ok().ends_with("acknowledged\n"));
    let answer = place.run(&["request", target, "40", "--within", "5s"]);
    assert!(answer.ok().contains("{\"percent\":40.0}"), "{answer:?}");
    let moved = place.run(&["subscribe", "harrowmere/gorge/kettle-weir/gate/position", "--take", "3"]);
    assert!(moved.ok().contains("\"target\":40"), "{moved:?}");
    let password = data.join("passwords/auditor");
    let refused =
        place.run(&["publish", target, "90", "--as", "auditor", "--password-file", password.to_str().unwrap()]);
    assert!(refused.failed().contains("rule `auditor-never-writes` denies it"), "{refused:?}");

    // The link to the barrier is cut, what is meant for it waits, and it goes there when the link is back.
    let bridge = || place.run(&["bridge", "show", "tideway", "--json"]).json();
    wait("levels go to the barrier and the tide comes from there", || {
        let view = bridge();
        (view["pushed"]["acknowledged"].as_u64()? > 5 && view["pulled"]["messages"].as_u64()? > 2).then_some(())
    });
    assert!(place.run(&["bridge", "demo-link", "cut"]).ok().contains("The link is cut"));
    wait("levels wait", || (bridge()["waiting"]["messages"].as_u64()? > 10).then_some(()));
    place.run(&["bridge", "demo-link", "open"]).ok();
    let drained = wait("nothing waits any more", || {
        let view = bridge();
        (view["phase"] == "up" && view["waiting"]["messages"].as_u64()? < 5).then_some(view)
    });
    assert_eq!(drained["dropped"], serde_json::json!({}), "{drained}");

    let recorded = place.run(&["recording", "start", "harrowmere/gorge/+/stage/level", "--for", "3s", "--json"]);
    assert!(recorded.ok().contains("\"acknowledged\"") && recorded.out.contains("duty-desk"), "{recorded:?}");
    let level = place.run(&["topics", "show", "harrowmere/gorge/kettle-weir/stage/level", "--json"]).json();
    assert!(!level["about"]["numbers"].as_array().unwrap().is_empty(), "{level}");
    let secret = std::fs::read_to_string(data.join("administrator.secret")).unwrap();
    let http = told.iter().find_map(|line| line.split_once("Console  ")).unwrap().1;
    let link = told.iter().find_map(|line| line.split_once("/#/sign-in/")).unwrap().1;
    let link = link.split_whitespace().next().unwrap();
    let setups = format!("{http}/api/v1/desk/setups");
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let setups = runtime.block_on(async {
        let body = serde_json::json!({ "link": link });
        for status in [reqwest::StatusCode::NO_CONTENT, reqwest::StatusCode::UNAUTHORIZED] {
            let sign_in = reqwest::Client::new().post(format!("{http}/api/v1/console-session")).json(&body);
            assert_eq!(sign_in.send().await.unwrap().status(), status, "it signs in once");
        }
        let asked = reqwest::Client::new().get(setups).bearer_auth(secret.trim()).send().await.unwrap();
        asked.json::<serde_json::Value>().await.unwrap()
    });
    assert_eq!(setups[0]["clients"][0]["identity"], "duty-desk", "{setups}");

    assert!(child.wait().unwrap().success());
    assert_eq!(lines.count(), 0, "no more than these lines");
    let mut err = String::new();
    child.stderr.take().unwrap().read_to_string(&mut err).unwrap();
    assert!(!err.contains("panicked") && !err.contains("ERROR"), "{err}");
    assert_eq!(database_pid(&data), None, "nothing is left running");
}
