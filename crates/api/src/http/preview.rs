//! Payloads as people see them in lists.

use moorfall_payload::sparkplug;

/// The beginning of a payload as people read it, `None` if it is no text; what the topic says to be of the industrial standard is
/// decoded if it is whole.
pub fn preview_of(topic: &str, bytes: &[u8], is_whole: bool) -> Option<String> {
    let told = if is_whole { sparkplug::told(topic, bytes) } else { None };
    told.map(|told| told.to_string()).or_else(|| preview(bytes))
}

/// The beginning of a payload as text, perhaps cut through within a character; `None` if it is no text.
pub fn preview(bytes: &[u8]) -> Option<String> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Some(text.to_owned()),
        Err(error) if error.error_len().is_none() => {
            Some(String::from_utf8_lossy(&bytes[..error.valid_up_to()]).into_owned())
        }
        Err(_) => None,
    }
}
