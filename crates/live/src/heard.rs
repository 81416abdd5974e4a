//! When certain identities and sessions were heard last. Only those that somebody waits for are kept.

use std::collections::HashMap;

use moorfall_core::Time;
use parking_lot::RwLock;

/// Whose messages somebody waits for.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Speaker {
    /// An identity, by its name.
    Identity(String),
    /// A session, by its client identifier.
    Session(String),
}

/// When they were heard last.
#[derive(Debug, Default)]
pub struct Heard {
    identities: RwLock<HashMap<String, Option<Time>>>,
    sessions: RwLock<HashMap<String, Option<Time>>>,
}

impl Heard {
    /// From now on these are waited for, and no others.
    pub fn wait_for(&self, speakers: &[Speaker]) {
        let mut identities = self.identities.write();
        let mut sessions = self.sessions.write();
        identities.retain(|name, _| speakers.contains(&Speaker::Identity(name.clone())));
        sessions.retain(|name, _| speakers.contains(&Speaker::Session(name.clone())));
        for speaker in speakers {
            match speaker {
                Speaker::Identity(name) => identities.entry(name.clone()).or_default(),
                Speaker::Session(name) => sessions.entry(name.clone()).or_default(),
            };
        }
    }

    /// A session of an identity has sent messages.
    pub fn note(&self, identity: &str, client_id: &str, now: Time) {
        for (all, name) in [(&self.identities, identity), (&self.sessions, client_id)] {
            if all.read().contains_key(name)
                && let Some(last) = all.write().get_mut(name)
            {
                *last = Some(now);
            }
        }
    }

    /// When it was heard last, if it was.
    pub fn last(&self, speaker: &Speaker) -> Option<Time> {
        match speaker {
            Speaker::Identity(name) => self.identities.read().get(name).copied().flatten(),
            Speaker::Session(name) => self.sessions.read().get(name).copied().flatten(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_those_that_are_waited_for_are_kept() {
        let heard = Heard::default();
        let (weir, desk) = (Speaker::Identity("kettle-weir".into()), Speaker::Session("duty-desk".into()));
        let at = Time::from_micros;
        heard.note("kettle-weir", "weir-1", at(1));
        heard.wait_for(&[weir.clone(), desk.clone()]);
        assert_eq!(heard.last(&weir), None);
        heard.note("kettle-weir", "duty-desk", at(2));
        heard.note("kettle-weir", "weir-2", at(3));
        assert_eq!((heard.last(&weir), heard.last(&desk)), (Some(at(3)), Some(at(2))));
        heard.wait_for(std::slice::from_ref(&weir));
        assert_eq!((heard.last(&weir), heard.last(&desk)), (Some(at(3)), None));
    }
}
