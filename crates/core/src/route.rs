//! Who receives a topic.

use std::sync::{
    Arc,
    atomic::{AtomicUsize, Ordering},
};

use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::{
    Condition, Delivery, Granted, Judged, Judging, Message, Part, Run, SessionKey, Via,
    blueprint::Owned,
    subscriptions::{Members, Subscriber},
};

/// One session that receives a topic, however many of its filters match.
#[derive(Clone, Debug)]
pub struct Recipient<T> {
    /// Which session.
    pub session: SessionKey,
    /// The highest QoS that its matching subscriptions were granted.
    pub qos: QoS,
    /// Whether the retain flag is passed on as published.
    pub retain_as_published: bool,
    /// Whether the session wants its own messages left out, by every matching subscription.
    pub no_local: bool,
    /// What the session must be told or remember of the subscriptions that matched.
    pub via: Option<Arc<Via>>,
    /// What reaches the session.
    pub handle: T,
}

impl<T> Recipient<T> {
    /// Whether what `publisher` sends is the session's own and it wants none of these ([MQTT-3.8.3-3]).
    pub fn is_own(&self, publisher: SessionKey) -> bool {
        self.no_local && self.session == publisher
    }

    /// The session has one more subscription that matches.
    fn merge(&mut self, more: &Self) {
        self.qos = self.qos.max(more.qos);
        self.retain_as_published |= more.retain_as_published;
        self.no_local &= more.no_local;
        if let Some(more) = &more.via {
            let via = Arc::make_mut(self.via.get_or_insert_default());
            via.identifiers.extend_from_slice(&more.identifiers);
        }
    }

    /// What this recipient is sent of `message`, if anything.
    pub fn delivery(&self, message: &Arc<Message>) -> Option<Delivery> {
        if self.is_own(message.publisher) {
            return None;
        }
        let retain = message.retain && self.retain_as_published;
        let delivery = Delivery::new(Arc::clone(message), message.qos.min(self.qos), retain);
        Some(Delivery { via: self.via.clone(), ..delivery })
    }

    /// What this recipient is sent of `run`, if anything.
    pub fn part(&self, run: &Arc<Run>) -> Option<Part> {
        if self.is_own(run.publisher()) {
            return None;
        }
        Some(Part::new(Arc::clone(run), run.qos().min(self.qos), self.via.clone()))
    }
}

/// One subscription that leads a message to a session, and what it depends on whether it does.
#[derive(Clone, Debug)]
pub struct Way<T> {
    /// Who receives the message by it.
    pub recipient: Recipient<T>,
    /// All of these must be true; `None` if the session receives every message.
    when: Option<Box<[Arc<Condition>]>>,
}

impl<T: Clone> Way<T> {
    pub(crate) fn new(
        session: SessionKey,
        subscriber: &Subscriber<T>,
        shared: Option<&TopicFilter>,
        topic: &TopicName,
    ) -> Self {
        let Subscriber { granted: Granted { options, identifier, condition }, when, handle } = subscriber;
        let told = shared.is_some() || identifier.is_some();
        let via = told.then(|| Arc::new(Via { identifiers: Vec::from_iter(*identifier), shared: shared.cloned() }));
        let recipient = Recipient {
            session,
            qos: options.qos,
            retain_as_published: options.retain_as_published,
            no_local: options.no_local,
            via,
            handle: handle.clone(),
        };
        let design = when.iter().flat_map(|all| all.iter()).filter(|when| when.is_about(topic));
        let when: Vec<_> = condition.iter().cloned().chain(design.map(|when| Arc::clone(&when.condition))).collect();
        Self { recipient, when: (!when.is_empty()).then(|| when.into()) }
    }
}

impl<T> Way<T> {
    /// What must be true of a message, all of it.
    pub fn conditions(&self) -> &[Arc<Condition>] {
        self.when.as_deref().unwrap_or_default()
    }

    /// Whether a message takes it.
    pub fn judge(&self, judging: &mut Judging<'_>) -> Judged {
        judge_all(self.conditions(), judging)
    }
}

/// Whether all of these are true of a message: one that is not decides, whatever cannot be said of the others.
pub fn judge_all<'a>(conditions: impl IntoIterator<Item = &'a Arc<Condition>>, judging: &mut Judging<'_>) -> Judged {
    let mut judged = Judged::True;
    for condition in conditions {
        match judging.judge(condition) {
            Judged::True => {}
            Judged::NotTrue => return Judged::NotTrue,
            Judged::Failed => judged = Judged::Failed,
        }
    }
    judged
}

/// A session of which it depends on the message whether it receives it.
#[derive(Clone, Debug)]
pub struct Conditional<T> {
    /// At least one, all to the same session.
    ways: Box<[Way<T>]>,
}

impl<T: Clone> Conditional<T> {
    /// Its ways.
    pub fn ways(&self) -> &[Way<T>] {
        &self.ways
    }

    /// Who receives a message: the session by all ways whose conditions are true.
    ///
    /// # Errors
    ///
    /// It does not: none of the conditions is true, or so many as could be judged.
    pub fn judge(&self, judging: &mut Judging<'_>) -> Result<Recipient<T>, Judged> {
        let mut merged: Option<Recipient<T>> = None;
        let mut why = Judged::NotTrue;
        for way in &self.ways {
            match way.judge(judging) {
                Judged::True => match &mut merged {
                    None => merged = Some(way.recipient.clone()),
                    Some(kept) => kept.merge(&way.recipient),
                },
                Judged::NotTrue => {}
                Judged::Failed => why = Judged::Failed,
            }
        }
        merged.ok_or(why)
    }

    /// The session as it would receive a message if everything were true.
    pub fn at_best(&self) -> Recipient<T> {
        merged(&self.ways)
    }
}

/// A session as it receives a message by all of these, of which there is at least one.
fn merged<T: Clone>(ways: &[Way<T>]) -> Recipient<T> {
    let mut recipient = ways[0].recipient.clone();
    ways[1..].iter().for_each(|way| recipient.merge(&way.recipient));
    recipient
}

/// A shared subscription that matches: one of its members receives each message (§4.8.2).
#[derive(Debug)]
pub struct Group<T> {
    members: Box<[Way<T>]>,
    turn: Arc<AtomicUsize>,
}

/// How much a member has to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Load {
    /// It is connected, and so many messages wait for it or for its acknowledgement.
    Waiting(usize),
    /// It is away; its session keeps what comes.
    Away,
    /// Its session is over.
    Over,
}

/// Members that are looked at for one message, as long as one of them is connected.
const LOOKED_AT: usize = 8;

impl<T: Clone> Group<T> {
    pub(crate) fn new(filter: &TopicFilter, members: &Members<T>, topic: &TopicName) -> Self {
        let each = members.by_key.iter().map(|(session, member)| Way::new(*session, member, Some(filter), topic));
        Self { members: each.collect(), turn: Arc::clone(&members.turn) }
    }
}

impl<T> Group<T> {
    /// The member whose turn it is: of the next few in the circle the one that has the least to do. Nobody if all
    /// sessions are over.
    pub fn choose(&self, mut load: impl FnMut(&Way<T>) -> Load) -> Option<&Recipient<T>> {
        let count = self.members.len();
        let turn = self.turn.fetch_add(1, Ordering::Relaxed);
        let mut best = None;
        for step in 0..count {
            if step >= LOOKED_AT && best.is_some_and(|(load, _)| load < Load::Away) {
                break;
            }
            let member = &self.members[turn.wrapping_add(step) % count];
            let load = load(member);
            if best.is_none_or(|(least, _)| load < least) {
                best = Some((load, &member.recipient));
            }
        }
        best.filter(|(load, _)| *load != Load::Over).map(|(_, member)| member)
    }

    /// All members.
    pub fn members(&self) -> &[Way<T>] {
        &self.members
    }
}

/// All who receive one topic.
#[derive(Debug)]
pub struct Route<T> {
    /// Sessions with subscriptions of their own that receive every message.
    pub recipients: Box<[Recipient<T>]>,
    /// Sessions of which it depends on the message.
    pub conditional: Box<[Conditional<T>]>,
    /// Shared subscriptions.
    pub groups: Box<[Group<T>]>,
    /// Whether a condition names the message before.
    pub looks_back: bool,
    /// How the topic is owned, if it is.
    pub owned: Option<Arc<Owned>>,
}

impl<T: Clone> Route<T> {
    /// From all subscriptions that match. A session with several receives a message once, at the highest QoS among them,
    /// with all their identifiers (§3.3.4).
    pub(crate) fn new(mut ways: Vec<Way<T>>, groups: Vec<Group<T>>) -> Self {
        let members = groups.iter().flat_map(|group| &group.members);
        let all = ways.iter().chain(members).flat_map(Way::conditions);
        let looks_back = all.into_iter().any(|condition| condition.looks_back());
        ways.sort_by_key(|way| way.recipient.session);
        let (mut recipients, mut conditional): (Vec<Recipient<T>>, Vec<_>) = (Vec::new(), Vec::new());
        for ways in ways.chunk_by(|one, next| one.recipient.session == next.recipient.session) {
            if ways.iter().all(|way| way.when.is_none()) {
                recipients.push(merged(ways));
            } else {
                conditional.push(Conditional { ways: ways.into() });
            }
        }
        Self {
            recipients: recipients.into(),
            conditional: conditional.into(),
            groups: groups.into(),
            looks_back,
            owned: None,
        }
    }

    /// The same for a topic that is owned in this way.
    pub(crate) fn owned_by(self, owned: Option<Arc<Owned>>) -> Self {
        Self { owned, ..self }
    }
}

impl<T> Route<T> {
    /// Whether nobody receives the topic.
    pub fn is_empty(&self) -> bool {
        self.recipients.is_empty() && self.conditional.is_empty() && self.groups.is_empty()
    }

    /// Whether it depends on neither a message nor its publisher who receives it.
    pub fn is_plain(&self) -> bool {
        self.conditional.is_empty() && self.groups.is_empty() && self.owned.is_none()
    }
}
