//! From a load order to the workload and its prompts.

use crate::prompts::{Prompt, Room, from_json_lines, question, synthetic};
use crate::workload::{Arrival, Lengths, ONE_PROMPT, Span, Workload};
use vastrelay_wire::load::{LoadOrder, PromptSource};

/// The demo's own questions, which its model was never trained on.
const QUESTIONS: &str = include_str!("../../../demo/held-out/questions.jsonl");
/// The demo's conversations of two turns.
const FOLLOW_UPS: &str = include_str!("../../../demo/held-out/follow-ups.jsonl");
/// Different synthetic prompts, at least; more requests than that begin again.
const SYNTHETIC: usize = 4_096;
/// Most synthetic prompts, however many requests there are.
const MOST_SYNTHETIC: usize = 100_000;

/// Most tokens of all synthetic prompts together, if each filled the context.
const MOST_TOKENS: usize = 64 << 20;

/// A load that can be sent.
pub struct Prepared {
    /// Its name for people.
    pub name: String,
    /// What is sent when.
    pub workload: Workload,
    /// What is asked.
    pub prompts: Vec<Prompt>,
}

/// Makes an order ready to be sent to a model.
///
/// # Errors
/// What is wrong with it, and what works.
pub fn prepare(order: &LoadOrder, room: Room) -> Result<Prepared, String> {
    let output = order.output.as_deref().map(str::parse::<Lengths>).transpose()?;
    let output = output.map(|lengths| lengths.within(room.context)).transpose()?;
    let mut workload = Workload {
        model: order.model.clone(),
        prompts: String::new(),
        arrival: order.arrival.clone(),
        span: order.span,
        warm_up: order.warm_up.unwrap_or_else(|| usual_warm_up(order)),
        output,
        force_length: order.force_length,
        temperature: order.temperature,
        seed: order.seed,
        pace: order.pace,
    };
    workload.check()?;
    let (prompts, described) = prompts(&order.prompts, &workload, room)?;
    workload.prompts = described;
    let name = order.name.clone().filter(|name| !name.trim().is_empty());
    Ok(Prepared {
        name: name.unwrap_or_else(|| format!("{} {}", workload.model, workload.arrival)),
        workload,
        prompts,
    })
}

/// Returns the usual number of requests before those that are counted. The first of one prompt that is sent again and again counts: it alone
/// finds nothing in the cache.
fn usual_warm_up(order: &LoadOrder) -> usize {
    if matches!(order.prompts, PromptSource::Question { .. }) {
        return 0;
    }
    match &order.arrival {
        Arrival::Closed { users } => *users,
        Arrival::Poisson { .. } => 8,
        Arrival::Steps { users, .. } => users.iter().copied().max().unwrap_or(1),
    }
}

/// Returns the prompts and what they are, in words.
fn prompts(source: &PromptSource, workload: &Workload, room: Room) -> Result<(Vec<Prompt>, String), String> {
    match source {
        PromptSource::Set { name } => match name.as_str() {
            "questions" => lines(name, QUESTIONS),
            "follow-ups" => lines(name, FOLLOW_UPS),
            other => Err(format!("there is no set `{other}`; use questions or follow-ups")),
        },
        PromptSource::Lines { name, text } => lines(name, text),
        PromptSource::Question { text } if text.trim().is_empty() => {
            Err("the prompt is empty; write a question".into())
        }
        PromptSource::Question { text } => Ok((vec![question(text)], described(text))),
        PromptSource::Synthetic { lengths, shared_prefix } => {
            let lengths = lengths.parse::<Lengths>()?.within(room.context)?;
            if *shared_prefix >= room.context {
                let context = room.context;
                return Err(format!(
                    "a shared prefix of {shared_prefix} tokens does not work; the context holds {context}"
                ));
            }
            let wanted = match workload.span {
                Span::Requests(requests) => (requests + workload.warm_up).min(MOST_SYNTHETIC),
                Span::Seconds(_) => SYNTHETIC,
            };
            let described = match shared_prefix {
                0 => format!("synthetic, {lengths} tokens"),
                shared => format!("synthetic, {lengths} tokens, the first {shared} in common"),
            };
            let wanted = wanted.min(MOST_TOKENS / room.context).max(1);
            let made = synthetic(wanted, lengths, *shared_prefix, room, workload.seed);
            Ok((made, described))
        }
    }
}

/// Describes a prompt: its beginning, and a hash that distinguishes it from others.
fn described(text: &str) -> String {
    let beginning: String = text.chars().take(40).collect();
    let rest = if beginning.len() < text.len() { "…" } else { "" };
    let hash = blake3::hash(text.as_bytes()).to_hex();
    format!("{ONE_PROMPT}\"{beginning}{rest}\", BLAKE3 {}", &hash[..12])
}

fn lines(name: &str, text: &str) -> Result<(Vec<Prompt>, String), String> {
    let prompts = from_json_lines(text).map_err(|error| format!("{name}: {error}"))?;
    // A hash shows whether a repeated run has the same prompts.
    let hash = blake3::hash(text.as_bytes()).to_hex();
    let described = format!("{name}, {} of them, BLAKE3 {}", prompts.len(), &hash[..12]);
    Ok((prompts, described))
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROOM: Room = Room {
        vocabulary: 4096,
        context: 2048,
    };

    fn order(prompts: PromptSource) -> LoadOrder {
        LoadOrder {
            model: "pierdesk".into(),
            name: None,
            arrival: Arrival::Closed { users: 3 },
            span: Span::Requests(5),
            prompts,
            warm_up: None,
            output: Some("16..64".into()),
            force_length: false,
            temperature: 0.0,
            seed: 1,
            pace: 12.0,
        }
    }

    #[test]
    fn an_order_becomes_a_workload_with_its_prompts() {
        let prepared = prepare(
            &order(PromptSource::Set {
                name: "questions".into(),
            }),
            ROOM,
        )
        .unwrap();
        assert_eq!(
            (prepared.workload.warm_up, prepared.workload.output),
            (3, Some(Lengths::Between(16, 64)))
        );
        assert!(
            prepared.workload.prompts.starts_with("questions, "),
            "{}",
            prepared.workload.prompts
        );
        assert_eq!(prepared.name, "pierdesk closed, 3 users");
        let synthetic = PromptSource::Synthetic {
            lengths: "40".into(),
            shared_prefix: 8,
        };
        let prepared = prepare(&order(synthetic), ROOM).unwrap();
        assert_eq!(prepared.prompts.len(), 5 + 3);
        assert!(prepared.workload.prompts.contains("the first 8 in common"));
    }

    #[test]
    fn what_cannot_be_is_said() {
        let error = |order: LoadOrder| prepare(&order, ROOM).err().unwrap();
        let set = |name: &str| PromptSource::Set { name: name.into() };
        assert!(error(order(set("riddles"))).contains("questions or follow-ups"));
        let lines = PromptSource::Lines {
            name: "mine".into(),
            text: "{".into(),
        };
        assert!(error(order(lines)).starts_with("mine: line 1"));
        let wrong = LoadOrder {
            output: Some("none".into()),
            ..order(set("questions"))
        };
        assert!(error(wrong).contains("64..256"));
        let nobody = LoadOrder {
            arrival: Arrival::Closed { users: 0 },
            ..order(set("questions"))
        };
        assert!(error(nobody).contains("1 to 10,000"));
    }

    #[test]
    fn lengths_are_bounded_by_the_context() {
        let synthetic = |lengths: &str, shared_prefix| PromptSource::Synthetic {
            lengths: lengths.into(),
            shared_prefix,
        };
        for (prompts, output) in [
            (synthetic("4000000000", 0), "16"),
            (synthetic("1..4000000000", 0), "16"),
            (synthetic("lognormal:900000,1", 0), "16"),
            (synthetic("16", 4_000_000_000), "16"),
            (synthetic("16", 0), "4000000000"),
        ] {
            let order = LoadOrder {
                output: Some(output.into()),
                ..order(prompts)
            };
            let error = prepare(&order, ROOM).err().unwrap();
            assert!(error.contains("2048"), "{error}");
        }
        let long = prepare(&order(synthetic("lognormal:2000,4", 0)), ROOM).unwrap();
        assert!(
            long.prompts
                .iter()
                .all(|prompt| matches!(prompt, Prompt::Ids(ids) if ids.len() < 2048))
        );
    }
}
