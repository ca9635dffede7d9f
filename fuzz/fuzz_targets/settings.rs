//! Reads settings.
#![no_main]

use fondaco_core::state::Settings;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(settings) = toml::from_str::<Settings>(text) else { return };
    let written = toml::to_string(&settings).expect("settings can be written");
    assert_eq!(toml::from_str::<Settings>(&written).expect("and read again"), settings);
});
