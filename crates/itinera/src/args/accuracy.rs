//! Arguments of `itinera accuracy`.

use clap::{Args, Subcommand, ValueEnum};
use itinera_lab::accuracy::Setup;
use itinera_simnet::worlds::{Split, WorldFamily};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum AccuracyCommand {
    /// Run a suite of worlds and print scores; --keep saves results so that a run can continue
    Run(RunArgs),
    /// Print the scores of all worlds saved in a directory
    Report(ReportArgs),
    /// Fit how sure a candidate may be, by the worlds of --split calibrate saved in a directory
    Calibrate {
        /// Directory
        directory: PathBuf,
        /// Candidate
        #[arg(long)]
        candidate: String,
    },
    /// Explain one case: the truth, the measurements and the answers of all candidates
    Case(CaseArgs),
    /// Print the JSON Schema of a report
    Schema,
}

#[derive(Debug, Args)]
pub(crate) struct ReportArgs {
    /// Directory
    pub(crate) directory: PathBuf,
    /// Also score a candidate with a fitted confidence: a file from `itinera accuracy calibrate`
    #[arg(long, value_name = "FILE")]
    pub(crate) calibration: Vec<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SuiteName {
    /// Comparison on the same cases; under three minutes on two cores
    Quick,
    /// What a change of the engine does to every score; less than an hour
    Daily,
    /// Full suite for publication; runs for hours
    Full,
    /// Effect of more agents, peers, probes and rounds
    Sweep,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SplitName {
    /// Seeds for choosing parameters
    Tune,
    /// Seeds for calibrating confidence
    Calibrate,
    /// Seeds for measuring only
    Test,
}

impl From<SplitName> for Split {
    fn from(name: SplitName) -> Self {
        match name {
            SplitName::Tune => Self::Tune,
            SplitName::Calibrate => Self::Calibrate,
            SplitName::Test => Self::Test,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum SetupName {
    /// 16 agents with 5 peers each
    A,
    /// 24 agents with 12 peers each
    B,
}

impl From<SetupName> for Setup {
    fn from(name: SetupName) -> Self {
        match name {
            SetupName::A => Self::a(),
            SetupName::B => Self::b(),
        }
    }
}

#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    /// Suite of worlds
    #[arg(long, value_enum, default_value_t = SuiteName::Quick)]
    pub(crate) suite: SuiteName,
    /// Set of seeds; figures are published from test alone
    #[arg(long, value_enum, default_value_t = SplitName::Tune)]
    pub(crate) split: SplitName,
    /// Only worlds of this family: plain, noise, bursts, addresses, routing, limits, combined
    #[arg(long)]
    pub(crate) family: Option<WorldFamily>,
    /// Only worlds measured by this setup
    #[arg(long, value_enum)]
    pub(crate) setup: Option<SetupName>,
    /// Largest number of worlds
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..))]
    pub(crate) worlds: Option<u16>,
    /// Cases in each world (default: the number of the suite)
    #[arg(long, value_parser = clap::value_parser!(u16).range(0..=10_000))]
    pub(crate) cases: Option<u16>,
    /// Cases in each world that the slower oracles are asked about too (default: the number of the suite)
    #[arg(long, value_parser = clap::value_parser!(u16).range(0..=10_000))]
    pub(crate) oracle_cases: Option<u16>,
    /// Minutes without a fault in each world (default: the number of the suite)
    #[arg(long, value_parser = clap::value_parser!(u32).range(0..=100_000))]
    pub(crate) calm_minutes: Option<u32>,
    /// Slice K/N of the worlds, such as 2/8
    #[arg(long, value_name = "K/N", value_parser = slice)]
    pub(crate) slice: Option<(usize, usize)>,
    /// Only these candidates, by comma; none runs the worlds and the oracle alone
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub(crate) candidates: Vec<String>,
    /// Save the result of each world and candidate in this directory and skip what is saved there
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
    /// Threads (default: number of cores); scores do not depend on it
    #[arg(long, value_parser = clap::value_parser!(u16).range(1..=1_024))]
    pub(crate) threads: Option<u16>,
}

fn slice(text: &str) -> Result<(usize, usize), String> {
    let parts = text.split_once('/').ok_or("K/N is needed, such as 2/8")?;
    let number = |part: &str| part.parse::<usize>().map_err(|_| format!("{part:?} is no number"));
    match (number(parts.0)?, number(parts.1)?) {
        (which, of) if (1..=of).contains(&which) => Ok((which, of)),
        _ => Err("K is between 1 and N".to_owned()),
    }
}

#[derive(Debug, Args)]
pub(crate) struct CaseArgs {
    /// Seed of the world
    #[arg(long)]
    pub(crate) seed: u64,
    /// Number of the case in its world, from 0
    #[arg(long, value_parser = clap::value_parser!(u64).range(..100_000))]
    pub(crate) number: u64,
    /// Family of the world: plain, noise, bursts, addresses, routing, limits, combined
    #[arg(long, default_value_t = WorldFamily::Plain)]
    pub(crate) family: WorldFamily,
    /// Measuring setup
    #[arg(long, value_enum, default_value_t = SetupName::A)]
    pub(crate) setup: SetupName,
    /// Write a picture to this file (SVG)
    #[arg(long, value_name = "FILE")]
    pub(crate) svg: Option<PathBuf>,
    /// Write the world to this directory, for `itinera demo --world`
    #[arg(long, value_name = "DIR")]
    pub(crate) world: Option<PathBuf>,
}
