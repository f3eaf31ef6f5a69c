#![no_main]

use decanter_core::Algorithm;
use decanter_formats::record::bag;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = bag::check_declaration(text);
    for algorithm in [Algorithm::Md5, Algorithm::Sha1, Algorithm::Sha256, Algorithm::Sha512] {
        let _ = bag::parse("manifest.txt", text, algorithm);
    }
    let _ = (bag::oxum(text), bag::fetched(text), bag::manifest_of(text));
});
