//! Any bytes give packets or an error; what decodes also encodes, and decodes to the same again.
#![no_main]

use bytes::BytesMut;
use libfuzzer_sys::fuzz_target;
use moorfall_wire::{Frame, MAX_PACKET_SIZE, Packet, ProtocolVersion};

fuzz_target!(|bytes: &[u8]| {
    for version in [ProtocolVersion::V311, ProtocolVersion::V5] {
        let mut buffer = BytesMut::from(bytes);
        while let Ok(Some(frame)) = Frame::split(&mut buffer, MAX_PACKET_SIZE) {
            let Ok(packet) = Packet::decode(frame, version) else { break };
            let version = if let Packet::Connect(connect) = &packet { connect.version } else { version };
            let mut again = BytesMut::new();
            packet.encode(version, &mut again).expect("what was decoded can be encoded");
            let frame = Frame::split(&mut again, MAX_PACKET_SIZE).expect("a header").expect("a whole packet");
            assert_eq!(Packet::decode(frame, version).as_ref(), Ok(&packet));
        }
    }
});
