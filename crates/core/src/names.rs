//! Names that people can tell apart: of identities, and of clients that give themselves one.

use unicode_properties::{GeneralCategory, UnicodeGeneralCategory};

/// Why a name would be taken for another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NameFault {
    /// It has characters that are drawn as nothing, or that change how others are drawn.
    #[error("it contains invisible characters, or characters that change the direction of text")]
    Invisible,
    /// It begins or ends with a space.
    #[error("it begins or ends with a space")]
    Space,
}

/// What keeps a text from being a new name; `None` if nothing does. Two names that look the same would be mistaken for
/// each other.
pub fn fault(name: &str) -> Option<NameFault> {
    if name.chars().any(is_invisible) {
        return Some(NameFault::Invisible);
    }
    let is_blank = |c: Option<char>| c.is_some_and(char::is_whitespace);
    if is_blank(name.chars().next()) || is_blank(name.chars().next_back()) {
        return Some(NameFault::Space);
    }
    None
}

fn is_invisible(c: char) -> bool {
    // Letters by category that are drawn as nothing: fillers of Hangul, and the blank of Braille.
    const DRAWN_AS_NOTHING: [char; 6] = ['\u{115F}', '\u{1160}', '\u{2800}', '\u{3164}', '\u{FFA0}', '\u{034F}'];
    let is_variation = matches!(c, '\u{FE00}'..='\u{FE0F}' | '\u{E0100}'..='\u{E01EF}' | '\u{180B}'..='\u{180F}');
    let category = matches!(
        c.general_category(),
        GeneralCategory::Format
            | GeneralCategory::Control
            | GeneralCategory::LineSeparator
            | GeneralCategory::ParagraphSeparator
            | GeneralCategory::PrivateUse
            | GeneralCategory::Unassigned
    );
    category || is_variation || DRAWN_AS_NOTHING.contains(&c)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_look_like_others_are_none() {
        for good in ["kettle-weir", "Gänse Mühle", "堰", "a b", "", "مقياس"] {
            assert_eq!(fault(good), None, "{good}");
        }
        for bad in
            ["weir\u{200B}", "weir\u{202E}riew", "\u{FEFF}weir", "we\u{AD}ir", "weir\u{2800}", "weir\n", "\u{3164}"]
        {
            assert!(fault(bad) == Some(NameFault::Invisible), "{bad:?}");
        }
        for blank in [" weir", "weir ", "\u{A0}weir", "weir\u{3000}"] {
            assert!(fault(blank) == Some(NameFault::Space), "{blank:?}");
        }
    }
}
