//! `nut-cellar-yardstick`: makes the data that Nut Cellar is shown and measured with.

use clap::{Parser, Subcommand};
use nut_cellar_core::text::{Accents, Reading, TextSettings};
use nut_cellar_core::{Language, Recipe};
use nut_cellar_yardstick::{
    batches, building, completing, correcting, costs, counting, finding, plot, railway, reading, records,
    rows, searching, strangers, waiting,
};
use serde::Serialize;
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
    /// Measure how fast text is read into tokens.
    Text {
        /// The folder with the corpora.
        corpora: PathBuf,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure how fast and how small cellars are built.
    Build {
        /// Build so many generated records; may be given several times.
        #[arg(long = "records", value_name = "N", value_parser = at_least_one())]
        generated: Vec<u64>,
        /// Build the corpora in this folder, too.
        #[arg(long, value_name = "FOLDER")]
        corpora: Option<PathBuf>,
        /// Make the cellars in this folder; the system's for temporary files without.
        #[arg(long, value_name = "FOLDER")]
        at: Option<PathBuf>,
        /// The memory that building may take, in MiB.
        #[arg(long, value_name = "MIB", default_value_t = 256)]
        budget: usize,
        /// Draw where the bytes are, as SVG.
        #[arg(long, value_name = "FILE.svg")]
        plot: Option<PathBuf>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what a user waits for: searches that set nothing, in a folder and on the rows of a table; and how fast the kernels are.
    Search {
        /// Search so many generated records; may be given several times.
        #[arg(long = "records", value_name = "N", value_parser = at_least_one())]
        generated: Vec<u64>,
        /// Search the corpora in this folder, too.
        #[arg(long, value_name = "FOLDER")]
        corpora: Option<PathBuf>,
        /// Queries of each kind.
        #[arg(long, value_name = "N", default_value_t = 400)]
        queries: usize,
        /// Only kinds whose names have this in them.
        #[arg(long, value_name = "TEXT")]
        only: Option<String>,
        /// Search in an empty PostgreSQL database, too: `host=… dbname=…` or `postgres://…`.
        #[arg(long, value_name = "ADDRESS")]
        postgres: Option<String>,
        /// Measure an older build of this program in turn, and tell ratios; without kernels.
        #[arg(long, value_name = "PROGRAM", conflicts_with_all = ["json", "plot"])]
        beside: Option<PathBuf>,
        /// Leave out the kernels.
        #[arg(long)]
        without_kernels: bool,
        /// Draw what a user waits for on the first source, as SVG.
        #[arg(long, value_name = "FILE.svg")]
        plot: Option<PathBuf>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what a user finds: known items of the corpora, by the ranking that comes and by others.
    Finds {
        /// The folder with the corpora.
        corpora: PathBuf,
        /// Ask for so many records of each corpus.
        #[arg(long, value_name = "N", default_value_t = 800)]
        records: usize,
        /// Only rankings whose names have this in them.
        #[arg(long, value_name = "TEXT")]
        only: Option<String>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure how often a correction is the right one, on the corpora.
    Corrects {
        /// The folder with the corpora.
        corpora: PathBuf,
        /// Queries of each corpus.
        #[arg(long, value_name = "N", default_value_t = 2_000)]
        queries: usize,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what counts by value cost, beside what a program would do without them
    Counts {
        /// How many records are generated
        #[arg(default_value_t = 1_000_000)]
        records: u64,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Measure what somebody waits for who types: completions beside counting what they complete, lenient searches beside strict ones.
    Types {
        /// Search so many generated records.
        #[arg(long, value_name = "N", default_value_t = 1_000_000, value_parser = at_least_one())]
        records: u64,
        /// Queries of each kind.
        #[arg(long, value_name = "N", default_value_t = 200)]
        queries: usize,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what the dearest queries of 4 KiB cost.
    Costs {
        /// Search so many generated records.
        #[arg(long, value_name = "N", default_value_t = 1_000_000, value_parser = at_least_one())]
        records: u64,
        /// Only queries whose names have this in them.
        #[arg(long, value_name = "TEXT")]
        only: Option<String>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what queries of strangers cost, drawn from the grammar and from bytes.
    Strangers {
        /// Queries of each source.
        #[arg(long, value_name = "N", default_value_t = 5_000)]
        queries: u64,
        /// Search so many generated records.
        #[arg(long, value_name = "N", default_value_t = 1_000_000, value_parser = at_least_one())]
        records: u64,
        /// Search the corpora `packages` and `gloss` in this folder, too.
        #[arg(long, value_name = "FOLDER")]
        corpora: Option<PathBuf>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what search on the rows of a database costs.
    Rows {
        /// Rows to search.
        #[arg(long, value_name = "N", default_value_t = 1_000_000)]
        rows: u64,
        /// Rows to write in one transaction.
        #[arg(long, value_name = "N", default_value_t = 100_000)]
        writes: u64,
        /// An empty PostgreSQL database: `host=… dbname=…` or `postgres://…`. Only SQLite without.
        #[arg(long, value_name = "ADDRESS")]
        postgres: Option<String>,
        /// Make files in this folder; the system's for temporary files without.
        #[arg(long, value_name = "FOLDER")]
        at: Option<PathBuf>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Measure what batches of one record cost.
    Batches {
        /// How many.
        #[arg(default_value_t = 1_000)]
        batches: u64,
        /// Make the cellar in this folder; the system's for temporary files without.
        #[arg(long, value_name = "FOLDER")]
        at: Option<PathBuf>,
        /// Answer as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Build from a stream of records, and say what it took; `build` calls this.
    #[command(hide = true)]
    Stream { source: String, language: String, budget: usize, folder: PathBuf },
    /// Print the stem of each word on standard input, one a line.
    Stems {
        /// The language.
        language: String,
    },
}

/// How many records, of which there are some.
fn at_least_one() -> clap::builder::RangedU64ValueParser {
    clap::value_parser!(u64).range(1..)
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
        Call::Text { corpora, json } => {
            let measured = reading::measure(&corpora)?;
            shown(json, &measured, || reading::table(&measured))
        }
        Call::Build { generated, corpora, at, budget, plot, json } => {
            let folder = at.unwrap_or_else(std::env::temp_dir);
            let wanted = building::Wanted {
                generated: &generated,
                corpora: corpora.as_deref(),
                folder: &folder,
                budget: budget << 20,
            };
            let built = building::measure(&wanted)?;
            if let Some(file) = plot {
                std::fs::write(file, plot::sections(&built)?)?;
            }
            shown(json, &built, || building::tables(&built))
        }
        Call::Search {
            generated,
            corpora,
            queries,
            only,
            postgres,
            beside,
            without_kernels,
            plot: file,
            json,
        } => {
            let (corpora, only) = (corpora.as_deref(), only.as_deref());
            let postgres = postgres.as_deref();
            let wanted = waiting::Wanted { generated: &generated, corpora, queries, only, postgres };
            if let Some(other) = beside {
                println!("{}", waiting::table(&waiting::beside(&other, &wanted)?));
                return Ok(());
            }
            let waits = waiting::measure(&wanted)?;
            if let Some(file) = file {
                std::fs::write(file, plot::waits(&waits)?)?;
            }
            let kernels = if without_kernels {
                Vec::new()
            } else {
                searching::measure(&searching::Wanted { generated: &generated, corpora, queries, only })?
            };
            shown(json, &serde_json::json!({ "waits": waits, "kernels": kernels }), || {
                let alone: Vec<_> = waits.iter().cloned().map(|waited| (waited, None)).collect();
                format!("{}{}", waiting::table(&alone), searching::table(&kernels))
            })
        }
        Call::Finds { corpora, records, only, json } => {
            let compared = finding::measure(&corpora, records, only.as_deref())?;
            shown(json, &compared, || finding::table(&compared))
        }
        Call::Corrects { corpora, queries, json } => {
            let measured = correcting::measure(&corpora, queries)?;
            shown(json, &measured, || correcting::table(&measured))
        }
        Call::Counts { records, json } => {
            let measured = counting::measure(records)?;
            shown(json, &measured, || completing::table(&measured))
        }
        Call::Types { records, queries, json } => {
            let measured = completing::measure(records, queries)?;
            shown(json, &measured, || completing::table(&measured))
        }
        Call::Costs { records, only, json } => {
            let costs = costs::measure(records, only.as_deref())?;
            shown(json, &costs, || costs::table(&costs))
        }
        Call::Strangers { queries, records, corpora, json } => {
            let measured = strangers::measure(queries, records, corpora.as_deref())?;
            shown(json, &measured, || strangers::table(&measured))
        }
        Call::Rows { rows: count, writes, postgres, at, json } => {
            let folder = at.unwrap_or_else(std::env::temp_dir);
            let wanted = rows::Wanted { rows: count, writes, folder: &folder, postgres: postgres.as_deref() };
            let figures = rows::measure(&wanted)?;
            shown(json, &figures, || rows::table(&figures))
        }
        Call::Batches { batches: count, at, json } => {
            let measured = batches::measure(count, &at.unwrap_or_else(std::env::temp_dir))?;
            shown(json, &measured, || batches::table(&measured))
        }
        Call::Stream { source, language, budget, folder } => {
            let streamed = building::stream(&source, &language, &folder, budget)?;
            println!("{}", serde_json::to_string(&streamed)?);
            Ok(())
        }
        Call::Stems { language } => stems(&language),
    }
}

/// Prints what was measured: as JSON, or as a table.
fn shown(
    json: bool,
    measured: &impl Serialize,
    table: impl FnOnce() -> String,
) -> Result<(), Box<dyn Error>> {
    println!("{}", if json { serde_json::to_string(measured)? } else { table() });
    Ok(())
}

/// Each word as a value of its own, stemmed and nothing else but case folded.
fn stems(language: &str) -> Result<(), Box<dyn Error>> {
    let recipe = Recipe::of(&TextSettings {
        reading: Some(Reading::Whole),
        accents: Some(Accents::Keep),
        stem: Some(true),
        ..TextSettings::of(Language::new(language)?)
    });
    let mut out = BufWriter::new(io::stdout().lock());
    for word in io::stdin().lines() {
        for token in recipe.trace(&word?) {
            writeln!(out, "{}", token.term)?;
        }
    }
    Ok(out.flush()?)
}
