//! Any bytes from a client leave the broker's side of the connection in a state that it can go on from.
#![no_main]

use std::sync::{Arc, LazyLock};

use bytes::{Buf, BytesMut};
use libfuzzer_sys::fuzz_target;
use moorfall_core::{
    Delivery, Limits, Part, Queued, Run, SessionKey, Time,
    Identity,
    access::{Access, Policy},
    blueprint::Blueprint,
    session::{Action, Routed, Session, SessionState, Verdict},
};
use moorfall_wire::{Frame, MAX_PACKET_SIZE, Packet};

/// Rules that allow, deny, limit and say nothing, also within what one filter catches.
const RULES: &str = r#"
name = "fuzz"
[[rules]]
name = "own"
who = "everyone"
may = ["publish", "subscribe"]
topics = ["harrowmere/#", "{client_id}/+", "a/#", "$SYS/#"]

[[rules]]
name = "limited"
who = "everyone"
may = ["publish"]
topics = ["b/#"]
highest-qos = 1
retained = false
rate = "2/s"

[[rules]]
name = "not-these"
effect = "deny"
who = "everyone"
may = ["publish", "subscribe"]
topics = ["harrowmere/+/gate/#", "a/b"]
"#;

static POLICY: LazyLock<Arc<Policy>> =
    LazyLock::new(|| Arc::new(Policy::new(Arc::new(Blueprint::parse(RULES).expect("the rules above")))));

/// Half of the inputs meet rules.
fn access(bytes: &[u8], client_id: &str) -> Access {
    let identity = Identity { name: "fuzz".into(), attributes: Default::default() };
    match bytes.len() % 2 {
        0 => Access::unrestricted("fuzz"),
        // A client identifier that can't stand in a topic lets nobody in.
        _ => POLICY.bind(&identity, client_id).unwrap_or_else(|_| Access::unrestricted("fuzz")),
    }
}

fuzz_target!(|bytes: &[u8]| {
    let mut session = Session::new(Arc::new(Limits::default()), "spare", Time::default());
    let mut buffer = BytesMut::from(bytes);
    let mut micros = 0;
    loop {
        micros += 1_000;
        let now = Time::from_micros(micros);
        if !session.wants_packets() {
            break;
        }
        while session.handle_plain_acknowledgements(now, &mut buffer).is_some() {}
        if let Some(run) = session.take_run(now, &mut buffer) {
            assert_eq!(run.messages().iter().map(|message| message.weight()).sum::<usize>(), run.weight());
        }
        match session.next_packet(&mut buffer) {
            Ok(None) if !session.has_actions() => break,
            Ok(None) => {}
            Ok(Some(packet)) => session.handle_packet(now, packet),
            Err(error) => session.handle_decode_error(now, &error),
        }
        while let Some(action) = session.poll_action() {
            match action {
                Action::Authenticate(asked) => {
                    session.handle_verdict(Verdict::Known(access(bytes, &asked.client_id)));
                }
                // Without clean start an earlier session goes on, with a message of the client that was not released.
                Action::Admit { clean_start, .. } => {
                    let mut state = SessionState::default();
                    state.restore_received(std::num::NonZeroU16::MIN);
                    session.handle_admitted(now, SessionKey(1), (!clean_start).then_some(state));
                }
                // The client hears itself, as a kept session does.
                Action::Route { message, packet_id } => {
                    let qos = message.qos;
                    let sequence = if session.is_kept() && qos as u8 > 0 { micros } else { 0 };
                    let retain = message.retain;
                    let mut queued = Some(if sequence > 0 || retain {
                        Queued::One(Delivery { sequence, ..Delivery::new(message, qos, retain) })
                    } else {
                        // Three times the same message.
                        Queued::Part(Part::new(Arc::new(Run::new(std::iter::repeat_n(message, 3))), qos, None))
                    });
                    session.handle_queued(now, &mut queued, 64 * 1024);
                    if let Some(id) = packet_id {
                        session.handle_routed(qos, id, Routed::To(1));
                    }
                }
                Action::Commit(number) => session.handle_committed(now, number),
                _ => {}
            }
        }
    }
    if session.is_closed() {
        // What is left can be gone on with.
        drop(session.part());
    }
    // Whatever the broker answered is made of whole packets.
    let version = session.version();
    let count = session.outgoing().remaining();
    let mut answers = BytesMut::from(&session.outgoing().copy_to_bytes(count)[..]);
    while let Some(frame) = Frame::split(&mut answers, MAX_PACKET_SIZE).expect("the broker's own headers") {
        Packet::decode(frame, version).expect("the broker's own packets");
    }
    assert!(answers.is_empty());
});
