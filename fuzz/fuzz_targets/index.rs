//! Reads the index of an archive.
#![no_main]

use fondaco_core::archive::Index;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = Index::parse(data);
});
