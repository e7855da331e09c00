//! The walk: each step says what it shows, shows it, and says what was to be seen.

use super::office;
use crate::find;
use crate::paint::{self, FAINT, HEAD, MATCH};
use crate::say;
use comfy_table::Cell;
use nut_cellar::judge::{
    Assessment, Judgments, Knob, Measure, Run, Tuning, compare, read_queries, record_id,
};
use nut_cellar::lenient::Suggest;
use nut_cellar::schema::Ranking;
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Error, ErrorKind, Filter, Find, Found, Query, Result, Schema, Words};
use rusqlite::Connection;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

/// How often a search or a scan is run to tell its time; the median is shown.
const RUNS: usize = 25;
/// How many hits a step shows.
const SHOWN: usize = 3;

pub struct Walk {
    connection: Connection,
    cellar: SqliteCellar,
    schema: Arc<Schema>,
    path: PathBuf,
    step: usize,
}

impl Walk {
    /// Adopts the table, and says so.
    pub fn new(connection: Connection, path: &Path) -> Result<Self> {
        let schema = Schema::from_toml(office::SCHEMA)?;
        let rows: i64 =
            connection.query_row("SELECT count(*) FROM items", [], |row| row.get(0)).map_err(failed)?;
        say(&format!(
            "{HEAD}The lost-property office of the Quillmere Light Railway{HEAD:#}\n\
             {FAINT}{rows} items, and a search box to be made. The database: {}{FAINT:#}\n",
            path.display()
        ))?;
        let started = Instant::now();
        let cellar = SqliteCellar::adopt(&connection, "items", &schema)?;
        let took = paint::time(started.elapsed().as_secs_f64() * 1e6);
        say(&format!(
            "{FAINT}The table `items` was adopted in {took}: all its rows can be searched now.{FAINT:#}\n"
        ))?;
        Ok(Self { connection, cellar, schema: Arc::new(schema), path: path.to_owned(), step: 0 })
    }

    pub fn all(&mut self) -> Result<()> {
        self.scan_beside_search()?;
        self.misspelled()?;
        self.word_forms()?;
        self.phrase()?;
        self.weights()?;
        self.column()?;
        self.counts()?;
        self.changed_row()?;
        self.judged()?;
        self.what_next()
    }

    fn scan_beside_search(&mut self) -> Result<()> {
        self.title("A substring scan beside a search", "walnut box")?;
        let scan = "SELECT count(*) FROM items WHERE title LIKE ?1 OR description LIKE ?1";
        let (count, scan_us) = timed(|| {
            self.connection.query_row(scan, ["%walnut box%"], |row| row.get::<_, i64>(0)).map_err(failed)
        })?;
        let (found, search_us) = self.find("walnut box", &top())?;
        let mut table = paint::table(&["", "finds", ">records", ">time", "in order of"]);
        let row = |cells: [&str; 5]| cells.map(Cell::new);
        let count = count.to_string();
        let literally = "only this run of letters";
        table.add_row(row(["LIKE '%walnut box%'", literally, &count, &paint::time(scan_us), "nothing"]));
        let total = found.total.to_string();
        let both = "both words, anywhere, in any form";
        table.add_row(row(["search", both, &total, &paint::time(search_us), "how well they match"]));
        say(&format!("{table}\n\n"))?;
        self.hits(&found)
    }

    fn misspelled(&mut self) -> Result<()> {
        self.title("Typing mistakes", "wlanut wirting box")?;
        let (found, _) = self.find("wlanut wirting box", &top())?;
        for changed in &found.changed {
            say(&format!("{FAINT}{changed}{FAINT:#}\n"))?;
        }
        self.hits(&found)?;
        let find = Find::new().with_beginnings();
        let offered = |text| self.cellar.suggest(&self.connection, text, &find, &Suggest::new().limit(3));
        let corrections = offered("umbrela ha")?.corrections;
        let corrections: Vec<_> = corrections.iter().map(|one| shown(&one.text, one.records)).collect();
        let completions = offered("umbrella ha")?.completions;
        let completions: Vec<_> = completions.iter().map(|one| shown(&one.text, one.records)).collect();
        say(&format!(
            "{FAINT}Who has typed{FAINT:#} umbrela ha {FAINT}may have meant{FAINT:#} {}{FAINT}.\n\
             Who has typed{FAINT:#} umbrella ha {FAINT}may go on to{FAINT:#} {}{FAINT}.{FAINT:#}\n",
            corrections.join(", "),
            completions.join(", ")
        ))
    }

    fn word_forms(&mut self) -> Result<()> {
        self.title("Word forms", "closing clasp")?;
        let (found, _) = self.find("closing clasp", &top())?;
        self.hits(&found)
    }

    fn phrase(&mut self) -> Result<()> {
        self.title("A phrase", "\"walking umbrella\"")?;
        let (scattered, _) = self.find("walking umbrella", &top())?;
        let (phrase, _) = self.find("\"walking umbrella\"", &top())?;
        self.hits(&phrase)?;
        say(&format!(
            "{FAINT}Scattered, the two words are in {}; next to each other in {}.{FAINT:#}\n",
            paint::count(scattered.total, "record", "records"),
            phrase.total
        ))
    }

    fn weights(&mut self) -> Result<()> {
        self.title("Two columns, without weights and with", "umbrella handle")?;
        let flat = top().limit(6).weight("title", 1.0).weight("description", 1.0);
        let uneven = top().limit(6).weight("title", 8.0).weight("description", 1.0);
        let (left, _) = self.find("umbrella handle", &flat)?;
        let (right, _) = self.find("umbrella handle", &uneven)?;
        let mut table = paint::table(&[
            ">#",
            "title = 1, description = 1",
            ">score",
            "title = 8, description = 1",
            ">score",
        ]);
        for (left, right) in left.hits.iter().zip(&right.hits) {
            table.add_row([
                Cell::new(left.rank),
                Cell::new(left.marked("title", &paint::marks())),
                Cell::new(format!("{:.3}", left.score)),
                Cell::new(right.marked("title", &paint::marks())),
                Cell::new(format!("{:.3}", right.score)),
            ]);
        }
        say(&format!("{}\n", paint::painted(&table.to_string())))?;
        say(&format!("{FAINT}Weights belong to the search: nothing was rebuilt in between.{FAINT:#}\n"))
    }

    fn column(&mut self) -> Result<()> {
        self.title("One column only", "title:walnut description:kippers")?;
        let (found, _) = self.find("title:walnut description:kippers", &top())?;
        self.hits(&found)
    }

    fn counts(&mut self) -> Result<()> {
        self.title("Counts to click on", "brass, under carried and waiting")?;
        let filter = Filter::read("category under carried and status = 'waiting'", &self.schema)?;
        let mut find = Find::new().strict().limit(0).only(filter);
        for count in ["category under carried", "status without own filter", "value_pence ranges 500,2000"] {
            find = find.count(count.parse()?);
        }
        let (found, time) = self.find("brass", &find)?;
        for (count, counted) in find.counts().iter().zip(&found.counts) {
            say(&find::counts(&count.to_string(), counted))?;
        }
        let records = paint::count(found.total, "record", "records");
        say(&format!("{FAINT}All of {records}, counted in {}.{FAINT:#}\n", paint::time(time)))
    }

    fn changed_row(&mut self) -> Result<()> {
        self.title("A row that another program changes", "\"submarine periscope\"")?;
        let count = |walk: &Self| Ok::<_, Error>(walk.find("\"submarine periscope\"", &top())?.0.total);
        let run = |sql: &str| self.connection.execute_batch(sql).map_err(failed);
        let update = "UPDATE items SET title = 'Submarine periscope, folding' WHERE id = 42";
        let mut table = paint::table(&["plain SQL, without a word to the cellar", ">records found"]);
        table.add_row([Cell::new("(before)"), Cell::new(count(self)?)]);
        run(&format!("BEGIN; {update}"))?;
        table.add_row([Cell::new(format!("BEGIN; {update}")), Cell::new(count(self)?)]);
        run("ROLLBACK")?;
        table.add_row([Cell::new("ROLLBACK"), Cell::new(count(self)?)]);
        run(update)?;
        table.add_row([Cell::new(update), Cell::new(count(self)?)]);
        self.cellar.sync(&self.connection)?;
        table.add_row([Cell::new("(after `sync`, which changes no result)"), Cell::new(count(self)?)]);
        say(&format!("{table}\n"))
    }

    /// The claims say which item they are about, so it is known what is right.
    fn judged(&mut self) -> Result<()> {
        self.title("Which ranking finds what people ask for", "40 claims, as they were written")?;
        let (asked, judgments) = (read_queries(office::QUERIES)?, Judgments::read(office::JUDGMENTS)?);
        let measures = [Measure::ReciprocalRank(10), Measure::Recall(10)];
        let run = |find: &Find| -> Result<(Run, Assessment)> {
            let mut run = Run::new();
            for query in &asked {
                let find = find.clone().words(Words::Any).without_values();
                let found = self.cellar.search(&self.connection, &Query::read(&query.text).query, &find)?;
                run.found(&query.id, found.hits.iter().map(|hit| (record_id(&hit.key), hit.score)).collect());
            }
            let judged = Assessment::of(&run, &asked, &judgments, &measures);
            Ok((run, judged))
        };
        let (flat, weighed) = (run(&Find::new().weight("title", 1.0))?, run(&Find::new())?);
        let mut table = paint::table(&["of the first ten", ">title = 1", ">title = 4", ">change", ">p"]);
        for (place, name) in ["1 ÷ rank of the item", "item is among them"].into_iter().enumerate() {
            let test = compare((&flat.0, &flat.1), (&weighed.0, &weighed.1), &judgments, place, 1).paired;
            let means = [&flat, &weighed].map(|(_, judged)| format!("{:.3}", judged.mean(place)));
            let [one, other] = means;
            table.add_row([
                name.into(),
                one,
                other,
                format!("{:+.3}", test.difference),
                format!("{:.3}", test.p_value),
            ]);
        }
        say(&format!("{table}\n"))?;

        let knobs = ["title", "k1"].map(|knob| Knob::read(knob, &self.schema));
        let mut tuning = Tuning::over(knobs.into_iter().collect::<Result<_>>()?);
        tuning.restarts = 0;
        let worth = |ranking: &Ranking| {
            let find = ranking
                .weights
                .iter()
                .fold(Find::new(), |find, (column, weight)| find.weight(column, *weight));
            let find = ranking.k1.into_iter().fold(find, Find::k1);
            Ok(run(&find)?.1.queries.iter().map(|query| query.values[0]).collect())
        };
        let tuned = tuning.run(&Ranking::default(), &self.schema, worth, |_| true)?;
        let verdict = if tuned.is_gain() { "a gain" } else { "no gain that chance would not give as well" };
        say(&format!(
            "{FAINT}Tuned, and judged by queries that the numbers were not chosen by: {:.3} → {:.3}, p = {:.3}: {verdict}.{FAINT:#}\n",
            tuned.before, tuned.after, tuned.paired.p_value
        ))
    }

    fn what_next(&self) -> Result<()> {
        let database = self.path.display();
        let command = std::env::args().next().unwrap_or_else(|| "nut-cellar".to_owned());
        say(&format!(
            "\n{HEAD}What to try next{HEAD:#}\n\
             \n  {MATCH}{command} find 'sqlite:{database}#items' 'brass handle' --weights title=8{MATCH:#}\
             \n  {MATCH}{command} find 'sqlite:{database}#items' 'Regenschirm' --json{MATCH:#}\
             \n  {MATCH}{command} judge 'sqlite:{database}#items' --known title --words any{MATCH:#}\
             \n  {MATCH}{command} tokens 'Two dripping umbrellas' --language en{MATCH:#}\
             \n  {MATCH}{command} info 'sqlite:{database}#items'{MATCH:#}\
             \n  {MATCH}{command} release 'sqlite:{database}#items'{MATCH:#}   {FAINT}takes all of it off again{FAINT:#}\
             \n\n{FAINT}The ten lines that do this in a program: crates/nut-cellar/examples/lost_property.rs{FAINT:#}\n"
        ))
    }

    fn title(&mut self, what: &str, query: &str) -> Result<()> {
        self.step += 1;
        say(&format!("\n{HEAD}{}. {what}{HEAD:#}  {MATCH}{query}{MATCH:#}\n", self.step))
    }

    /// What a search finds, and the median of its times in microseconds.
    fn find(&self, text: &str, find: &Find) -> Result<(Found, f64)> {
        let query = Query::read(text).query;
        timed(|| self.cellar.search(&self.connection, &query, find))
    }

    fn hits(&self, found: &Found) -> Result<()> {
        say(&find::table(&self.schema, &found.hits, None))?;
        let more = found.total.saturating_sub(found.hits.len() as u64);
        if more > 0 {
            say(&format!("{FAINT}and {more} more{FAINT:#}\n"))?;
        }
        Ok(())
    }
}

/// What is offered to somebody who types.
fn shown(text: &str, records: u64) -> String {
    format!("{MATCH}{text}{MATCH:#} ({records})")
}

fn top() -> Find {
    Find::new().limit(SHOWN).with_marks()
}

/// What `work` gives, and the median of its times in microseconds.
fn timed<T>(mut work: impl FnMut() -> Result<T>) -> Result<(T, f64)> {
    let mut times = Vec::with_capacity(RUNS);
    loop {
        let started = Instant::now();
        let done = work()?;
        times.push(started.elapsed().as_secs_f64() * 1e6);
        if times.len() == RUNS {
            times.sort_by(f64::total_cmp);
            return Ok((done, times[RUNS / 2]));
        }
    }
}

#[expect(clippy::needless_pass_by_value, reason = "the shape that map_err calls")]
fn failed(error: rusqlite::Error) -> Error {
    Error::new(ErrorKind::Place, format!("The demo's own SQL failed: {error}."))
}
