//! Any bytes from a client leave the broker's side of the connection in a state that it can go on from.
#![no_main]

use std::sync::Arc;

use bytes::{Buf, BytesMut};
use libfuzzer_sys::fuzz_target;
use moorfall_core::{
    Delivery, Limits, SessionKey, Time,
    access::Access,
    session::{Action, Routed, Session, Verdict},
};
use moorfall_wire::{Frame, MAX_PACKET_SIZE, Packet, QoS};

fuzz_target!(|bytes: &[u8]| {
    let mut session = Session::new(SessionKey(1), Arc::new(Limits::default()), "spare", Time::default());
    let mut buffer = BytesMut::from(bytes);
    let mut micros = 0;
    loop {
        micros += 1_000;
        let now = Time::from_micros(micros);
        if !session.wants_packets() {
            break;
        }
        match Frame::split(&mut buffer, session.packet_limit())
            .and_then(|frame| frame.map(|frame| Packet::decode(frame, session.version())).transpose())
        {
            Ok(None) => break,
            Ok(Some(packet)) => session.handle_packet(now, packet),
            Err(error) => session.handle_decode_error(now, &error),
        }
        while let Some(action) = session.poll_action() {
            match action {
                Action::Authenticate(_) => session.handle_verdict(now, Verdict::Known(Access::unrestricted("fuzz"))),
                Action::Admit { .. } => session.handle_admitted(now),
                Action::Route { message, packet_id } => {
                    let qos = message.qos.min(QoS::AtLeastOnce);
                    if session.can_deliver(qos) {
                        let _ = session.handle_delivery(now, &Delivery { message, qos, retain: false });
                    }
                    if let Some(id) = packet_id {
                        session.handle_routed(id, Routed::To(1));
                    }
                }
                _ => {}
            }
        }
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
