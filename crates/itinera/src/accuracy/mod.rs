//! `itinera accuracy`: how well faults are located, measured on worlds with known truth.

mod calibrate;
mod case;
mod cost;
mod keep;
mod run;

use crate::args::accuracy::AccuracyCommand;
use crate::exit::Failure;
use crate::output::Output;
use itinera_lab::accuracy::Report;

pub(crate) fn run(command: &AccuracyCommand, output: &Output) -> Result<(), Failure> {
    match command {
        AccuracyCommand::Run(args) => run::run(args, output),
        AccuracyCommand::Report(args) => run::report_of(args, output),
        AccuracyCommand::Calibrate { directory, candidate } => {
            calibrate::run(directory, candidate, output)
        }
        AccuracyCommand::Case(args) => case::run(args, output),
        AccuracyCommand::Schema => {
            output.json(&crate::schema::of::<Report>("itinera accuracy run --format json"))
        }
    }
}
