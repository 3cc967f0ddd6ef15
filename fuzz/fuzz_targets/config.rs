//! A `config.json` that is anything: an error that names a field, or a description, never a panic.
#![no_main]

use libfuzzer_sys::fuzz_target;
use vastrelay_weights::{GenerationDefaults, ModelDescription, ModelFiles};

fuzz_target!(|data: &[u8]| {
    let folder = tempfile::tempdir_in("/dev/shm").unwrap();
    for name in ["config.json", "generation_config.json"] {
        std::fs::write(folder.path().join(name), data).unwrap();
    }
    let Ok(files) = ModelFiles::open(folder.path()) else { return };
    let _ = GenerationDefaults::read(&files);
    let Ok(model) = ModelDescription::read(&files) else { return };
    let _ = model.rotary.frequencies(model.head_dim.min(1 << 12), model.context);
    let _ = (model.reaches(), model.reach_of_layers(), model.splits());
    if model.layers * model.experts.as_ref().map_or(1, |experts| experts.count) < 64 {
        let _ = model.parameters();
    }
});
