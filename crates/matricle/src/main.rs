//! `matricle`: serve, demo, import and the rest.

use std::process::ExitCode;

use clap::Parser;
use matricle::cli::{Cli, Command};
use matricle::{demo, standins};
use matricle_serve::config::LogConfig;
use matricle_serve::{backup, check, config, import, logging, person, serve};

/// Gives memory back once it is free: after a demo is made, or a large file, the C library's own
/// keeps most of it. It is quicker, too, at the many small pieces of a request.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    let cli = Cli::parse();
    match run(cli) {
        Ok(code) => code,
        Err(error) => {
            eprintln!("matricle: {}", in_a_sentence(&error));
            ExitCode::FAILURE
        }
    }
}

/// What went wrong and why; a reason that an error tells itself is not told again.
fn in_a_sentence(error: &anyhow::Error) -> String {
    error.chain().map(ToString::to_string).fold(String::new(), |said, why| {
        match (said.as_str(), said.contains(&why)) {
            ("", _) => why,
            (_, true) => said,
            (_, false) => format!("{said}: {why}"),
        }
    })
}

fn run(cli: Cli) -> anyhow::Result<ExitCode> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        if let Command::Serve(args) = &cli.command {
            let config = args.load()?;
            logging::start(&config.log);
            serve::run(&config).await?;
            return Ok(ExitCode::SUCCESS);
        }
        // Only what goes wrong, unless RUST_LOG asks for more.
        logging::start(&LogConfig { level: "warn".into(), ..LogConfig::default() });
        match cli.command {
            Command::Demo(args) => demo::run(&args).await?,
            Command::Serve(_) => {}
            Command::Standins(args) => standins::run(&args).await?,
            Command::Import(args) => import::run(&args).await?,
            Command::Person(args) => person::run(&args).await?,
            Command::Check(args) => return check::run(&args.config.load()?, args.mend).await,
            Command::Backup(args) => backup::make(&args)?,
            Command::Restore(args) => backup::restore(&args).await?,
            Command::Bench(args) => matricle_bench::program::run(&args).await?,
            Command::BenchSeason(args) => matricle_bench::season::run(&args)?,
            Command::BenchDoor(args) => matricle_bench::door::run(&args).await?,
            Command::BenchReview(args) => matricle_bench::review::run(&args)?,
            Command::BenchBookings(args) => matricle_bench::bookings::run(&args).await?,
            Command::BenchPages(args) => matricle_bench::pages::run(&args).await?,
            Command::BenchInvitations(args) => matricle_bench::invitations::run(&args).await?,
            Command::BenchMessages(args) => matricle_bench::messages::run(&args).await?,
            Command::ExampleConfig => print!("{}", config::EXAMPLE),
            Command::ExampleEvent => print!("{}", matricle_desk::planning::plan::EXAMPLE),
        }
        Ok(ExitCode::SUCCESS)
    })
}
