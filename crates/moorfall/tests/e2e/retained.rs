//! Retained messages by command and API, of this service and as of any broker.

use reqwest::Method;
use serde_json::{Value, json};

use crate::{
    api::signed,
    harness::{Place, Service, wait},
};

fn status(station: &str) -> String {
    format!("harrowmere/gorge/{station}/status")
}

/// A service with some retained messages, and its address as a remote.
fn filled(place: &Place) -> (Service<'_>, String) {
    let service = place.serve(&["--open"]);
    for (station, state) in [("kettle-weir", "online"), ("nine-arches", "offline"), ("otter-pool", "online")] {
        service.run(&["publish", &status(station), state, "--retain"]).ok();
    }
    service
        .run(&["publish", "harrowmere/forecast/gorge", "{\"m\": 1.9}", "--retain", "--expiry", "1h", "--qos", "2"])
        .ok();
    let remote = format!("mqtt://{}", service.mqtt);
    (service, remote)
}

#[test]
fn retained_messages_are_listed_and_shown_alike_here_and_elsewhere() {
    let place = Place::new();
    let (service, remote) = filled(&place);
    let own = service.run(&["retained", "list"]);
    assert!(own.ok().contains("AGE") && own.out.contains("4 retained messages"), "{own:?}");
    let other = service.run(&["retained", "list", "--remote", &remote]);
    assert!(!other.ok().contains("AGE") && other.out.contains("4 retained messages"), "{other:?}");
    assert!(other.out.contains("EXPIRES IN") && other.out.contains("{\"m\": 1.9}"), "{other:?}");
    for more in [&[][..], &["--remote", &remote]] {
        let list =
            service.run(&[&["retained", "list", "harrowmere/+/+/status", "--json", "--limit", "2"][..], more].concat());
        let list = list.json();
        assert_eq!((&list["total"], list["retained"].as_array().unwrap().len()), (&3.into(), 2), "{list}");
        assert_eq!(list["retained"][0]["topic"], status("kettle-weir"));
        let largest = service.run(&[&["retained", "list", "--sort", "size", "--json"][..], more].concat()).json();
        assert_eq!(largest["retained"][0]["topic"], "harrowmere/forecast/gorge");
        let shown = service
            .run(&[&["retained", "show", "harrowmere/forecast/gorge", "--payload-as", "json"][..], more].concat());
        assert!(shown.ok().contains("\"m\": 1.9") && shown.out.contains("Expires in"), "{shown:?}");
        let missing = service.run(&[&["retained", "show", "harrowmere/nothing"][..], more].concat());
        assert!(missing.failed().contains("has no retained message"), "{missing:?}");
    }
    let ages = service.run(&["retained", "list", "--sort", "age", "--remote", &remote]);
    assert!(ages.failed().contains("do not report the age"), "{ages:?}");
    assert_eq!(service.run(&["retained", "list", "nothing/#"]).ok(), "no retained messages match nothing/#\n");
}

#[test]
fn clearing_says_what_goes_and_what_came_back() {
    for is_remote in [false, true] {
        let place = Place::new();
        let (service, remote) = filled(&place);
        let more: &[&str] = if is_remote { &["--remote", &remote] } else { &[] };
        let clear = |options: &[&str]| {
            service.run(&[&["retained", "clear", "harrowmere/+/+/status"][..], options, more].concat())
        };
        let dry = clear(&["--dry-run"]);
        assert!(
            dry.ok().contains("3 retained messages would be cleared") && dry.out.contains(&status("otter-pool")),
            "{dry:?}"
        );
        assert!(clear(&[]).failed().contains("Use --yes"), "nothing is cleared unasked");
        assert_eq!(service.status()["retained"], 4, "nothing has gone yet");

        // A station that says that it is online as soon as it sees that its status is gone.
        let kettle = status("kettle-weir");
        let watching = service.spawn(&["subscribe", &kettle, "--only", "new", "--take", "1", "--json"], "subscribed");
        let cleared = clear(&["--yes"]);
        assert!(cleared.ok().ends_with("3 retained messages cleared\n"), "{cleared:?}");
        assert_eq!(watching.finish().json()["payload"], "", "who subscribes is told");
        assert_eq!(service.status()["retained"], 1);
        let again = clear(&["--yes", "--json"]).json();
        assert_eq!(again, json!({ "cleared": 0, "came_back": [] }));
    }
}

#[test]
fn retained_messages_move_from_one_broker_to_another() {
    let (here, there) = (Place::new(), Place::new());
    let (service, remote) = filled(&here);
    let file = here.path().join("kept.jsonl");
    let file = file.to_str().unwrap();
    assert!(service.run(&["retained", "export", file]).ok().contains("4 retained messages in"));
    assert!(service.run(&["retained", "export", file]).failed().contains("File exists"));
    let other = there.serve(&["--open"]);
    let target = format!("mqtt://{}", other.mqtt);
    let dry = other.run(&["retained", "import", file, "--dry-run"]);
    assert!(dry.ok().contains("4 retained messages would be published"));
    let done = other.run(&["retained", "import", file, "--remote", &target]);
    assert_eq!(done.ok(), "4 of 4 retained messages published\n");
    let lines = |remote: &str| {
        let exported = here.run(&["retained", "export", "-", "--remote", remote]);
        let lines: Vec<Value> = exported.ok().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        lines
            .into_iter()
            .map(|mut line| {
                line["expiry_seconds"].take();
                line
            })
            .collect::<Vec<_>>()
    };
    assert_eq!(lines(&remote), lines(&target));
    for (text, words) in [
        ("{\"topic\": \"a\", \"qos\": 1}", "either payload or payload_base64"),
        ("{\"topic\": \"a/#\", \"qos\": 1, \"payload\": \"x\"}", "line 1"),
        ("{\"topic\": \"a\", \"qos\": 1, \"payload\": \"\"}", "would clear the topic"),
        ("nonsense", "line 1"),
    ] {
        let wrong = here.write("wrong.jsonl", text);
        let refused = other.run(&["retained", "import", wrong.to_str().unwrap()]);
        assert!(refused.failed().contains(words), "{refused:?}");
    }
}

#[tokio::test]
async fn the_api_clears_what_is_named_and_brings_it_back() {
    let place = Place::new();
    let (service, _) = filled(&place);
    let post = async |call: &str, body: Value| {
        let answer = signed(&service, Method::POST, call).json(&body).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    let named = [status("kettle-weir"), status("nine-arches"), "harrowmere/nothing".into()];
    let (_, cleared) = post("retained/clear", json!({ "topics": named })).await;
    assert_eq!(cleared["topics"], json!([status("kettle-weir"), status("nine-arches")]));
    service.run(&["publish", &status("kettle-weir"), "back", "--retain"]).ok();
    let (_, restored) = post("retained/restore", json!({ "restore_key": cleared["restore_key"] })).await;
    assert_eq!(restored, json!({ "restored": 1, "kept": 1 }));
    let list = service.run(&["retained", "list", "harrowmere/gorge/+/status", "--json"]).json();
    let previews: Vec<_> = list["retained"].as_array().unwrap().iter().map(|one| one["preview"].clone()).collect();
    assert_eq!(previews, ["back", "offline", "online"], "what has come since stays");
    assert_eq!(
        post("retained/restore", json!({ "restore_key": cleared["restore_key"] })).await.0,
        404,
        "it is brought back once"
    );
    assert_eq!(post("retained/clear", json!({ "topics": ["a/#"] })).await.0, 422);
    assert_eq!(post("retained/clear", json!({ "topics": [] })).await.0, 422);
    let audited = service.run(&["audit", "--json"]).json();
    assert_eq!((&audited[0]["act"], &audited[1]["act"]), (&"restore".into(), &"clear".into()), "{audited}");
    assert_eq!(audited[1]["before"]["topics"], cleared["topics"]);

    // What was cleared stays so, and what came back stays, when the service starts again.
    service.terminate();
    let service = place.serve(&["--open"]);
    wait("all is read back", || (service.status()["retained"] == 4).then_some(()));
}
