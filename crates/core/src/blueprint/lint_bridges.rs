//! What is legal in bridges and probably not meant.

use super::{Bridge, BridgeMapping, Span};
use crate::{Remote, Scheme, bridge::Direction};

/// Findings: where, what, and the remedy.
pub(super) fn lint(bridge: &Bridge, warn: &mut impl FnMut(&Span, String, &str)) {
    let is_open = |remote: &Remote| !remote.scheme.is_secure() && !is_this_machine(&remote.host);
    if let Some(remote) = bridge.remotes.iter().find(|remote| is_open(remote)) {
        let secure = if remote.scheme == Scheme::Ws { Scheme::Wss } else { Scheme::Mqtts };
        let message = format!("{remote} is reached without TLS, so others can read messages and the secret");
        let remedy = format!("write {}:// unless the network between is yours", secure.name());
        warn(&bridge.at, message, &remedy);
    }
    let files = &bridge.files;
    let of_tls = [&files.authority, &files.certificate, &files.key];
    if of_tls.iter().any(|file| file.is_some()) && bridge.remotes.iter().all(|remote| !remote.scheme.is_secure()) {
        let message = format!("the bridge `{}` has files for TLS and no address with it", bridge.name);
        warn(&bridge.at, message, "write mqtts:// or wss://, or remove the files");
    }
    for direction in [Direction::Push, Direction::Pull] {
        mappings(bridge.mappings(direction), direction, warn);
    }
}

fn is_this_machine(host: &str) -> bool {
    host == "localhost" || host.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

fn mappings(mappings: &[BridgeMapping], direction: Direction, warn: &mut impl FnMut(&Span, String, &str)) {
    for (place, mapping) in mappings.iter().enumerate() {
        let before = &mappings[..place];
        let topics = mapping.names.topics();
        let taken: Vec<_> = before.iter().map(|earlier| earlier.names.topics()).collect();
        // What is left out by a condition goes to no later mapping, either.
        if topics.outside(&taken).is_none() {
            let message = format!("mappings before it take all of `{}`, so it is never used", mapping.names);
            warn(&mapping.at, message, "remove it, or put it first: the first that takes a topic has it");
            continue;
        }
        if mapping.names.joins_topics() {
            let message = format!("different topics become one by `{}`", mapping.names);
            warn(&mapping.at, message, "put everything that the filter catches in the new name, unless that is meant");
        }
        for earlier in before {
            let keep_names = earlier.names.written_name().is_none() && mapping.names.written_name().is_none();
            if let Some(both) = earlier.names.image().intersect(&mapping.names.image())
                && !keep_names
            {
                let message = format!(
                    "`{}` and `{}` may give different topics one name, for example {}, {}",
                    earlier.names,
                    mapping.names,
                    both.example(),
                    match direction {
                        Direction::Push => "there",
                        Direction::Pull => "here",
                    }
                );
                warn(&mapping.at, message, "choose new names that can't meet");
                break;
            }
        }
    }
}
