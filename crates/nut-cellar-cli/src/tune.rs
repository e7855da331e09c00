//! `tune`: the weights, k1, b and proximity by which searches find most of what is right.

use crate::judge::{Ready, Set, found};
use crate::paint::{self, FAINT, HEAD};
use crate::target::Target;
use crate::{arguments, say};
use nut_cellar::judge::{Assessment, Knob, Outcome, Tuned, Tuning};
use nut_cellar::schema::Ranking;
use nut_cellar::{Error, ErrorKind, Find, Result, Schema};
use serde::Serialize;
use std::fmt::Write as _;
use std::io::{IsTerminal, Write as _};
use std::time::{Duration, Instant};

#[derive(Serialize)]
struct Answer<'a> {
    queries: usize,
    measure: String,
    /// The ranking that is best for all queries, as a request would say it.
    settings: &'a Ranking,
    /// The mean as it was, and as it is for queries that the numbers were not chosen by.
    before: f64,
    after: f64,
    p_value: f64,
    effect: f64,
    /// Whether that is a gain, and not what chance gives.
    gain: bool,
    tried: usize,
    /// Whether time ran out before all was tried.
    ended: bool,
}

pub fn run(call: &arguments::Tune) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let schema = open.schema();
    let set = Set::of(&call.set, &open)?;
    if let Some(column) = call.set.known.as_ref().filter(|column| call.over.contains(column)) {
        let message = format!("`{column}` can't be tuned: queries are made of it, and it is not searched.");
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    let ready = set.ready(&open, &call.settings, call.measure.depth())?;
    let mut tuning =
        Tuning::over(call.over.iter().map(|knob| Knob::read(knob, schema)).collect::<Result<_>>()?);
    (tuning.folds, tuning.restarts, tuning.seed) = (call.folds, call.restarts, call.set.seed);
    let mut queries = 0;
    let worth = |ranking: &Ranking| {
        let run = found(&open, &ranked(&ready, ranking))?;
        let judged = Assessment::of(&run, &set.asked, &set.judgments, &[call.measure]);
        queries = judged.queries.len();
        Ok(judged.queries.iter().map(|query| query.values[0]).collect())
    };
    let end = Instant::now() + Duration::from_secs(call.seconds);
    let shows = std::io::stderr().is_terminal();
    let goes_on = |far: Tuned| {
        if shows {
            eprint!("\r{} of {} parts, {} rankings tried ", far.done, far.parts, far.tried);
            let _ = std::io::stderr().flush();
        }
        Instant::now() < end
    };
    let outcome = tuning.run(&start(call, schema), schema, worth, goes_on);
    if shows {
        eprint!("\r{:60}\r", "");
    }
    let outcome = outcome.map_err(|error| match queries {
        0 => {
            Error::new(ErrorKind::BadRequest, "No query has a record that is right, so nothing can be tuned.")
        }
        _ => error,
    })?;
    if call.json {
        return crate::say_json(&Answer {
            queries,
            measure: call.measure.to_string(),
            settings: &outcome.ranking,
            before: outcome.before,
            after: outcome.after,
            p_value: outcome.paired.p_value,
            effect: outcome.paired.effect,
            gain: outcome.is_gain(),
            tried: outcome.tried,
            ended: outcome.ended,
        });
    }
    say(&told(call, queries, &outcome))
}

/// The ranking to begin with: the cellar's, with what the call says.
fn start(call: &arguments::Tune, schema: &Schema) -> Ranking {
    let mut ranking = schema.ranking().clone();
    let said = &call.settings;
    ranking.k1 = said.k1.or(ranking.k1);
    ranking.proximity = said.proximity.or(ranking.proximity);
    ranking.b = said.b.clone().unwrap_or(ranking.b);
    ranking.weights.extend(said.weights.iter().cloned());
    ranking
}

/// The searches, ranked so.
fn ranked(ready: &Ready, ranking: &Ranking) -> Ready {
    let by = |find: &Find| {
        let find =
            ranking.weights.iter().fold(find.clone(), |find, (column, weight)| find.weight(column, *weight));
        let find = find.lengths(ranking.b.clone());
        let find = ranking.k1.into_iter().fold(find, Find::k1);
        ranking.proximity.into_iter().fold(find, Find::proximity)
    };
    ready.iter().map(|(id, query, find)| (id.clone(), query.clone(), by(find))).collect()
}

fn told(call: &arguments::Tune, queries: usize, outcome: &Outcome) -> String {
    let mut out = String::new();
    let Outcome { before, after, paired, tried, .. } = outcome;
    let queries = paint::count(queries as u64, "query", "queries");
    let _ = writeln!(
        out,
        "{} of {queries}: {before:.4} as it is, {HEAD}{after:.4}{HEAD:#} by numbers that were chosen without them, p = {:.4}.",
        call.measure, paired.p_value
    );
    let tried = paint::count(*tried as u64, "ranking was tried", "rankings were tried");
    let ended = if outcome.ended { "; time ran out before the search was done" } else { "" };
    let _ = writeln!(out, "{FAINT}{tried}{ended}.{FAINT:#}");
    if !outcome.is_gain() {
        let _ = writeln!(
            out,
            "\nThat is no gain that chance would not give as well: keep what there is, or judge more queries. What fits these best:"
        );
    }
    let _ = writeln!(out, "\n{FAINT}# in the schema, for `adopt`{FAINT:#}\n{}", toml(&outcome.ranking));
    let _ = writeln!(out, "{FAINT}# or for one search{FAINT:#}\n{}", settings(&outcome.ranking));
    out
}

/// The ranking as it stands in a schema.
fn toml(ranking: &Ranking) -> String {
    let schema = Schema::new("key").ranked(ranking.clone()).to_toml();
    schema.find("[ranking").map_or(String::new(), |place| schema[place..].to_owned())
}

/// The ranking as settings of `find`.
fn settings(ranking: &Ranking) -> String {
    let list = |pairs: Vec<(&str, f32)>| {
        pairs.into_iter().map(|(name, number)| format!("{name}={number}")).collect::<Vec<_>>().join(",")
    };
    let mut all = Vec::new();
    if !ranking.weights.is_empty() {
        let weights = ranking.weights.iter().map(|(name, weight)| (name.as_str(), *weight)).collect();
        all.push(format!("--weights {}", list(weights)));
    }
    all.extend(ranking.k1.map(|k1| format!("--k1 {k1}")));
    let mut lengths: Vec<_> = ranking.b.columns().collect();
    lengths.extend(ranking.b.others().map(|b| ("*", b)));
    match lengths[..] {
        [] => {}
        [("*", b)] => all.push(format!("--b {b}")),
        _ => all.push(format!("--b '{}'", list(lengths))),
    }
    all.extend(ranking.proximity.map(|weight| format!("--proximity {weight}")));
    all.join(" ")
}
