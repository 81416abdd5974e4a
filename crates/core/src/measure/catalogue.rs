//! The table of all measures.

use serde::Serialize;
use strum::{IntoStaticStr, VariantArray};

use super::labels::{By, Label};

/// Hands the catalogue to a macro. A line is a measure: its name as a field and as a variant, its unit, what it is told
/// apart by, whether history keeps it, and what it says, for people.
#[macro_export]
macro_rules! measures {
    ($then:ident) => {
        $then! {
            flows {
                messages_in MessagesIn: Messages by Qos, History,
                    "Messages accepted from clients, Will Messages included.";
                messages_out MessagesOut: Messages by Qos, History,
                    "Messages sent to clients.";
                bytes_in BytesIn: Bytes by Nothing, History,
                    "Bytes read from clients.";
                bytes_out BytesOut: Bytes by Nothing, History,
                    "Bytes written to clients.";
                withheld Withheld: Messages by Withheld, History,
                    "Messages that were routed to a session and not sent.";
                left_out LeftOut: Messages by Nothing, History,
                    "Messages that subscribers did not get because their conditions are not true.";
                not_owner NotOwner: Messages by Nothing, History,
                    "Messages that nobody got because another client owns their topic.";
                refused Refused: Attempts by Refused, History,
                    "Attempts to publish or subscribe that were refused.";
            }
            counters {
                connections_accepted ConnectionsAccepted: Connections by Nothing, History,
                    "Connections whose client was accepted.";
                connections_refused ConnectionsRefused: Connections by NotAccepted, History,
                    "Connections that were refused.";
                connections_unfinished ConnectionsUnfinished: Connections by Ended, History,
                    "Connections that ended before their client was accepted or refused.";
                connections_unsecured ConnectionsUnsecured: Connections by Nothing, History,
                    "Connections that came to nothing in the handshake of TLS or WebSocket.";
                connections_ended ConnectionsEnded: Connections by Ended, History,
                    "Connections of accepted clients that have ended.";
                sessions_started SessionsStarted: Sessions by Nothing, History,
                    "Sessions that began.";
                sessions_resumed SessionsResumed: Sessions by Nothing, History,
                    "Sessions to which a client came back.";
                sessions_expired SessionsExpired: Sessions by Nothing, History,
                    "Sessions that expired while their client was away.";
                messages_acknowledged MessagesAcknowledged: Messages by Nothing, History,
                    "QoS 1 and 2 messages that clients acknowledged to the end.";
                wills_sent WillsSent: Messages by Nothing, History,
                    "Will Messages that were published.";
                packets_in PacketsIn: Packets by Packet, History,
                    "Packets from clients.";
                packets_out PacketsOut: Packets by Packet, History,
                    "Packets to clients.";
                journal_batches JournalBatches: Batches by Nothing, History,
                    "Batches of the journal that were committed.";
                journal_rows JournalRows: Rows by Nothing, History,
                    "Rows of the journal that were committed.";
                bridged Bridged: Messages by Direction, History,
                    "Messages that bridges carried to the other side.";
                bridged_bytes BridgedBytes: Bytes by Direction, History,
                    "Bytes of the payloads that bridges carried.";
                bridge_not_carried BridgeNotCarried: Messages by NotCarried, History,
                    "Messages that bridges had and did not carry on.";
                derived Derived: Messages by Nothing, History,
                    "Messages that derived topics published.";
                derived_failed DerivedFailed: Messages by Nothing, History,
                    "Messages of which a derived topic could make no value.";
                came_back CameBack: Messages by CameBack, History,
                    "Messages that came by bridges once more and were not passed on.";
            }
            gauges {
                sessions_connected SessionsConnected: Sessions by Nothing, History,
                    "Sessions whose client is connected.";
                sessions_away SessionsAway: Sessions by Nothing, History,
                    "Sessions that are kept while their client is away.";
                subscriptions Subscriptions: Subscriptions by Nothing, History,
                    "Subscriptions of all sessions.";
                shared_groups SharedGroups: Groups by Nothing, History,
                    "Groups of shared subscriptions.";
                queued Queued: Messages by Nothing, History,
                    "Messages that wait for sessions; summed over all sessions in turn, at the latest every 10 s.";
                queued_bytes QueuedBytes: Bytes by Nothing, History,
                    "Bytes of the messages that wait for sessions.";
                in_flight InFlight: Messages by Nothing, History,
                    "Messages that were sent at QoS 1 or 2 and not acknowledged to the end; summed like those that wait.";
                retained Retained: Messages by Nothing, History,
                    "Retained messages, without those of the service itself.";
                retained_bytes RetainedBytes: Bytes by Nothing, History,
                    "Bytes of payloads, topics and properties of retained messages.";
                topics Topics: Topics by Nothing, History,
                    "Topics in the live hierarchy.";
                journal_backlog JournalBacklog: Rows by Nothing, History,
                    "Rows of the journal that are not committed.";
                journal_promises JournalPromises: Promises by Nothing, History,
                    "Acknowledgements that wait for a commit.";
                database_up DatabaseUp: Flag by Nothing, History,
                    "1 while the database answers, else 0.";
                database_behind DatabaseBehind: Seconds by Nothing, History,
                    "How long the oldest batch of the journal has been waiting to be committed.";
                database_bytes DatabaseBytes: Bytes by Nothing, History,
                    "Size of the database.";
                memory_bytes MemoryBytes: Bytes by Nothing, History,
                    "Memory of the service that is in use (resident).";
                cpu Cpu: Cores by Nothing, History,
                    "Processor cores that the service keeps busy, over the last reading.";
                descriptors Descriptors: Descriptors by Nothing, History,
                    "Open file descriptors of the service.";
                descriptors_limit DescriptorsLimit: Descriptors by Nothing, Now,
                    "File descriptors that the service may have open.";
                bridges_up BridgesUp: Bridges by Nothing, History,
                    "Bridges whose link is up.";
                bridges_down BridgesDown: Bridges by Nothing, History,
                    "Bridges whose link is down though they were not told to rest.";
                bridge_waiting BridgeWaiting: Messages by Nothing, History,
                    "Messages that wait for bridges.";
                bridge_waiting_bytes BridgeWaitingBytes: Bytes by Nothing, History,
                    "Bytes of the messages that wait for bridges.";
                bridge_oldest BridgeOldest: Seconds by Nothing, History,
                    "How long the message has waited that waits longest for a bridge.";
                worker_lag WorkerLag: Seconds by Nothing, History,
                    "How late tasks get their turn: the longest delay of a timer, over the last 10 s.";
            }
            timings {
                publish_to_deliver PublishToDeliver: Seconds by Quantile, History,
                    "From a message's arrival until it is handed to a receiver's connection, over the last 10 s.";
                publish_to_acknowledge PublishToAcknowledge: Seconds by Quantile, History,
                    "From the arrival of a QoS 1 or 2 message until its publisher is answered, over the last 10 s.";
                journal_commit JournalCommit: Seconds by Quantile, History,
                    "How long the commits of the journal took, over the last 10 s.";
            }
        }
    };
}

/// What a measure counts, or is told in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, IntoStaticStr)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
#[allow(missing_docs, reason = "they are what their names say")]
pub enum Unit {
    Messages,
    Bytes,
    Attempts,
    Connections,
    Sessions,
    Packets,
    Batches,
    Rows,
    Subscriptions,
    Groups,
    Topics,
    Bridges,
    Promises,
    /// 0 or 1.
    Flag,
    Seconds,
    /// Of a processor.
    Cores,
    /// Of files and connections.
    Descriptors,
}

/// How a measure behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// It grows from the start of the service on; what matters is its rate.
    Counter,
    /// It goes up and down.
    Gauge,
    /// Quantiles of many times that were taken.
    Timing,
}

/// Whether history keeps a measure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// It does.
    History,
    /// Only the value of now is known.
    Now,
}

/// What the catalogue says of one measure.
#[derive(Debug)]
struct Line {
    name: &'static str,
    kind: Kind,
    unit: Unit,
    by: By,
    kept: Kept,
    explanation: &'static str,
}

macro_rules! catalogue {
    (
        flows { $($flow:ident $Flow:ident: $fu:ident by $fb:ident, $fk:ident, $fw:literal;)+ }
        counters { $($counter:ident $Counter:ident: $cu:ident by $cb:ident, $ck:ident, $cw:literal;)+ }
        gauges { $($gauge:ident $Gauge:ident: $gu:ident by $gb:ident, $gk:ident, $gw:literal;)+ }
        timings { $($timing:ident $Timing:ident: $tu:ident by $tb:ident, $tk:ident, $tw:literal;)+ }
    ) => {
        /// A measure.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, VariantArray)]
        pub enum Measure {
            $(#[doc = $fw] $Flow,)+
            $(#[doc = $cw] $Counter,)+
            $(#[doc = $gw] $Gauge,)+
            $(#[doc = $tw] $Timing,)+
        }

        const LINES: &[Line] = &[
            $(catalogue!(@line $flow Counter $fu $fb $fk $fw),)+
            $(catalogue!(@line $counter Counter $cu $cb $ck $cw),)+
            $(catalogue!(@line $gauge Gauge $gu $gb $gk $gw),)+
            $(catalogue!(@line $timing Timing $tu $tb $tk $tw),)+
        ];
    };
    (@line $name:ident $kind:ident $unit:ident $by:ident $kept:ident $words:literal) => {
        Line {
            name: stringify!($name),
            kind: Kind::$kind,
            unit: Unit::$unit,
            by: By::$by,
            kept: Kept::$kept,
            explanation: $words,
        }
    };
}

measures!(catalogue);

/// Where the values of each measure begin, and behind the last one their number.
const FIRST: [usize; LINES.len() + 1] = {
    let mut first = [0; LINES.len() + 1];
    let mut at = 0;
    while at < LINES.len() {
        first[at + 1] = first[at] + width(LINES[at].by);
        at += 1;
    }
    first
};

const fn width(by: By) -> usize {
    let labels = by.labels().len();
    if labels == 0 { 1 } else { labels }
}

const fn end_of(kind: Kind) -> usize {
    let mut at = 0;
    let mut end = 0;
    while at < LINES.len() {
        if LINES[at].kind as u8 == kind as u8 {
            end = FIRST[at + 1];
        }
        at += 1;
    }
    end
}

/// Values of counters; they come first.
pub const COUNTERS: usize = end_of(Kind::Counter);

/// Values of gauges; they come next.
pub const GAUGES: usize = end_of(Kind::Gauge) - COUNTERS;

/// All values: one for each label of each measure.
pub const SERIES: usize = FIRST[LINES.len()];

impl Measure {
    /// All measures, in the order in which they are shown.
    pub const ALL: &'static [Self] = Self::VARIANTS;

    const fn line(self) -> &'static Line {
        &LINES[self as usize]
    }

    /// Its name.
    pub const fn name(self) -> &'static str {
        self.line().name
    }

    /// How it behaves.
    pub const fn kind(self) -> Kind {
        self.line().kind
    }

    /// What it counts.
    pub const fn unit(self) -> Unit {
        self.line().unit
    }

    /// What it is told apart by.
    pub const fn by(self) -> By {
        self.line().by
    }

    /// Whether history keeps it.
    pub const fn is_kept(self) -> bool {
        matches!(self.line().kept, Kept::History)
    }

    /// What it says, in a sentence.
    pub const fn explanation(self) -> &'static str {
        self.line().explanation
    }

    /// The measure of this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|measure| measure.name() == name)
    }

    /// The place of its first value.
    pub const fn first(self) -> usize {
        FIRST[self as usize]
    }

    /// The places of its values.
    pub fn places(self) -> std::ops::Range<usize> {
        FIRST[self as usize]..FIRST[self as usize + 1]
    }

    /// The place of the value of one label.
    pub fn place<L: Label>(self, label: L) -> usize {
        debug_assert_eq!(self.by(), L::BY, "{} is told apart by something else", self.name());
        self.first() + label.place()
    }

    /// All of it, and then each label.
    pub fn series(self) -> impl Iterator<Item = Series> {
        let labels = (0..self.by().labels().len()).map(move |label| Series { measure: self, label: Some(label as u8) });
        let all = (self.kind() != Kind::Timing).then_some(Series { measure: self, label: None });
        all.into_iter().chain(labels)
    }
}

/// A measure, or what of it goes by one label.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Series {
    measure: Measure,
    /// The place of the label; `None` is all of it.
    label: Option<u8>,
}

impl From<Measure> for Series {
    /// All of it; of times that were taken the median.
    fn from(measure: Measure) -> Self {
        Self { measure, label: (measure.kind() == Kind::Timing).then_some(0) }
    }
}

impl Series {
    /// Every series there is.
    pub fn all() -> impl Iterator<Item = Self> {
        Measure::ALL.iter().flat_map(|measure| measure.series())
    }

    /// The measure.
    pub fn measure(self) -> Measure {
        self.measure
    }

    /// Its label, if it is not all of the measure.
    pub fn label(self) -> Option<&'static str> {
        self.label.map(|place| self.measure.by().labels()[usize::from(place)])
    }

    /// Its places among all values, to be summed.
    pub(super) fn places(self) -> std::ops::Range<usize> {
        let all = self.measure.places();
        match self.label {
            None => all,
            Some(label) => all.start + usize::from(label)..all.start + usize::from(label) + 1,
        }
    }

    /// The series of this name: that of a measure, for one label followed by a slash and the label.
    pub fn named(name: &str) -> Option<Self> {
        let (measure, label) = match name.split_once('/') {
            None => return Measure::named(name).map(Self::from),
            Some((measure, label)) => (Measure::named(measure)?, label),
        };
        let place = measure.by().labels().iter().position(|known| *known == label)?;
        Some(Self { measure, label: Some(place as u8) })
    }
}

impl std::fmt::Display for Series {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.measure.name())?;
        self.label().map_or(Ok(()), |label| write!(f, "/{label}"))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use moorfall_wire::QoS;

    use super::*;

    #[test]
    fn each_value_has_a_place_of_its_own() {
        let labelled = Series::all().filter(|series| series.label.is_some() || series.measure.by() == By::Nothing);
        let places: Vec<usize> = labelled.flat_map(Series::places).collect();
        assert_eq!(places, (0..SERIES).collect::<Vec<_>>());
        let counters = Measure::ALL.iter().filter(|measure| measure.kind() == Kind::Counter);
        assert_eq!(counters.map(|measure| measure.places().len()).sum::<usize>(), COUNTERS);
        assert!(Measure::WorkerLag.first() == COUNTERS + GAUGES - 1);
        assert_eq!(Measure::MessagesOut.place(QoS::AtLeastOnce), 4);
    }

    #[test]
    fn a_series_is_found_by_its_name() {
        let names: BTreeSet<String> = Series::all().map(|series| series.to_string()).collect();
        assert_eq!(names.len(), Series::all().count(), "no two have one name");
        for series in Series::all() {
            assert_eq!(Series::named(&series.to_string()), Some(series));
        }
        assert_eq!(Series::named("messages_in/1").unwrap().label(), Some("1"));
        assert_eq!(Series::named("journal_commit").unwrap().label(), Some("median"));
        for wrong in ["", "/", "messages", "messages_in/", "messages_in/3", "bytes_in/0"] {
            assert_eq!(Series::named(wrong), None, "{wrong}");
        }
    }
}
