//! Itinera in one binary: the service, the agent, the simulation, the demonstration and the
//! analyst's client.

mod accuracy;
mod agent;
mod args;
mod backfill;
mod backup;
mod client;
mod demo;
mod diagnose;
mod exit;
mod log;
mod manual;
mod output;
mod recompute;
mod schema;
mod serve;
mod signals;
mod simulate;
mod survey;

use args::{AgentCommand, Arguments, Command, ConfigCommand, OwnersCommand};
use clap::Parser;
use client::{calendars, checks, events, incidents, notices, pairs, watches};
use exit::{Code, Failure};
use output::Output;
use std::process::ExitCode;

/// Judgement makes and frees small buffers all the time, on several threads.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    log::start();
    // One provider for everything that speaks TLS in this process.
    let _installed_before = rustls::crypto::ring::default_provider().install_default();
    // While there is one thread: those that are made later have what this one has.
    let opened = match &arguments.command {
        Command::Agent { command: AgentCommand::Run(run) } => agent::prepare(run),
        _ => Ok(agent::Privileged::default()),
    };
    let outcome = opened
        .and_then(|opened| {
            let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
            runtime
                .map_err(|error| Failure::new(Code::Failed, error))
                .map(|runtime| (runtime, opened))
        })
        .and_then(|(runtime, opened)| {
            let outcome = runtime.block_on(run(arguments, opened));
            // A thread may still be reading standard input; nothing waits for it.
            runtime.shutdown_background();
            outcome
        });
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(),
    }
}

async fn run(arguments: Arguments, opened: agent::Privileged) -> Result<(), Failure> {
    let output = Output::new(arguments.format);
    let (api, token_file) = (arguments.api, arguments.token_file);
    let client = || {
        let token = client::sign_in::token_for(&api, token_file.as_deref())?;
        client::Client::new(&api, token.as_deref())
    };
    let stranger = || client::Client::new(&api, None);
    match arguments.command {
        Command::Serve(serve) => serve::run(&serve).await,
        Command::Backup(args) => backup::backup(&args, &output).await,
        Command::Restore(args) => backup::restore(&args, &output).await,
        Command::Config { command: ConfigCommand::Check { file } } => serve::check(&file, &output),
        Command::Agent { command } => run_agent(command, &output, opened).await,
        Command::Survey { command } => survey::run(command, &output).await,
        Command::Diagnose(args) => match &args.from {
            Some(site) => diagnose::ask_agent(&client()?, &output, &args, site).await,
            None => diagnose::run(&args, &output).await,
        },
        Command::Simulate(simulate) => simulate::run(&simulate).await,
        Command::Backfill(args) => Box::pin(backfill::run(&args, &output)).await,
        Command::Demo(args) => demo::run(&args).await,
        Command::Recompute(recompute) => recompute::run(&recompute, &output).await,
        Command::Accuracy { command } => accuracy::run(&command, &output),
        Command::ApiDescription => output.json(&itinera_service::api::description()),
        Command::Completions { shell } => manual::completions(shell, &output),
        Command::Manual { directory } => manual::write(&directory, &output),
        Command::SignIn { name, password_stdin } => {
            let name = name.as_deref();
            client::sign_in::sign_in(&stranger()?, &output, &api, name, password_stdin).await
        }
        Command::SignOut => client::sign_in::sign_out(&client()?, &output, &api).await,
        Command::Tokens { command } => {
            client::sign_in::of_tokens(&client()?, &output, command).await
        }
        Command::Users { command } => client::sign_in::of_users(&client()?, &output, command).await,
        Command::Audit => client::sign_in::audit(&client()?, &output).await,
        Command::Status => client::status(&client()?, &output).await,
        Command::Agents => client::agents(&client()?, &output).await,
        Command::Paths => client::paths(&client()?, &output).await,
        Command::Path { id } => client::path(&client()?, &output, &id).await,
        Command::History(args) => client::history::run(&client()?, &output, &args).await,
        Command::Counts(args) => client::counts::run(&client()?, &output, &args).await,
        Command::Alarms(args) => client::alarms::run(&client()?, &output, args).await,
        Command::Follow => client::follow::follow(&client()?, &output).await,
        Command::HandOver(args) => client::hand_over::run(&client()?, &output, args).await,
        Command::Incidents { command } => incidents::run(&client()?, &output, command).await,
        Command::Checks { number, now } => checks::run(&client()?, &output, number, now).await,
        Command::Throughput(wanted) => client::throughput::run(&client()?, &output, &wanted).await,
        Command::Events(args) => events::events(&client()?, &output, args).await,
        Command::HostFacts { site, at } => events::host_facts(&client()?, &output, &site, at).await,
        Command::Pairs { number, voice, at } => {
            pairs::run(&client()?, &output, number, voice, at).await
        }
        Command::Calendars { command } => calendars::calendars(&client()?, &output, command).await,
        Command::PlannedWork(args) => calendars::planned_work(&client()?, &output, args).await,
        Command::Rules { command } => client::rules::run(&client()?, &output, command).await,
        Command::Receivers { command } => notices::receivers(&client()?, &output, command).await,
        Command::Notices { command } => notices::notices(&client()?, &output, command).await,
        Command::Watches { command } => watches::watches(&client()?, &output, command).await,
        Command::Storage => client::storage::run(&client()?, &output).await,
        Command::SetAside { command } => client::set_aside::run(&client()?, &output, command).await,
        Command::Suppressions { command } => {
            watches::suppressions(&client()?, &output, command).await
        }
        Command::Owners { command: OwnersCommand::Import { file, source } } => {
            client::import_owners(&client()?, &output, &file, source.as_deref()).await
        }
        Command::JoinCode { site, lifetime_s } => {
            client::join_code(&client()?, &output, &site, lifetime_s).await
        }
    }
}

async fn run_agent(
    command: AgentCommand,
    output: &Output,
    opened: agent::Privileged,
) -> Result<(), Failure> {
    match command {
        AgentCommand::Join(join) => agent::join(&join, output).await,
        AgentCommand::Run(run) => agent::run(&run, opened).await,
        AgentCommand::Check => agent::check(output),
        AgentCommand::Unit { data } => agent::print_unit(output, &data),
    }
}
