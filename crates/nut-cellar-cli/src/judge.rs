//! `judge`: what searches find of what is right, with one ranking or with two against each other.

use crate::arguments::{self, Settings};
use crate::paint::{self, FAINT, HEAD};
use crate::target::{Open, Target};
use crate::{plot, pool, say, settings, tell};
use comfy_table::Cell;
use nut_cellar::judge::{
    Asked, Assessment, Compared, Differing, Judgments, Measure, Paired, Run, compare, known_items, record_id,
    with_mistake,
};
use nut_cellar::request::Prepared;
use nut_cellar::{Error, ErrorKind, Find, Query, Result};
use serde::Serialize;
use serde_json::{Map, Value};
use std::fmt::Write;
use std::fs;
use std::path::Path;

/// What is asked, and what is right.
pub struct Set {
    pub asked: Vec<Asked>,
    pub judgments: Judgments,
    /// The column that queries were made of, which is not searched.
    left_out: Option<String>,
}

/// Queries made ready: what each is called, and the search.
pub type Ready = Vec<(String, Query, Find)>;

/// The most queries that are shown of those that a ranking wins or loses.
const SHOWN: usize = 10;

#[derive(Serialize)]
struct Answer<'a> {
    queries: usize,
    measures: Map<String, Value>,
    #[serde(flatten)]
    second: Option<Second<'a>>,
    /// How many records that were looked at nobody has judged.
    unjudged: usize,
    /// How many queries have records with the same score of which one is more right.
    tied: usize,
    without_right: &'a [String],
    not_asked: &'a [String],
    each: &'a [nut_cellar::judge::JudgedQuery],
}

/// What there is to say of a second ranking.
#[derive(Serialize)]
struct Second<'a> {
    against: Map<String, Value>,
    /// By the first measure.
    p_value: f64,
    tests: Map<String, Value>,
    won: Vec<&'a Differing>,
    lost: Vec<&'a Differing>,
}

pub fn run(call: &arguments::Judge) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    if let (Some(queries), Some(into)) = (&call.set.queries, &call.into) {
        return pool::ask(call, &open, &settings::queries(queries)?, into);
    }
    let set = Set::of(&call.set, &open)?;
    let depth = call.measures.iter().map(|measure| measure.depth()).max().unwrap_or(0);
    let first = found(&open, &set.ready(&open, &call.settings, depth)?)?;
    if let Some(path) = &call.run_out {
        write(path, &first.named("nut-cellar").to_string())?;
    }
    let assess = |run: &Run| Assessment::of(run, &set.asked, &set.judgments, &call.measures);
    let judged = assess(&first);
    if judged.queries.is_empty() {
        return Err(Error::new(
            ErrorKind::BadRequest,
            "No query has a record that is right, so nothing can be measured; see whether queries and judgments have the same numbers.",
        ));
    }
    let second = match &call.against {
        Some(text) => {
            let run = found(&open, &set.ready(&open, &Settings::changed(text)?, depth)?)?;
            let judged = assess(&run);
            Some((run, judged))
        }
        None => None,
    };
    let tests = second.as_ref().map(|(run, other)| {
        let test = |place| compare((&first, &judged), (run, other), &set.judgments, place, call.set.seed);
        (0..call.measures.len()).map(test).collect::<Vec<_>>()
    });
    if let Some(path) = &call.plot {
        let measure = call.measures[0];
        let by_depth: Vec<_> = (1..=measure.depth()).map(|k| measure.at(k)).collect();
        let deeper = |run: &Run| Assessment::of(run, &set.asked, &set.judgments, &by_depth);
        let runs: Vec<_> =
            [Some(&first), second.as_ref().map(|(run, _)| run)].into_iter().flatten().map(deeper).collect();
        write(path, &plot::judged(measure, &runs)?)?;
    }
    if call.json {
        return crate::say_json(&Answer {
            queries: judged.queries.len(),
            measures: means(&judged),
            second: second.as_ref().zip(tests.as_ref()).map(|((_, other), tests)| Second::of(other, tests)),
            unjudged: judged.unjudged(),
            tied: judged.tied(),
            without_right: &judged.without_right,
            not_asked: &judged.not_asked,
            each: &judged.queries,
        });
    }
    tell_what_is_missing(&judged);
    // Of a known item nobody has to say that others are not right.
    let judged_by_hand = set.left_out.is_none();
    say(&told(&judged, judged_by_hand, second.as_ref().map(|(_, other)| other).zip(tests.as_deref())))
}

impl Set {
    pub fn of(call: &arguments::Set, open: &Open) -> Result<Self> {
        if let Some(column) = &call.known {
            return Self::of_known(call, column, open);
        }
        let (Some(queries), Some(judgments)) = (&call.queries, &call.judgments) else {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "Give `--queries` and `--judgments`, or `--known COLUMN`.",
            ));
        };
        let text = settings::text_of(judgments, "judgments")?;
        let judgments = Judgments::read(&text).map_err(|error| error.at(judgments.display()))?;
        Ok(Self { asked: settings::queries(queries)?, judgments, left_out: None })
    }

    fn of_known(call: &arguments::Set, column: &str, open: &Open) -> Result<Self> {
        let items = known_items(open.schema(), column, call.sample, call.seed, |query, find| {
            open.search(query, find)
        })?;
        let (mut asked, mut judgments) = (Vec::new(), Judgments::new());
        for (number, item) in (1_u64..).zip(items) {
            let id = number.to_string();
            let mistyped = (0..u64::from(call.mistakes))
                .fold(item.text, |text, mistake| with_mistake(&text, call.seed ^ (number << 8 | mistake)));
            judgments.judge(&id, record_id(&item.record), 1);
            asked.push(Asked { id, text: mistyped });
        }
        Ok(Self { asked, judgments, left_out: Some(column.to_owned()) })
    }

    /// The searches for all queries, each for so many hits.
    pub fn ready(&self, open: &Open, said: &Settings, depth: usize) -> Result<Ready> {
        let mut said = said.clone();
        said.limit = depth;
        if let Some(left_out) = &self.left_out {
            let all = || open.schema().text_columns().map(|(name, _)| name.to_owned()).collect();
            let columns: Vec<String> = said.columns.take().unwrap_or_else(all);
            let columns: Vec<_> = columns.into_iter().filter(|name| name != left_out).collect();
            if columns.is_empty() {
                let message =
                    format!("Besides `{left_out}`, which queries are made of, there is no column to search.");
                return Err(Error::new(ErrorKind::BadRequest, message));
            }
            said.weights.retain(|(name, _)| name != left_out);
            said.columns = Some(columns);
        }
        let ready = self.asked.iter().map(|Asked { id, text }| {
            let read = settings::read(text, &said, open.schema());
            let Prepared { query, find, .. } = read.map_err(|error| error.at(format_args!("query {id}")))?;
            Ok((id.clone(), query, find.without_values()))
        });
        ready.collect()
    }
}

/// Searches for all queries.
pub fn found(open: &Open, ready: &Ready) -> Result<Run> {
    let mut run = Run::new();
    for (id, query, find) in ready {
        let found = open.search(query, find)?;
        let records = found.hits.iter().map(|hit| (record_id(&hit.key), hit.score));
        run.found(id, records.collect());
    }
    Ok(run)
}

impl<'a> Second<'a> {
    fn of(judged: &Assessment, tests: &'a [Compared]) -> Self {
        let named = judged.measures.iter().zip(tests);
        let tests_by_name =
            named.map(|(measure, test)| (measure.to_string(), serde_json::json!(test.paired)));
        let differing = &tests[0].queries;
        Self {
            against: means(judged),
            p_value: tests[0].paired.p_value,
            tests: tests_by_name.collect(),
            won: won(differing).collect(),
            lost: lost(differing).collect(),
        }
    }
}

/// The queries by which the second wins most.
fn won(differing: &[Differing]) -> impl Iterator<Item = &Differing> {
    differing.iter().filter(|query| query.second > query.first).take(SHOWN)
}

/// Those by which it loses most.
fn lost(differing: &[Differing]) -> impl Iterator<Item = &Differing> {
    differing.iter().rev().filter(|query| query.second < query.first).take(SHOWN)
}

fn means(judged: &Assessment) -> Map<String, Value> {
    let named = judged.measures.iter().enumerate();
    named.map(|(place, measure)| (measure.to_string(), judged.mean(place).into())).collect()
}

fn tell_what_is_missing(judged: &Assessment) {
    let told = |ids: &[String], what: &str| {
        if !ids.is_empty() {
            let some: Vec<_> = ids.iter().take(SHOWN).map(|id| paint::clean(id)).collect();
            let more = if ids.len() > SHOWN { ", …" } else { "" };
            let count = paint::count(ids.len() as u64, "query", "queries");
            tell(format_args!("{count} {what}: {}{more}", some.join(", ")));
        }
    };
    told(&judged.without_right, "without a record that is right, left out");
    told(&judged.not_asked, "with judgments that were not asked, left out");
}

fn told(judged: &Assessment, judged_by_hand: bool, second: Option<(&Assessment, &[Compared])>) -> String {
    let headings: &[&str] = match second {
        Some(_) => &["measure", ">first", ">second", ">change", ">p"],
        None => &["measure", ">mean"],
    };
    let mut table = paint::table(headings);
    for (place, measure) in judged.measures.iter().enumerate() {
        let mut row = vec![Cell::new(measure), Cell::new(format!("{:.4}", judged.mean(place)))];
        if let Some((other, tests)) = second {
            let Paired { difference, p_value, .. } = tests[place].paired;
            let p_value = if p_value < 0.0001 { "< 0.0001".to_owned() } else { format!("{p_value:.4}") };
            row.push(Cell::new(format!("{:.4}", other.mean(place))));
            row.extend([Cell::new(format!("{difference:+.4}")), Cell::new(p_value)]);
        }
        table.add_row(row);
    }
    let mut out = format!("{table}\n");
    if let Some((_, tests)) = second {
        let differing = &tests[0].queries;
        tell_differing(&mut out, judged.measures[0], "wins most by", won(differing));
        tell_differing(&mut out, judged.measures[0], "loses most by", lost(differing));
    }
    let queries = paint::count(judged.queries.len() as u64, "query", "queries");
    let _ = write!(out, "\n{FAINT}{queries}.");
    if judged_by_hand && judged.unjudged() > 0 {
        let records = paint::count(judged.unjudged() as u64, "record", "records");
        let _ = write!(out, " {records} that were looked at nobody has judged; they count as not right.");
    }
    if judged.tied() > 0 {
        let queries = paint::count(judged.tied() as u64, "query", "queries");
        let _ = write!(out, " In {queries} records with the same score stand in the order of their keys.");
    }
    let _ = writeln!(out, "{FAINT:#}");
    out
}

fn tell_differing<'a>(
    out: &mut String,
    measure: Measure,
    what: &str,
    queries: impl Iterator<Item = &'a Differing>,
) {
    let mut queries = queries.peekable();
    if queries.peek().is_none() {
        return;
    }
    let _ = writeln!(out, "\n{HEAD}What the second {what}, of {measure}{HEAD:#}");
    for query in queries {
        let rank = |rank: &Option<usize>| rank.map_or("–".to_owned(), |rank| rank.to_string());
        let moved = query.moved.iter().take(3).map(|(record, first, second)| {
            format!("{}: {} → {}", paint::clean(record), rank(first), rank(second))
        });
        let more = if query.moved.len() > 3 { ", …" } else { "" };
        let _ = writeln!(
            out,
            "{:>+8.3}  {}  {FAINT}{}{more}{FAINT:#}",
            query.second - query.first,
            paint::clean(&query.text),
            moved.collect::<Vec<_>>().join(", ")
        );
    }
}

fn write(path: &Path, text: &str) -> Result<()> {
    fs::write(path, text).map_err(|error| {
        let message = format!("{}: writing it failed: {error}.", path.display());
        Error::caused(ErrorKind::Place, message, error)
    })
}
