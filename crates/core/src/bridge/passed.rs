//! Which brokers a message has passed, so that none takes it twice: a user property that bridges write (§3.3.2.3.7).
//!
//! Its value is an identifier of the message and, behind it, each broker and each link that it has passed, with spaces
//! between: `3f0c…9a harrowmere.52d1 tideway.0b77`. Where it entered by a link of 3.1.1, which has no properties, its way
//! before is not known, and a `?` stands in front. Another broker passes the property on as it came (§3.3.2.3.7).

use std::fmt;

use bytestring::ByteString;
use moorfall_wire::{PublishProperties, UserProperty};

/// The name of the user property.
pub const PASSED: &str = "passed-brokers";

/// Brokers and links on the way at most; what has passed more goes round.
const HOPS: usize = 32;

/// Bytes of a broker's name at most.
const NAME: usize = 200;

/// Bytes of such a value at most.
const LENGTH: usize = 4_096;

/// The way of a message so far.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Passed {
    /// Names the message, wherever it is.
    pub id: Box<str>,
    /// Whether it may have come a way that is not told here.
    pub unsure: bool,
    /// What it has passed, the last one last.
    pub hops: Vec<Box<str>>,
}

impl fmt::Display for Passed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", if self.unsure { "?" } else { "" }, self.id)?;
        self.hops.iter().try_for_each(|hop| write!(f, " {hop}"))
    }
}

impl Passed {
    /// A message that enters a bridge for the first time.
    pub fn new(id: impl Into<Box<str>>, unsure: bool) -> Self {
        Self { id: id.into(), unsure, hops: Vec::new() }
    }

    /// What a message says of its way; `None` if it says nothing, or nothing that can be read.
    pub fn read(properties: &PublishProperties) -> Option<Self> {
        let property = properties.user_properties.iter().find(|property| *property.name == *PASSED)?;
        let value: &str = &property.value;
        if value.len() > LENGTH {
            return None;
        }
        let mut words = value.split(' ').filter(|word| !word.is_empty());
        let first = words.next()?;
        let (id, unsure) = first.strip_prefix('?').map_or((first, false), |id| (id, true));
        (!id.is_empty()).then(|| Self { id: id.into(), unsure, hops: words.map(Into::into).collect() })
    }

    /// Writes the way into a message, in place of what it said before.
    pub fn write(&self, properties: &mut PublishProperties) {
        properties.user_properties.retain(|property| *property.name != *PASSED);
        let value = ByteString::from(self.to_string());
        properties.user_properties.push(UserProperty { name: ByteString::from_static(PASSED), value });
    }

    /// Whether it has passed this broker or link already, or so many that it must go round.
    pub fn has_passed(&self, hop: &str) -> bool {
        self.hops.len() >= HOPS || self.hops.iter().any(|one| **one == *hop)
    }

    /// It passes this one, too.
    pub fn pass(&mut self, hop: &str) {
        if !self.hops.iter().any(|one| **one == *hop) {
            self.hops.push(hop.into());
        }
    }
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
        let mut passed = Passed::read(&properties).unwrap();
        assert!(passed.has_passed("tideway.0b") && !passed.has_passed("harrowmere.52") && !passed.unsure);
        passed.pass("harrowmere.52");
        passed.pass("harrowmere.52");
        passed.write(&mut properties);
        assert_eq!(properties, with("3f tideway.0b harrowmere.52"));
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
                passed.write(&mut again);
                prop_assert_eq!(Passed::read(&again), Some(passed));
            }
        }
    }
}
