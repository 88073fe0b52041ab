//! Runs worlds on all cores and adds up what came of them.

use super::keep::Keep;
use super::{calibrate, cost};
use crate::args::accuracy::{ReportArgs, RunArgs, SuiteName};
use crate::exit::{Code, Failure};
use crate::output::Output;
use indicatif::{ProgressBar, ProgressStyle};
use itinera_lab::accuracy::{self, Cost, Job, Parts, Report, Setup, Suite, WorldRecord};
use std::io::{IsTerminal, Write};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// Names no candidate.
const NONE: &str = "none";

pub(super) fn run(args: &RunArgs, output: &Output) -> Result<(), Failure> {
    let jobs = jobs(args);
    if jobs.is_empty() {
        let text = "no world of this suite is left by --family, --setup and --slice";
        return Err(Failure::say(Code::Failed, text));
    }
    let keep = args.keep.as_deref().map(Keep::open).transpose()?;
    let candidates = candidates(args)?;
    let mut records = Vec::new();
    let mut open = Vec::new();
    for job in jobs {
        let kept = keep.as_ref().map(|keep| keep.find(&job, &candidates)).transpose()?;
        let all = || Parts { world: true, candidates: candidates.clone() };
        match kept.map_or_else(|| (None, all()), |kept| (kept.record, kept.missing)) {
            (Some(record), missing) if missing.candidates.is_empty() => records.push(record),
            (record, missing) => open.push(Open { job, record, missing }),
        }
    }
    if !records.is_empty() {
        let kept = records.len();
        let _unseen = writeln!(std::io::stderr(), "{kept} worlds are kept from before.");
    }
    let costs = open.first().map(|first| cost::measured(&first.job, &candidates));
    records.extend(play(&open, args.threads, keep.as_ref())?);
    show(&records, costs.unwrap_or_default(), output)
}

/// What is still to be run of a world.
struct Open {
    job: Job,
    /// What is kept of it.
    record: Option<WorldRecord>,
    missing: Parts,
}

/// The candidates that are asked for; all without any choice.
fn candidates(args: &RunArgs) -> Result<Vec<String>, Failure> {
    let all = Parts::all().candidates;
    let unknown = args.candidates.iter().find(|name| !all.contains(name) && *name != NONE);
    if let Some(name) = unknown {
        let text = format!("{name:?} is not a candidate; there are {}, and {NONE}", all.join(", "));
        return Err(Failure::say(Code::Failed, text));
    }
    let is_wanted = |name: &String| args.candidates.is_empty() || args.candidates.contains(name);
    Ok(all.into_iter().filter(is_wanted).collect())
}

pub(super) fn report_of(args: &ReportArgs, output: &Output) -> Result<(), Failure> {
    let directory = &args.directory;
    let (mut records, others) = Keep::all(directory)?;
    if others > 0 {
        let _unseen = writeln!(
            std::io::stderr(),
            "{others} records are of another version of the bench and left out."
        );
    }
    if records.is_empty() {
        let text = format!(
            "{} holds no records; `itinera accuracy run --keep DIR` makes some",
            directory.display()
        );
        return Err(Failure::say(Code::BadFile, text));
    }
    for file in &args.calibration {
        let fitted = calibrate::read(file)?;
        if fitted.apply(&mut records) == 0 {
            let text = format!(
                "{}: no world here has version {} of {}, other than those of --split calibrate",
                file.display(),
                fitted.candidate_version,
                fitted.candidate
            );
            return Err(Failure::say(Code::Failed, text));
        }
    }
    show(&records, Vec::new(), output)
}

fn show(records: &[WorldRecord], costs: Vec<Cost>, output: &Output) -> Result<(), Failure> {
    let report = Report { costs, ..accuracy::report(records) };
    output.either(&report, |output| output.line(accuracy::table(&report).trim_end()))
}

fn jobs(args: &RunArgs) -> Vec<Job> {
    let suite = match args.suite {
        SuiteName::Quick => Suite::Quick,
        SuiteName::Daily => Suite::Daily,
        SuiteName::Full => Suite::Full,
        SuiteName::Sweep => Suite::Sweep,
    };
    let setup = args.setup.map(Setup::from);
    let mut jobs: Vec<Job> = match (args.family, args.suite) {
        // The quick suite is of plain worlds; another family takes their place.
        (Some(family), SuiteName::Quick) => {
            suite.jobs(args.split.into()).into_iter().map(|job| Job { family, ..job }).collect()
        }
        (Some(family), _) => {
            let all = suite.jobs(args.split.into()).into_iter();
            all.filter(|job| job.family == family).collect()
        }
        (None, _) => suite.jobs(args.split.into()),
    };
    match (setup, args.suite) {
        (Some(setup), SuiteName::Quick) => {
            jobs.iter_mut().for_each(|job| job.setup = setup.clone());
        }
        (Some(setup), _) => jobs.retain(|job| job.setup == setup),
        (None, _) => {}
    }
    for job in &mut jobs {
        job.extent.cases = args.cases.map_or(job.extent.cases, u64::from);
        job.extent.oracle_cases = args.oracle_cases.map_or(job.extent.oracle_cases, u64::from);
        job.extent.calm_windows =
            args.calm_minutes.map_or(job.extent.calm_windows, |minutes| u64::from(minutes) * 6);
    }
    jobs.truncate(args.worlds.map_or(usize::MAX, usize::from));
    let (which, of) = args.slice.unwrap_or((1, 1));
    jobs.into_iter().skip(which - 1).step_by(of).collect()
}

/// Runs jobs on threads; a thread takes the next one when it is done with one.
fn play(
    jobs: &[Open],
    threads: Option<u16>,
    keep: Option<&Keep>,
) -> Result<Vec<WorldRecord>, Failure> {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let threads = threads.map_or(cores, usize::from).min(jobs.len());
    let bar = progress(jobs);
    let (next, failed) = (AtomicUsize::new(0), AtomicBool::new(false));
    let records: Mutex<Vec<(usize, Result<WorldRecord, Failure>)>> = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                while !failed.load(Ordering::Relaxed) {
                    let index = next.fetch_add(1, Ordering::Relaxed);
                    let Some(job) = jobs.get(index) else { return };
                    let played = play_one(job, keep, &bar);
                    failed.fetch_or(played.is_err(), Ordering::Relaxed);
                    records
                        .lock()
                        .unwrap_or_else(std::sync::PoisonError::into_inner)
                        .push((index, played));
                }
            });
        }
    });
    bar.finish_and_clear();
    let mut records = records.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    records.sort_by_key(|(index, _)| *index);
    records.into_iter().map(|(_, record)| record).collect()
}

fn play_one(open: &Open, keep: Option<&Keep>, bar: &ProgressBar) -> Result<WorldRecord, Failure> {
    let Open { job, record, missing } = open;
    let played = accuracy::run_world(job, missing, || bar.inc(1));
    if let Some(keep) = keep {
        keep.put(job, missing, &played)?;
    }
    let record = together(record.as_ref(), played, missing);
    if bar.is_hidden() {
        let _unseen = writeln!(
            std::io::stderr(),
            "setup {}, family {}, seed {}: {} cases",
            job.setup.name,
            job.family,
            job.seed,
            record.cases.len()
        );
    }
    Ok(record)
}

/// What was kept of a world with what was run of it now.
fn together(kept: Option<&WorldRecord>, mut played: WorldRecord, parts: &Parts) -> WorldRecord {
    let Some(kept) = kept else { return played };
    let mut record = kept.clone();
    for part in parts.candidates.iter().filter_map(|name| played.take(name)) {
        record.put(part);
    }
    record
}

/// A bar of steps on a terminal: calm time and cases of each world.
fn progress(jobs: &[Open]) -> ProgressBar {
    if !std::io::stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let steps = jobs.iter().map(|open| open.job.extent.cases + 1).sum();
    let bar = ProgressBar::new(steps);
    let style = ProgressStyle::with_template("{wide_bar} {pos} of {len} steps, {eta} left");
    bar.with_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()))
}
