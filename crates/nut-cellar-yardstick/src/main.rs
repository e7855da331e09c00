//! `nut-cellar-yardstick`: makes the data that Nut Cellar is shown and measured with.

use clap::{Parser, Subcommand};
use nut_cellar_yardstick::{railway, records};
use std::error::Error;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;
use std::process::ExitCode;

/// Made-up data of any size, all of it from the Quillmere Light Railway, which does not exist.
#[derive(Parser)]
#[command(name = "nut-cellar-yardstick", version)]
struct Arguments {
    #[command(subcommand)]
    call: Call,
}

#[derive(Subcommand)]
enum Call {
    /// Write the demo's tables as CSV files.
    Tables {
        /// The folder to write to.
        folder: PathBuf,
    },
    /// Write records like the demo's items as NDJSON.
    Records {
        /// How many.
        count: u64,
        /// Another seed gives other records.
        #[arg(long, default_value_t = 1)]
        seed: u64,
        /// The file to write to; standard output without.
        #[arg(long)]
        out: Option<PathBuf>,
    },
}

fn main() -> ExitCode {
    match run(Arguments::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("nut-cellar-yardstick: {error}");
            ExitCode::FAILURE
        }
    }
}

fn run(arguments: Arguments) -> Result<(), Box<dyn Error>> {
    match arguments.call {
        Call::Tables { folder } => railway::write_tables(&folder),
        Call::Records { count, seed, out } => {
            let out: Box<dyn Write> = match out {
                Some(path) => Box::new(File::create(path)?),
                None => Box::new(io::stdout().lock()),
            };
            Ok(records::write(&mut BufWriter::new(out), count, seed)?)
        }
    }
}
