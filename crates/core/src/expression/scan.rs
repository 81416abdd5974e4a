//! Fields of JSON, looked up without building what the payload says: whoever judges each message can't wait for that.

use std::borrow::Cow;

use smallvec::SmallVec;

/// Objects and lists within each other, as everywhere where JSON is read.
const DEPTH: usize = 127;

/// Powers of ten that are exact.
const TENS: [f64; 23] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20,
    1e21, 1e22,
];

/// Digits of which a number is exact.
const DIGITS: usize = 15;

/// Fields that may be looked up at a time.
pub(super) const FIELDS: usize = 16;

/// Fields by their paths. That without levels is the payload itself.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Fields(Vec<Vec<Box<str>>>);

/// What stands at a field.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) enum Found<'a> {
    #[default]
    Missing,
    Null,
    Truth(bool),
    Number(f64),
    Text(Cow<'a, str>),
    /// A list or an object.
    Compound,
}

pub(super) type AllFound<'a> = SmallVec<[Found<'a>; 4]>;

/// What keeps a payload from being looked into in this way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Stop {
    /// It is not JSON.
    NotJson,
    /// It may be, but it takes another way to say so.
    NotHere,
}

impl Fields {
    /// The place of a path; `None` if there are too many.
    pub(super) fn place(&mut self, path: Vec<Box<str>>) -> Option<usize> {
        if let Some(place) = self.0.iter().position(|known| *known == path) {
            return Some(place);
        }
        self.0.push(path);
        (self.0.len() <= FIELDS).then(|| self.0.len() - 1)
    }

    /// What stands there if nothing is known.
    pub(super) fn nothing<'a>(&self) -> AllFound<'a> {
        self.0.iter().map(|path| if path.is_empty() { Found::Null } else { Found::Missing }).collect()
    }

    /// What stands there: in JSON its fields, in anything else the text itself. `None` if this way can't tell.
    pub(super) fn find<'a>(&self, payload: &'a [u8]) -> Option<AllFound<'a>> {
        let mut found: AllFound<'a> = SmallVec::from_elem(Found::Missing, self.0.len());
        if self.0.is_empty() {
            return Some(found);
        }
        let read =
            Scan { fields: self, bytes: payload, at: 0, high: 0, found: &mut found }.all((1 << self.0.len()) - 1);
        match read {
            Ok(()) => Some(found),
            Err(Stop::NotHere) => None,
            Err(Stop::NotJson) => {
                found.fill(Found::Missing);
                if let Some(place) = self.0.iter().position(Vec::is_empty) {
                    found[place] = Found::Text(String::from_utf8_lossy(payload));
                }
                Some(found)
            }
        }
    }
}

/// Goes through JSON, all of it: what is not whole is not JSON. Of a field that is there twice the last counts.
struct Scan<'f, 'a> {
    fields: &'f Fields,
    bytes: &'a [u8],
    at: usize,
    /// All bytes of texts and names, one on another: whether some are beyond ASCII.
    high: u8,
    found: &'f mut AllFound<'a>,
}

impl<'a> Scan<'_, 'a> {
    fn all(mut self, wanted: u32) -> Result<(), Stop> {
        self.value(0, wanted)?;
        self.space();
        if self.at != self.bytes.len() || !self.high.is_ascii() && std::str::from_utf8(self.bytes).is_err() {
            return Err(Stop::NotJson);
        }
        Ok(())
    }

    #[inline]
    fn peek(&self) -> u8 {
        self.bytes.get(self.at).copied().unwrap_or(0)
    }

    #[inline]
    fn space(&mut self) {
        while matches!(self.peek(), b' ' | b'\n' | b'\t' | b'\r') {
            self.at += 1;
        }
    }

    #[inline]
    fn expect(&mut self, byte: u8) -> Result<(), Stop> {
        self.space();
        if self.peek() != byte {
            return Err(Stop::NotJson);
        }
        self.at += 1;
        Ok(())
    }

    /// Something stands at the fields whose paths led here: what is below it is not there.
    fn put(&mut self, depth: usize, mut wanted: u32, value: &Found<'a>) {
        while wanted != 0 {
            let place = wanted.trailing_zeros() as usize;
            let is_here = self.fields.0[place].len() == depth;
            self.found[place] = if is_here { value.clone() } else { Found::Missing };
            wanted &= wanted - 1;
        }
    }

    /// Goes through a value. `wanted` are the fields whose paths led here, as bits.
    fn value(&mut self, depth: usize, wanted: u32) -> Result<(), Stop> {
        self.space();
        match self.peek() {
            b'"' => {
                let (text, is_plain) = self.string()?;
                if wanted != 0 {
                    let text = if is_plain { Cow::Borrowed(utf8(text)?) } else { Cow::Owned(plain(text)?) };
                    self.put(depth, wanted, &Found::Text(text));
                }
                Ok(())
            }
            b'{' => self.object(depth, wanted),
            b'[' => self.list(depth, wanted),
            b'-' | b'0'..=b'9' => {
                let number = self.number()?;
                self.put(depth, wanted, &Found::Number(number));
                Ok(())
            }
            b't' => self.word("true", depth, wanted, &Found::Truth(true)),
            b'f' => self.word("false", depth, wanted, &Found::Truth(false)),
            b'n' => self.word("null", depth, wanted, &Found::Null),
            _ => Err(Stop::NotJson),
        }
    }

    fn word(&mut self, word: &str, depth: usize, wanted: u32, value: &Found<'a>) -> Result<(), Stop> {
        if !self.bytes[self.at..].starts_with(word.as_bytes()) {
            return Err(Stop::NotJson);
        }
        self.at += word.len();
        self.put(depth, wanted, value);
        Ok(())
    }

    fn object(&mut self, depth: usize, wanted: u32) -> Result<(), Stop> {
        self.at += 1;
        if depth >= DEPTH {
            return Err(Stop::NotHere);
        }
        self.put(depth, wanted, &Found::Compound);
        self.space();
        if self.peek() == b'}' {
            self.at += 1;
            return Ok(());
        }
        loop {
            self.space();
            if self.peek() != b'"' {
                return Err(Stop::NotJson);
            }
            let (name, is_plain) = self.string()?;
            let led = match (wanted, is_plain) {
                (0, _) => 0,
                (_, true) => self.led(depth, wanted, name),
                (_, false) => self.led(depth, wanted, plain(name)?.as_bytes()),
            };
            self.expect(b':')?;
            self.value(depth + 1, led)?;
            self.space();
            match self.peek() {
                b',' => self.at += 1,
                b'}' => {
                    self.at += 1;
                    return Ok(());
                }
                _ => return Err(Stop::NotJson),
            }
        }
    }

    /// Which of the wanted fields lead on by this name.
    #[inline]
    fn led(&self, depth: usize, wanted: u32, name: &[u8]) -> u32 {
        let (mut left, mut led) = (wanted, 0);
        while left != 0 {
            let place = left.trailing_zeros();
            let is_it = self.fields.0[place as usize].get(depth).is_some_and(|level| level.as_bytes() == name);
            led |= u32::from(is_it) << place;
            left &= left - 1;
        }
        led
    }

    fn list(&mut self, depth: usize, wanted: u32) -> Result<(), Stop> {
        self.at += 1;
        if depth >= DEPTH {
            return Err(Stop::NotHere);
        }
        self.put(depth, wanted, &Found::Compound);
        self.space();
        if self.peek() == b']' {
            self.at += 1;
            return Ok(());
        }
        loop {
            self.value(depth + 1, 0)?;
            self.space();
            match self.peek() {
                b',' => self.at += 1,
                b']' => {
                    self.at += 1;
                    return Ok(());
                }
                _ => return Err(Stop::NotJson),
            }
        }
    }

    /// The text between quotes as it is written, and whether that is what it says.
    #[inline]
    fn string(&mut self) -> Result<(&'a [u8], bool), Stop> {
        let bytes = self.bytes;
        let mut high = 0;
        let start = self.at + 1;
        let mut at = start;
        let mut is_plain = true;
        loop {
            match bytes.get(at) {
                Some(b'"') => break,
                Some(b'\\') => {
                    is_plain = false;
                    match bytes.get(at + 1) {
                        Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => at += 2,
                        // Whether it is a character, and which, takes more.
                        Some(b'u') => return Err(Stop::NotHere),
                        _ => return Err(Stop::NotJson),
                    }
                }
                Some(0..=0x1f) | None => return Err(Stop::NotJson),
                Some(byte) => {
                    high |= byte;
                    at += 1;
                }
            }
        }
        self.high |= high;
        self.at = at + 1;
        Ok((&bytes[start..at], is_plain))
    }

    #[inline]
    fn digits(&mut self, mantissa: &mut u64) -> usize {
        let start = self.at;
        while let digit @ b'0'..=b'9' = self.peek() {
            *mantissa = mantissa.wrapping_mul(10).wrapping_add(u64::from(digit - b'0'));
            self.at += 1;
        }
        self.at - start
    }

    fn number(&mut self) -> Result<f64, Stop> {
        let start = self.at;
        let is_negative = self.peek() == b'-';
        self.at += usize::from(is_negative);
        let is_zero = self.peek() == b'0';
        let mut mantissa = 0;
        let whole = self.digits(&mut mantissa);
        if whole == 0 || is_zero && whole > 1 {
            return Err(Stop::NotJson);
        }
        let mut behind = 0;
        if self.peek() == b'.' {
            self.at += 1;
            behind = self.digits(&mut mantissa);
            if behind == 0 {
                return Err(Stop::NotJson);
            }
        }
        let has_exponent = matches!(self.peek(), b'e' | b'E');
        if has_exponent {
            self.at += 1;
            self.at += usize::from(matches!(self.peek(), b'+' | b'-'));
            if self.digits(&mut 0) == 0 {
                return Err(Stop::NotJson);
            }
        }
        if whole + behind <= DIGITS && !has_exponent {
            #[allow(clippy::cast_precision_loss, reason = "it has at most 15 digits")]
            let number = mantissa as f64 / TENS[behind];
            return Ok(if is_negative { -number } else { number });
        }
        // How it is rounded, and what is too large, is the same everywhere.
        serde_json::from_slice(&self.bytes[start..self.at]).map_err(|_| Stop::NotJson)
    }
}

fn utf8(written: &[u8]) -> Result<&str, Stop> {
    std::str::from_utf8(written).map_err(|_| Stop::NotJson)
}

/// What a text with escapes says.
fn plain(written: &[u8]) -> Result<String, Stop> {
    serde_json::from_str(&format!("\"{}\"", utf8(written)?)).map_err(|_| Stop::NotJson)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::Value;

    use super::*;

    fn expected<'a>(value: Option<&Value>) -> Found<'a> {
        match value {
            None => Found::Missing,
            Some(Value::Null) => Found::Null,
            Some(Value::Bool(truth)) => Found::Truth(*truth),
            Some(Value::Number(number)) => Found::Number(number.as_f64().unwrap()),
            Some(Value::String(text)) => Found::Text(Cow::Owned(text.clone())),
            Some(Value::Array(_) | Value::Object(_)) => Found::Compound,
        }
    }

    fn fields() -> Fields {
        let mut fields = Fields::default();
        for path in [&[][..], &["a"], &["b", "a"], &["b"]] {
            fields.place(path.iter().map(|level| (*level).into()).collect());
        }
        fields
    }

    /// The same by the library, which builds all of it.
    fn by_building(payload: &[u8]) -> Vec<Found<'static>> {
        let read = serde_json::from_slice::<Value>(payload);
        let Ok(json) = read else {
            let text = Found::Text(Cow::Owned(String::from_utf8_lossy(payload).into_owned()));
            return vec![text, Found::Missing, Found::Missing, Found::Missing];
        };
        let (a, b) = (json.get("a"), json.get("b"));
        vec![expected(Some(&json)), expected(a), expected(b.and_then(|b| b.get("a"))), expected(b)]
    }

    fn check(payload: &[u8]) -> Result<(), String> {
        let Some(found) = fields().find(payload) else { return Ok(()) };
        let (found, built) = (found.to_vec(), by_building(payload));
        if found == built { Ok(()) } else { Err(format!("{found:?} is not {built:?}")) }
    }

    #[test]
    fn what_is_json_and_what_is_not() {
        for payload in [
            "",
            " ",
            "0",
            "-0",
            "01",
            "-",
            "1.",
            ".5",
            "1e5",
            "1e",
            "1e400",
            "-1.5E-3",
            "123456789012345678901234567890",
            "0.1234567890123456789",
            "9007199254740993",
            "true",
            "tru",
            "null ",
            "nul",
            "\"\"",
            "\"a",
            "\"\\n\"",
            "\"\\x\"",
            "\"\t\"",
            "\"é\"",
            "{}",
            "{",
            "{\"a\":1}",
            "{\"a\":1,}",
            "{\"a\" : 1 , \"b\":{\"a\":[1,{\"a\":2}],\"a\":\"x\"}}",
            "{a:1}",
            "[]",
            "[1,]",
            "[1 2]",
            "{\"a\":1}x",
            "{\"a\":1} ",
            "{\"a\":\"\\\"\"}",
            "{\"\\u0061\":1}",
            "{\"b\":{\"a\":1},\"b\":2}",
            "\u{feff}1",
        ] {
            assert_eq!(check(payload.as_bytes()), Ok(()), "{payload}");
        }
        assert_eq!(check(b"{\"a\": \"\xff\"}"), Ok(()));
        let deep = "[".repeat(DEPTH + 1) + &"]".repeat(DEPTH + 1);
        assert!(fields().find(deep.as_bytes()).is_none(), "that is for another way to say");
        assert!(fields().find(b"\"\\ud800\"").is_none());
        assert_eq!(fields().find(b"{\"a\":\"\\n\"}").unwrap()[1], Found::Text("\n".into()));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(if cfg!(debug_assertions) { 4_000 } else { 100_000 }))]

        /// Of any bytes that look like JSON, whole or broken, the same is found as by building it.
        #[test]
        fn what_is_found_is_what_building_finds(
            parts in prop::collection::vec(
                prop::sample::select(vec![
                    "{", "}", "[", "]", ",", ":", "\"a\"", "\"b\"", "\"\\\"\"", "\"x\"", "1", "-2.5", "0", "1e3", "true", "null", " ", "e", "\\", "\"",
                    "{\"a\":", "{\"b\":{\"a\":", "\"a\":1,",
                ]),
                0..12,
            ),
        ) {
            let payload = parts.concat();
            prop_assert_eq!(check(payload.as_bytes()), Ok(()), "{}", payload);
        }

        #[test]
        fn numbers_are_read_as_everywhere(number in any::<f64>(), whole in any::<i64>(), digits in 0_usize..20) {
            for text in [number.to_string(), whole.to_string(), format!("{number:e}"), format!("{:.*}", digits, number % 1e6)] {
                prop_assert_eq!(check(text.as_bytes()), Ok(()), "{}", text);
            }
        }
    }
}
