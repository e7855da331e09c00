//! The application: its rows, and what it asks of them. It knows nothing of the web.

use nut_cellar::counts::{Count, Counted, Period};
use nut_cellar::lenient::{Suggest, Typed, Typing};
use nut_cellar::rows::{Keeper, Pace};
use nut_cellar::search::PagePlace;
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::sqlite::rusqlite::{self, Connection, params};
use nut_cellar::{Column, ErrorKind, Filter, Find, Hit, Join, Kind, Marks, Schema};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Hits on a page.
const PAGE: usize = 10;
/// Characters of a description that are shown.
const EXCERPT: usize = 180;
/// Completions that are offered.
const OFFERED: usize = 6;
/// Boxes of which it is known what was typed last; others begin anew.
const BOXES: usize = 1_000;
/// How long a connection waits for another that writes.
const PATIENCE: Duration = Duration::from_secs(5);

const STATIONS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../data/stations.csv");
const ITEMS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../data/items.csv");

/// What was found.
#[derive(Serialize)]
pub struct Answer {
    total: u64,
    microseconds: u128,
    /// What the reader should know of how the query was taken.
    notes: Vec<String>,
    /// What was taken for others as well.
    changed: Vec<String>,
    /// What may be chosen.
    counts: Vec<Choices>,
    hits: Vec<Shown>,
    /// What the box may be filled with: what goes on as was typed, and, where nothing does, what may have been meant.
    completions: Vec<Offered>,
    corrections: Vec<Offered>,
    /// Where the next page begins, if there is one.
    next: Option<String>,
}

/// A text for the box, and how many records it finds.
#[derive(Serialize)]
struct Offered {
    text: String,
    records: u64,
}

/// What somebody typed, as the page says it.
#[derive(Deserialize)]
pub struct Asked {
    #[serde(default)]
    q: String,
    /// Whether it is taken as it was typed.
    #[serde(default)]
    strict: bool,
    /// What was chosen of the counts: a status, and a month.
    status: Option<String>,
    found_on: Option<String>,
    /// The place of the hit behind which the next ones are wanted.
    after: Option<String>,
    /// The box, by any name, and the how-manieth text in it this is.
    #[serde(default, rename = "box")]
    name: String,
    #[serde(default)]
    number: u64,
}

/// A column, and how many of all hits have each of its values: what can be chosen, whatever is chosen of it.
#[derive(Serialize)]
struct Choices {
    of: String,
    values: Vec<Offered>,
}

/// A hit, with what is marked in it as HTML.
#[derive(Serialize)]
struct Shown {
    id: String,
    title: String,
    excerpt: String,
    station: String,
    found_on: String,
    status: String,
}

/// Something that was found on a train.
#[derive(Deserialize)]
pub struct Item {
    title: String,
    #[serde(default)]
    description: String,
}

/// What went wrong.
#[derive(Debug)]
pub enum Failure {
    Search(nut_cellar::Error),
    Rows(rusqlite::Error),
    NoTitle,
}

impl Failure {
    /// Whether whoever asked can do something about it.
    pub fn is_the_callers(&self) -> bool {
        match self {
            Self::Search(error) => error.kind() == ErrorKind::BadRequest,
            Self::Rows(_) => false,
            Self::NoTitle => true,
        }
    }
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Search(error) => error.fmt(f),
            Self::Rows(error) => error.fmt(f),
            Self::NoTitle => f.write_str("Say in a word or two what it is."),
        }
    }
}

impl std::error::Error for Failure {}

impl From<nut_cellar::Error> for Failure {
    fn from(error: nut_cellar::Error) -> Self {
        Self::Search(error)
    }
}

impl From<rusqlite::Error> for Failure {
    fn from(error: rusqlite::Error) -> Self {
        Self::Rows(error)
    }
}

/// The office, for as many threads as there are.
pub struct Office {
    file: PathBuf,
    cellar: Arc<SqliteCellar>,
    /// Connections that nobody uses at the moment.
    idle: Mutex<Vec<Connection>>,
    boxes: Mutex<HashMap<String, Typing>>,
}

impl Office {
    /// Opens the office's database; one that is not there is made, with the demo's rows.
    pub fn open(file: &Path) -> Result<Self, Box<dyn std::error::Error>> {
        let mut db = connect(file)?;
        let there = db.prepare("SELECT 1 FROM sqlite_schema WHERE name = 'items'")?.exists([])?;
        if !there {
            fill(&mut db)?;
        }
        // What follows is all that the search takes. Adopting again changes nothing, unless the schema is another.
        let schema = Schema::new("id")
            .with("title", Column::text("en").weighing(4.0))
            .with("description", Column::text("en"))
            .with("station", Column::text("en").weighing(2.0).from_columns(["stations.name"]))
            .with("found_on", Column::of(Kind::Date))
            .with("status", Column::of(Kind::Exact))
            .from_table("items")
            .joining(Join::one("stations", "stations.id = items.station_id"));
        let cellar = Arc::new(SqliteCellar::adopt(&db, "items", &schema)?);
        let idle = Mutex::new(vec![db]);
        Ok(Self { file: file.to_owned(), cellar, idle, boxes: Mutex::default() })
    }

    /// Starts a thread that catches up with what was written.
    pub fn keeper(&self) -> Result<Keeper, Failure> {
        let kept = (connect(&self.file)?, Arc::clone(&self.cellar));
        Ok(Keeper::start(kept, Pace::default(), |done| {
            if let Err(error) = done {
                eprintln!("{error}");
            }
        }))
    }

    /// Searches for what somebody typed so far; nothing, if something else was typed meanwhile.
    pub fn search(&self, asked: &Asked) -> Result<Option<Answer>, Failure> {
        let typed = self.typed(asked);
        typed.latest(self.answer(asked, &typed))
    }

    fn typed(&self, asked: &Asked) -> Typed {
        let mut boxes = self.boxes.lock().unwrap_or_else(PoisonError::into_inner);
        if boxes.len() >= BOXES && !boxes.contains_key(&asked.name) {
            boxes.clear();
        }
        boxes.entry(asked.name.clone()).or_default().numbered(asked.number)
    }

    fn answer(&self, asked: &Asked, typed: &Typed) -> Result<Answer, Failure> {
        let mut find = typed.stopping(Find::new().with_beginnings());
        for (column, chosen) in [("status", &asked.status), ("found_on", &asked.found_on)] {
            if let Some(chosen) = chosen {
                find = find.only(Filter::equal(column, chosen.as_str()));
            }
        }
        let mut page = find.clone().limit(PAGE).with_marks();
        page = page.count(Count::of("status").without_own_filter());
        page = page.count(Count::periods("found_on", Period::Month).without_own_filter());
        if asked.strict {
            page = page.strict();
        }
        if let Some(after) = &asked.after {
            page = page.after(after.parse::<PagePlace>()?);
        }
        let suggest = Suggest::new().values_of(["station"]).limit(OFFERED);
        let started = Instant::now();
        let (found, suggested) = self.with_connection(|db| {
            let found = self.cellar.find(db, &asked.q, &page)?;
            Ok((found, self.cellar.suggest(db, &asked.q, &find, &suggest)?))
        })?;
        let microseconds = started.elapsed().as_micros();
        let completions: Vec<_> = suggested
            .completions
            .into_iter()
            .map(|completion| Offered { text: completion.text, records: completion.records })
            .collect();
        // While a word may go on, it is not wrong yet.
        let wrong = suggested.corrections.into_iter().filter(|_| completions.is_empty());
        let corrections =
            wrong.map(|correction| Offered { text: correction.text, records: correction.records }).collect();
        let marks = Marks::new("<mark>", "</mark>").escaping_html();
        let shown = |hit: &Hit| Shown {
            id: hit.key.to_string(),
            title: hit.marked("title", &marks),
            excerpt: hit.excerpt("description", EXCERPT, &marks),
            station: hit.marked("station", &marks),
            found_on: hit.shown("found_on"),
            status: hit.shown("status"),
        };
        let choices = |counted: &Counted| Choices {
            of: counted.of.clone(),
            values: counted
                .values
                .iter()
                .filter_map(|one| {
                    Some(Offered { text: one.value.as_ref()?.to_string(), records: one.records })
                })
                .collect(),
        };
        let counts = found.counts.iter().map(choices).collect();
        let hits = found.hits.iter().map(shown).collect();
        let next = found.last.filter(|_| found.more).map(|last| last.to_string());
        let notes = found.notes.iter().map(ToString::to_string).collect();
        let changed = found.changed.iter().map(ToString::to_string).collect();
        Ok(Answer {
            total: found.total,
            microseconds,
            notes,
            changed,
            counts,
            hits,
            completions,
            corrections,
            next,
        })
    }

    /// Takes something in: a row like any other.
    pub fn hand_in(&self, item: &Item) -> Result<i64, Failure> {
        if item.title.trim().is_empty() {
            return Err(Failure::NoTitle);
        }
        self.with_connection(|db| {
            db.execute(
                "INSERT INTO items(title, description, station_id, found_on, status) VALUES (?1, ?2, 1, date('now'), 'waiting')",
                params![item.title.trim(), item.description.trim()],
            )?;
            Ok(db.last_insert_rowid())
        })
    }

    fn with_connection<T>(&self, work: impl FnOnce(&Connection) -> Result<T, Failure>) -> Result<T, Failure> {
        let idle = || self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        let waiting = idle().pop();
        let db = match waiting {
            Some(db) => db,
            None => connect(&self.file)?,
        };
        let done = work(&db);
        idle().push(db);
        done
    }
}

fn connect(file: &Path) -> Result<Connection, rusqlite::Error> {
    let db = Connection::open(file)?;
    db.busy_timeout(PATIENCE)?;
    db.pragma_update(None, "journal_mode", "wal")?;
    Ok(db)
}

/// The application's own tables.
fn fill(db: &mut Connection) -> Result<(), Box<dyn std::error::Error>> {
    let transaction = db.transaction()?;
    transaction.execute_batch(
        "CREATE TABLE stations(id INTEGER PRIMARY KEY, name TEXT NOT NULL);
         CREATE TABLE items(
             id INTEGER PRIMARY KEY, title TEXT NOT NULL, description TEXT NOT NULL,
             station_id INTEGER NOT NULL REFERENCES stations, found_on TEXT NOT NULL, status TEXT NOT NULL)",
    )?;
    for row in csv::Reader::from_path(STATIONS)?.records() {
        let row = row?;
        transaction.execute("INSERT INTO stations VALUES (?1, ?2)", [&row[0], &row[1]])?;
    }
    for row in csv::Reader::from_path(ITEMS)?.records() {
        let row = row?;
        let values = [&row[0], &row[1], &row[2], &row[5], &row[6], &row[8]];
        transaction.execute("INSERT INTO items VALUES (?1, ?2, ?3, ?4, ?5, ?6)", values)?;
    }
    Ok(transaction.commit()?)
}
