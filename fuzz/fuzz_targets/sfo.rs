#![no_main]
//! A parameter file.

use decanter_formats::record::sfo::Parameters;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    if let Ok(parameters) = Parameters::parse(data) {
        let _ = parameters.category();
        // What was read can be laid out again and reads the same, but for the order of names and doubled ones.
        let again = Parameters::parse(&parameters.compose());
        assert!(again.is_ok_and(|a| a.entries.len() == parameters.entries.len()));
    }
});
