//! What waits in a queue and is no longer in memory: of each delivery only what has to be known before it is sent.

use std::{
    collections::{HashMap, VecDeque},
    hash::{DefaultHasher, Hash, Hasher},
    sync::Arc,
};

use moorfall_wire::TopicName;

use crate::{Delivery, Filed, Time};

/// A delivery of which only the database has the message.
#[derive(Clone, Copy, Debug)]
pub struct Shelved {
    /// Its place in the queue.
    pub sequence: u64,
    /// The number of its message.
    pub number: u64,
    /// When the message was accepted.
    pub received: Time,
    /// Bytes of payload, topic and properties; above them the marks.
    weight_and_marks: u32,
    /// Of the topic: two with the same digest count as one.
    topic: u32,
}

/// What is known of a few besides.
#[derive(Debug)]
struct Beside {
    /// Present if the message is not this session's alone.
    filed: Option<Arc<Filed>>,
    journey: u64,
}

/// What is left of a delivery that leaves its queue and is not sent.
#[derive(Clone, Debug)]
pub struct Left {
    /// Its place in the queue; 0 if it was not kept.
    pub sequence: u64,
    /// The number under which its journey is recorded; 0 if it is not.
    pub journey: u64,
    /// The number of its message.
    pub number: Option<u64>,
    /// Present unless the message is this session's alone.
    pub filed: Option<Arc<Filed>>,
}

impl From<&Delivery> for Left {
    fn from(delivery: &Delivery) -> Self {
        let message = &delivery.message;
        let (sequence, journey) = (delivery.sequence, message.journey());
        Self { sequence, journey, number: message.number(), filed: message.filed().cloned() }
    }
}

/// Which deliveries are to be read next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Page {
    /// The place of the first.
    pub first: u64,
    /// The place of the last.
    pub last: u64,
}

/// What is kept of a delivery, 20 bytes: how far it is from the first one of its piece.
#[derive(Clone, Copy, Debug)]
struct Row {
    sequence: u32,
    number: u32,
    /// Milliseconds.
    received: u32,
    weight_and_marks: u32,
    topic: u32,
}

/// Rows that follow each other.
#[derive(Debug)]
struct Piece {
    base: Shelved,
    /// Never empty.
    rows: VecDeque<Row>,
}

impl Piece {
    /// Rows of a piece, 40 KiB.
    const ROWS: usize = 2_048;

    /// The row of a delivery, if it belongs into this piece.
    fn row(&self, shelved: &Shelved) -> Option<Row> {
        let apart = |one: u64, base: u64| u32::try_from(one.checked_sub(base)?).ok();
        let received = shelved.received.as_micros().checked_sub(self.base.received.as_micros())?;
        Some(Row {
            sequence: apart(shelved.sequence, self.base.sequence)?,
            number: apart(shelved.number, self.base.number)?,
            received: u32::try_from(received / 1_000).ok()?,
            weight_and_marks: shelved.weight_and_marks,
            topic: shelved.topic,
        })
    }

    fn shelved(&self, row: &Row) -> Shelved {
        let Row { sequence, number, received, weight_and_marks, topic } = *row;
        let received = self.base.received.as_micros() + u64::from(received) * 1_000;
        Shelved {
            sequence: self.base.sequence + u64::from(sequence),
            number: self.base.number + u64::from(number),
            received: Time::from_micros(received),
            weight_and_marks,
            topic,
        }
    }

    fn iter(&self) -> impl Iterator<Item = Shelved> {
        self.rows.iter().map(|row| self.shelved(row))
    }
}

/// Rows in pieces, so that a long shelf is never copied to grow.
#[derive(Debug, Default)]
struct Rows {
    pieces: VecDeque<Piece>,
    len: usize,
}

impl Rows {
    fn front(&self) -> Option<Shelved> {
        self.iter().next()
    }

    fn iter(&self) -> impl Iterator<Item = Shelved> {
        self.pieces.iter().flat_map(Piece::iter)
    }

    fn push_back(&mut self, shelved: Shelved) {
        self.len += 1;
        if let Some(piece) = self.pieces.back_mut().filter(|piece| piece.rows.len() < Piece::ROWS)
            && let Some(row) = piece.row(&shelved)
        {
            return piece.rows.push_back(row);
        }
        let mut piece = Piece { base: shelved, rows: VecDeque::new() };
        piece.rows.extend(piece.row(&shelved));
        self.pieces.push_back(piece);
    }

    fn pop_front(&mut self) -> Option<Shelved> {
        let piece = self.pieces.front_mut()?;
        let row = piece.rows.pop_front()?;
        let shelved = piece.shelved(&row);
        if piece.rows.is_empty() {
            self.pieces.pop_front();
        }
        self.len -= 1;
        Some(shelved)
    }

    /// Adds all of these behind.
    fn append(&mut self, mut others: Self) {
        self.len += others.len;
        self.pieces.append(&mut others.pieces);
    }
}

/// Deliveries that are not in memory, in the order of their places.
#[derive(Debug, Default)]
pub(crate) struct Shelf {
    rows: Rows,
    beside: HashMap<u64, Beside>,
    /// How many there are of each topic, by digest; kept only while somebody wants to know.
    topics: Option<HashMap<u32, u32>>,
}

impl Shelf {
    /// Deliveries that are read at a time.
    const PAGE: usize = 4_096;

    pub(crate) fn len(&self) -> usize {
        self.rows.len
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.rows.len == 0
    }

    /// The first one.
    pub(crate) fn front(&self) -> Option<Shelved> {
        self.rows.front()
    }

    /// From now on it is known of which topics there are deliveries, if somebody wants to know.
    pub(crate) fn tell_topics(&mut self, wanted: bool) {
        if wanted != self.topics.is_some() {
            self.topics = wanted.then(|| {
                let mut topics = HashMap::new();
                self.rows.iter().for_each(|row| *topics.entry(row.topic).or_default() += 1);
                topics
            });
        }
    }

    /// Whether a delivery of this topic may be among them.
    pub(crate) fn may_have(&self, topic: &TopicName) -> bool {
        self.topics.as_ref().is_none_or(|topics| topics.contains_key(&digest(topic)))
    }

    /// Whether a delivery can be here: its message is known to the database, and it can't become another session's turn.
    pub(crate) fn takes(delivery: &Delivery) -> bool {
        let is_filed = delivery.sequence > 0 && delivery.message.number().is_some();
        is_filed && delivery.shared().is_none() && delivery.message.weight() <= Shelved::HEAVIEST as usize
    }

    fn row(&mut self, delivery: &Delivery) -> Option<Shelved> {
        let message = &delivery.message;
        let (sequence, number) = (delivery.sequence, message.number()?);
        // One that was published as retained may become the retained one of its topic again.
        let filed = message.filed().filter(|filed| filed.is_shared() || message.retain).cloned();
        if filed.is_some() || message.journey() != 0 {
            self.beside.insert(sequence, Beside { filed, journey: message.journey() });
        }
        Some(Shelved {
            sequence,
            number,
            received: message.received,
            weight_and_marks: Shelved::weighing(message.weight())
                | if delivery.duplicate { Shelved::DUPLICATE } else { 0 }
                | if message.is_of_untold_way() { Shelved::UNTOLD } else { 0 },
            topic: digest(&message.topic),
        })
    }

    fn count(&mut self, row: &Shelved) {
        if let Some(topics) = &mut self.topics {
            *topics.entry(row.topic).or_default() += 1;
        }
    }

    /// Puts one behind all others. Nobody may be about to hand its message to one more session.
    pub(crate) fn push_back(&mut self, delivery: &Delivery) {
        if let Some(row) = self.row(delivery) {
            self.count(&row);
            self.rows.push_back(row);
        }
    }

    /// Puts those where they belong by their places.
    pub(crate) fn merge(&mut self, mut deliveries: Vec<Delivery>) {
        if deliveries.is_empty() {
            return;
        }
        deliveries.sort_unstable_by_key(|delivery| delivery.sequence);
        let mut shelved = std::mem::take(&mut self.rows);
        for delivery in &deliveries {
            while shelved.front().is_some_and(|row| row.sequence < delivery.sequence) {
                shelved.pop_front().into_iter().for_each(|row| self.rows.push_back(row));
            }
            self.push_back(delivery);
        }
        self.rows.append(shelved);
    }

    /// Puts one that was found in the database behind all others; `filed` is there unless the message is its session's
    /// alone.
    pub(crate) fn push_stored(&mut self, row: Shelved, filed: Option<Arc<Filed>>) {
        if filed.is_some() {
            self.beside.insert(row.sequence, Beside { filed, journey: 0 });
        }
        self.count(&row);
        self.rows.push_back(row);
    }

    fn take(&mut self) -> Option<(Shelved, Option<Beside>)> {
        let row = self.rows.pop_front()?;
        if let Some(topics) = &mut self.topics
            && let Some(count) = topics.get_mut(&row.topic)
        {
            *count -= 1;
            if *count == 0 {
                topics.remove(&row.topic);
            }
        }
        let beside = self.beside.remove(&row.sequence);
        if self.beside.is_empty() {
            self.beside = HashMap::new();
        }
        Some((row, beside))
    }

    /// Takes the first one, which is not to be sent; with its weight.
    pub(crate) fn pop(&mut self) -> Option<(Left, usize)> {
        let (row, beside) = self.take()?;
        let (filed, journey) = beside.map_or((None, 0), |beside| (beside.filed, beside.journey));
        Some((Left { sequence: row.sequence, journey, number: Some(row.number), filed }, row.weight()))
    }

    /// What is to be read next: so much that it takes this in memory at most, if `cost` says what a weight takes.
    pub(crate) fn page(&self, most: usize, cost: impl Fn(usize) -> usize) -> Option<Page> {
        let first = self.rows.front()?;
        let mut bytes = 0;
        let fits = self.rows.iter().take(Self::PAGE).take_while(|row| {
            let is_first = bytes == 0;
            bytes += cost(row.weight());
            is_first || bytes <= most
        });
        Some(Page { first: first.sequence, last: fits.last()?.sequence })
    }

    /// Takes the next one of a page, with its message as it was read: the rows of a page in their order, each once. Rows
    /// of deliveries that are not here any more are passed over, and so are deliveries that the database does not
    /// have, which are given to `lost`.
    pub(crate) fn read(&mut self, read: Delivery, mut lost: impl FnMut(Left, usize)) -> Option<Delivery> {
        while self.rows.front().is_some_and(|row| row.sequence < read.sequence) {
            self.pop().into_iter().for_each(|(left, weight)| lost(left, weight));
        }
        if self.rows.front().is_none_or(|row| row.sequence > read.sequence) {
            return None;
        }
        let (row, beside) = self.take()?;
        let (filed, journey) = beside.map_or((None, 0), |beside| (beside.filed, beside.journey));
        let message = Arc::try_unwrap(read.message).unwrap_or_else(|shared| shared.detached());
        let message = if row.is(Shelved::UNTOLD) { message.of_untold_way() } else { message };
        let message = if journey != 0 { message.followed(journey) } else { message };
        message.file_as(filed.unwrap_or_else(|| Filed::new(row.number, 1)));
        Some(Delivery { message: Arc::new(message), duplicate: row.is(Shelved::DUPLICATE), ..read })
    }

    /// The deliveries of a page that it did not have are over; they are given to `lost`.
    pub(crate) fn end_page(&mut self, page: Page, mut lost: impl FnMut(Left, usize)) {
        while self.rows.front().is_some_and(|row| row.sequence <= page.last) {
            self.pop().into_iter().for_each(|(left, weight)| lost(left, weight));
        }
    }
}

/// What stands for a topic. Two that agree in it only wait for each other without need.
fn digest(topic: &str) -> u32 {
    let mut hasher = DefaultHasher::new();
    topic.hash(&mut hasher);
    let [.., a, b, c, d] = hasher.finish().to_be_bytes();
    u32::from_be_bytes([a, b, c, d])
}

impl Shelved {
    /// An earlier run of the service may have sent it.
    const DUPLICATE: u32 = 1 << 31;

    /// The message came from a client of 3.1.1.
    const UNTOLD: u32 = 1 << 30;

    /// The greatest weight, which no packet of MQTT comes near.
    const HEAVIEST: u32 = Self::UNTOLD - 1;

    fn weighing(weight: usize) -> u32 {
        u32::try_from(weight).unwrap_or(u32::MAX).min(Self::HEAVIEST)
    }

    fn is(&self, mark: u32) -> bool {
        self.weight_and_marks & mark != 0
    }

    /// One that was found in the database: its place in the queue, the number of its message, when that was accepted and
    /// under which topic, and bytes of payload, topic and properties.
    pub fn found(sequence: u64, number: u64, received: Time, topic: &str, weight: usize) -> Self {
        Self { sequence, number, received, weight_and_marks: Self::weighing(weight), topic: digest(topic) }
    }

    /// The same, which an earlier run of the service may have sent.
    #[must_use]
    pub fn sent_perhaps(self) -> Self {
        Self { weight_and_marks: self.weight_and_marks | Self::DUPLICATE, ..self }
    }

    /// Bytes of payload, topic and properties.
    pub fn weight(&self) -> usize {
        (self.weight_and_marks & Self::HEAVIEST) as usize
    }
}
