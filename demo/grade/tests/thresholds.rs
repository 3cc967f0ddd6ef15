//! The demo model is good enough to show, and the grader tells good from bad.

use vastrelay_demo_grade::{Grader, Item, demo_folder, grade, load, pass_rate, read_set};

#[tokio::test]
async fn the_demo_model_answers_what_it_was_never_trained_on() {
    let demo = demo_folder();
    let grader = Grader::open(&demo).unwrap();
    let replica = load(&demo.join("models").join("pierdesk-1")).unwrap();
    for (set, least, wanted) in [("questions", 200, 0.90), ("follow-ups", 50, 0.80)] {
        let items = read_set(&demo, set).unwrap();
        assert!(items.len() >= least, "{set} has {} items", items.len());
        let rate = pass_rate(&grade(&replica, &grader, items).await.unwrap());
        assert!(rate >= wanted, "{set}: {rate} pass, {wanted} wanted");
    }
}

#[test]
fn the_grader_sees_missing_and_contradicting_facts() {
    let grader = Grader::open(&demo_folder()).unwrap();
    let item = Item {
        kind: "last_out".into(),
        messages: Vec::new(),
        answer: "The last boat to Tolsay leaves Skerrywick at 17:45 on weekdays.".into(),
        facts: vec!["17:45".into()],
    };
    assert_eq!(grader.fault(&item, "It leaves for Tolsay at 17:45 on weekdays."), None);
    for wrong in [
        "It leaves at 18:45.",
        "At 17:45 or at 18:45.",
        "At 17:45 for Brannoch.",
        "At 17:45 on Sundays.",
    ] {
        assert!(grader.fault(&item, wrong).is_some(), "{wrong}");
    }
}
