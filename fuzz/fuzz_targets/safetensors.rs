//! A folder whose weights file is anything: an error or tensors, never a panic.
#![no_main]

use libfuzzer_sys::fuzz_target;
use vastrelay_weights::Checkpoint;

const CONFIG: &str = r#"{"quantization_config": {"quant_method": "gptq", "bits": 4, "group_size": 8}}"#;

fuzz_target!(|data: &[u8]| {
    let folder = tempfile::tempdir_in("/dev/shm").unwrap();
    std::fs::write(folder.path().join("config.json"), CONFIG).unwrap();
    std::fs::write(folder.path().join("model.safetensors"), data).unwrap();
    let Ok(checkpoint) = Checkpoint::open(folder.path()) else { return };
    let names: Vec<String> = checkpoint.names().map(str::to_owned).collect();
    for name in names {
        for shape in [vec![8], vec![8, 8], vec![16, 8]] {
            let _ = checkpoint.tensor(&name, &shape);
            let _ = checkpoint.matrix(&name.replace("qweight", "weight"), &shape);
        }
    }
});
