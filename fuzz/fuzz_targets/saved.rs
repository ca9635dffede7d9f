//! Opens a saved scan.
#![no_main]

use std::path::PathBuf;

use fondaco_core::saved;
use libfuzzer_sys::fuzz_target;

fuzz_target!(init: {
    // what the library for the format panics on becomes an error; other panics end the fuzzer
    std::panic::set_hook(Box::new(|panic| {
        if !fondaco_core::contained::is_contained() {
            eprintln!("{panic}");
            std::process::abort();
        }
    }));
}, |data: &[u8]| {
    let path = PathBuf::from(format!("/dev/shm/fondaco-fuzz-{}", std::process::id()));
    std::fs::write(&path, data).expect("there is room in memory");
    if let Ok(catalog) = saved::open_file(&path) {
        assert!(!catalog.roots().is_empty());
    }
    let _ = saved::about(&path);
});
