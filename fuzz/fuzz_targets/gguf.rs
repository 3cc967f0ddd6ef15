//! A GGUF file that is anything: an error, or settings, a tokenizer and tensors, never a panic.
#![no_main]

use libfuzzer_sys::fuzz_target;
use vastrelay_weights::{Checkpoint, Gguf, ModelDescription};

fuzz_target!(|data: &[u8]| {
    let folder = tempfile::tempdir_in("/dev/shm").unwrap();
    let path = folder.path().join("model.gguf");
    std::fs::write(&path, data).unwrap();
    let Ok(gguf) = Gguf::parse(&path, data.to_vec()) else { return };
    let _ = (gguf.tokenizer(), gguf.end_ids(), gguf.template(), gguf.bound("bos"));
    let (Ok(model), Ok(checkpoint)) = (ModelDescription::open(&path), Checkpoint::open(&path)) else { return };
    // A model of a few tensors: one that promises thousands of layers is only counted.
    if model.layers * model.experts.as_ref().map_or(1, |experts| experts.count) < 64 {
        for (name, shape) in model.tensors() {
            let _ = checkpoint.matrix(&name, &shape);
        }
    }
});
