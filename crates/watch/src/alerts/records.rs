//! Notices, as they are stored.

use moorfall_contract::kinds::{NoticeState, NoticeWay};
use moorfall_store::{NewNotice, NoticeRecord};
use serde_json::json;

/// A way, as it is stored.
pub(super) fn name(way: NoticeWay) -> &'static str {
    match way {
        NoticeWay::Mail => "mail",
        NoticeWay::Hook => "hook",
        NoticeWay::Topic => "topic",
    }
}

/// The way of this name.
pub(super) fn way(name: &str) -> Option<NoticeWay> {
    [NoticeWay::Mail, NoticeWay::Hook, NoticeWay::Topic].into_iter().find(|way| self::name(*way) == name)
}

/// A state, as it is stored.
pub fn state_name(state: NoticeState) -> &'static str {
    match state {
        NoticeState::Waiting => "waiting",
        NoticeState::Delivered => "delivered",
        NoticeState::GivenUp => "given-up",
    }
}

/// A notice that was not tried yet.
pub(super) fn new_record(NewNotice { id, alert, contact, way, target, at, facts }: NewNotice) -> NoticeRecord {
    let (state, attempts) = (state_name(NoticeState::Waiting).to_owned(), json!([]));
    NoticeRecord { number: 0, id, alert, contact, way, target, at, facts, state, tries: 0, attempts, next_at: Some(at) }
}
