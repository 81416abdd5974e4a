//! Packets of ladders as a file that general network tools open: pcapng (IETF draft-ietf-opsawg-pcapng), with IP and TCP
//! headers made up around them, since only what MQTT says was kept.

use std::{
    collections::HashMap,
    net::{IpAddr, SocketAddr},
};

use crate::ladders::Rung;

/// Raw IP, version 4 or 6 (LINKTYPE_RAW).
const LINK_TYPE: u16 = 101;

/// Bytes of TCP in one packet: an IPv4 packet has 65,535 at most.
const SEGMENT: usize = 60_000;

/// Length of a TCP header without options.
const TCP: usize = 20;

const SYN: u8 = 0x02;
const PSH: u8 = 0x08;
const ACK: u8 = 0x10;

/// The packets as one file. `broker` is where clients connect: the address that is shown on its side.
pub fn write(rungs: &[Rung], broker: SocketAddr) -> Vec<u8> {
    let mut file = Vec::new();
    block(&mut file, 0x0A0D_0D0A, |body| {
        // Byte order, version 1.0, and a section of unknown length.
        body.extend_from_slice(&0x1A2B_3C4D_u32.to_le_bytes());
        body.extend_from_slice(&[1, 0, 0, 0]);
        body.extend_from_slice(&u64::MAX.to_le_bytes());
        option(body, 4, b"Moorfall");
        option(body, 0, b"");
    });
    block(&mut file, 1, |body| {
        body.extend_from_slice(&LINK_TYPE.to_le_bytes());
        body.extend_from_slice(&[0, 0]);
        // No limit of length; times are in microseconds, which is the default.
        body.extend_from_slice(&0_u32.to_le_bytes());
    });
    let mut streams: HashMap<u64, Stream> = HashMap::new();
    // Of several connections one may have been a little late to say what passed.
    let mut rungs: Vec<&Rung> = rungs.iter().collect();
    rungs.sort_by_key(|rung| rung.passed.at);
    for Rung { party, passed, .. } in rungs {
        let at = passed.at.as_micros();
        let stream = streams.entry(party.connection).or_insert_with(|| {
            let stream = Stream { client: party.address, broker, next: [1, 1] };
            stream.shake_hands(&mut file, at);
            stream
        });
        let mut left = passed.size;
        let mut bytes = &passed.bytes[..];
        while left > 0 {
            let size = left.min(SEGMENT);
            let here = bytes.len().min(size);
            stream.segment(&mut file, at, passed.sent, (&bytes[..here], size));
            bytes = &bytes[here..];
            left -= size;
        }
    }
    file
}

/// A connection, and what each side has sent: the client and the broker.
struct Stream {
    client: SocketAddr,
    broker: SocketAddr,
    next: [u32; 2],
}

impl Stream {
    /// As a connection begins: its numbers start with 0.
    fn shake_hands(&self, file: &mut Vec<u8>, at: u64) {
        for (sent, numbers, flags) in [(false, (0, 0), SYN), (true, (0, 1), SYN | ACK), (false, (1, 1), ACK)] {
            self.packet(file, at, sent, (numbers, flags), (&[], 0));
        }
    }

    /// A piece of a packet; `bytes` may be fewer than `size`, if the rest was not kept.
    fn segment(&mut self, file: &mut Vec<u8>, at: u64, sent: bool, (bytes, size): (&[u8], usize)) {
        let (own, other) = (usize::from(sent), usize::from(!sent));
        let numbers = (self.next[own], self.next[other]);
        self.packet(file, at, sent, (numbers, PSH | ACK), (bytes, size));
        self.next[own] = self.next[own].wrapping_add(size as u32);
    }

    fn packet(
        &self,
        file: &mut Vec<u8>,
        at: u64,
        sent: bool,
        ((sequence, acknowledged), flags): ((u32, u32), u8),
        (bytes, size): (&[u8], usize),
    ) {
        let (from, to) = if sent { (self.broker, self.client) } else { (self.client, self.broker) };
        let mut tcp = Vec::with_capacity(TCP + bytes.len());
        tcp.extend_from_slice(&from.port().to_be_bytes());
        tcp.extend_from_slice(&to.port().to_be_bytes());
        tcp.extend_from_slice(&sequence.to_be_bytes());
        tcp.extend_from_slice(&(if flags & ACK == 0 { 0 } else { acknowledged }).to_be_bytes());
        // Length of the header in words, flags, window, checksum, no urgent data.
        tcp.extend_from_slice(&[0x50, flags, 0xff, 0xff, 0, 0, 0, 0]);
        tcp.extend_from_slice(bytes);
        let (header, pseudo) = ip(from.ip(), to.ip(), TCP + size);
        // Over bytes that are not there no sum can be made; 0 says that there is none.
        if bytes.len() == size {
            let sum = checksum(&[&pseudo, &tcp]);
            tcp[16..18].copy_from_slice(&sum.to_be_bytes());
        }
        let whole = [header, tcp].concat();
        let original = whole.len() + size - bytes.len();
        block(file, 6, |body| {
            body.extend_from_slice(&0_u32.to_le_bytes());
            body.extend_from_slice(&((at >> 32) as u32).to_le_bytes());
            body.extend_from_slice(&(at as u32).to_le_bytes());
            body.extend_from_slice(&(whole.len() as u32).to_le_bytes());
            body.extend_from_slice(&(original as u32).to_le_bytes());
            body.extend_from_slice(&whole);
        });
    }
}

/// An IP header for so many bytes of TCP, and what stands for it in TCP's checksum (RFC 9293 §3.1).
fn ip(from: IpAddr, to: IpAddr, length: usize) -> (Vec<u8>, Vec<u8>) {
    match (from.to_canonical(), to.to_canonical()) {
        (IpAddr::V4(from), IpAddr::V4(to)) => {
            let mut header = vec![0x45, 0];
            header.extend_from_slice(&((20 + length) as u16).to_be_bytes());
            // No identification, not to be fragmented, 64 hops, TCP, a checksum.
            header.extend_from_slice(&[0, 0, 0x40, 0, 64, 6, 0, 0]);
            header.extend_from_slice(&from.octets());
            header.extend_from_slice(&to.octets());
            let sum = checksum(&[&header]);
            header[10..12].copy_from_slice(&sum.to_be_bytes());
            let pseudo = [&from.octets()[..], &to.octets(), &[0, 6], &(length as u16).to_be_bytes()].concat();
            (header, pseudo)
        }
        (from, to) => {
            let octets = |address: IpAddr| match address {
                IpAddr::V4(address) => address.to_ipv6_mapped().octets(),
                IpAddr::V6(address) => address.octets(),
            };
            let (from, to) = (octets(from), octets(to));
            let mut header = vec![0x60, 0, 0, 0];
            header.extend_from_slice(&(length as u16).to_be_bytes());
            header.extend_from_slice(&[6, 64]);
            header.extend_from_slice(&from);
            header.extend_from_slice(&to);
            let pseudo = [&from[..], &to, &(length as u32).to_be_bytes(), &[0, 0, 0, 6]].concat();
            (header, pseudo)
        }
    }
}

/// The Internet checksum (RFC 1071) over pieces; only the last one may have an odd length.
fn checksum(pieces: &[&[u8]]) -> u16 {
    let mut sum = 0_u32;
    for pair in pieces.iter().flat_map(|piece| piece.chunks(2)) {
        sum += u32::from(u16::from_be_bytes([pair[0], pair.get(1).copied().unwrap_or(0)]));
        sum = (sum & 0xffff) + (sum >> 16);
    }
    !(sum as u16)
}

/// A block of this type; its length stands before and behind it.
fn block(file: &mut Vec<u8>, kind: u32, fill: impl FnOnce(&mut Vec<u8>)) {
    let start = file.len();
    file.extend_from_slice(&kind.to_le_bytes());
    file.extend_from_slice(&[0; 4]);
    fill(file);
    file.resize(file.len().next_multiple_of(4), 0);
    let length = ((file.len() - start + 4) as u32).to_le_bytes();
    file[start + 4..start + 8].copy_from_slice(&length);
    file.extend_from_slice(&length);
}

fn option(body: &mut Vec<u8>, code: u16, value: &[u8]) {
    body.extend_from_slice(&code.to_le_bytes());
    body.extend_from_slice(&(value.len() as u16).to_le_bytes());
    body.extend_from_slice(value);
    body.resize(body.len().next_multiple_of(4), 0);
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use std::sync::Arc;

    use bytes::Bytes;
    use moorfall_core::Time;
    use moorfall_wire::{PacketType, ProtocolVersion};

    use super::*;
    use crate::ladders::{Party, Passed};

    fn rung(sent: bool, bytes: &'static [u8], size: usize) -> Rung {
        let address = ([192, 0, 2, 7], 50_000).into();
        let party = Party { connection: 1, address, client_id: "weir".into(), identity: "weir".into() };
        let passed = Passed {
            at: Time::from_micros(1_793_098_800_000_007),
            sent,
            version: ProtocolVersion::V5,
            packet: PacketType::PingReq,
            bytes: Bytes::from_static(bytes),
            size,
        };
        Rung { number: 1, party: Arc::new(party), passed }
    }

    fn word(file: &[u8], at: usize) -> usize {
        u32::from_le_bytes(file[at..at + 4].try_into().unwrap()) as usize
    }

    /// The blocks of a file: their types and what is in them. Their lengths are as they should be.
    fn blocks(file: &[u8]) -> Vec<(usize, &[u8])> {
        let (mut blocks, mut at) = (Vec::new(), 0);
        while at < file.len() {
            let length = word(file, at + 4);
            assert_eq!(word(file, at + length - 4), length, "the length stands at both ends");
            blocks.push((word(file, at), &file[at + 8..at + length - 4]));
            at += length;
        }
        blocks
    }

    #[test]
    fn streams_have_headers_with_sums_and_numbers_that_go_on() {
        let rungs = [
            rung(false, &[0xc0, 0], 2),
            rung(true, &[0xd0, 0], 2),
            rung(false, &[0x30, 9], 11),
            rung(false, &[0xc0, 0], 2),
        ];
        let file = write(&rungs, ([192, 0, 2, 1], 1_883).into());
        let blocks = blocks(&file);
        assert_eq!((blocks[0].0, blocks[1].0), (0x0A0D_0D0A, 1));
        let packets: Vec<&[u8]> = blocks[2..]
            .iter()
            .map(|(kind, body)| {
                assert_eq!(*kind, 6);
                let at = (word(body, 4) as u64) << 32 | word(body, 8) as u64;
                assert_eq!(at, 1_793_098_800_000_007);
                &body[20..20 + word(body, 12)]
            })
            .collect();
        // The handshake, and then what was said.
        assert_eq!(packets.len(), 3 + 4);
        for packet in &packets {
            assert_eq!(checksum(&[&packet[..20]]), 0, "the sum of an IP header with its checksum is 0");
            let total = usize::from(u16::from_be_bytes([packet[2], packet[3]]));
            if total == packet.len() {
                let pseudo = [&packet[12..20], &[0, 6], &((total - 20) as u16).to_be_bytes()].concat();
                assert_eq!(checksum(&[&pseudo, &packet[20..]]), 0, "so is that of a TCP segment");
            }
        }
        let sequence = |packet: &[u8]| u32::from_be_bytes(packet[24..28].try_into().unwrap());
        assert_eq!(packets[3..].iter().map(|packet| sequence(packet)).collect::<Vec<_>>(), [1, 1, 3, 14]);
        // What was not kept is missing, and counted.
        assert_eq!((word(blocks[7].1, 12), word(blocks[7].1, 16)), (42, 51));
    }
}
