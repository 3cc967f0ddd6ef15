//! `vastrelay fit`: does a model fit devices that nobody has to have?

mod explain;
mod give_up;

use crate::args::fit::FitOptions;
use crate::cpu;
use crate::device::profile;
use crate::failure::Failure;
use crate::memory::capacity;
use crate::output::{duration, json, line, precision_name, price};
use comfy_table::{CellAlignment, Table, presets};
use std::ops::RangeInclusive;
use vastrelay_planner::amounts::{bytes, count_of, grouped};
use vastrelay_planner::hardware::of_profiles;
use vastrelay_planner::{CpuProfile, DeviceProfile, Fitting, Hardware, Profile, Question, SplitFit, Usual};
use vastrelay_service::manage::capacity::capacity_status;
use vastrelay_service::manage::fitting::{Ask, Subject, way};
use vastrelay_serving::{KvPrecision, Precision};
use vastrelay_weights::precision::Precisions;
use vastrelay_wire::manage::{CapacityStatus, FitCheapest, FitReport, FitWay};

/// Says whether and how a model fits.
pub fn run(options: &FitOptions) -> Result<(), Failure> {
    let subject = Subject::open(&options.model).map_err(Failure::failed)?;
    let stored = |tensor: &str| subject.kind(tensor);
    let asked = asked(options)?;
    let profiles: Vec<&dyn Hardware> = asked.iter().map(|hardware| &**hardware).collect();
    let question = ask(options, &subject, &stored, &profiles)?;
    let ways = if options.table {
        tabled(options, &question, &profiles)
    } else {
        let of = |hardware: &&dyn Hardware| ways(options, &question, *hardware);
        profiles.iter().flat_map(of).collect()
    };
    let shipped = DeviceProfile::shipped();
    // Other devices are of interest where those that are asked for do not do.
    let known = match ways.iter().any(|way| way.fitting.is_some()) {
        true => profiles.clone(),
        false => of_profiles(&shipped),
    };
    let report = vastrelay_service::manage::fitting::report(&subject.name, &question, ways, &known);
    if options.json {
        json(&report)?;
    } else {
        print(options, &question, &profiles, &report);
    }
    if report.fits { Ok(()) } else { Err(does_not(&report)) }
}

fn does_not(report: &FitReport) -> Failure {
    let would = match &report.cheapest {
        Some(FitCheapest { device, split, .. }) => format!("{} would do", place(*split, device)),
        None => "no known device would do; use lower precisions or a smaller context".into(),
    };
    Failure::failed(format!("{} does not fit as asked: {would}", report.model))
}

fn ask<'a>(
    options: &FitOptions,
    subject: &'a Subject,
    stored: &'a dyn Fn(&str) -> vastrelay_weights::Kind,
    asked: &[&dyn Hardware],
) -> Result<Question<'a>, Failure> {
    let ask = Ask {
        weights: options.precision.weights()?,
        kv: options.precision.kv.map_or(KvPrecision::default(), Into::into),
        count: options.split.or(options.count),
        context: options.context,
        width: options.width,
        step_budget: options.step_budget,
        memory_share: options.memory_share,
        typical: options.typical,
        concurrency: options.concurrency,
    };
    // Those that are asked for together are of one kind.
    let usual = asked
        .first()
        .map_or(Usual::on_accelerator(), |hardware| hardware.usual());
    let question = ask.question(&subject.description, stored, usual);
    question.map_err(|error| Failure::usage(format!("--{}: {}", error.field.replace('_', "-"), error.text)))
}

/// Returns the devices that are asked for.
fn asked(options: &FitOptions) -> Result<Vec<Box<dyn Hardware>>, Failure> {
    let simulated = |profile| Box::new(profile) as Box<dyn Hardware>;
    let Some(wanted) = &options.device else {
        return Ok(DeviceProfile::shipped().into_iter().map(simulated).collect());
    };
    let profile = if wanted == "cpu" {
        Profile::Cpu(CpuProfile::whole())
    } else {
        profile(wanted)?
    };
    Ok(vec![match profile {
        Profile::Simulated(profile) => simulated(profile),
        Profile::Cpu(profile) => Box::new(cpu::hardware(profile)?),
    }])
}

/// Returns the numbers of devices to look at.
fn splits(options: &FitOptions, hardware: &dyn Hardware) -> RangeInclusive<usize> {
    match options.split {
        Some(split) => split..=split,
        None => 1..=options.count.unwrap_or(hardware.count()),
    }
}

/// Returns every number of devices of the one that is asked for; of all kinds the least that works, or the most.
fn ways(options: &FitOptions, question: &Question<'_>, hardware: &dyn Hardware) -> Vec<FitWay> {
    let all: Vec<SplitFit> = splits(options, hardware)
        .map(|split| question.split(hardware, split))
        .collect();
    let told = |fit: &SplitFit| way(question, hardware, fit);
    if options.device.is_some() {
        return all.iter().map(told).collect();
    }
    let works = all.iter().find(|fit| fit.verdict.is_ok());
    works.or(all.last()).map(told).into_iter().collect()
}

/// Returns all precisions on all devices, in numbers that divide the model.
fn tabled(options: &FitOptions, question: &Question<'_>, profiles: &[&dyn Hardware]) -> Vec<FitWay> {
    let mut ways = Vec::new();
    for word in ["bf16", "int8", "int4"] {
        for kv in [KvPrecision::Bf16, KvPrecision::Int8] {
            let mut question = question.clone();
            let group = question.precisions.weights.group();
            let weights = Precision::of(word, group).or_else(|_| Precision::of(word, None));
            question.precisions = Precisions {
                weights: weights.expect("a precision"),
                kv,
            };
            for hardware in profiles {
                let divides = |split: &usize| question.model.check_split(*split).is_ok();
                for split in splits(options, *hardware).filter(divides) {
                    ways.push(way(&question, *hardware, &question.split(*hardware, split)));
                }
            }
        }
    }
    ways
}

fn print(options: &FitOptions, question: &Question<'_>, profiles: &[&dyn Hardware], report: &FitReport) {
    let precisions = question.precisions;
    let weights = precision_name(precisions.weights.word(), precisions.weights.group());
    let in_precisions = match options.table {
        true => String::new(),
        false => format!("weights {weights}, KV {}, ", precisions.kv.name()),
    };
    line(format!(
        "{}: {} parameters, {in_precisions}context {}, {}",
        report.model,
        grouped(report.parameters),
        grouped(report.context),
        count_of(report.width, "lane")
    ));
    line(format!(
        "{}typical sequences of {} + {} tokens; {}",
        report.concurrency.map_or(String::new(), |wanted| format!(
            "{} of {} tokens have to fit at once; ",
            count_of(wanted, "sequence"),
            grouped(report.context)
        )),
        grouped(report.typical[0]),
        grouped(report.typical[1]),
        if profiles.iter().all(|hardware| hardware.is_simulated()) {
            "devices are simulated, times and prices predicted, not measured"
        } else {
            "times are predicted from what was measured of this cpu"
        }
    ));
    line("");
    line(format!("{}", table(options, report)));
    if !options.table && report.ways.iter().any(|way| way.reason.is_some()) {
        line("");
        let reasons = report.ways.iter().filter_map(|way| Some((way, way.reason.as_ref()?)));
        for (way, reason) in reasons {
            line(format!("{}: {reason}", place(way.split, &way.device)));
        }
    }
    for way in report.ways.iter().filter(|_| !options.table) {
        let copied = way
            .fitting
            .as_ref()
            .map_or(0, |figures| figures.copied_kv_bytes_per_token);
        if copied > 0 {
            line(format!(
                "{}: {} KV heads are copied, which takes {} more for each token on all of them",
                place(way.split, &way.device),
                question.model.kv_heads,
                bytes(copied)
            ));
        }
    }
    let chosen = chosen(options, question, profiles);
    if let Some((hardware, split, fitting)) = chosen.as_ref().filter(|_| options.explain) {
        line("");
        explain::lines(question, *hardware, *split, fitting)
            .iter()
            .for_each(line);
    }
    if options.device.is_some() && !options.table && question.concurrency.is_none_or(|_| chosen.is_none()) {
        let hardware = profiles[0];
        let most = *splits(options, hardware).end();
        let fits_count = |split: &usize| *split <= most.min(hardware.count());
        let largest = question.model.splits().into_iter().filter(fits_count).max();
        let split = chosen.as_ref().map_or(largest.unwrap_or(1), |(_, split, _)| *split);
        line("");
        line(format!(
            "On {}, giving up a setting frees memory:",
            place(split, hardware.name())
        ));
        give_up::lines(question, hardware, split).iter().for_each(line);
    }
    if let Some((hardware, split, fitting)) = chosen.as_ref().filter(|_| !options.table) {
        line("");
        line(format!("On {}:", place(*split, hardware.name())));
        let lines = capacity(&capacity_status(&fitting.plan), report.width);
        lines.iter().for_each(|text| line(format!("  {text}")));
    }
    if let Some((way, hour)) = cheapest_row(report, profiles) {
        line("");
        let among = match options.device {
            Some(_) => "cheapest that does",
            None => "cheapest of these that does",
        };
        let in_precisions = match options.table {
            true => format!(", weights {}, KV {}", precision_name(&way.weights, way.group), way.kv),
            false => String::new(),
        };
        let an_hour = match hour > 0.0 {
            true => format!(", {} an hour", price(hour, way.currency.as_deref())),
            false => String::new(),
        };
        let place = place(way.split, &way.device);
        line(format!("{among}: {place}{in_precisions}{an_hour}"));
    }
}

/// Returns the cheapest of the ways that fit, and its price for an hour; of two with one price the first.
fn cheapest_row<'r>(report: &'r FitReport, profiles: &[&dyn Hardware]) -> Option<(&'r FitWay, f64)> {
    let hour = |way: &FitWay| {
        let hardware = profiles.iter().find(|hardware| hardware.name() == way.device);
        hardware.map_or(0.0, |hardware| hardware.price() * way.split as f64)
    };
    let fitting = report.ways.iter().filter(|way| way.fitting.is_some());
    let priced = fitting.map(|way| (way, hour(way)));
    priced.min_by(|(_, a), (_, b)| a.total_cmp(b))
}

/// Returns so many devices of a kind, for people.
fn place(split: usize, device: &str) -> String {
    if device == "cpu" {
        device.to_owned()
    } else {
        format!("{split} × {device}")
    }
}

/// Returns the way with the fewest devices of those that are asked for.
fn chosen<'h>(
    options: &FitOptions,
    question: &Question<'_>,
    asked: &[&'h dyn Hardware],
) -> Option<(&'h dyn Hardware, usize, Fitting)> {
    asked.iter().find_map(|hardware| {
        let mut all = splits(options, *hardware).map(|split| question.split(*hardware, split));
        all.find_map(|fit| Some((*hardware, fit.split, fit.verdict.ok()?)))
    })
}

/// Returns how many full sequences the memory limit could hold.
fn in_limit(capacity: &CapacityStatus) -> usize {
    capacity.full.in_pool + capacity.full.in_rest
}

fn table(options: &FitOptions, report: &FitReport) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING);
    let mut header = vec!["devices", "verdict"];
    if options.table {
        header.extend(["weights", "KV"]);
    }
    header.extend([
        "weights each",
        "KV a token",
        "full at once",
        "typical",
        "limit holds",
        "TTFT",
        "ITL",
        "tokens/s",
        "million tokens",
    ]);
    let fixed = if options.table { 4 } else { 2 };
    table.set_header(header);
    for column in table.column_iter_mut().skip(fixed) {
        column.set_cell_alignment(CellAlignment::Right);
    }
    for way in &report.ways {
        let verdict = if way.fitting.is_some() { "fits" } else { "does not fit" };
        let mut row = vec![place(way.split, &way.device), verdict.to_owned()];
        if options.table {
            row.extend([precision_name(&way.weights, way.group), way.kv.clone()]);
        }
        if let Some(figures) = &way.fitting {
            row.extend([
                bytes(figures.weights_bytes),
                bytes(figures.kv_bytes_per_token),
                grouped(figures.capacity.full.at_once),
                grouped(figures.capacity.typical.at_once),
                format!("{} full", grouped(in_limit(&figures.capacity))),
                duration(figures.predicted.ttft),
                duration(figures.predicted.itl),
                format!("{:.0}", figures.predicted.tokens_per_second),
                match figures.predicted.price_per_million_tokens {
                    0.0 => "–".into(),
                    amount => price(amount, way.currency.as_deref()),
                },
            ]);
        }
        table.add_row(row);
    }
    table
}
