//! The engine, cell by cell: reading prompts and decoding, every precision in turns.

use crate::alternate::{Gauge, Subject, alternate, has_time_for_more};
use crate::jax::Jax;
use crate::memory;
use crate::model::Model;
use crate::report::{Cell, Report};
use crate::statistics::{median, times_as_fast};
use crate::work::{Part, Work};
use crate::{Machine, Options};
use anyhow::Result;
use std::cell::RefCell;

/// Starts JAX with the model, or says why it is left out.
fn start_jax(name: &str, model: &Model, options: &Options, report: &mut Report) -> Option<RefCell<Jax>> {
    // The weights, and once more while they are made.
    let started = match &options.python {
        Some(_) if !memory::fits(2 * size_of::<f32>() * model.description.parameters()) => {
            Err("too little memory for its weights".to_owned())
        }
        Some(python) => Jax::start(python, &model.description).map_err(|error| format!("{error:#}")),
        None => Err("no --python with JAX was named".to_owned()),
    };
    match started {
        Ok(jax) => Some(RefCell::new(jax)),
        Err(reason) => {
            report.skip(format!("{name} in JAX: {reason}"));
            None
        }
    }
}

/// Measures a part of a model's cells.
pub fn measure(
    name: &str,
    part: Part,
    machine: Machine,
    models: Vec<Model>,
    options: &Options,
    report: &mut Report,
) -> Result<()> {
    let gauge = Gauge::new(machine);
    let jax = match options.quick || part == Part::More {
        true => None,
        false => models.first().and_then(|model| start_jax(name, model, options, report)),
    };
    let models: Vec<RefCell<Model>> = models.into_iter().map(RefCell::new).collect();
    let is_wanted = |work: &Work| options.work.as_ref().is_none_or(|text| work.name().contains(text));
    for work in Work::all(part).into_iter().filter(is_wanted) {
        if part == Part::More && !has_time_for_more() {
            report.skip(format!("{name} {}: no time", work.name()));
            continue;
        }
        eprintln!("{name}: {}", work.name());
        let failure = RefCell::new(None);
        let mut subjects: Vec<Subject<'_>> = models
            .iter()
            .map(|model| {
                let run = || {
                    go(&mut model.borrow_mut(), work).unwrap_or_else(|error| {
                        *failure.borrow_mut() = Some(error);
                        f64::NAN
                    })
                };
                Box::new(run) as Subject<'_>
            })
            .collect();
        if let Some(jax) = jax.as_ref().filter(|_| work.number().is_some()) {
            subjects.push(Box::new(|| {
                jax.borrow_mut().run(work).unwrap_or_else(|error| {
                    *failure.borrow_mut() = Some(error);
                    f64::NAN
                })
            }));
        }
        let outcome = alternate(&gauge, machine.rounds, &mut subjects);
        drop(subjects);
        if let Some(error) = failure.into_inner() {
            return Err(error);
        }
        let base = models.iter().position(|model| model.borrow().name == "bf16");
        for (model, seconds) in models.iter().zip(&outcome.seconds) {
            if seconds.is_empty() {
                report.skip(format!("{name} {}, {}: over 20 s", work.name(), model.borrow().name));
                continue;
            }
            let phases = model.borrow_mut().take_phases();
            let model = model.borrow();
            let limit = work.limit(&model, outcome.limits);
            let cell = Cell {
                model: name.to_owned(),
                work: work.name(),
                subject: model.name.clone(),
                against: "the machine's limit".into(),
                aim: work.against_limit(&model.name),
                must_hold: None,
                subject_seconds: median(seconds),
                against_seconds: limit,
                ratios: seconds.iter().map(|seconds| limit / seconds).collect(),
                drifted: outcome.drifted,
                phases,
            };
            report.add(cell);
            let others = outcome.seconds.get(models.len()).filter(|others| !others.is_empty());
            if let (Some(jax), Some(others)) = (&jax, others) {
                let is_slow = jax.borrow().products < 0.5 * outcome.limits.multiply_add;
                report.add(Cell {
                    model: name.to_owned(),
                    work: work.name(),
                    subject: model.name.clone(),
                    against: format!("JAX in f32{}", if is_slow { ", slow" } else { "" }),
                    aim: work.against_jax(&model.name),
                    must_hold: None,
                    subject_seconds: median(seconds),
                    against_seconds: median(others),
                    ratios: times_as_fast(seconds, others),
                    drifted: outcome.drifted,
                    phases: Vec::new(),
                });
            }
            let others = base.filter(|_| model.name != "bf16").map(|base| &outcome.seconds[base]);
            let Some(others) = others.filter(|others| !others.is_empty()) else {
                continue;
            };
            report.add(Cell {
                model: name.to_owned(),
                work: work.name(),
                subject: model.name.clone(),
                against: "bf16".into(),
                aim: work.against_bf16(&model.name),
                must_hold: (model.is_whole && work.number().is_some()).then_some(0.97),
                subject_seconds: median(seconds),
                against_seconds: median(others),
                ratios: times_as_fast(seconds, others),
                drifted: outcome.drifted,
                phases: Vec::new(),
            });
        }
        if outcome.seconds.get(models.len()).is_some_and(Vec::is_empty) {
            report.skip(format!("{name} {} in JAX: over 20 s", work.name()));
        }
        report.note_limits(outcome.limits);
    }
    Ok(())
}

/// Does a cell's work, as often as takes long enough to be measured; returns the seconds of once.
fn go(model: &mut Model, work: Work) -> Result<f64> {
    const LONG_ENOUGH: f64 = 0.12;
    let (mut sum, mut times) = (0.0, 0);
    while sum < LONG_ENOUGH {
        sum += match work {
            Work::Prefill(tokens) => model.prefill(tokens)?,
            Work::Decode(sequences, cached) => model.decode(sequences, cached)?,
            Work::Mixed(sequences, tokens) => model.mixed(sequences, tokens)?,
        };
        times += 1;
    }
    Ok(sum / f64::from(times))
}
