//! Which brokers a message has passed, so that none takes it twice: a user property that bridges write (§3.3.2.3.7).
//!
//! Its value is an identifier of the message and, behind it, each broker and each link that it has passed, with spaces
//! between: `3f0c…9a harrowmere.52d1 tideway.0b77`. Where it entered by a link of 3.1.1, which has no properties, its way
//! before is not known, and a `?` stands in front. Another broker passes the property on as it came (§3.3.2.3.7).

use bytestring::ByteString;
use moorfall_wire::{PublishProperties, UserProperty};

/// The name of the user property.
pub const PASSED: &str = "passed-brokers";

/// Brokers and links on the way at most; what has passed more goes round.
const HOPS: usize = 32;

/// Bytes of a broker's name at most.
const NAME: usize = 200;

/// Room for such a value as most are.
const ROOM: usize = 120;

/// Bytes of such a value at most.
const LENGTH: usize = 4_096;

/// The way of a message so far.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Passed {
    /// Names the message, wherever it is.
    pub id: ByteString,
    /// Whether it may have come a way that is not told here.
    pub unsure: bool,
    /// What it has passed, the last one last, with spaces between.
    hops: ByteString,
}

impl Passed {
    /// A message that enters a bridge for the first time.
    pub fn new(id: impl Into<ByteString>, unsure: bool) -> Self {
        Self { id: id.into(), unsure, hops: ByteString::new() }
    }

    /// What a message says of its way; `None` if it says nothing, or nothing that can be read.
    pub fn read(properties: &PublishProperties) -> Option<Self> {
        let UserProperty { value, .. } = properties.user_properties.iter().find(|one| *one.name == *PASSED)?;
        if value.len() > LENGTH {
            return None;
        }
        let text = value.trim_matches(' ');
        let (first, hops) = text.split_once(' ').unwrap_or((text, ""));
        let (id, unsure) = first.strip_prefix('?').map_or((first, false), |id| (id, true));
        let shared = |part| value.slice_ref(part);
        (!id.is_empty()).then(|| Self { id: shared(id), unsure, hops: shared(hops) })
    }

    /// What it has passed.
    pub fn hops(&self) -> impl Iterator<Item = &str> {
        self.hops.split(' ').filter(|hop| !hop.is_empty())
    }

    /// Whether it has passed this broker or link already, or so many that it must go round.
    pub fn has_passed(&self, hop: &str) -> bool {
        let mut count = 0;
        let is_it = |one: &str| {
            count += 1;
            one == hop
        };
        self.hops().any(is_it) || count >= HOPS
    }

    /// Writes the way into a message, in place of what it said before: it passes these, too.
    pub fn write(&self, and: &[&str], properties: &mut PublishProperties) {
        let more = and.iter().copied().filter(|hop| !self.hops().any(|one| one == *hop));
        write_way((&self.id, self.unsure), self.hops().chain(more), properties);
    }

    /// Writes the way of a message that passes these first.
    pub fn write_first(id: &str, unsure: bool, hops: &[&str], properties: &mut PublishProperties) {
        write_way((id, unsure), hops.iter().copied(), properties);
    }
}

fn write_way<'a>((id, unsure): (&str, bool), hops: impl Iterator<Item = &'a str>, properties: &mut PublishProperties) {
    let mut text = String::with_capacity(ROOM);
    if unsure {
        text.push('?');
    }
    text.push_str(id);
    for hop in hops {
        text.push(' ');
        text.push_str(hop);
    }
    let written = UserProperty { name: ByteString::from_static(PASSED), value: text.into() };
    properties.user_properties.retain(|property| *property.name != *PASSED);
    properties.user_properties.push(written);
}

/// What a broker is called that says so: in CONNECT a bridge, in CONNACK who answers it.
pub fn broker_named(properties: &[UserProperty]) -> Option<&str> {
    let property = properties.iter().find(|property| *property.name == *PASSED)?;
    let name: &str = &property.value;
    (!name.is_empty() && name.len() <= NAME && !name.contains(char::is_whitespace)).then_some(name)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn with(value: &str) -> PublishProperties {
        let user_properties = vec![UserProperty { name: PASSED.into(), value: value.into() }];
        PublishProperties { user_properties, ..PublishProperties::default() }
    }

    #[test]
    fn a_way_is_read_and_written() {
        let mut properties = with("3f tideway.0b");
        let passed = Passed::read(&properties).unwrap();
        assert!(passed.has_passed("tideway.0b") && !passed.has_passed("harrowmere.52") && !passed.unsure);
        passed.write(&["harrowmere.52", "tideway.0b"], &mut properties);
        assert_eq!(properties, with("3f tideway.0b harrowmere.52"));
        Passed::new("4a", true).write(&[], &mut properties);
        assert_eq!(properties, with("?4a"), "in place of what was said before");
        assert!(Passed::read(&with("?3f")).unwrap().unsure);
        assert_eq!(Passed::read(&with("")), None);
        assert_eq!(Passed::read(&with("?")), None);
        assert_eq!(Passed::read(&with(&"x ".repeat(4_000))), None);
        assert_eq!(Passed::read(&PublishProperties::default()), None);
        assert!(Passed::read(&with(&"x ".repeat(40))).unwrap().has_passed("y"), "it goes round");
    }

    proptest! {
        #[test]
        fn whatever_others_write_is_read_or_left(value in "\\PC{0,40}") {
            if let Some(passed) = Passed::read(&with(&value)) {
                let mut again = PublishProperties::default();
                passed.write(&[], &mut again);
                let read = Passed::read(&again).unwrap();
                prop_assert_eq!((&read.id, read.unsure), (&passed.id, passed.unsure));
                prop_assert_eq!(read.hops().collect::<Vec<_>>(), passed.hops().collect::<Vec<_>>());
            }
        }
    }
}
