//! Whoever is told of alerts, at their worst: servers that answer anything, or nothing.

use std::{
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    sync::mpsc::{Receiver, Sender, channel},
    thread,
    time::Duration,
};

use serde_json::Value;

use crate::harness::{Place, Service};

const SECRET: &str = "a secret of more than sixteen bytes";

/// Connections that a server of a test takes.
const TAKEN: usize = 20;

/// A server on loopback that does one thing with whoever comes; gives its port.
fn server(serve: impl Fn(TcpStream) + Send + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        for stream in listener.incoming().take(TAKEN).flatten() {
            stream.set_read_timeout(Some(Duration::from_secs(40))).unwrap();
            serve(stream);
        }
    });
    port
}

/// A hook that answers each call with this, once it has read all of it.
fn answers(answer: &'static str) -> u16 {
    server(move |mut stream| {
        call(&stream);
        let _unread = stream.write_all(answer.as_bytes());
    })
}

/// Reads one call: its head and its body.
fn call(stream: &TcpStream) -> (Vec<String>, String) {
    let mut reader = BufReader::new(stream);
    let head: Vec<String> = reader.by_ref().lines().map_while(Result::ok).take_while(|line| !line.is_empty()).collect();
    let length = head.iter().find_map(|line| line.to_lowercase().strip_prefix("content-length: ")?.parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    reader.read_exact(&mut body).unwrap();
    (head, String::from_utf8(body).unwrap())
}

/// A port that nobody listens at.
fn nobody() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// A service with one alert, which tells these contacts by their hooks.
fn serve<'a>(place: &'a Place, hooks: &[(&str, String)], private: bool) -> Service<'a> {
    let secret = place.write("secret", SECRET);
    let secrets: Vec<String> = hooks.iter().map(|(name, _)| format!("{name} = {secret:?}")).collect();
    let config = format!("[notices]\nprivate-addresses = {private}\nhook-secrets = {{ {} }}\n", secrets.join(", "));
    let contacts: String = hooks.iter().map(|(name, hook)| format!("[contacts.{name}]\nhook = {hook:?}\n")).collect();
    start(place, &config, &contacts)
}

/// A service with this configuration, and one alert that tells all of these contacts.
fn start<'a>(place: &'a Place, config: &str, contacts: &str) -> Service<'a> {
    let names = contacts.lines().filter_map(|line| line.strip_prefix("[contacts.")?.strip_suffix(']'));
    let names: Vec<&str> = names.collect();
    let blueprint = format!(
        "name = \"harrowmere\"\n{contacts}\n[[alerts]]\nname = \"queues\"\nmeasure = \"queued\"\nhigh = 1_000\ntell = {names:?}\n"
    );
    let (config, blueprint) = (place.write("couriers.toml", config), place.write("blueprint.toml", &blueprint));
    place.serve(&["--open", "--config", config.to_str().unwrap(), "--blueprint", blueprint.to_str().unwrap()])
}

/// What was answered to whoever was told, by contact, after one attempt each.
fn tell(service: &Service<'_>) -> Vec<(String, String, String)> {
    let ran = service.run(&["alerts", "test", "queues", "--json"]);
    let notices: Value = serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {ran:?}"));
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let mut told: Vec<_> = notices
        .as_array()
        .unwrap()
        .iter()
        .map(|notice| {
            let said = notice["attempts"].as_array().unwrap().last().unwrap().to_string();
            (text(&notice["contact"]), text(&notice["state"]), said)
        })
        .collect();
    told.sort();
    told
}

#[test]
fn whatever_a_hook_does_is_told_in_words_and_holds_up_no_other() {
    let place = Place::new();
    let (calls, called): (Sender<_>, Receiver<_>) = channel();
    let good = server(move |mut stream| {
        calls.send(call(&stream)).unwrap();
        stream.write_all(b"HTTP/1.1 204 No Content\r\n\r\n").unwrap();
    });
    let hooks: Vec<(&str, u16, &str, &str)> = vec![
        ("babbling", answers("river level: high\r\n\r\n"), "given-up", "the connection failed"),
        ("broken", server(drop), "given-up", "the connection failed"),
        ("gone", answers("HTTP/1.1 410 Gone\r\ncontent-length: 0\r\n\r\n"), "given-up", "it wants no more notices"),
        ("good", good, "delivered", "204 No Content"),
        (
            "moved",
            answers("HTTP/1.1 302 Found\r\nlocation: http://127.0.0.1:1/\r\ncontent-length: 0\r\n\r\n"),
            "given-up",
            "302 Found, which is not followed",
        ),
        ("nobody", nobody(), "given-up", "Connection refused"),
        (
            "rude",
            answers("HTTP/1.1 500 No\r\ncontent-length: 16\r\n\r\n\x1b[31mnot\r\ntoday"),
            "given-up",
            "not  today",
        ),
        ("silent", server(|stream| drop(call(&stream))), "given-up", "the connection failed"),
        ("slow", server(|stream| while stream.peek(&mut [0]).is_ok_and(|read| read > 0) {}), "given-up", "within 20 s"),
    ];
    let at: Vec<_> = hooks.iter().map(|(name, port, ..)| (*name, format!("http://127.0.0.1:{port}/duty"))).collect();
    let service = serve(&place, &at, true);
    let told = tell(&service);
    assert_eq!(told.len(), hooks.len(), "{told:#?}");
    for ((name, _, state, words), (contact, became, said)) in hooks.iter().zip(&told) {
        assert_eq!((name, state), (&contact.as_str(), &became.as_str()), "{said}");
        assert!(said.contains(words), "{name}: {said} lacks {words}");
        assert!(!said.contains("\\u001b"), "{said}");
    }
    // The good one was called once, with a signature that the convention asks for.
    let (head, body) = called.try_recv().unwrap();
    assert!(called.try_recv().is_err());
    assert_eq!(head[0], "POST /duty HTTP/1.1");
    for name in ["webhook-id: ", "webhook-timestamp: ", "webhook-signature: v1,", "content-type: application/json"] {
        assert!(head.iter().any(|line| line.starts_with(name)), "{name} is not in {head:#?}");
    }
    let body: Value = serde_json::from_str(&body).unwrap();
    assert_eq!((&body["type"], &body["data"]["alert"]), (&"alert.test".into(), &"queues".into()), "{body}");
    // Nobody but the caller and the file knows the secret.
    assert!(!format!("{head:?}{body}").contains(SECRET));
}

#[test]
fn a_name_that_leads_into_a_private_network_is_not_called() {
    let place = Place::new();
    let (calls, called): (Sender<()>, Receiver<_>) = channel();
    let port = server(move |_| calls.send(()).unwrap());
    let forms = ["127.0.0.1", "localhost", "[::1]", "2130706433", "127.1", "0x7f.1", "[::ffff:127.0.0.1]", "0"];
    let names = ["a", "b", "c", "d", "e", "f", "g", "h"];
    let hooks: Vec<_> = names.iter().zip(forms).map(|(name, host)| (*name, format!("http://{host}:{port}/"))).collect();
    let service = serve(&place, &hooks, false);
    for ((name, hook), (_, state, said)) in hooks.iter().zip(tell(&service)) {
        assert_eq!(state, "given-up", "{name} {hook}: {said}");
        assert!(said.contains("private-addresses = true"), "{name} {hook}: {said}");
    }
    assert!(called.try_recv().is_err(), "one of them was called");
}

/// Plays a mail server that greets with the first line and answers each command with what `answer` gives.
fn mail(greeting: &'static str, answer: fn(&str) -> &'static str) -> (u16, Receiver<String>) {
    let (lines, heard) = channel();
    let port = server(move |stream| {
        let mut writer = stream.try_clone().unwrap();
        let _gone = writer.write_all(greeting.as_bytes());
        for line in BufReader::new(stream).lines().map_while(Result::ok).take(50) {
            let answer = answer(&line);
            let _nobody = lines.send(line);
            if writer.write_all(answer.as_bytes()).is_err() {
                return;
            }
        }
    });
    (port, heard)
}

#[test]
fn nothing_is_told_to_a_mail_server_before_it_is_secure() {
    for (greeting, answer, said) in [
        // It has no STARTTLS, or says so only once it was asked for it.
        ("220 mail\r\n", (|_: &str| "250 mail\r\n") as fn(&str) -> &'static str, "the connection failed"),
        (
            "220 mail\r\n",
            |line| if line.starts_with("EHLO") { "250-mail\r\n250 STARTTLS\r\n" } else { "454 no TLS now\r\n" },
            "454",
        ),
        // It goes on in clear as if it were secure.
        (
            "220 mail\r\n",
            |line| if line.starts_with("EHLO") { "250-mail\r\n250 STARTTLS\r\n" } else { "220 go on\r\n250 ok\r\n" },
            "the connection failed",
        ),
        ("554 go away\r\n", |_| "554 go away\r\n", "554"),
        ("what is it?\r\n", |_| "what?\r\n", "the connection failed"),
        ("", |_| "", "no answer within 20 s"),
    ] {
        let place = Place::new();
        let (port, heard) = mail(greeting, answer);
        let password = place.write("password", "low-water-mark");
        let config = format!(
            "[notices.mail]\nserver = \"127.0.0.1\"\nport = {port}\nuser = \"moorfall\"\npassword-file = {password:?}\n\
             from = \"Moorfall <moorfall@harrowmere.example>\"\n"
        );
        let contacts = "[contacts.duty]\nmail = [\"duty@harrowmere.example\"]\n";
        let service = start(&place, &config, contacts);
        let told = tell(&service);
        assert_eq!((told[0].1.as_str(), told.len()), ("given-up", 1), "{told:?}");
        assert!(told[0].2.contains(said), "{greeting:?}: {told:?}");
        let heard: Vec<String> = heard.try_iter().collect();
        for line in &heard {
            // A greeting, a wish for TLS, and what TLS begins with, which is not text.
            let is_harmless = ["EHLO", "HELO", "STARTTLS", "QUIT"].iter().any(|word| line.starts_with(word));
            let is_text = line.chars().all(|c| c.is_ascii_graphic() || c == ' ');
            assert!(is_harmless || !is_text, "{heard:?}");
        }
        let all = heard.concat().to_uppercase();
        for secret in ["AUTH", "LOW-WATER-MARK", "DUTY@", "MAIL FROM", "QUEUES"] {
            assert!(!all.contains(secret), "{heard:?}");
        }
    }
}
