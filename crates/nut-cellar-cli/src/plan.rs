//! `find --plan`: how a search went.

use crate::paint::{self, FAINT, HEAD};
use crate::say;
use crate::target::Open;
use comfy_table::Cell;
use nut_cellar::{Find, Query, Result};
use std::fmt::Write;

pub fn run(open: &Open, query: &Query, find: &Find, json: bool) -> Result<()> {
    let (found, report) = open.search_reporting(query, find)?;
    if json {
        let mut answer = serde_json::to_value(&report).expect("a report is made of numbers and texts");
        answer["total"] = found.total.into();
        let sentences: Vec<_> = found.notes.iter().map(ToString::to_string).collect();
        answer["notes"] = sentences.into();
        return crate::say_json(&answer);
    }
    let mut out = String::new();
    let _ = writeln!(out, "{HEAD}It means{HEAD:#} {}", paint::clean(&report.query));
    if let Some(filter) = find.filter() {
        let _ = writeln!(out, "{HEAD}only where{HEAD:#} {}", paint::clean(&filter.to_string()));
    }
    let mut words = paint::table(&["word", ">terms", ">records"]);
    for word in &report.words {
        words.add_row([
            Cell::new(paint::clean(&word.word)),
            Cell::new(word.terms),
            Cell::new(paint::grouped(word.records)),
        ]);
    }
    let _ = writeln!(out, "\n{words}\n");
    let headings =
        [">shelf", ">records", "way", ">to look at", ">postings", ">scored", ">blocks", ">unpacked"];
    let mut shelves = paint::table(&headings);
    for (number, went) in (1_u32..).zip(&report.shelves) {
        let shelf = if went.overlay { "changed rows".to_owned() } else { number.to_string() };
        let mut row = vec![Cell::new(shelf), Cell::new(paint::grouped(went.records)), Cell::new(went.way)];
        let numbers = [went.estimated, went.postings, went.scored, went.blocks, went.unpacked];
        row.extend(numbers.map(|number| Cell::new(paint::grouped(number))));
        shelves.add_row(row);
    }
    let _ = writeln!(out, "{shelves}\n");
    if report.dictionary > 0 {
        let _ = writeln!(
            out,
            "{} were looked at in dictionaries.",
            paint::count(report.dictionary, "term", "terms")
        );
    }
    if report.trips == 0 {
        let _ = writeln!(out, "Everything was at hand: nothing had to be asked for.");
    } else {
        let trips = paint::count(report.trips, "round trip", "round trips");
        let _ = writeln!(out, "{} were read in {trips}.", paint::size(report.bytes));
    }
    let time = |nanoseconds: u64| paint::time(nanoseconds as f64 / 1_000.0);
    let stages: Vec<_> =
        report.stages.iter().map(|stage| format!("{} {}", stage.name, time(stage.nanoseconds))).collect();
    let count = paint::count(found.total, "record", "records");
    let _ = writeln!(out, "{FAINT}{count} found: {}{FAINT:#}", stages.join(", "));
    for note in &found.notes {
        crate::tell(format_args!("{note}"));
    }
    say(&out)
}
