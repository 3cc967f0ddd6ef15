//! Reading folders of safetensors: whole, sharded and broken ones.

use proptest::prelude::*;
use safetensors::tensor::{Dtype, TensorView, serialize_to_file};
use std::path::Path;
use vastrelay_weights::{Checkpoint, Tensor, WeightsError};

fn write(path: &Path, tensors: &[(&str, Dtype, Vec<usize>, Vec<u8>)]) {
    let views = tensors
        .iter()
        .map(|(name, dtype, shape, data)| (name.to_string(), TensorView::new(*dtype, shape.clone(), data).unwrap()));
    serialize_to_file(views, None, path).unwrap();
}

fn floats(values: &[f32]) -> Vec<u8> {
    values.iter().flat_map(|v| v.to_le_bytes()).collect()
}

#[test]
fn shards_read_as_one_checkpoint() {
    let folder = tempfile::tempdir().unwrap();
    write(
        &folder.path().join("a.safetensors"),
        &[("one", Dtype::F32, vec![2], floats(&[1.0, 2.0]))],
    );
    write(
        &folder.path().join("b.safetensors"),
        &[("two", Dtype::BF16, vec![1, 2], vec![0x80, 0x3f, 0, 0x40])],
    );
    let index = r#"{"weight_map": {"one": "a.safetensors", "two": "b.safetensors"}}"#;
    std::fs::write(folder.path().join("model.safetensors.index.json"), index).unwrap();
    let checkpoint = Checkpoint::open(folder.path()).unwrap();
    assert_eq!(checkpoint.names().collect::<Vec<_>>(), ["one", "two"]);
    assert_eq!(checkpoint.tensor("one", &[2]).unwrap().to_f32(), [1.0, 2.0]);
    let two = checkpoint.tensor("two", &[1, 2]).unwrap();
    assert!(matches!(two, Tensor::Bf16(_)));
    assert_eq!(two.to_f32(), [1.0, 2.0]);
    assert_eq!(checkpoint.stored_bytes(), 12);
}

#[test]
fn half_floats_widen_exactly() {
    let folder = tempfile::tempdir().unwrap();
    write(
        &folder.path().join("model.safetensors"),
        &[("h", Dtype::F16, vec![2], vec![0x00, 0x3e, 0x01, 0x00])],
    );
    let checkpoint = Checkpoint::open(folder.path()).unwrap();
    assert_eq!(checkpoint.tensor("h", &[2]).unwrap().to_f32(), [1.5, 2f32.powi(-24)]);
}

#[test]
fn errors_name_the_tensor_and_what_is_wrong_with_it() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.safetensors");
    write(
        &path,
        &[
            ("t", Dtype::F32, vec![2], floats(&[1.0, 2.0])),
            ("i", Dtype::I64, vec![1], vec![0; 8]),
        ],
    );
    let checkpoint = Checkpoint::open(folder.path()).unwrap();
    let say = |result: Result<Tensor<'_>, WeightsError>| result.err().unwrap().to_string();
    assert!(say(checkpoint.tensor("u", &[2])).contains("`u` is missing"));
    assert!(say(checkpoint.tensor("t", &[3])).contains("[2]"));
    assert!(say(checkpoint.tensor("i", &[1])).contains("I64"));
}

#[test]
fn an_index_cannot_point_out_of_its_folder_or_promise_what_is_not_there() {
    let folder = tempfile::tempdir().unwrap();
    write(
        &folder.path().join("a.safetensors"),
        &[("one", Dtype::F32, vec![1], floats(&[1.0]))],
    );
    let open = |map: &str| {
        let text = format!(r#"{{"weight_map": {map}}}"#);
        std::fs::write(folder.path().join("model.safetensors.index.json"), text).unwrap();
        Checkpoint::open(folder.path()).err().unwrap().to_string()
    };
    assert!(open(r#"{"one": "../a.safetensors"}"#).contains("plain file names"));
    assert!(open(r#"{"two": "a.safetensors"}"#).contains("`two` is missing"));
    assert!(open(r#"{"one": "b.safetensors"}"#).contains("b.safetensors"));
}

#[test]
fn a_folder_without_safetensors_says_what_to_do() {
    let folder = tempfile::tempdir().unwrap();
    let say = |path: &Path| Checkpoint::open(path).err().unwrap().to_string();
    assert!(say(&folder.path().join("nowhere")).contains("no such file or folder"));
    std::fs::write(folder.path().join("weights.bin"), b"\x80\x04").unwrap();
    assert!(say(folder.path()).contains("pickled"));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn a_damaged_file_is_an_error_and_never_a_panic(at in 0usize..200, byte in any::<u8>(), cut in 0usize..200) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("model.safetensors");
        write(&path, &[("t", Dtype::F32, vec![2, 3], floats(&[1.0; 6]))]);
        let mut bytes = std::fs::read(&path).unwrap();
        let last = bytes.len() - 1;
        bytes[at.min(last)] = byte;
        bytes.truncate(bytes.len().saturating_sub(cut));
        std::fs::write(&path, bytes).unwrap();
        if let Ok(checkpoint) = Checkpoint::open(folder.path()) {
            let _ = checkpoint.tensor("t", &[2, 3]);
        }
    }

    #[test]
    fn hostile_header_lengths_do_not_allocate(length in any::<u64>()) {
        let folder = tempfile::tempdir().unwrap();
        let mut bytes = length.to_le_bytes().to_vec();
        bytes.extend_from_slice(b"{\"t\":{\"dtype\":\"F32\",\"shape\":[18446744073709551615],\"data_offsets\":[0,18446744073709551615]}}");
        std::fs::write(folder.path().join("model.safetensors"), bytes).unwrap();
        prop_assert!(Checkpoint::open(folder.path()).is_err());
    }
}

/// Found by the fuzzer: a vector that is asked for as if it were a matrix.
#[test]
fn a_vector_comes_as_floats_where_matrices_are_read() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("model.safetensors");
    write(&path, &[("one", Dtype::F32, vec![2], floats(&[1.0, 2.0]))]);
    let checkpoint = Checkpoint::open(folder.path()).unwrap();
    assert_eq!(checkpoint.matrix("one", &[2]).unwrap().to_f32(), [1.0, 2.0]);
}
