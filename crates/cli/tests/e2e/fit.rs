//! Whether a model fits devices that are not here.

use crate::support::{repository, vastrelay};
use serde_json::Value;
use std::process::Output;

fn fit(words: &[&str]) -> Output {
    let large = repository().join("demo/shapes/lighthouse-70b");
    let output = vastrelay().arg("fit").arg(large).args(words).output();
    output.unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[test]
fn a_large_model_fits_four_devices_and_the_arithmetic_adds_up() {
    let output = fit(&[
        "--device",
        "sim-48g",
        "--context",
        "8192",
        "--concurrency",
        "16",
        "--json",
    ]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    let ways = report["ways"].as_array().unwrap();
    let fits = |split: usize| ways[split - 1]["reason"].is_null();
    let which: Vec<usize> = (1..=8).filter(|split| fits(*split)).collect();
    assert_eq!(which, [4, 8]);
    let reason = |split: usize| ways[split - 1]["reason"].as_str().unwrap().to_owned();
    assert!(reason(2).contains("more than its limit"), "{}", reason(2));
    assert!(reason(3).contains("does not divide 64 query heads"), "{}", reason(3));
    let four = &ways[3];
    assert_eq!(four["simulated"], true);
    let figure = |name: &str| four[name].as_f64().unwrap();
    let left = figure("memory_limit") - figure("weights_bytes") - figure("workspace_bytes") - figure("process_bytes");
    let sequence = 8_192.0 * figure("kv_bytes_per_token");
    let full = &four["capacity"]["full"];
    let in_limit = full["in_pool"].as_f64().unwrap() + full["in_rest"].as_f64().unwrap();
    assert_eq!(in_limit, (left / sequence).floor());
    assert_eq!(four["predicted"]["lanes"], 16);
    let shown = fit(&[
        "--device",
        "sim-48g",
        "--context",
        "8192",
        "--concurrency",
        "16",
        "--explain",
    ]);
    let shown = text(&shown.stdout);
    for part in [
        "4 × sim-48g",
        "1 × 48.0 GiB",
        "left for KV ÷ a sequence",
        "predicted, not measured",
    ] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
}

#[test]
fn what_does_not_fit_ends_with_what_would() {
    let output = fit(&["--device", "sim-48g", "--count", "2"]);
    assert_eq!(output.status.code(), Some(1));
    let error = text(&output.stderr);
    assert!(error.contains("does not fit as asked: 8 × sim-24g would do"), "{error}");
    let shown = text(&output.stdout);
    assert!(shown.contains("--weights int4") && shown.contains("frees"), "{shown}");
}

#[test]
fn a_profile_of_ones_own_is_read_and_a_wrong_one_is_refused_with_its_line() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("mine.toml");
    let shipped = repository().join("crates/planner/profiles/sim-80g.toml");
    let profile = std::fs::read_to_string(shipped).unwrap().replace("sim-80g", "mine");
    std::fs::write(&path, profile.replace("80 GiB", "800 GiB")).unwrap();
    let mine = path.to_str().unwrap();
    let output = fit(&["--device", mine, "--json"]);
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(
        (&report["ways"][0]["device"], &report["ways"][0]["reason"]),
        (&"mine".into(), &Value::Null)
    );
    std::fs::write(&path, profile.replace("launch", "lunch")).unwrap();
    let error = text(&fit(&["--device", mine]).stderr);
    assert!(
        error.contains("mine.toml") && error.contains("line 7") && error.contains("`launch`"),
        "{error}"
    );
    for (words, part) in [
        (vec!["--device", "sim-5g"], "sim-24g, sim-48g, sim-80g"),
        (vec!["--typical", "lots"], "such as 600+200"),
        (vec!["--context", "99999"], "supports 1 to 32768"),
        (
            vec!["--typical", "600+200", "--context", "100"],
            "more than the context of 100",
        ),
    ] {
        let output = fit(&words);
        assert_eq!(output.status.code(), Some(2), "{words:?}");
        assert!(text(&output.stderr).contains(part), "{}", text(&output.stderr));
    }
}

#[test]
fn the_table_has_all_precisions_and_devices() {
    let report: Value = serde_json::from_slice(&fit(&["--table", "--json"]).stdout).unwrap();
    let ways = report["ways"].as_array().unwrap();
    // Three precisions of weights, two of KV, three devices, over 1, 2, 4 and 8 of them.
    assert_eq!(ways.len(), 3 * 2 * 3 * 4);
}

/// A processor whose rates are the same whatever meets what.
fn steady_cpu() -> String {
    let mut text = "name = \"cpu\"\nmemory = \"2 GiB\"\n[speed]\ninstructions = \"portable\"\ncores = 1\nlayer = 1e-5\nelement = 0.0\n\
        choice = 0.0\n"
        .to_owned();
    for weights in ["f32", "bf16", "int8", "int4"] {
        text += &format!("[[speed.products]]\nweights = {weights:?}\nbytes = 1e6\nrows = [1]\nrates = [1e9]\n");
    }
    for kv in ["f32", "bf16", "int8"] {
        text += &format!("[[speed.attention]]\nkv = {kv:?}\nsharing = 3\nhead = 64\ntokens = [1]\nrates = [1e9]\n");
    }
    text
}

#[test]
fn a_model_fits_the_cpu_with_the_bytes_that_it_takes_there() {
    let folder = tempfile::tempdir().unwrap();
    let profile = folder.path().join("own.toml");
    std::fs::write(&profile, steady_cpu()).unwrap();
    let model = repository().join("demo/models/pierdesk-1");
    let run = |words: &[&str]| {
        let output = vastrelay()
            .args(words)
            .arg(&model)
            .args(["--step-budget", "320", "--json"])
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", text(&output.stderr));
        serde_json::from_slice::<Value>(&output.stdout).unwrap()
    };
    for weights in ["as-stored", "f32", "int8", "int4"] {
        let fit = run(&["fit", "--weights", weights, "--device", &profile.display().to_string()]);
        let way = &fit["ways"][0];
        let inspected = run(&["model", "inspect", "--weights", weights]);
        assert_eq!(way["weights_bytes"], inspected["loaded_bytes"], "{weights}");
        assert_eq!(
            (&way["device"], &way["simulated"]),
            (&Value::from("cpu"), &Value::from(false))
        );
        let limit = way["memory_limit"].as_u64().unwrap();
        assert_eq!(limit, (0.4 * f64::from(1 << 30) * 2.0) as u64);
        assert!(way["predicted"]["itl"].as_f64().unwrap() > 1e-3, "{way}");
    }
    let shown = vastrelay().args(["device", "show"]).arg(&profile).output().unwrap();
    assert!(
        text(&shown.stdout).contains("portable kernels"),
        "{}",
        text(&shown.stdout)
    );
}
