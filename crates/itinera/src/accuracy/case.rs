//! Tells one case, draws it, and writes its world for the demonstration.

use crate::args::accuracy::CaseArgs;
use crate::demo::Story;
use crate::exit::{Code, Failure};
use crate::output::Output;
use itinera_lab::accuracy::{self, Explained, Setup};
use std::fmt::Write;
use std::path::Path;

pub(super) fn run(args: &CaseArgs, output: &Output) -> Result<(), Failure> {
    let setup: Setup = args.setup.into();
    let explained = accuracy::explain(&setup, args.family, args.seed, args.number);
    if let Some(file) = &args.svg {
        put(file, &explained.svg)?;
    }
    if let Some(directory) = &args.world {
        std::fs::create_dir_all(directory).map_err(|error| {
            let text = format!("cannot make {}", directory.display());
            Failure::new(Code::Failed, error).context(text)
        })?;
        put(&directory.join(Story::WORLD), &explained.scenario)?;
        put(&directory.join(Story::OWNERS), &explained.owner_map)?;
        put(&directory.join(Story::SERVICE), &service(&explained))?;
    }
    output.either(&explained.record, |output| {
        output.line(explained.text.trim_end())?;
        if let Some(file) = &args.svg {
            output.line(&format!("\nPicture written to {}.", file.display()))?;
        }
        if let Some(directory) = &args.world {
            let directory = directory.display();
            output.line(&format!(
                "\nTo see it in the demonstration (what happens begins after {:.0} s):\n  \
                 itinera demo --world {directory} --seed {} --data DIR",
                explained.record.truth.begins_s, args.seed,
            ))?;
        }
        Ok(())
    })
}

fn put(file: &Path, text: &str) -> Result<(), Failure> {
    std::fs::write(file, text).map_err(|error| {
        Failure::new(Code::Failed, error).context(format!("cannot write {}", file.display()))
    })
}

/// What a service is to watch in the world.
fn service(explained: &Explained) -> String {
    let mut text = "# What the demonstration's service watches in this world.\n".to_owned();
    let mut add = |more: std::fmt::Arguments<'_>| {
        // Writing to a string cannot fail.
        let _always = text.write_fmt(more);
    };
    for (name, _) in &explained.sites {
        add(format_args!("\n[[site]]\nname = \"{name}\"\n"));
    }
    for (name, address) in &explained.targets {
        add(format_args!(
            "\n[[target]]\nname = \"{name}\"\nservice = \"{name}\"\naddresses = [\"{address}\"]\n\
             methods = [\"udp\"]\n"
        ));
    }
    add(format_args!(
        "\n[schedule]\ninterval_ms = 10000\nprobes_per_hop = 10\ntimeout_ms = 1000\n\
         hop_answers_per_s = 50\ntwo_way_partners = 5\ntwo_way_interval_ms = 1000\n"
    ));
    text
}
