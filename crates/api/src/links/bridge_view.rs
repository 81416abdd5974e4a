//! A bridge, as it is told.

use std::{
    collections::BTreeMap,
    sync::atomic::{AtomicU64, Ordering},
};

use moorfall_broker::clock::date;
use moorfall_contract::{
    bridges::{BridgeFlow, BridgeMappingView, BridgeRoom, BridgeTrouble, BridgeView, BridgeWaiting},
    kinds::BridgePhase,
};
use moorfall_core::{Time, blueprint::BridgeMapping, bridge::Direction};
use moorfall_links::bridge::{Bridges, Flow, Phase, Seen, Standing};

fn read(count: &AtomicU64) -> u64 {
    count.load(Ordering::Relaxed)
}

fn flow(flow: &Flow) -> BridgeFlow {
    BridgeFlow {
        messages: read(&flow.messages),
        bytes: read(&flow.bytes),
        acknowledged: read(&flow.acknowledged),
        rate: flow.rate(),
        not_carried: flow.reasons().into_iter().map(|(reason, count)| (reason.to_owned(), count)).collect(),
    }
}

/// All of one direction.
fn sum<'a>(flows: impl Iterator<Item = &'a Flow>) -> BridgeFlow {
    flows.map(flow).fold(BridgeFlow::default(), |mut sum, one| {
        sum.messages += one.messages;
        sum.bytes += one.bytes;
        sum.acknowledged += one.acknowledged;
        sum.rate += one.rate;
        for (reason, count) in one.not_carried {
            *sum.not_carried.entry(reason).or_default() += count;
        }
        sum
    })
}

fn mapping(direction: Direction, mapping: &BridgeMapping, seen: &Flow, troubles: Vec<String>) -> BridgeMappingView {
    let last = read(&seen.last_at);
    BridgeMappingView {
        direction: direction.into(),
        filter: mapping.names.written_filter().to_owned(),
        new_name: mapping.names.written_name().map(str::to_owned),
        purpose: mapping.purpose.clone(),
        highest_qos: mapping.highest_qos.level(),
        retained: mapping.retained,
        clearing: mapping.clearing,
        condition: mapping.condition.as_ref().map(ToString::to_string),
        limit: mapping.rate.map(|rate| rate.to_string()),
        flow: flow(seen),
        last_at: (last > 0).then(|| date(Time::from_micros(last))),
        troubles,
    }
}

fn phase(phase: Phase) -> BridgePhase {
    match phase {
        Phase::Up => BridgePhase::Up,
        Phase::Connecting => BridgePhase::Connecting,
        Phase::Down => BridgePhase::Down,
        Phase::Paused => BridgePhase::Paused,
        Phase::Draining => BridgePhase::Draining,
    }
}

/// All that is seen of it.
pub(super) fn view(bridges: &Bridges, seen: &Seen, has_secret: bool) -> BridgeView {
    let Standing { phase: now, since, remote, terms, round_trip, failed, next_attempt, trouble, mut troubles } =
        seen.standing();
    let bridge = &seen.bridge;
    let mut waiting = bridges.waiting(bridge);
    if terms.is_none() {
        // While the link is down nothing is under way.
        waiting.messages += std::mem::take(&mut waiting.in_flight);
    }
    let all = [Direction::Push, Direction::Pull].into_iter().flat_map(|direction| {
        let mappings = bridge.mappings(direction).iter().zip(seen.flows(direction));
        mappings.enumerate().map(move |(place, (one, flow))| (direction, place, one, flow))
    });
    let mappings = all
        .map(|(direction, place, one, flow)| {
            mapping(direction, one, flow, troubles.remove(&(direction, place)).unwrap_or_default())
        })
        .collect();
    let of = |direction, unmapped| sum(seen.flows(direction).iter().chain([unmapped]));
    let micros = |time: std::time::Duration| u64::try_from(time.as_micros()).unwrap_or(u64::MAX);
    BridgeView {
        name: bridge.name.clone(),
        purpose: bridge.purpose.clone(),
        phase: phase(now),
        since: date(since),
        remote,
        remotes: bridge.remotes.iter().map(ToString::to_string).collect(),
        version: bridge.version.to_string(),
        client_id: bridge.client_id.clone(),
        session_present: terms.map(|terms| terms.session_present),
        round_trip_us: round_trip.map(micros),
        failed_attempts: failed,
        next_attempt_at: next_attempt.map(date),
        trouble: trouble.map(|(at, words)| BridgeTrouble { at: date(at), words }),
        waiting: BridgeWaiting {
            messages: waiting.messages as u64,
            bytes: waiting.bytes as u64,
            oldest_at: waiting.oldest.map(date),
            in_flight: waiting.in_flight as u64,
        },
        room: BridgeRoom {
            messages: bridge.waiting.messages as u64,
            bytes: bridge.waiting.bytes as u64,
            age_seconds: bridge.waiting.age.map(|age| age.as_secs()),
            full: bridge.waiting.full.into(),
            live: bridge.waiting.live.into(),
        },
        dropped: waiting
            .dropped
            .into_iter()
            .map(|(reason, count)| (reason.to_owned(), count))
            .collect::<BTreeMap<_, _>>(),
        pushed: of(Direction::Push, &seen.unmapped[0]),
        pulled: of(Direction::Pull, &seen.unmapped[1]),
        mappings,
        has_secret,
        identity: bridge.identity().name.to_string(),
    }
}
