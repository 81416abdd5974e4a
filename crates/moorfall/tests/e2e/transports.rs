//! The same protocol over TCP, TLS and WebSocket; certificates; what a stranger may do to each.

use std::{
    io::{Read, Write},
    net::{SocketAddr, TcpStream},
    path::Path,
    sync::Arc,
};

use moorfall_wire::*;
use rustls::{
    ClientConfig, ClientConnection, RootCertStore, StreamOwned, SupportedProtocolVersion,
    pki_types::{CertificateDer, PrivateKeyDer, ServerName, pem::PemObject},
};

use crate::{
    harness::{PATIENCE, Place, Service, wait},
    peer::{Peer, V5, V311, connect, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// Makes an authority, the certificate of a listener and that of a device, in `certificates`.
pub(crate) fn make_certificates(place: &Place) {
    let secret = place.write("passphrase", "moor-water\n");
    let (folder, secret) = (place.path().join("certificates"), secret.to_str().unwrap().to_owned());
    let folder = folder.to_str().unwrap();
    let made = place.run(&["cert", "authority", "--folder", folder, "--passphrase-file", &secret]);
    assert!(made.ok().contains("protected by the passphrase"), "{made:?}");
    let common = ["--folder", folder, "--passphrase-file", &secret];
    place.run(&[&["cert", "server", "--host", "localhost", "--host", "127.0.0.1"], &common[..]].concat()).ok();
    place.run(&[&["cert", "device", "kettle-weir"], &common[..]].concat()).ok();
}

/// A service with one listener of each transport, and one that wants client certificates.
fn serve_all<'a>(place: &'a Place, more: &str) -> Service<'a> {
    let folder = place.path().join("certificates");
    let folder = folder.display();
    let listener = |name: &str, transport: &str, tls: &str| {
        format!("[[listeners]]\nname = \"{name}\"\naddress = \"127.0.0.1:0\"\ntransport = \"{transport}\"\n{tls}\n")
    };
    let tls = format!("[listeners.tls]\ncertificate = \"{folder}/server.pem\"\nkey = \"{folder}/server.key\"");
    let mutual =
        format!("{tls}\nclient-certificates = \"required\"\nclient-authorities = [\"{folder}/authority.pem\"]");
    let text = [
        listener("plain", "tcp", ""),
        listener("guarded", "tls", &tls),
        listener("web", "websocket", ""),
        listener("guarded-web", "secure-websocket", &tls),
        listener("mutual", "tls", &mutual),
        more.to_owned(),
    ]
    .concat();
    let file = place.write("moorfall.toml", &text);
    place.serve_as_configured(&["--config", file.to_str().unwrap(), "--open"])
}

pub(crate) fn tls(
    address: SocketAddr,
    place: &Place,
    device: Option<&str>,
    versions: &[&'static SupportedProtocolVersion],
) -> StreamOwned<ClientConnection, TcpStream> {
    let folder = place.path().join("certificates");
    let mut roots = RootCertStore::empty();
    roots.add(certificate(&folder.join("authority.pem"))).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(versions)
        .unwrap()
        .with_root_certificates(roots);
    let config = match device {
        None => builder.with_no_client_auth(),
        Some(name) => {
            let key = PrivateKeyDer::from_pem_file(folder.join(format!("{name}.key"))).unwrap();
            builder.with_client_auth_cert(vec![certificate(&folder.join(format!("{name}.pem")))], key).unwrap()
        }
    };
    let name = ServerName::try_from("localhost").unwrap();
    let connection = ClientConnection::new(Arc::new(config), name).unwrap();
    let stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    StreamOwned::new(connection, stream)
}

fn certificate(path: &Path) -> CertificateDer<'static> {
    CertificateDer::from_pem_file(path).unwrap()
}

pub(crate) const BOTH: &[&SupportedProtocolVersion] = &[&rustls::version::TLS13, &rustls::version::TLS12];

/// A client's WebSocket: one frame for each write, and what comes put together.
struct Web<S> {
    inner: S,
    received: Vec<u8>,
    /// Contents of data frames that were not read yet.
    contents: Vec<u8>,
    /// Bytes in one frame at most, to cut packets in pieces.
    cut: usize,
    closed: Option<u16>,
}

impl<S: Read + Write> Web<S> {
    fn open(mut inner: S, path: &str, more: &str) -> Result<Self, String> {
        let request = format!(
            "GET {path} HTTP/1.1\r\nHost: localhost:1\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\
             Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Version: 13\r\n{more}\r\n"
        );
        inner.write_all(request.as_bytes()).unwrap();
        let mut answer = Vec::new();
        while !answer.ends_with(b"\r\n\r\n") {
            let mut byte = [0];
            if inner.read(&mut byte).unwrap_or(0) == 0 {
                break;
            }
            answer.push(byte[0]);
        }
        let answer = String::from_utf8(answer).unwrap();
        if !answer.starts_with("HTTP/1.1 101") {
            return Err(answer);
        }
        // The example of RFC 6455, section 1.3.
        let lower = answer.to_lowercase();
        assert!(lower.contains("sec-websocket-accept: s3pplmbitxaq9kygzzhzrbk+xoo="), "{answer}");
        assert!(lower.contains("sec-websocket-protocol: mqtt"), "{answer}");
        Ok(Self { inner, received: Vec::new(), contents: Vec::new(), cut: usize::MAX, closed: None })
    }

    fn frame(&mut self, first: u8, payload: &[u8]) {
        let mut bytes = vec![first];
        match payload.len() {
            short @ 0..126 => bytes.push(0x80 | short as u8),
            long => bytes.extend([0x80 | 126, (long >> 8) as u8, long as u8]),
        }
        let mask = [1, 2, 3, 4];
        bytes.extend(mask);
        bytes.extend(payload.iter().enumerate().map(|(at, byte)| byte ^ mask[at % 4]));
        self.inner.write_all(&bytes).unwrap();
    }
}

impl<S: Read + Write> Write for Web<S> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let count = bytes.len().min(self.cut).min(60_000);
        self.frame(0x82, &bytes[..count]);
        Ok(count)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

impl<S: Read + Write> Read for Web<S> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        while self.contents.is_empty() && self.closed.is_none() {
            if let [first, length, rest @ ..] = &self.received[..] {
                let (length, rest) = match (length, rest) {
                    (126, [a, b, rest @ ..]) => (usize::from(*a) << 8 | usize::from(*b), Some(rest)),
                    (126.., _) => (0, None),
                    (short, rest) => (usize::from(*short), Some(rest)),
                };
                if let Some(rest) = rest.filter(|rest| rest.len() >= length) {
                    let (payload, after) = rest.split_at(length);
                    match first & 0x0f {
                        8 => self.closed = Some(u16::from_be_bytes([payload[0], payload[1]])),
                        10 => assert_eq!(payload, b"are you there"),
                        _ => self.contents.extend_from_slice(payload),
                    }
                    self.received = after.to_vec();
                    continue;
                }
            }
            let mut bytes = [0; 4096];
            match self.inner.read(&mut bytes)? {
                0 => return Ok(0),
                count => self.received.extend_from_slice(&bytes[..count]),
            }
        }
        let count = self.contents.len().min(out.len());
        out[..count].copy_from_slice(&self.contents[..count]);
        self.contents.drain(..count);
        Ok(count)
    }
}

const SUB_PROTOCOL: &str = "Sec-WebSocket-Protocol: chat, mqtt\r\n";

fn tcp(address: SocketAddr) -> TcpStream {
    let stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream
}

/// Signs in, and goes through a handshake at QoS 2 with a large message.
fn converse(peer: &mut Peer) {
    peer.sign_in();
    peer.subscribe(LEVEL, QoS::ExactlyOnce);
    let payload = vec![b'x'; 200_000];
    peer.send(&Packet::Publish(publish(LEVEL, payload.clone(), QoS::ExactlyOnce)));
    let mut arrived = None;
    for _ in 0..2 {
        match peer.receive() {
            Some(Packet::PubRec(ack)) => peer.send(&Packet::PubRel(ack)),
            Some(Packet::Publish(publish)) => arrived = Some(publish),
            other => panic!("{other:?}"),
        }
    }
    while arrived.is_none() {
        match peer.receive() {
            Some(Packet::Publish(publish)) => arrived = Some(publish),
            Some(Packet::PubComp(_)) => {}
            other => panic!("{other:?}"),
        }
    }
    assert_eq!(arrived.unwrap().payload, payload);
}

#[test]
fn both_versions_are_spoken_over_every_transport() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    for version in [V311, V5] {
        converse(&mut Peer::over(tcp(service.listener("plain")), version));
        for tls_version in BOTH {
            let stream = tls(service.listener("guarded"), &place, None, &[tls_version]);
            converse(&mut Peer::over(stream, version));
        }
        let web = Web::open(tcp(service.listener("web")), "/any", SUB_PROTOCOL).unwrap();
        converse(&mut Peer::over(web, version));
        let http = service.http.trim_start_matches("http://").parse().unwrap();
        converse(&mut Peer::over(Web::open(tcp(http), "/mqtt", SUB_PROTOCOL).unwrap(), version));
        let stream = tls(service.listener("guarded-web"), &place, None, BOTH);
        converse(&mut Peer::over(Web::open(stream, "/", SUB_PROTOCOL).unwrap(), version));
        // Packets in as many frames as they have bytes.
        let mut web = Web::open(tcp(service.listener("web")), "/", SUB_PROTOCOL).unwrap();
        web.cut = 1;
        web.frame(0x89, b"are you there");
        Peer::over(web, version).sign_in();
    }
    let listeners = service.status()["listeners"].to_string();
    for expected in ["mqtts://127.0.0.1:", "wss://127.0.0.1:", "/mqtt\"", "certificate_ends_at\":\"2"] {
        assert!(listeners.contains(expected), "{listeners}");
    }
}

/// More than the runtime lets one task write at a time: what a layer holds back must leave all the same.
#[test]
fn a_message_reaches_each_of_many_over_websocket_and_tls() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    let mut readers: Vec<Peer> = (0..180)
        .map(|number| match number % 10 {
            0 => Peer::over(tls(service.listener("guarded"), &place, None, BOTH), V5),
            _ => Peer::over(Web::open(tcp(service.listener("web")), "/", SUB_PROTOCOL).unwrap(), V5),
        })
        .collect();
    for (number, reader) in readers.iter_mut().enumerate() {
        reader.sign_in_as(&format!("screen-{number}"));
        reader.subscribe(LEVEL, QoS::AtMostOnce);
    }
    let mut station = Peer::open(service.listener("plain"), V5, "station");
    for round in 0..5 {
        station.send(&Packet::Publish(publish(LEVEL, vec![round; 100], QoS::AtMostOnce)));
        for reader in &mut readers {
            assert_eq!(reader.message().payload[0], round);
        }
    }
}

#[test]
fn a_certificate_is_asked_for_where_it_is_required() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    let address = service.listener("mutual");
    Peer::over(tls(address, &place, Some("kettle-weir"), BOTH), V5).sign_in();
    let mut stream = tls(address, &place, None, BOTH);
    // In TLS 1.3 the refusal comes after the client thinks that it is done.
    let refused = stream.write_all(&[0xc0, 0]).and_then(|()| stream.read(&mut [0; 8]));
    assert!(refused.unwrap_err().to_string().contains("CertificateRequired"));
    service.wait_for_event("TLS handshake failed");
    let mut stranger = tcp(address);
    stranger.write_all(b"\x10\x0c\0\x04MQTT\x04\x02\0\0\0\0").unwrap();
    let mut rest = Vec::new();
    let _ = stranger.read_to_end(&mut rest);
    assert!(!rest.starts_with(&[0x20]), "no CONNACK without TLS: {rest:?}");
}

#[test]
fn a_changed_certificate_is_taken_up_and_nobody_is_disconnected() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    let address = service.listener("guarded");
    let mut before = Peer::over(tls(address, &place, None, BOTH), V5);
    before.sign_in();
    let presented = || {
        let mut stream = tls(address, &place, None, BOTH);
        stream.write_all(&[0x10]).unwrap();
        stream.flush().unwrap();
        stream.conn.peer_certificates().unwrap()[0].to_vec()
    };
    let first = presented();
    let (folder, secret) = (place.path().join("certificates"), place.path().join("passphrase"));
    let (folder, secret) = (folder.to_str().unwrap(), secret.to_str().unwrap());
    let again = ["cert", "server", "--host", "localhost", "--folder", folder, "--passphrase-file", secret];
    assert!(place.run(&again).failed().contains("Use --replace to replace it"));
    place.run(&[&again[..], &["--replace"]].concat()).ok();
    wait("the new one is shown", || (presented() != first).then_some(()));
    before.send(&Packet::PingReq);
    assert_eq!(before.receive(), Some(Packet::PingResp));
    std::fs::write(format!("{folder}/server.pem"), "nonsense").unwrap();
    wait("the mistake is told", || service.log().contains("has no certificate in PEM format").then_some(()));
    assert_ne!(presented(), first, "and the good one stays");
}

#[test]
fn keys_come_in_many_forms() {
    let place = Place::new();
    let folder = place.path().join("certificates");
    std::fs::create_dir(&folder).unwrap();
    let openssl = |arguments: &[&str]| {
        let done = std::process::Command::new("openssl").current_dir(&folder).args(arguments).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    let subject = [
        "-subj",
        "/CN=localhost",
        "-addext",
        "subjectAltName=DNS:localhost",
        "-addext",
        "basicConstraints=critical,CA:FALSE",
    ];
    openssl(&["genrsa", "-traditional", "-out", "pkcs1.key", "2048"]);
    openssl(&["pkcs8", "-topk8", "-nocrypt", "-in", "pkcs1.key", "-out", "pkcs8.key"]);
    openssl(&["pkcs8", "-topk8", "-in", "pkcs1.key", "-out", "sealed.key", "-passout", "pass:moor-water"]);
    openssl(&["rsa", "-in", "pkcs1.key", "-traditional", "-aes128", "-passout", "pass:x", "-out", "old.key"]);
    openssl(&["ecparam", "-genkey", "-name", "prime256v1", "-noout", "-out", "sec1.key"]);
    openssl(&[&["req", "-x509", "-key", "pkcs1.key", "-out", "rsa.pem"], &subject[..]].concat());
    openssl(&[&["req", "-x509", "-key", "sec1.key", "-out", "ec.pem"], &subject[..]].concat());
    let secret = place.write("passphrase", "moor-water\n");
    let secret = format!("key-passphrase-file = \"{}\"\n", secret.display());
    let config = |certificate: &str, key: &str, more: &str| {
        let folder = folder.display();
        let text = format!(
            "[[listeners]]\nname = \"guarded\"\naddress = \"127.0.0.1:0\"\ntransport = \"tls\"\n[listeners.tls]\n\
             certificate = \"{folder}/{certificate}\"\nkey = \"{folder}/{key}\"\n{more}"
        );
        place.write("moorfall.toml", &text).to_str().unwrap().to_owned()
    };
    for (certificate, key, more) in [
        ("rsa.pem", "pkcs1.key", ""),
        ("rsa.pem", "pkcs8.key", ""),
        ("rsa.pem", "sealed.key", &secret),
        ("ec.pem", "sec1.key", ""),
    ] {
        let service = place.serve_as_configured(&["--config", &config(certificate, key, more), "--open"]);
        std::fs::copy(folder.join(certificate), folder.join("authority.pem")).unwrap();
        Peer::over(tls(service.listener("guarded"), &place, None, BOTH), V5).sign_in();
    }
    for (certificate, key, more, words) in [
        ("rsa.pem", "sealed.key", "", "set its passphrase with `key-passphrase-file` or `key-passphrase-variable`"),
        (
            "rsa.pem",
            "sealed.key",
            "key-passphrase-variable = \"MOORFALL_NONE\"",
            "the environment variable MOORFALL_NONE is not set",
        ),
        ("rsa.pem", "old.key", "", "openssl pkcs8"),
        ("rsa.pem", "sec1.key", "", "can't be used for TLS"),
        ("rsa.pem", "missing.key", "", "Check its path and its permissions"),
        ("pkcs1.key", "pkcs1.key", "", "has no certificate in PEM format"),
        ("rsa.pem", "rsa.pem", "", "has no usable private key"),
    ] {
        let data = place.data();
        let config = config(certificate, key, more);
        let ran = place.run(&["serve", "--config", &config, "--data", data.to_str().unwrap(), "--http", "127.0.0.1:0"]);
        assert!(ran.failed().contains(words), "{ran:?}");
    }
}

#[test]
fn a_web_socket_that_breaks_its_rules_is_ended_with_a_reason() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    let address = service.listener("web");
    type Fault = fn(&mut Web<TcpStream>);
    let faults: [(Fault, u16); 6] = [
        (|web| web.frame(0x81, b"text"), 1003),
        (|web| web.inner.write_all(&[0x82, 2, 0xc0, 0]).unwrap(), 1002),
        (|web| web.frame(0xc2, &[0xc0, 0]), 1002),
        (|web| web.frame(0x80, &[0xc0, 0]), 1002),
        (|web| web.frame(0x89, &[0; 200]), 1002),
        (|web| web.frame(0x88, &1000_u16.to_be_bytes()), 1000),
    ];
    for (fault, code) in faults {
        let web = Web::open(tcp(address), "/", SUB_PROTOCOL).unwrap();
        let mut peer = Peer::over(web, V5);
        peer.sign_in();
        let Ok(mut web) = peer.into_stream().downcast::<Web<TcpStream>>() else { panic!("a Web went in") };
        fault(&mut web);
        let _ = web.read_to_end(&mut Vec::new());
        assert_eq!(web.closed, Some(code));
    }
    for (more, expected) in [
        ("", "400"),
        ("Sec-WebSocket-Protocol: chat\r\n", "400"),
        ("Sec-WebSocket-Protocol: mqtt\r\nOrigin: https://elsewhere.example\r\n", "403"),
    ] {
        let answer = Web::open(tcp(address), "/", more).err().unwrap();
        assert!(answer.starts_with(&format!("HTTP/1.1 {expected}")), "{answer}");
    }
    let same = "Sec-WebSocket-Protocol: mqtt\r\nOrigin: http://localhost:1\r\n";
    assert!(Web::open(tcp(address), "/", same).is_ok());
}

#[test]
fn limits_of_a_listener_are_its_own_and_refused_in_words() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(
        &place,
        "[[listeners]]\nname = \"narrow\"\naddress = \"127.0.0.1:0\"\n\
         limits = { connections = 2, packet-bytes = 1000, subscriptions = 1 }\n",
    );
    let address = service.listener("narrow");
    let mut first = Peer::open(address, V5, "first");
    let _second = Peer::open(address, V5, "second");
    for (version, expected) in [(V311, ReasonCode::ServerUnavailable), (V5, ReasonCode::QuotaExceeded)] {
        let mut third = Peer::new(address, version);
        third.send(&Packet::Connect(Box::new(connect(version, "third"))));
        let Some(Packet::ConnAck(connack)) = third.receive() else { panic!("no answer") };
        assert_eq!(connack.reason, expected);
        assert_eq!(third.receive(), None);
    }
    Peer::open(service.listener("plain"), V5, "third");
    first.send(&Packet::Publish(publish(LEVEL, vec![0; 2_000], QoS::AtMostOnce)));
    let Some(Packet::Disconnect(told)) = first.receive() else { panic!("not told") };
    assert_eq!(told.reason, ReasonCode::PacketTooLarge);
}

#[test]
fn anonymous_clients_are_let_in_where_the_listener_says_so_under_the_rules() {
    let place = Place::new();
    let blueprint = place.write(
        "blueprint.toml",
        "name = \"harrowmere\"\n[[rules]]\nname = \"public\"\nwho = { identity = \"anonymous\" }\n\
         may = [\"subscribe\"]\ntopics = [\"harrowmere/public/#\"]\n",
    );
    let config = place.write(
        "moorfall.toml",
        "[[listeners]]\nname = \"public\"\naddress = \"127.0.0.1:0\"\nanonymous = true\n\
         [[listeners]]\nname = \"closed\"\naddress = \"127.0.0.1:0\"\n",
    );
    let (blueprint, config) = (blueprint.to_str().unwrap(), config.to_str().unwrap());
    let service = place.serve_as_configured(&["--config", config, "--blueprint", blueprint]);
    let mut visitor = Peer::open(service.listener("public"), V5, "visitor");
    assert_eq!(visitor.try_subscribe("harrowmere/public/#", QoS::AtMostOnce), [ReasonCode::Success]);
    assert_eq!(visitor.try_subscribe("harrowmere/#", QoS::AtMostOnce), [ReasonCode::NotAuthorized]);
    let mut stranger = Peer::new(service.listener("closed"), V5);
    stranger.send(&Packet::Connect(Box::new(connect(V5, "stranger"))));
    assert!(matches!(stranger.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::NotAuthorized));
}

#[test]
fn sign_ins_that_fail_are_slowed_down_and_connections_that_come_too_fast_refused() {
    let place = Place::new();
    let config = place.write("moorfall.toml", "[limits]\nconnects-per-second = 1\nfailed-sign-ins-per-minute = 2\n");
    let service = place.serve(&["--config", config.to_str().unwrap()]);
    let attempt = |version| {
        let mut peer = Peer::new(service.mqtt, version);
        let mut asked = connect(version, "guess");
        asked.user_name = Some("administrator".into());
        asked.password = Some("guess".into());
        peer.send(&Packet::Connect(Box::new(asked)));
        match peer.receive() {
            Some(Packet::ConnAck(connack)) => connack.reason,
            other => panic!("{other:?}"),
        }
    };
    for version in [V5, V311] {
        assert_eq!(attempt(version), ReasonCode::BadUserNameOrPassword);
    }
    let mut asked = connect(V5, "guess");
    asked.user_name = Some("administrator".into());
    let _waits = Peer::begin(service.mqtt, asked);
    wait("the next one waits", || service.log().contains("the next ones wait").then_some(()));
    let flood = |version| (0..100).map(|_| Peer::begin(service.mqtt, connect(version, "flood"))).collect::<Vec<_>>();
    for (version, expected) in [(V5, ReasonCode::ConnectionRateExceeded), (V311, ReasonCode::ServerUnavailable)] {
        let refused = flood(version).into_iter().filter_map(|mut peer| match peer.receive() {
            Some(Packet::ConnAck(connack)) => Some(connack.reason),
            // So many are told at a time; the others are closed.
            _ => None,
        });
        assert!(refused.filter(|reason| *reason == expected).count() > 10);
    }
}

#[test]
fn commands_speak_over_every_transport_and_say_at_which_step_it_fails() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve_all(&place, "");
    let folder = place.path().join("certificates");
    let file = |name: &str| folder.join(name).to_str().unwrap().to_owned();
    let authority = file("authority.pem");
    let at = |scheme: &str, listener: &str| format!("{scheme}://localhost:{}", service.listener(listener).port());
    let mutual = ["--certificate", &file("kettle-weir.pem"), "--key", &file("kettle-weir.key")];
    for (address, more) in [
        (at("mqtt", "plain"), &[][..]),
        (at("mqtts", "guarded"), &[]),
        (at("ws", "web"), &[]),
        (at("wss", "guarded-web"), &[]),
        (at("mqtts", "mutual"), &mutual),
        (service.http.replace("http://", "ws://"), &[]),
    ] {
        let common = [&["--remote", &address, "--authority", &authority][..], more].concat();
        let large = "x".repeat(100_000);
        let published = service.run(&[&["publish", LEVEL, &large, "--retain"][..], &common].concat());
        assert!(published.ok().contains("acknowledged"), "{address}: {published:?}");
        let read = service.run(&[&["subscribe", LEVEL, "--take", "1", "--show", "payload"][..], &common].concat());
        assert_eq!(read.ok().trim().len(), 100_000, "{address}");
        let test = [&["remote", "test", &address, "--json", "--authority", &authority][..], more].concat();
        let tested = service.run(&test).json();
        assert_eq!(tested["passed"], true, "{tested}");
        let steps: Vec<_> = tested["steps"].as_array().unwrap().iter().map(|step| &step["step"]).collect();
        assert_eq!(steps.contains(&&"certificate".into()), address.starts_with("mqtts") || address.starts_with("wss"));
        assert_eq!(steps.last().unwrap(), &"round trip");
    }
    let trusting = ["--authority", authority.as_str()];
    for (address, more, step, words) in [
        ("mqtt://tideway.nowhere.invalid".to_owned(), &[][..], "name", "Unknown host"),
        ("mqtt://localhost:1".to_owned(), &[], "port", "Nothing listens"),
        (at("mqtts", "guarded"), &[], "tls", "give its certificate with --authority"),
        (at("mqtts", "plain"), &trusting, "tls", "Perhaps this port is for plain mqtt://"),
        (at("mqtts", "mutual"), &trusting, "sign-in", "it may require a client certificate"),
        (at("ws", "plain"), &[], "websocket", "is not HTTP"),
        (at("mqtt", "guarded"), &[], "sign-in", "Check that it is an MQTT port without TLS"),
    ] {
        let tested = service.run(&[&["remote", "test", &address][..], more].concat());
        assert!(tested.failed().contains(&format!("failed at: {step}")), "{address}: {tested:?}");
        let said = tested.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains(words), "{address}: {said}");
    }
}

#[test]
fn remotes_have_names_and_their_secrets_stay_secret() {
    let place = Place::new();
    make_certificates(&place);
    let folder = place.path().join("certificates");
    let text = format!(
        "[[listeners]]\nname = \"field\"\naddress = \"127.0.0.1:0\"\ntransport = \"tls\"\n[listeners.tls]\n\
         certificate = \"{0}/server.pem\"\nkey = \"{0}/server.key\"\n",
        folder.display()
    );
    let file = place.write("moorfall.toml", &text);
    let service = place.serve_as_configured(&["--config", file.to_str().unwrap()]);
    service.identity("kettle-weir", &[]);
    let password = place.write("password", "riew-elttek");
    let (password, authority) = (password.to_str().unwrap(), folder.join("authority.pem"));
    let address = format!("mqtts://kettle-weir@localhost:{}", service.listener("field").port());
    let add = ["remote", "set", "weir", &address, "--password-file", password, "--authority"];
    let add = [&add[..], &[authority.to_str().unwrap()]].concat();
    service.run(&add).ok();
    service.run(&add).ok();
    let listed = service.run(&["remote", "list"]);
    assert!(listed.ok().contains("weir") && listed.ok().contains("password"), "{listed:?}");
    for shown in [service.run(&["remote", "list", "--json"]), service.run(&["remote", "test", "weir"])] {
        assert!(!shown.ok().contains("riew-elttek"), "{shown:?}");
    }
    let refused = service.run(&["publish", LEVEL, "1.83", "--remote", "weir"]);
    assert!(refused.failed().contains("kettle-weir is not allowed to publish"), "signed in as itself: {refused:?}");
    assert!(service.run(&["publish", LEVEL, "1", "--remote", "wier"]).failed().contains("Saved are weir"));
    // Commands about the service itself do without a listener of plain TCP.
    service.run(&["publish", LEVEL, "1.83"]).ok();
    service.run(&["remote", "remove", "weir"]).ok();
    assert!(service.run(&["remote", "test", "weir"]).failed().contains("No remotes are saved yet"));
}
