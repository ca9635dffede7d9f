//! Reads a rule file.
#![no_main]

use std::path::Path;

use fondaco_core::lens::SystemAccounts;
use fondaco_core::rule::RuleSet;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    match RuleSet::parse(Path::new("rules.toml"), text, &SystemAccounts) {
        Ok(rules) => {
            let places = rules.protected_below(Path::new("/srv"));
            assert!(places.iter().all(|place| place.is_absolute()));
        }
        Err(error) => assert!(error.line >= 1 && error.column >= 1),
    }
});
