//! A starting spec for a kind of traffic and a goal, each value with its reason.

use std::fmt::Write;

/// What callers do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Traffic {
    /// Open-ended conversations: prompts that grow turn by turn, answers of a few hundred tokens.
    Chat,
    /// Long texts in, short ones out.
    Summarising,
}

/// What matters most.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Goal {
    /// Each caller waits as short as possible.
    Latency,
    /// As many tokens as possible from the machine.
    Throughput,
    /// As little memory as possible.
    Memory,
}

impl Traffic {
    /// Returns the one of a word.
    pub fn of(word: &str) -> Option<Traffic> {
        match word {
            "chat" => Some(Traffic::Chat),
            "summarising" => Some(Traffic::Summarising),
            _ => None,
        }
    }
}

impl Goal {
    /// Returns the one of a word.
    pub fn of(word: &str) -> Option<Goal> {
        match word {
            "latency" => Some(Goal::Latency),
            "throughput" => Some(Goal::Throughput),
            "memory" => Some(Goal::Memory),
            _ => None,
        }
    }
}

/// Sampling that a model's files name.
#[derive(Clone, Copy, Debug, Default)]
pub struct OwnDefaults {
    /// Divides the logits.
    pub temperature: Option<f32>,
    /// Share of probability to choose among.
    pub top_p: Option<f32>,
    /// Number of tokens to choose among.
    pub top_k: Option<u32>,
}

/// Returns a spec with comments for a model that can read so many tokens; its path is written as it is given.
pub fn spec_for(model: &str, context: usize, own: OwnDefaults, traffic: Traffic, goal: Goal) -> String {
    let (prompt, output, what) = match traffic {
        Traffic::Chat => (
            600,
            200,
            "open-ended chat: prompts grow turn by turn, answers have a few hundred tokens",
        ),
        Traffic::Summarising => (3_000, 250, "summarising: long texts in, short ones out"),
    };
    let aim = match goal {
        Goal::Latency => "the lowest latency",
        Goal::Throughput => "the highest throughput",
        Goal::Memory => "the least memory",
    };
    let (prompt, output) = typical(prompt, output, context);
    let longest = (4 * (prompt + output)).min(context);
    let mut text = String::new();
    let mut say = |line: String| _ = writeln!(text, "{line}");
    say(format!("# For {what}; with {aim}."));
    say("# Every value is a beginning: measure with `vastrelay load run` and change one at a time.".into());
    say(format!("model = {}", toml::Value::from(model)));
    if goal == Goal::Memory {
        say("\n[precision]".into());
        say("# A quarter of bf16; `vastrelay model build` measures what that costs in quality.".into());
        say("weights = \"int4\"".into());
        say("# Half of bf16: twice as many sequences fit.".into());
        say("kv = \"int8\"".into());
    } else if goal == Goal::Throughput {
        say("\n[precision]".into());
        say(
            "# A step reads all weights once: half as many bytes, nearly twice the tokens while memory is the limit."
                .into(),
        );
        say("weights = \"int8\"".into());
    }
    say("\n[batch]".into());
    let width = match goal {
        Goal::Latency => 8,
        Goal::Throughput => 32,
        Goal::Memory => 4,
    };
    say(match goal {
        Goal::Latency => "# Few at a time, so that each step is short and tokens follow one another fast.".into(),
        Goal::Throughput => {
            "# Many at a time: a step costs little more for each further sequence until the device is busy.".into()
        }
        Goal::Memory => "# Few at a time: each lane needs room for keys and values.".to_owned(),
    });
    say(format!("width = {width}"));
    let budget = match (goal, traffic) {
        (Goal::Latency, _) => 256,
        (Goal::Throughput, Traffic::Summarising) => 1_024,
        (Goal::Throughput, Traffic::Chat) => 512,
        (Goal::Memory, _) => 128,
    };
    say(match goal {
        Goal::Latency => {
            "# Most tokens of a step: small, so that a long prompt does not hold up everybody's next token.".into()
        }
        Goal::Throughput => "# Most tokens of a step: large, so that prompts are read in few steps.".into(),
        Goal::Memory => "# Most tokens of a step: small, as activations of the largest step take memory.".to_owned(),
    });
    say(format!("step_budget = {budget}"));
    if goal == Goal::Latency {
        say("# Most prompt tokens of one sequence in a step: others get theirs in the same step.".into());
        say(format!("prefill_chunk = {}", budget / 2));
    }
    say(format!(
        "# Most tokens of a sequence: four times the typical one, of the {context} that the model reads."
    ));
    say(format!("context = {longest}"));
    say("# Prompt and answer of a usual call; `vastrelay endpoint check` says how many fit.".into());
    say(format!("typical = \"{prompt}+{output}\""));
    say("\n[queue]".into());
    let (depth, wait) = match goal {
        Goal::Latency => (2 * width, "5s"),
        Goal::Throughput => (16 * width, "2m"),
        Goal::Memory => (4 * width, "30s"),
    };
    say(match goal {
        Goal::Latency => "# Who would wait for long is better refused at once and goes elsewhere.".into(),
        Goal::Throughput => "# A deep queue keeps every lane full.".to_owned(),
        Goal::Memory => "# Few lanes: some have to wait.".into(),
    });
    say(format!("depth = {depth}"));
    say(format!("wait = \"{wait}\""));
    say("\n[defaults]".into());
    match (traffic, own.temperature) {
        (Traffic::Summarising, _) => {
            say("# A summary keeps to its text: little chance.".into());
            say("temperature = 0.2".into());
        }
        (Traffic::Chat, Some(temperature)) => {
            say("# As the model's files say.".into());
            say(format!("temperature = {temperature:?}"));
        }
        (Traffic::Chat, None) => {
            say("# The model's files name none: enough chance for conversations; a small model rambles at 1.".into());
            say("temperature = 0.7".into());
        }
    }
    if let Some(top_p) = own.top_p {
        say("# As the model's files say.".into());
        say(format!("top_p = {top_p:?}"));
    }
    if let Some(top_k) = own.top_k.filter(|top_k| *top_k > 0) {
        say("# As the model's files say.".into());
        say(format!("top_k = {top_k}"));
    }
    let most = match traffic {
        Traffic::Summarising => 2 * output,
        Traffic::Chat => 4 * output,
    };
    say("# Most tokens of an answer whose call names none: a model that finds no end stops here.".into());
    say(format!("max_tokens = {most}"));
    if goal == Goal::Memory {
        say("\n[replicas]".into());
        say("# Nothing is held while nobody calls; the next call waits for a start.".into());
        say("idle_after = \"10m\"".into());
    }
    text
}

/// Returns a typical prompt and answer that a context has room for.
fn typical(prompt: usize, output: usize, context: usize) -> (usize, usize) {
    let all = prompt + output;
    if 2 * all <= context {
        return (prompt, output);
    }
    let half = (context / 2).max(2);
    let output = (half * output / all).max(1);
    ((half - output).max(1), output)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Spec;
    use proptest::prelude::*;

    proptest! {
        /// For all inputs the spec is valid, fits the model and gives a reason for each value.
        #[test]
        fn every_profile_is_a_spec_with_reasons(context in 2usize..200_000, chat: bool, warm: bool, goal in 0usize..3) {
            let traffic = if chat { Traffic::Chat } else { Traffic::Summarising };
            let goal = [Goal::Latency, Goal::Throughput, Goal::Memory][goal];
            let own = OwnDefaults { temperature: warm.then_some(0.6), top_p: warm.then_some(0.9), top_k: warm.then_some(20) };
            let text = spec_for("a \"b\"", context, own, traffic, goal);
            let spec = Spec::parse(&text).unwrap();
            prop_assert_eq!(&spec.model, "a \"b\"");
            let defaults = &spec.answering.defaults;
            prop_assert!(defaults.temperature.is_some() && defaults.max_tokens.is_some());
            prop_assert!(!chat || !warm || defaults.temperature == Some(0.6));
            prop_assert!(spec.settings.context.is_some_and(|longest| longest <= context));
            prop_assert!(spec.settings.typical.is_some_and(|typical| typical.tokens() <= context));
            let lines: Vec<&str> = text.lines().collect();
            for (at, line) in lines.iter().enumerate().filter(|(_, line)| line.contains(" = ")) {
                let has_reason = lines[at - 1].starts_with('#') || lines[at - 1].contains(" = ");
                prop_assert!(has_reason || line.starts_with("model"), "{}", line);
            }
        }
    }

    #[test]
    fn goals_differ_where_it_matters() {
        let of = |goal| {
            Spec::parse(&spec_for("m", 8_192, OwnDefaults::default(), Traffic::Chat, goal))
                .unwrap()
                .settings
        };
        let (latency, throughput, memory) = (of(Goal::Latency), of(Goal::Throughput), of(Goal::Memory));
        assert!(latency.width < throughput.width && latency.queue_depth < throughput.queue_depth);
        assert!(memory.width < latency.width && memory.weights.is_some() && latency.weights.is_none());
    }
}
