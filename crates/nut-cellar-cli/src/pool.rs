//! Making judgments: the best of several rankings, asked about one by one.
//!
//! What always holds: each answer is in the file before the next is asked for, and who goes on is not asked again. Records are shown in
//! the order of their keys, so that nobody sees which ranking put them where.

use crate::arguments::{self, Settings};
use crate::paint::{self, FAINT, HEAD};
use crate::target::Open;
use crate::{say, settings};
use nut_cellar::judge::{Asked, Judgments, record_id};
use nut_cellar::request::Prepared;
use nut_cellar::search::Why;
use nut_cellar::{Error, ErrorKind, Hit, Result};
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs::{self, File, OpenOptions};
use std::io::{BufRead, Write};
use std::path::Path;

/// A record that somebody is asked about.
struct Candidate {
    query: usize,
    hit: Hit,
    /// Its rank in each ranking that has it in front, by the number of the ranking.
    ranks: Vec<(usize, usize)>,
}

/// What somebody answers.
enum Answer {
    Grade(i32),
    Back,
    Why,
    Stop,
}

pub fn ask(call: &arguments::Judge, open: &Open, asked: &[Asked], into: &Path) -> Result<()> {
    let judged = judged_before(into)?;
    let mut rankings = vec![call.settings.clone()];
    for text in &call.pool {
        rankings.push(Settings::changed(text)?);
    }
    let mut candidates = Vec::new();
    for (query, asked) in asked.iter().enumerate() {
        candidates.extend(best_of(query, asked, &rankings, call.depth, open)?);
    }
    let all = candidates.len();
    let is_new = |candidate: &Candidate| {
        judged.grade(&asked[candidate.query].id, &record_id(&candidate.hit.key)).is_none()
    };
    candidates.retain(is_new);
    let known = all - candidates.len();
    let mut file = open_to_append(into)?;
    let mut lines = std::io::stdin().lock().lines();
    let mut next = 0;
    while let Some(candidate) = candidates.get(next) {
        let query = &asked[candidate.query];
        say(&shown(query, candidate, (known + next + 1, all), open))?;
        match answer(&mut lines)? {
            Answer::Grade(grade) => {
                let line = format!("{} 0 {} {grade}\n", query.id, record_id(&candidate.hit.key));
                file.write_all(line.as_bytes()).map_err(|error| failed(into, &error))?;
                next += 1;
            }
            Answer::Back => next = next.saturating_sub(1),
            Answer::Why => say(&why(candidate, query, &rankings, open)?)?,
            Answer::Stop => break,
        }
    }
    let done = paint::grouped((known + next) as u64);
    say(&format!(
        "{done} of {} are judged, in {}.\n",
        paint::count(all as u64, "record", "records"),
        into.display()
    ))
}

/// The best of each ranking for a query, each once, in the order of their keys.
fn best_of(
    number: usize,
    asked: &Asked,
    rankings: &[Settings],
    depth: usize,
    open: &Open,
) -> Result<Vec<Candidate>> {
    let mut best: BTreeMap<_, Candidate> = BTreeMap::new();
    for (place, ranking) in rankings.iter().enumerate() {
        let Prepared { query, find, .. } = read(asked, ranking, open)?;
        for hit in open.search(&query, &find.limit(depth).with_marks())?.hits {
            let rank = (place, hit.rank);
            let candidate = best.entry(hit.key.clone());
            candidate.or_insert(Candidate { query: number, hit, ranks: Vec::new() }).ranks.push(rank);
        }
    }
    Ok(best.into_values().collect())
}

fn read(asked: &Asked, ranking: &Settings, open: &Open) -> Result<Prepared> {
    settings::read(&asked.text, ranking, open.schema())
        .map_err(|error| error.at(format_args!("query {}", asked.id)))
}

fn shown(query: &Asked, candidate: &Candidate, (number, all): (usize, usize), open: &Open) -> String {
    let mut out =
        format!("\n{HEAD}{}{HEAD:#}  {FAINT}{number} of {all}{FAINT:#}\n", paint::clean(&query.text));
    let key = open.schema().key();
    let _ = writeln!(out, "  {FAINT}{key}{FAINT:#} {}", paint::clean(&candidate.hit.key.to_string()));
    for (column, values) in &candidate.hit.values {
        let marks = candidate.hit.marks.get(column);
        let shown = values.iter().enumerate().map(|(place, value)| {
            let text = value.to_string();
            let matches = marks.and_then(|marks| marks.get(place)).map_or(&[][..], Vec::as_slice);
            let (text, matches) = paint::clean_with((&text, matches));
            paint::marks().mark(&text, &matches)
        });
        let _ = writeln!(out, "  {FAINT}{column}{FAINT:#} {}", shown.collect::<Vec<_>>().join(" · "));
    }
    let _ = write!(out, "{FAINT}0 not right, 1 right, 2 very, b back, w why is it here, q stop:{FAINT:#} ");
    out
}

/// Waits for an answer that makes sense. The end of what can be read is to stop.
fn answer(lines: &mut impl Iterator<Item = std::io::Result<String>>) -> Result<Answer> {
    loop {
        let Some(line) = lines.next() else { return Ok(Answer::Stop) };
        let line =
            line.map_err(|error| Error::caused(ErrorKind::Place, "Reading the answer failed.", error))?;
        return Ok(match line.trim() {
            grade @ ("0" | "1" | "2" | "3") => Answer::Grade(grade.parse().unwrap_or_default()),
            "b" => Answer::Back,
            "w" => Answer::Why,
            "q" => Answer::Stop,
            _ => {
                say("Answer 0, 1 or 2, or b, w or q: ")?;
                continue;
            }
        });
    }
}

/// Where the rankings have it, and what it has in the first that does.
fn why(candidate: &Candidate, asked: &Asked, rankings: &[Settings], open: &Open) -> Result<String> {
    let mut out = String::new();
    for (ranking, rank) in &candidate.ranks {
        let _ = writeln!(out, "Number {rank} of ranking {}.", ranking + 1);
    }
    let Some((ranking, _)) = candidate.ranks.first() else { return Ok(out) };
    let Prepared { query, find, .. } = read(asked, &rankings[*ranking], open)?;
    if let Why::Found(reckoning) = open.why(&query, &find, &candidate.hit.key)? {
        for word in &reckoning.words {
            let terms: Vec<_> = word.terms.iter().map(|term| paint::clean(&term.term)).collect();
            let _ =
                writeln!(out, "{:>10.4}  {} by {}", word.part, paint::clean(&word.word), terms.join(", "));
        }
    }
    Ok(out)
}

fn judged_before(into: &Path) -> Result<Judgments> {
    match fs::read_to_string(into) {
        Ok(text) => Judgments::read(&text).map_err(|error| error.at(into.display())),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Judgments::new()),
        Err(error) => Err(failed(into, &error)),
    }
}

fn open_to_append(into: &Path) -> Result<File> {
    OpenOptions::new().append(true).create(true).open(into).map_err(|error| failed(into, &error))
}

fn failed(into: &Path, error: &std::io::Error) -> Error {
    Error::new(ErrorKind::Place, format!("{}: judgments can't be kept there: {error}.", into.display()))
}
