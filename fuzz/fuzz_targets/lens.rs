//! Reads a lens; what can be read is completed and written again.
#![no_main]

use fondaco_core::lens::{Lens, SystemAccounts};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Err(error) = Lens::parse(text, &SystemAccounts) {
        // what is marked lies in the text
        assert!(error.at.start <= text.len());
        let _ = error.to_string();
    }
});
