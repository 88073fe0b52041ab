//! `itinera accuracy`: how well faults are located, measured on worlds with known truth.

mod case;
mod keep;
mod run;

use crate::args::accuracy::AccuracyCommand;
use crate::exit::Failure;
use crate::output::Output;
use itinera_lab::accuracy::Report;

pub(crate) fn run(command: &AccuracyCommand, output: &Output) -> Result<(), Failure> {
    match command {
        AccuracyCommand::Run(args) => run::run(args, output),
        AccuracyCommand::Report { directory } => run::report_of(directory, output),
        AccuracyCommand::Case(args) => case::run(args, output),
        AccuracyCommand::Schema => {
            output.json(&crate::schema::of::<Report>("itinera accuracy run --format json"))
        }
    }
}
