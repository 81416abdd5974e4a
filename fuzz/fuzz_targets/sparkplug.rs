//! Any bytes give a payload of Sparkplug B or a fault; what was read can be shown.
#![no_main]

use libfuzzer_sys::fuzz_target;
use moorfall_payload::sparkplug::{decode, show};

fuzz_target!(|bytes: &[u8]| {
    assert_eq!(decode(bytes).is_ok(), show(bytes).is_ok());
});
