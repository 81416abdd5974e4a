//! Names, lists and numbers as they are written in sentences.

use std::borrow::Cow;

/// Bytes of a topic that a sentence shows.
const SHOWN: usize = 256;

/// A topic or filter as a sentence shows it: the beginning of a long one.
pub(crate) fn shown(topic: &str) -> Cow<'_, str> {
    if topic.len() <= SHOWN {
        return topic.into();
    }
    format!("{}…", &topic[..topic.floor_char_boundary(SHOWN)]).into()
}

/// A list in a sentence: `a`, `a and b`, `a, b and c`.
pub(crate) fn listed(items: &[String]) -> String {
    match items {
        [] => String::new(),
        [one] => one.clone(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

/// A whole number with its thousands apart, as people read it: `200,000`.
pub fn count(number: u64) -> String {
    let digits = number.to_string();
    let places = digits.len();
    let mut grouped = String::with_capacity(places + places / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (places - at).is_multiple_of(3) {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped
}

/// A number and what it counts: `1 proof`, `2,000 proofs`.
pub fn plural(number: u64, one: &str, several: &str) -> String {
    format!("{} {}", count(number), if number == 1 { one } else { several })
}

/// Bytes in the unit that a person would choose.
pub fn bytes(number: f64) -> String {
    let units = ["B", "KiB", "MiB", "GiB", "TiB"];
    let mut value = number;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < units.len() {
        value /= 1024.0;
        unit += 1;
    }
    if unit == 0 { format!("{} B", count(value as u64)) } else { format!("{value:.1} {}", units[unit]) }
}

/// A span in the unit that a person would choose.
pub fn span(seconds: u64) -> String {
    match seconds {
        0..=119 => format!("{seconds} s"),
        120..=7_199 => format!("{} min", seconds / 60),
        7_200..=172_799 => format!("{} h", seconds / 3_600),
        _ => format!("{} days", count(seconds / 86_400)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_topics_are_cut_where_a_character_ends() {
        assert_eq!(shown("a/b"), "a/b");
        let long = "ü".repeat(200);
        let cut = shown(&long);
        assert!(cut.len() <= SHOWN + 3 && cut.ends_with("ü…"));
    }

    #[test]
    fn numbers_are_grouped_and_lists_and_nouns_are_english() {
        assert_eq!([0, 999, 1_000, 1_234_567].map(count), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([plural(1, "proof", "proofs"), plural(2_000, "proof", "proofs")], ["1 proof", "2,000 proofs"]);
        assert_eq!([0.0, 1023.0, 1536.0, 1_073_741_824.0].map(bytes), ["0 B", "1,023 B", "1.5 KiB", "1.0 GiB"]);
        assert_eq!([5, 119, 120, 7_200, 200_000].map(span), ["5 s", "119 s", "2 min", "2 h", "2 days"]);
        let items = ["a", "b", "c"].map(str::to_owned);
        assert_eq!([listed(&items[..1]), listed(&items[..2]), listed(&items)], ["a", "a and b", "a, b and c"]);
    }
}
