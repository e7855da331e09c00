//! What can be called, and with what.

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand};
use nut_cellar::counts::Count;
use nut_cellar::judge::Measure;
use nut_cellar::lenient::Offer;
use nut_cellar::rank::Lengths;
use nut_cellar::search::DOCUMENT_VERSION;
use nut_cellar::shelf::LAYOUT;
use nut_cellar::{Beginnings, Error, ErrorKind, Language, Order, Spellings};
use std::num::NonZero;
use std::path::PathBuf;

/// What `--version` says: which layout is read, and what it can do.
fn long_version() -> String {
    format!(
        "{}\nlayout of shelves: {LAYOUT}\nrequests and answers: version {DOCUMENT_VERSION}\n\
         features: sqlite, postgres, dictionaries, detection, zstd",
        env!("CARGO_PKG_VERSION"),
    )
}

/// Full-text search inside an application or its database: no server, nothing to operate.
///
/// A TARGET is a folder (`shed.cellar`), a table of a SQLite database
/// (`sqlite:app.db#items`) or one of a PostgreSQL database (`postgres://localhost/app#items`).
#[derive(Parser)]
#[command(name = "nut-cellar", version, long_version = long_version(), max_term_width = 100)]
pub struct Arguments {
    #[command(subcommand)]
    pub call: Call,
    /// A list of words for compounds, for schemas that name it: a file with a word a line
    #[arg(long, global = true, value_name = "NAME:LANGUAGE=FILE", value_parser = compounds)]
    pub compounds: Vec<Compounds>,
}

/// A list of words for compounds.
#[derive(Clone)]
pub struct Compounds {
    pub name: String,
    pub language: Language,
    pub file: PathBuf,
}

fn compounds(text: &str) -> Result<Compounds, String> {
    let parts = text.split_once('=').and_then(|(named, file)| Some((named.rsplit_once(':')?, file)));
    let Some(((name, code), file)) = parts.filter(|((name, _), file)| !name.is_empty() && !file.is_empty())
    else {
        return Err("say its name, its language and its file, as in `german words:de=words.txt`".into());
    };
    let language = Language::new(code).map_err(|error| error.to_string())?;
    Ok(Compounds { name: name.to_owned(), language, file: file.into() })
}

#[derive(Subcommand)]
pub enum Call {
    /// Make a demo database and walk through the main things
    Demo(Demo),
    /// Put records from NDJSON or CSV files into a cellar
    Load(Load),
    /// Put search on an existing table
    Adopt(Adopt),
    /// Take search off a table again, and leave nothing behind
    Release(Target),
    /// Turn changed rows into a shelf; changes no result, makes searches faster
    Sync(Sync),
    /// Search
    Find(Find),
    /// Show what somebody may have meant
    Suggest(Suggest),
    /// Show why a record ranks where it does, or why it was not found
    Why(Why),
    /// Put two rankings of a query side by side
    Compare(Compare),
    /// Measure what searches find of what is right, with one ranking or with two
    Judge(Judge),
    /// Find the weights, k1, b and proximity by which searches find most of what is right
    Tune(Tune),
    /// Measure how long searches take
    Time(Time),
    /// Show what becomes of a text
    Tokens(Tokens),
    /// Show the terms that fit a pattern, and how many records have them
    Terms(Terms),
    /// Show what there is to know about a cellar
    Info(Info),
    /// Check every checksum and every invariant of the layout, and that records agree with their rows
    Check(Target),
    /// Read rows again whose records differ, or all if the cellar is damaged
    Repair(Repair),
    /// Read all rows again, into new shelves; searches go on meanwhile
    Rebuild(Target),
    /// Say that rows may have changed without a trigger that saw it, so that they are read again
    Touch(Touch),
    /// Make one shelf of all; changes no result, makes searches faster
    Compact(Target),
    /// Write what a shell needs to complete calls, to stdout
    Completions(Completions),
    /// Write the manual page, to stdout
    Man,
}

#[derive(Args)]
pub struct Demo {
    /// The database to make; a temporary one without
    #[arg(long, value_name = "FILE.db")]
    pub at: Option<PathBuf>,
}

#[derive(Args)]
pub struct Target {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
}

#[derive(Args)]
pub struct Repair {
    /// A table of a database
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// What the columns are, for a cellar of which that can't be read any more
    #[arg(long, value_name = "FILE.toml")]
    pub schema: Option<PathBuf>,
}

#[derive(Args)]
pub struct Touch {
    /// A table of a database
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// The keys of the rows
    #[arg(value_name = "KEY", required = true, allow_hyphen_values = true)]
    pub keys: Vec<String>,
}

#[derive(Args)]
pub struct Completions {
    /// The shell
    #[arg(value_name = "SHELL")]
    pub shell: clap_complete::Shell,
}

#[derive(Args)]
pub struct Load {
    /// A folder; it is made if it is not there
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// NDJSON (.ndjson, .jsonl) or CSV (.csv) files
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// What the columns are; proposed from the first records without
    #[arg(long, value_name = "FILE.toml")]
    pub schema: Option<PathBuf>,
    /// The column that names a record, where a schema is proposed
    #[arg(long, value_name = "COLUMN")]
    pub key: Option<String>,
    /// Publish after every N records; all at once without
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    pub batch: Option<u64>,
    /// How many threads read the texts; as many as there are processors without
    #[arg(long, value_name = "N")]
    pub threads: Option<NonZero<usize>>,
    /// Go on where a load of the same files stopped
    #[arg(long)]
    pub resume: bool,
    /// Let other users read the cellar, as far as the umask lets them; it is yours alone without
    #[arg(long)]
    pub shared: bool,
}

#[derive(Args)]
pub struct Adopt {
    /// `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// What the columns are
    #[arg(long, value_name = "FILE.toml")]
    pub schema: PathBuf,
}

#[derive(Args)]
pub struct Sync {
    /// `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// Go on, and catch up with whatever comes
    #[arg(long)]
    pub follow: bool,
}

/// How to search.
#[derive(Args, Clone)]
#[expect(clippy::struct_excessive_bools, reason = "they are what a call turns on and off")]
pub struct Settings {
    /// Look in these text columns only
    #[arg(long, value_name = "a,b", value_delimiter = ',')]
    pub columns: Option<Vec<String>>,
    /// What a match in a column weighs
    #[arg(long, value_name = "a=4,b=1", value_delimiter = ',', value_parser = weight)]
    pub weights: Vec<(String, f32)>,
    /// Where few records have all of what was typed, let words that hardly any has stand for others, and records with fewer words
    /// follow [default]
    #[arg(long, overrides_with = "strict")]
    pub lenient: bool,
    /// Take what was typed as it is: `--words all --relax 0 --near never`
    #[arg(long, overrides_with = "lenient")]
    pub strict: bool,
    /// With how many records that have all words a lenient search makes do [default: 10, or as many as the page goes to]
    #[arg(long, value_name = "N")]
    pub enough: Option<u64>,
    /// How many of the words a record must have; a share is like `60%` [default: all, those with fewer behind them]
    #[arg(long, value_name = "all|any|N|P%")]
    pub words: Option<nut_cellar::Words>,
    /// Where fewer records than this have all words, count those with fewer words, too
    #[arg(long, value_name = "N")]
    pub relax: Option<u64>,
    /// When words stand for others that are spelled nearly so [default: where hardly any record has them]
    #[arg(long, value_name = "never|few|always")]
    pub near: Option<Spellings>,
    /// The first letters of a word that have to be right where spellings may be near
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub first_letters: usize,
    /// Let the last word, or all of them, stand for all that begin so, too [default: none; last where only this is said]
    #[arg(long, value_name = "last|all", num_args = 0..=1, require_equals = true, default_missing_value = "last")]
    pub beginnings: Option<Beginnings>,
    /// Find these records only: `found_on >= 2031-04 and status in ('waiting', 'sent on')`
    #[arg(long = "where", value_name = "FILTER")]
    pub filter: Option<String>,
    /// Count of all that is found: `station most 5`, `category under tools`, `value ranges 100,500`, `seen_at by month in
    /// Europe/Lisbon`, `value statistics`; `without own filter`. May be repeated
    #[arg(long = "count", value_name = "COUNT")]
    pub counts: Vec<Count>,
    /// Order by the values of a column, up or down
    #[arg(long, value_name = "COLUMN[:down]")]
    pub sort: Option<Order>,
    /// How soon more of the same word stops to matter [default: the cellar's, or 1.2]
    #[arg(long, allow_negative_numbers = true, value_name = "K1")]
    pub k1: Option<f32>,
    /// How far a long column counts against itself, from 0 to 1; of all columns, or of each [default: the cellar's, or 0.75]
    #[arg(long, allow_negative_numbers = true, value_name = "B|a=B,b=B")]
    pub b: Option<Lengths>,
    /// What it adds to a score that different words stand near each other [default: the cellar's, or 0]
    #[arg(long, allow_negative_numbers = true, value_name = "WEIGHT")]
    pub proximity: Option<f32>,
    /// Let patterns and near spellings look at about so many terms [default: 524288]
    #[arg(long, value_name = "N")]
    pub most_terms: Option<u64>,
    /// Make a query simpler that would go through more postings than so many [default: three for each record,
    /// less for more than ten words]
    #[arg(long, value_name = "N")]
    pub most_postings: Option<u64>,
    /// Let words stand for their synonyms, from lines like `brolly = umbrella` and `specs -> spectacles`
    #[arg(long, value_name = "FILE.txt")]
    pub expand: Option<PathBuf>,
    /// Take words in the form in which they are typed only
    #[arg(long)]
    pub exact_forms: bool,
    /// Refuse a query that makes no sense, and say where, instead of making the best of it
    #[arg(long)]
    pub exacting: bool,
    /// The most hits to show
    #[arg(long, value_name = "N", default_value_t = 10)]
    pub limit: usize,
    /// Leave out the first hits
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub skip: usize,
    /// Go on behind the last hit of a page before, by the place that it told
    #[arg(long, value_name = "PLACE")]
    pub after: Option<nut_cellar::search::PagePlace>,
}

#[derive(Args)]
pub struct Find {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// Words, "phrases in quotes", -without, a OR b, begin*, ~nearly, column:word; see docs/query-language.md
    #[arg(value_name = "QUERY", allow_hyphen_values = true, required_unless_present = "request")]
    pub query: Option<String>,
    #[command(flatten)]
    pub settings: Settings,
    /// Ask what this request says, query and settings; see docs/request.md
    #[arg(long, value_name = "FILE.json", conflicts_with_all = ["query", "Settings"])]
    pub request: Option<PathBuf>,
    /// Show how the search went instead of its hits
    #[arg(long)]
    pub plan: bool,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Suggest {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// What was typed, as for `find`
    #[arg(value_name = "TEXT", allow_hyphen_values = true)]
    pub text: String,
    /// Look in these text columns only
    #[arg(long, value_name = "a,b", value_delimiter = ',')]
    pub columns: Option<Vec<String>>,
    /// What is offered finds one of these records
    #[arg(long = "where", value_name = "FILTER")]
    pub filter: Option<String>,
    /// Correct words that no record has; those too that something near is much more frequent than; or every word
    #[arg(long, value_name = "unknown|doubtful|every", default_value = "doubtful")]
    pub offer: Offer,
    /// The first letters of a word that have to be right
    #[arg(long, value_name = "N", default_value_t = 0)]
    pub first_letters: usize,
    /// A shorter word is not corrected
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub least_letters: usize,
    /// Complete the last words to whole values of these columns, too
    #[arg(long, value_name = "a,b", value_delimiter = ',')]
    pub values_of: Vec<String>,
    /// Complete what was typed to one of these queries, too, one on each line, those first that should be tried first
    #[arg(long, value_name = "FILE.txt")]
    pub earlier: Option<PathBuf>,
    /// The most corrections, and the most completions, to show
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub limit: usize,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Why {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// As for `find`
    #[arg(value_name = "QUERY", allow_hyphen_values = true)]
    pub query: String,
    /// The key of the record
    #[arg(value_name = "KEY", allow_hyphen_values = true)]
    pub key: String,
    #[command(flatten)]
    pub settings: Settings,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Compare {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// As for `find`
    #[arg(value_name = "QUERY", allow_hyphen_values = true)]
    pub query: String,
    /// What is otherwise in the second ranking: weights, or settings of `find` in one text, such as `--words any --k1 0.9`
    #[arg(long, value_name = "a=4,b=1|SETTINGS", allow_hyphen_values = true, required = true)]
    pub against: String,
    #[command(flatten)]
    pub settings: Settings,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

/// What is asked, and what is right.
#[derive(Args)]
pub struct Set {
    /// A file with a query on each line, with a number and a tab before it or without
    #[arg(long, value_name = "FILE.tsv", required_unless_present = "known")]
    pub queries: Option<PathBuf>,
    /// A file that says which records are right: `query 0 record grade` on each line
    #[arg(long, value_name = "FILE.qrels")]
    pub judgments: Option<PathBuf>,
    /// Ask for records by the words of this column, which is then not searched: each record itself is right
    #[arg(long, value_name = "COLUMN", conflicts_with_all = ["queries", "judgments"])]
    pub known: Option<String>,
    /// How many records are asked for so
    #[arg(long, value_name = "N", default_value_t = 300, requires = "known")]
    pub sample: usize,
    /// How many typing mistakes there are in each of these queries
    #[arg(long, value_name = "N", default_value_t = 0, requires = "known")]
    pub mistakes: u32,
    /// What is drawn by lot is the same for the same number
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub seed: u64,
}

#[derive(Args)]
pub struct Judge {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    #[command(flatten)]
    pub set: Set,
    /// Ask here, one by one, which records are right, and append what is answered to this file
    #[arg(long, value_name = "FILE.qrels", conflicts_with_all = ["known", "judgments", "against", "plot", "run_out", "json"])]
    pub into: Option<PathBuf>,
    /// What is otherwise in another ranking whose best are asked about, too; may be said several times
    #[arg(long, value_name = "a=4,b=1|SETTINGS", allow_hyphen_values = true, requires = "into")]
    pub pool: Vec<String>,
    /// How many of the best of each ranking are asked about
    #[arg(long, value_name = "N", default_value_t = 10, requires = "into")]
    pub depth: usize,
    /// What is measured of the first k: rr, p, recall, map, ndcg, `ndcg_binary`; two rankings are tested by the first of them
    #[arg(long, value_name = "NAME@K,…", value_delimiter = ',', default_values_t = Measure::USUAL)]
    pub measures: Vec<Measure>,
    /// What is otherwise in a second ranking: weights, or settings of `find` in one text, such as `--words any --k1 0.9`
    #[arg(long, value_name = "a=4,b=1|SETTINGS", allow_hyphen_values = true)]
    pub against: Option<String>,
    /// Draw the first measure, of each query and of the first 1, 2, 3 … records
    #[arg(long, value_name = "FILE.svg")]
    pub plot: Option<PathBuf>,
    /// Write what was found for each query, in TREC's form
    #[arg(long, value_name = "FILE")]
    pub run_out: Option<PathBuf>,
    #[command(flatten)]
    pub settings: Settings,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Tune {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    #[command(flatten)]
    pub set: Set,
    /// The numbers that are tuned: columns for their weights, k1, b, `b:title` for the b of one column, proximity
    #[arg(long, value_name = "a,b,k1,…", value_delimiter = ',', required = true)]
    pub over: Vec<String>,
    /// By what the numbers are chosen
    #[arg(long, value_name = "NAME@K", default_value = "ndcg@10")]
    pub measure: Measure,
    /// Into how many parts the queries are divided, each of which is judged by what the others chose
    #[arg(long, value_name = "N", default_value_t = 5)]
    pub folds: usize,
    /// From how many points drawn by lot the search begins again
    #[arg(long, value_name = "N", default_value_t = 2)]
    pub restarts: usize,
    /// End after so many seconds with what was found
    #[arg(long, value_name = "SECONDS", default_value_t = 600)]
    pub seconds: u64,
    #[command(flatten)]
    pub settings: Settings,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Time {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// A file with a query on each line, with a number and a tab before it or without
    #[arg(long, value_name = "FILE")]
    pub queries: PathBuf,
    /// How often each is run; its least time counts
    #[arg(long, value_name = "N", default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..))]
    pub repeat: u32,
    #[command(flatten)]
    pub settings: Settings,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Tokens {
    /// The text
    #[arg(value_name = "TEXT", allow_hyphen_values = true)]
    pub text: String,
    /// The language to read it in
    #[arg(long, value_name = "LL", default_value = "none", conflicts_with = "schema")]
    pub language: String,
    /// Read it as a column of this schema is read
    #[arg(long, value_name = "FILE.toml", requires = "column")]
    pub schema: Option<PathBuf>,
    /// The column
    #[arg(long, value_name = "NAME", requires = "schema")]
    pub column: Option<String>,
    /// Show beside it what becomes of the text in this language
    #[arg(long, value_name = "LL")]
    pub against: Option<String>,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Terms {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// A term; `*` stands for any characters, `?` for one: `umb*`, `*ella`, `*rel*`
    #[arg(value_name = "PATTERN", allow_hyphen_values = true)]
    pub pattern: String,
    /// The most terms to show
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: usize,
    /// Answer with the terms alone, one a line, as lists of words for compounds are written
    #[arg(long, conflicts_with = "json")]
    pub lines: bool,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
pub struct Info {
    /// A folder, `sqlite:FILE#TABLE` or `postgres://…#TABLE`
    #[arg(value_name = "TARGET")]
    pub target: String,
    /// Answer as one JSON document
    #[arg(long)]
    pub json: bool,
}

impl Settings {
    /// The settings of this call with others in their place, from one text: weights (`title=4,notes=1`), or what the call itself could
    /// have said.
    pub fn changed(text: &str) -> nut_cellar::Result<Self> {
        let weights = || text.split(',').map(weight).collect::<Result<Vec<_>, _>>();
        let words = if text.trim_start().starts_with('-') {
            shlex::split(text).ok_or_else(|| bad_settings(text, "a quotation mark is not closed"))?
        } else {
            weights().map_err(|error| bad_settings(text, &error))?;
            vec!["--weights".to_owned(), text.to_owned()]
        };
        // The call is read once more, with these words behind its own: what is said last counts.
        let mut line: Vec<_> = std::env::args_os().collect();
        let end = line.iter().position(|word| word == "--").unwrap_or(line.len());
        line.splice(end..end, words.into_iter().map(Into::into));
        let command = Arguments::command().args_override_self(true);
        let read =
            command.try_get_matches_from(line).and_then(|matches| Arguments::from_arg_matches(&matches));
        match read
            .map_err(|error| {
                bad_settings(
                    text,
                    error.to_string().trim_start_matches("error: ").lines().next().unwrap_or_default(),
                )
            })?
            .call
        {
            Call::Compare(Compare { settings, .. }) | Call::Judge(Judge { settings, .. }) => Ok(settings),
            _ => Err(bad_settings(text, "this call has none")),
        }
    }
}

fn bad_settings(text: &str, what: &str) -> Error {
    Error::new(
        ErrorKind::BadRequest,
        format!("The settings `{text}` can't be read: {}.", what.trim_end_matches('.')),
    )
}

fn weight(text: &str) -> Result<(String, f32), String> {
    let wrong = || format!("`{text}` is not like `title=4`");
    let (column, weight) = text.split_once('=').ok_or_else(wrong)?;
    Ok((column.to_owned(), weight.parse().map_err(|_| wrong())?))
}
