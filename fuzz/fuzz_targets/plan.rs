//! Reads a plan; what can be read is the same when it is written and read again.
#![no_main]

use fondaco_core::plan::Plan;
use fondaco_core::shown::safe_json;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    // as lines of a packed plan
    let packed = zstd::encode_all(data, 1).expect("bytes can be packed");
    for plan in [Plan::read(data), Plan::read(packed.as_slice())].into_iter().flatten() {
        let written = safe_json(&plan).expect("a plan can be written");
        let again = Plan::read(written.as_slice()).expect("what was written can be read");
        assert_eq!(again.actions, plan.actions);
        let mut packed = Vec::new();
        plan.write_packed(&mut packed).expect("a plan can be packed");
        let again = Plan::read(packed.as_slice()).expect("what was packed can be read");
        assert_eq!(again.actions, plan.actions);
    }
});
