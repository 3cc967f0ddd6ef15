//! A tokenizer file that is anything: an error, or a tokenizer that encodes and decodes, never a panic.
#![no_main]

use libfuzzer_sys::fuzz_target;
use std::path::Path;
use vastrelay_text::Tokenizer;

fuzz_target!(|data: &[u8]| {
    let Ok(tokenizer) = Tokenizer::parse(Path::new("tokenizer.json"), data) else { return };
    if let Ok(ids) = tokenizer.encode("When is the last boat? Grüße, 12:30\n", true) {
        let _ = tokenizer.pieces().text(&ids);
    }
});
