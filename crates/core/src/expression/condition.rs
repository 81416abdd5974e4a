//! Conditions of subscriptions: of which messages they are true.

use std::{
    cell::OnceCell,
    collections::HashMap,
    fmt,
    sync::{Arc, LazyLock, Weak},
};

use cel::{
    Value,
    common::{
        ast::{Expr, IdedExpr, LiteralValue, operators},
        types::CelNull,
        value::CowVal,
    },
    context::VariableResolver,
};
use foldhash::fast::RandomState;
use smallvec::SmallVec;
use tracing_mutex::parkinglot::Mutex;

use super::{
    Compiled, ExpressionError, MessageFields, NOT_TRUTH, Names, NoValue, PAYLOAD,
    payload_value::{PayloadValue, payload_of},
    simple::{NoVerdict, Simple},
};

/// What a condition may name.
const OF_SUBSCRIPTION: Names<'_> = Names {
    known: &["topic", "levels", "payload", "qos", "retained", "before"],
    remedy: "write topic, levels[N], payload, payload.FIELD, before.FIELD, qos or retained",
};

/// Conditions that somebody has, by what they say: so that one that many have is read and judged once.
static SHARED: LazyLock<Mutex<Shared>> = LazyLock::new(Mutex::default);

/// Conditions from which on it is looked for those that nobody has any more.
const MANY: usize = 1_024;

#[derive(Default)]
struct Shared {
    known: HashMap<Box<str>, Weak<Condition>, RandomState>,
    /// How many there may be until those that nobody has are taken out.
    most: usize,
}

/// An expression that is true or false of a message, and perhaps of the one before on its topic.
#[derive(Clone)]
pub struct Condition {
    compiled: Compiled,
    simple: Option<Simple>,
    looks_back: bool,
}

impl PartialEq for Condition {
    fn eq(&self, other: &Self) -> bool {
        self.text() == other.text()
    }
}

impl Eq for Condition {}

impl fmt::Debug for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.compiled.text)
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.compiled.text)
    }
}

/// Whether a subscriber gets a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Judged {
    /// Its condition is true.
    True,
    /// It is not.
    NotTrue,
    /// It is neither: a field is missing, or something can't be compared.
    Failed,
}

impl Condition {
    /// Reads a condition.
    ///
    /// # Errors
    ///
    /// It can't be read, names what there is not, could cost too much, or gives something else than true or false.
    pub fn parse(text: &str) -> Result<Self, ExpressionError> {
        let compiled = Compiled::parse(text, &OF_SUBSCRIPTION)?;
        let example = compiled.value(&Of { fields: &MessageFields::new("a", b"", 0, false), before: None });
        let compiled = compiled.checked(example)?;
        let root = compiled.program.expression();
        if gives_no_truth(root) {
            return Err(NOT_TRUTH.clone());
        }
        let simple = Simple::new(root);
        let looks_back = compiled.program.references().has_variable("before");
        Ok(Self { compiled, simple, looks_back })
    }

    /// Reads a condition, or gives the one that somebody has already and that says the same.
    ///
    /// # Errors
    ///
    /// As for [`Condition::parse`].
    pub fn shared(text: &str) -> Result<Arc<Self>, ExpressionError> {
        if let Some(known) = SHARED.lock().known.get(text).and_then(Weak::upgrade) {
            return Ok(known);
        }
        let read = Arc::new(Self::parse(text)?);
        let mut shared = SHARED.lock();
        if shared.known.len() >= shared.most.max(MANY) {
            shared.known.retain(|_, known| known.strong_count() > 0);
            shared.most = shared.known.len() * 2;
        }
        let known = shared.known.entry(text.into()).or_default();
        Ok(known.upgrade().unwrap_or_else(|| {
            *known = Arc::downgrade(&read);
            read
        }))
    }

    /// Whether it is true of a message alone, without any before it.
    pub fn holds(&self, topic: &str, payload: &[u8], qos: u8, retained: bool) -> bool {
        Judging::new(topic, payload, (qos, retained), None).judge_once(self) == Judged::True
    }

    /// Whether it names the message before.
    pub fn looks_back(&self) -> bool {
        self.looks_back
    }

    /// Whether it is of a form that is judged at little cost.
    pub fn is_simple(&self) -> bool {
        self.simple.is_some()
    }

    /// Steps that it can take at most, each of which takes well below a microsecond.
    pub fn steps(&self) -> u64 {
        self.compiled.steps
    }

    /// What it says; two that say the same judge the same.
    pub fn text(&self) -> &str {
        &self.compiled.text
    }
}

/// Whether it is plain from what it does that it gives something else than true or false.
fn gives_no_truth(root: &IdedExpr) -> bool {
    match &root.expr {
        Expr::Call(call) => matches!(
            call.func_name.as_str(),
            operators::ADD
                | operators::SUBSTRACT
                | operators::MULTIPLY
                | operators::DIVIDE
                | operators::MODULO
                | operators::NEGATE
                | "size"
        ),
        Expr::Literal(literal) => !matches!(literal, LiteralValue::Boolean(_)),
        Expr::List(_) | Expr::Map(_) | Expr::Struct(_) => true,
        _ => false,
    }
}

/// What conditions know.
struct Of<'r> {
    fields: &'r MessageFields<'r>,
    before: Option<&'r PayloadValue<'r>>,
}

impl VariableResolver for Of<'_> {
    fn resolve<'b>(&'b self, variable: &str) -> Option<CowVal<'b, 'b>> {
        match (variable, self.before) {
            ("before", None) => Some(CowVal::owned(CelNull)),
            ("before", Some(before)) => Some(CowVal::Borrowed(before.as_ref())),
            _ => self.fields.resolve(variable),
        }
    }
}

/// What a message says, and the one before it.
#[derive(Debug)]
struct Fields<'m> {
    now: MessageFields<'m>,
    before: Result<Option<PayloadValue<'m>>, NoValue>,
}

/// A message that conditions are asked about: what it says is made ready once, and each condition is judged once.
#[derive(Debug)]
pub struct Judging<'m> {
    topic: &'m str,
    payload: &'m [u8],
    qos: u8,
    retained: bool,
    before: Option<&'m [u8]>,
    fields: OnceCell<Box<Fields<'m>>>,
    known: Memory,
}

/// What was judged, by where conditions stand in memory.
#[derive(Debug)]
enum Memory {
    Few(SmallVec<[(usize, Judged); 8]>),
    Many(HashMap<usize, Judged, RandomState>),
}

impl Memory {
    fn get(&self, key: usize) -> Option<Judged> {
        match self {
            Self::Few(few) => few.iter().find(|(known, _)| *known == key).map(|(_, judged)| *judged),
            Self::Many(many) => many.get(&key).copied(),
        }
    }

    fn put(&mut self, key: usize, judged: Judged) {
        match self {
            Self::Few(few) if few.len() < few.inline_size() => few.push((key, judged)),
            Self::Few(few) => *self = Self::Many(few.drain(..).chain([(key, judged)]).collect()),
            Self::Many(many) => drop(many.insert(key, judged)),
        }
    }
}

impl<'m> Judging<'m> {
    /// Of a message, with the payload of the one before on its topic.
    pub fn new(topic: &'m str, payload: &'m [u8], (qos, retained): (u8, bool), before: Option<&'m [u8]>) -> Self {
        Self { topic, payload, qos, retained, before, fields: OnceCell::new(), known: Memory::Few(SmallVec::new()) }
    }

    /// Whether a condition is true of it.
    pub fn judge(&mut self, condition: &Arc<Condition>) -> Judged {
        let key = Arc::as_ptr(condition).addr();
        if let Some(known) = self.known.get(key) {
            return known;
        }
        let judged = self.judge_once(condition);
        self.known.put(key, judged);
        judged
    }

    /// The same, for one that is asked about once.
    pub fn judge_once(&self, condition: &Condition) -> Judged {
        if let Some(simple) = condition.simple.as_ref().filter(|_| self.payload.len() <= PAYLOAD) {
            match simple.is_true(self.payload, self.before) {
                Ok(true) => return Judged::True,
                Ok(false) => return Judged::NotTrue,
                Err(NoVerdict::Failed) => return Judged::Failed,
                Err(NoVerdict::Unknown) => {}
            }
        }
        match self.evaluate(condition) {
            Ok(true) => Judged::True,
            Ok(false) => Judged::NotTrue,
            Err(_) => Judged::Failed,
        }
    }

    /// Whether it is true, or why it is neither true nor false.
    ///
    /// # Errors
    ///
    /// That.
    pub fn evaluate(&self, condition: &Condition) -> Result<bool, NoValue> {
        let fields = self.fields.get_or_init(|| {
            let now = MessageFields::new(self.topic, self.payload, self.qos, self.retained);
            Box::new(Fields { now, before: self.before.map(payload_of).transpose() })
        });
        fields.now.payload().map_err(Clone::clone)?;
        let before = match &fields.before {
            Err(why) if condition.looks_back => return Err(why.clone()),
            before => before.as_ref().ok().and_then(Option::as_ref),
        };
        match condition.compiled.value(&Of { fields: &fields.now, before })? {
            Value::Bool(truth) => Ok(truth),
            _ => Err(NoValue::NotTruth),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn judge(text: &str, payload: &str, before: Option<&str>) -> Judged {
        let condition = Arc::new(Condition::parse(text).unwrap());
        Judging::new("harrowmere/gorge", payload.as_bytes(), (1, false), before.map(str::as_bytes)).judge(&condition)
    }

    #[test]
    fn a_box_a_band_a_state_and_a_change() {
        let place = r#"{"at": {"lat": 54.2, "lon": -2.1}, "name": "float-3", "m": 1.83}"#;
        let inside = "payload.at.lat > 54.1 && payload.at.lat < 54.3 && payload.at.lon >= -2.2 && payload.at.lon <= -2";
        for (text, payload, before, expected) in [
            (inside, place, None, Judged::True),
            (inside, r#"{"at": {"lat": 54.4, "lon": -2.1}}"#, None, Judged::NotTrue),
            (inside, r#"{"at": {"lat": 54.2}}"#, None, Judged::Failed),
            (inside, r#"{"at": [54.2, -2.1]}"#, None, Judged::Failed),
            ("payload.m < 1 || payload.m > 2", place, None, Judged::NotTrue),
            ("payload == 'offline'", "offline", None, Judged::True),
            ("payload == 'offline'", "{", None, Judged::NotTrue),
            ("payload > 10", "11.5", None, Judged::True),
            ("payload > 10", "high", None, Judged::Failed),
            ("before == null || payload.m != before.m", place, None, Judged::True),
            ("before == null || payload.m != before.m", place, Some(place), Judged::NotTrue),
            ("before == null || payload.m != before.m", place, Some(r#"{"m": 1.84}"#), Judged::True),
            ("before == null || payload.m - before.m > 0.1", place, Some(r#"{"m": 1.7}"#), Judged::True),
            ("payload.name.startsWith('float')", place, None, Judged::True),
            ("levels[1] == 'gorge' && qos == 1 && !retained", "1", None, Judged::True),
            ("payload.ok", r#"{"ok": true}"#, None, Judged::True),
            ("!payload.ok", r#"{"ok": true, "ok": false}"#, None, Judged::True),
            ("has(payload.flow) && payload.flow > 1", place, None, Judged::NotTrue),
        ] {
            assert_eq!(judge(text, payload, before), expected, "{text}: {payload}");
        }
    }

    #[test]
    fn comparisons_of_fields_are_simple_and_what_says_more_is_not() {
        for (text, simple, looks_back) in [
            ("payload.m > 1 && payload.m <= 2.5 || !(payload.state == 'ok')", true, false),
            ("before == null || payload.m != before.m", true, true),
            ("-1 < payload.at.lon", true, false),
            ("payload.m * 2 > 3", false, false),
            ("size(before) > 2", false, true),
            ("topic == 'x'", false, false),
        ] {
            let condition = Condition::parse(text).unwrap();
            assert_eq!((condition.is_simple(), condition.looks_back()), (simple, looks_back), "{text}");
        }
        for text in ["payload.m + 1", "size(payload)", "[true]", "'true'"] {
            let error = Condition::parse(text).unwrap_err();
            assert!(error.message.contains("must be true or false"), "{text}: {error}");
        }
        let error = Condition::parse("payload.m > level").unwrap_err();
        assert!(error.at == 12 && error.message.contains("`level` is unknown here"), "{error}");
    }

    #[test]
    fn why_there_is_no_verdict_is_known() {
        let condition = Condition::parse("payload.flow > 1").unwrap();
        let judging = Judging::new("a", br#"{"m": 1}"#, (0, false), None);
        assert_eq!(judging.evaluate(&condition), Err(NoValue::Missing("flow".into())));
        let long = format!("\"{}\"", "x".repeat(PAYLOAD));
        let judging = Judging::new("a", long.as_bytes(), (0, false), None);
        assert_eq!(judging.judge_once(&condition), Judged::Failed);
        assert_eq!(judging.evaluate(&condition), Err(NoValue::PayloadTooLong));
    }

    #[test]
    fn many_conditions_are_judged_each_by_itself() {
        let conditions: Vec<_> =
            (0..30).map(|number| Condition::shared(&format!("payload > {number}.5")).unwrap()).collect();
        let mut judging = Judging::new("a", b"10", (0, false), None);
        for _ in 0..2 {
            let is_true = conditions.iter().filter(|condition| judging.judge(condition) == Judged::True).count();
            assert_eq!(is_true, 10);
        }
    }

    #[test]
    fn conditions_that_say_the_same_are_one_as_long_as_somebody_has_it() {
        let text = "payload.one_that_many_have > 1";
        let (one, other) = (Condition::shared(text).unwrap(), Condition::shared(text).unwrap());
        assert!(Arc::ptr_eq(&one, &other));
        for number in 0..MANY * 2 {
            Condition::shared(&format!("payload.m > {number}")).unwrap();
        }
        let known = SHARED.lock().known.len();
        assert!(known <= MANY + 1, "those that nobody has are forgotten: {known}");
        assert!(Arc::ptr_eq(&one, &Condition::shared(text).unwrap()));
    }

    fn operand() -> impl Strategy<Value = String> {
        prop_oneof![
            prop::sample::select(vec![
                "payload",
                "payload.a",
                "payload.b",
                "payload.a.b",
                "before",
                "before.a",
                "null",
                "true",
                "'x'",
                "'1'",
                "''"
            ])
            .prop_map(str::to_owned),
            (-2_i32..3).prop_map(|number| number.to_string()),
            (-2_i32..3).prop_map(|number| format!("{number}.5")),
        ]
    }

    fn expression() -> impl Strategy<Value = String> {
        let comparison = prop::sample::select(vec!["==", "!=", "<", "<=", ">", ">="]);
        let leaf = prop_oneof![
            6 => (operand(), comparison, operand()).prop_map(|(one, comparison, other)| format!("{one} {comparison} {other}")),
            1 => prop::sample::select(vec!["payload.a", "payload.b", "true", "false"]).prop_map(str::to_owned),
        ];
        leaf.prop_recursive(3, 12, 2, |inner| {
            prop_oneof![
                (inner.clone(), inner.clone()).prop_map(|(one, other)| format!("({one}) && ({other})")),
                (inner.clone(), inner.clone()).prop_map(|(one, other)| format!("({one}) || ({other})")),
                inner.prop_map(|one| format!("!({one})")),
            ]
        })
    }

    fn json() -> impl Strategy<Value = String> {
        let scalar = prop::sample::select(vec![
            "1",
            "-1.5",
            "2",
            "\"x\"",
            "\"1\"",
            "\"\\u0078\"",
            "true",
            "false",
            "null",
            "[1]",
            "{\"b\": 1}",
            "{}",
        ]);
        prop_oneof![
            2 => scalar.clone().prop_map(str::to_owned),
            6 => prop::collection::vec((prop::sample::select(vec!["a", "b", "\\u0061", "c"]), scalar), 0..4).prop_map(|fields| {
                let fields: Vec<String> = fields.into_iter().map(|(name, value)| format!("\"{name}\": {value}")).collect();
                format!("{{{}}}", fields.join(", "))
            }),
            1 => prop::sample::select(vec!["x", "", "{", "{\"a\": 1} x"]).prop_map(str::to_owned),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(if cfg!(debug_assertions) { 2_000 } else { 20_000 }))]

        /// What is judged by looking at fields is what the language says of the same.
        #[test]
        fn the_simple_way_and_the_language_agree(
            text in expression(),
            payload in json(),
            before in prop::option::of(json()),
        ) {
            let Ok(condition) = Condition::parse(&text) else { return Ok(()) };
            prop_assert!(condition.is_simple(), "{}", text);
            let judging = Judging::new("a", payload.as_bytes(), (0, false), before.as_ref().map(String::as_bytes));
            let expected = match judging.evaluate(&condition) {
                Ok(true) => Judged::True,
                Ok(false) => Judged::NotTrue,
                Err(_) => Judged::Failed,
            };
            prop_assert_eq!(judging.judge_once(&condition), expected, "{}: {} after {:?}", text, payload, before);
        }
    }
}
