//! Hands the packets of a connection to ladders, both ways, while somebody looks at them.

use std::sync::Arc;

use bytes::{Buf, Bytes, BytesMut};
use moorfall_core::{Outgoing, Time};
use moorfall_live::ladders::{BYTES, Ladder, Ladders, Party, Passed};
use moorfall_wire::{Frame, MAX_PACKET_SIZE, Packet, ProtocolVersion};

/// Packets that are held, and their bytes, until it is known who the client is.
const UNDECIDED: (usize, usize) = (32, 128 * 1024);

/// What a connection does for ladders.
#[derive(Default)]
pub(super) struct Tap {
    /// Of the ladders that were looked for.
    epoch: u64,
    /// Present while this connection is looked at, or might be.
    open: Option<Box<Open>>,
}

struct Open {
    party: Arc<Party>,
    /// Whose packets these are; empty until it is known who the client is.
    ladders: Vec<Arc<Ladder>>,
    /// What passed before that: present until it is known.
    undecided: Option<Vec<Cut>>,
    held: usize,
    read: Cutter,
    written: Cutter,
}

/// A packet as it was on the wire.
struct Cut {
    at: Time,
    sent: bool,
    bytes: Bytes,
    version: ProtocolVersion,
}

/// Cuts a stream into packets.
#[derive(Default)]
struct Cutter {
    rest: BytesMut,
    /// Whether what is next is the beginning of a packet; else nothing can be cut.
    is_sound: bool,
}

impl Cutter {
    /// Takes bytes, and gives the packets that are whole then.
    fn take(&mut self, bytes: &[u8]) -> Vec<Bytes> {
        let mut found = Vec::new();
        if self.is_sound {
            self.rest.extend_from_slice(bytes);
        }
        while self.is_sound {
            match Frame::size(&self.rest) {
                Ok(Some(size)) if size <= self.rest.len() => found.push(self.rest.split_to(size).freeze()),
                Ok(_) => break,
                Err(_) => self.is_sound = false,
            }
        }
        found
    }
}

/// Who is on the connection, once that is known.
pub(super) struct Known {
    pub(super) client_id: Arc<str>,
    pub(super) identity: Arc<str>,
}

impl Tap {
    /// Whether ladders were begun or have ended since the last look.
    pub(super) fn is_stale(&self, ladders: &Ladders) -> bool {
        self.epoch != ladders.epoch()
    }

    /// Whether packets are wanted.
    pub(super) fn is_open(&self) -> bool {
        self.open.is_some()
    }

    /// Looks for ladders again. `unread` has arrived and is not handled yet; `outgoing` is not written yet.
    pub(super) fn renew(
        &mut self,
        ladders: &Ladders,
        (address, known): (std::net::SocketAddr, Option<Known>),
        (unread, outgoing): (&[u8], &Outgoing),
        (version, now): (ProtocolVersion, Time),
    ) {
        self.epoch = ladders.epoch();
        if self.epoch == 0 {
            self.open = None;
            return;
        }
        let before = self.open.take();
        let connection = before.as_ref().map_or_else(|| ladders.connection(), |open| open.party.connection);
        let is_known = known.is_some();
        let (client_id, identity) =
            known.map_or_else(Default::default, |Known { client_id, identity }| (client_id, identity));
        let party = Arc::new(Party { connection, address, client_id, identity });
        let found = if is_known { ladders.of(&party, now) } else { Vec::new() };
        if is_known && found.is_empty() {
            return;
        }
        // What has arrived and is not handled yet comes after this.
        let mut arrived = Vec::new();
        let mut open = before.unwrap_or_else(|| {
            let mut read = Cutter { is_sound: true, ..Cutter::default() };
            arrived = read.take(unread);
            // What is half written can't be cut; it begins with the next packet if nothing waits.
            let written = Cutter { is_sound: !outgoing.has_remaining(), ..Cutter::default() };
            let undecided = Some(Vec::new());
            Box::new(Open { party: Arc::clone(&party), ladders: Vec::new(), undecided, held: 0, read, written })
        });
        if is_known {
            open.decide(party, found);
        }
        arrived.into_iter().for_each(|bytes| open.add(Cut { at: now, sent: false, bytes, version }));
        self.open = Some(open);
    }

    /// It is known who the client is, or that it never will be.
    pub(super) fn decide(&mut self, ladders: &Ladders, known: Option<Known>, now: Time) {
        let Some(open) = self.open.as_mut().filter(|open| open.undecided.is_some()) else { return };
        let (client_id, identity) =
            known.map_or_else(Default::default, |Known { client_id, identity }| (client_id, identity));
        let party = Arc::new(Party { client_id, identity, ..(*open.party).clone() });
        let found = ladders.of(&party, now);
        if found.is_empty() {
            self.open = None;
        } else {
            open.decide(party, found);
        }
    }

    /// Bytes were read.
    pub(super) fn read(&mut self, bytes: &[u8], version: ProtocolVersion, now: Time) {
        if let Some(open) = &mut self.open {
            let packets = open.read.take(bytes);
            packets.into_iter().for_each(|bytes| open.add(Cut { at: now, sent: false, bytes, version }));
        }
    }

    /// Bytes were written, or will be soon.
    pub(super) fn written(&mut self, bytes: &[u8], version: ProtocolVersion, now: Time) {
        if let Some(open) = &mut self.open {
            let packets = open.written.take(bytes);
            packets.into_iter().for_each(|bytes| open.add(Cut { at: now, sent: true, bytes, version }));
        }
    }
}

impl Open {
    fn decide(&mut self, party: Arc<Party>, ladders: Vec<Arc<Ladder>>) {
        (self.party, self.ladders) = (party, ladders);
        for cut in self.undecided.take().unwrap_or_default() {
            self.add(cut);
        }
    }

    fn add(&mut self, cut: Cut) {
        if let Some(undecided) = &mut self.undecided {
            self.held += cut.bytes.len();
            if undecided.len() < UNDECIDED.0 && self.held <= UNDECIDED.1 {
                undecided.push(cut);
            }
            return;
        }
        for ladder in &self.ladders {
            if ladder.is_running(cut.at)
                && let Some(passed) = passed(&cut, ladder.payloads)
            {
                ladder.add(&self.party, passed);
            }
        }
    }
}

/// A packet without what is not to be kept; `None` for what is none.
fn passed(cut: &Cut, payloads: bool) -> Option<Passed> {
    let frame = Frame::split(&mut BytesMut::from(&cut.bytes[..]), MAX_PACKET_SIZE).ok()??;
    let packet = frame.packet_type;
    let size = cut.bytes.len();
    let hidden = |length: usize| Bytes::from(vec![b'*'; length]);
    let encoded = |packet: &Packet| {
        let mut bytes = BytesMut::new();
        packet.encode(cut.version, &mut bytes).ok()?;
        Some(bytes.freeze())
    };
    let mut version = cut.version;
    let kept = match Packet::decode(frame, cut.version) {
        Ok(Packet::Connect(mut connect)) => {
            version = connect.version;
            connect.password = connect.password.map(|password| hidden(password.len()));
            if let Some(data) = &mut connect.properties.authentication_data {
                *data = hidden(data.len());
            }
            if let (Some(will), false) = (&mut connect.will, payloads) {
                will.payload = hidden(will.payload.len());
            }
            encoded(&Packet::Connect(connect))
        }
        Ok(Packet::Auth(mut auth)) => {
            if let Some(data) = &mut auth.properties.authentication_data {
                *data = hidden(data.len());
            }
            encoded(&Packet::Auth(auth))
        }
        // Bytes that are not there are missing at the end.
        Ok(Packet::Publish(publish)) if !payloads => Some(cut.bytes.slice(..size - publish.payload.len())),
        Ok(_) => Some(cut.bytes.clone()),
        Err(_) => None,
    };
    // Of what can't be read only the header is kept: there may be a password in it.
    let kept = kept.unwrap_or_else(|| cut.bytes.slice(..size.min(2)));
    let bytes = kept.slice(..kept.len().min(BYTES));
    Some(Passed { at: cut.at, sent: cut.sent, version, packet, bytes, size })
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_wire::{Connect, Publish, QoS};

    use super::*;

    fn cut(packet: &Packet) -> Cut {
        let mut bytes = BytesMut::new();
        packet.encode(ProtocolVersion::V5, &mut bytes).unwrap();
        Cut { at: Time::default(), sent: false, bytes: bytes.freeze(), version: ProtocolVersion::V5 }
    }

    #[test]
    fn passwords_are_never_kept_and_payloads_only_if_they_are_wanted() {
        let mut connect = Connect::new(ProtocolVersion::V5, "weir");
        (connect.user_name, connect.password) = (Some("weir".into()), Some(Bytes::from_static(b"low-water-mark")));
        let connect = cut(&Packet::Connect(Box::new(connect)));
        let kept = passed(&connect, true).unwrap();
        assert!(kept.bytes.windows(14).all(|part| part != b"low-water-mark"));
        assert_eq!((kept.size, kept.bytes.len()), (connect.bytes.len(), connect.bytes.len()));
        let level = Publish::new("harrowmere/level".parse().unwrap(), &b"1.83"[..], QoS::AtMostOnce);
        let level = cut(&Packet::Publish(level));
        assert!(passed(&level, true).unwrap().bytes.ends_with(b"1.83"));
        let kept = passed(&level, false).unwrap();
        assert_eq!((kept.bytes.len() + 4, kept.size), (level.bytes.len(), level.bytes.len()));
    }

    #[test]
    fn a_stream_is_cut_however_it_comes() {
        let bytes = [0xc0, 0, 0x30, 5, 0, 1, b'a', b'h', b'i', 0xc0, 0];
        for step in 1..=bytes.len() {
            let mut cutter = Cutter { is_sound: true, ..Cutter::default() };
            let found: Vec<Bytes> = bytes.chunks(step).flat_map(|part| cutter.take(part)).collect();
            assert_eq!(found.iter().map(Bytes::len).collect::<Vec<_>>(), [2, 7, 2], "in steps of {step}");
        }
        let mut lost = Cutter { is_sound: true, ..Cutter::default() };
        assert!(lost.take(&[0x30, 0xff, 0xff, 0xff, 0xff, 0xff]).is_empty() && !lost.is_sound);
    }
}
