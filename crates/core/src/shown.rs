//! Topics and filters as they stand in sentences.

use std::borrow::Cow;

/// Bytes of a topic that stand in a sentence.
const SHOWN: usize = 256;

/// A topic or filter as it stands in a sentence.
pub(crate) fn shown(topic: &str) -> Cow<'_, str> {
    if topic.len() <= SHOWN {
        return topic.into();
    }
    format!("{}…", &topic[..topic.floor_char_boundary(SHOWN)]).into()
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
}
