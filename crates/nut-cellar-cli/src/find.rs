//! `find`: search, as a table or as JSON.

use crate::arguments;
use crate::paint::{self, FAINT};
use crate::settings;
use crate::target::{Open, Target};
use crate::{plan, say};
use comfy_table::Cell;
use nut_cellar::counts::{Counted, Sum};
use nut_cellar::request::Prepared;
use nut_cellar::{Find, Found, Hit, Kind, Order, Result, Schema, Value};
use std::fmt::Write;
use std::time::Instant;

/// The characters that an excerpt gets where room has to be shared.
const EXCERPT: usize = 40;

pub fn run(call: &arguments::Find) -> Result<()> {
    let started = Instant::now();
    let open = Target::read(&call.target)?.open()?;
    let opening = started.elapsed();
    let Prepared { query, mut find, notes, .. } = match &call.request {
        Some(path) => settings::from_file(path, open.schema())?,
        None => settings::read(call.query.as_deref().unwrap_or_default(), &call.settings, open.schema())?,
    };
    if call.plan {
        return plan::run(&open, &query, &find, call.json);
    }
    if call.request.is_none() || !call.json {
        find = find.with_marks();
    }
    let started = Instant::now();
    let mut found = open.search(&query, &find)?.noting(notes);
    let time_us = started.elapsed().as_secs_f64() * 1e6;
    if call.json {
        found.time_us = Some(time_us);
        return crate::say_json(&found);
    }
    for note in &found.notes {
        crate::tell(format_args!("{note}"));
    }
    for changed in &found.changed {
        crate::tell(format_args!("{changed}"));
    }
    let mut out = shown(&open, &find, &found, (time_us, opening.as_secs_f64() * 1e6));
    for (count, counted) in find.counts().iter().zip(&found.counts) {
        out.push_str(&counts(&count.to_string(), counted));
    }
    let typed = call.query.as_deref().is_some_and(|query| !query.trim().is_empty());
    if found.total == 0 && call.settings.strict && typed {
        let _ = writeln!(
            out,
            "{FAINT}It was taken as it was typed; without `--strict` the best is made of it.{FAINT:#}"
        );
    }
    say(&out)
}

fn shown(open: &Open, find: &Find, found: &Found, (time_us, opening_us): (f64, f64)) -> String {
    let mut out = String::new();
    if !found.hits.is_empty() {
        let by = match find.wanted_order() {
            Order::Column { name, .. } => Some(name.as_str()),
            _ => None,
        };
        out = table(open.schema(), &found.hits, by);
    }
    let shown = match (found.hits.first(), found.hits.last()) {
        (Some(first), Some(last)) => format!(", {} to {} shown", first.rank, last.rank),
        _ => String::new(),
    };
    let count = paint::count(found.total, "record", "records");
    let with_all = match found.total_all_words {
        Some(all) if all < found.total => format!(" ({all} with all words)"),
        _ => String::new(),
    };
    let least = if found.or_more { "At least " } else { "" };
    let _ = writeln!(
        out,
        "{FAINT}{least}{count} found{with_all} in {}, the first search after {} of opening{shown}{FAINT:#}",
        paint::time(time_us),
        paint::time(opening_us)
    );
    match &found.last {
        Some(last) if found.more => {
            let _ = writeln!(out, "{FAINT}The next page: --after {last}{FAINT:#}");
        }
        _ => {}
    }
    out
}

/// What was counted, as a table with a heading.
pub fn counts(heading: &str, counted: &Counted) -> String {
    let shown = |value: &Value| paint::clean(&value.to_string());
    let mut rows: Vec<(String, String)> = Vec::new();
    for one in &counted.values {
        let name = match (&one.value, &one.from, &one.to) {
            (Some(value), ..) => shown(value),
            (_, Some(from), Some(to)) => format!("{} to below {}", shown(from), shown(to)),
            (_, Some(from), None) => format!("{} and more", shown(from)),
            (_, None, Some(to)) => format!("below {}", shown(to)),
            (_, None, None) => "any".to_owned(),
        };
        rows.push((name, paint::grouped(one.records)));
    }
    if let Some(statistics) = &counted.statistics {
        rows.push(("values".to_owned(), paint::grouped(statistics.count)));
        let float = |number: f64| format!("{}", (number * 1e6).round() / 1e6);
        let sum = statistics.sum.map(|sum| match sum {
            Sum::Integer(sum) => sum.to_string(),
            Sum::Float(sum) => float(sum),
        });
        let known = [
            ("least", statistics.least.as_ref().map(shown)),
            ("greatest", statistics.greatest.as_ref().map(shown)),
            ("sum", sum),
            ("mean", statistics.mean.map(float)),
        ];
        let known = known.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?)));
        let quantiles = statistics.quantiles.iter();
        let quantiles = quantiles.map(|(part, value)| (format!("quantile {part}"), shown(value)));
        rows.extend(known.chain(quantiles));
    }
    let rest = [("other values", counted.others), ("no value", counted.missing)];
    let rest = rest.iter().filter(|(_, records)| *records > 0);
    rows.extend(rest.map(|(name, records)| (format!("({name})"), paint::grouped(*records))));
    if rows.is_empty() {
        rows.push(("(nothing)".to_owned(), String::new()));
    }
    let heading = paint::clean(heading);
    let mut table = paint::table(&[&heading, if counted.statistics.is_some() { ">" } else { ">records" }]);
    for (name, value) in rows {
        table.add_row([name, value]);
    }
    format!("\n{}\n", paint::painted(&table.to_string()))
}

/// Hits as a table: rank, score, key, and the columns that words are looked for in, with their matches marked, before text that is only
/// shown. The last of these gets the room that the others leave, so that a hit stays on one line. Hits that are ordered `by` a column show
/// it.
pub fn table(schema: &Schema, hits: &[Hit], by: Option<&str>) -> String {
    let only_shown =
        schema.columns().filter(|(_, column)| column.kind() == Kind::Text && !column.has_words());
    let texts = schema.text_columns().chain(only_shown).map(|(name, _)| name);
    let texts: Vec<_> = texts.filter(|name| has(hits, name)).take(3).collect();
    let key = schema.key();
    let mut headings = vec![">#", ">score", &key];
    headings.extend(by);
    headings.extend(&texts);
    let mut columns = vec![
        hits.iter().map(|hit| hit.rank.to_string()).collect::<Vec<_>>(),
        hits.iter().map(|hit| format!("{:.3}", hit.score)).collect(),
        hits.iter().map(|hit| paint::clean(&hit.key.to_string())).collect(),
    ];
    if let Some(name) = by {
        columns.push(hits.iter().map(|hit| values(hit, name)).collect());
    }
    for (place, name) in texts.iter().enumerate() {
        let room = if place + 1 == texts.len() { room_left(&headings, &columns) } else { EXCERPT };
        columns.push(hits.iter().map(|hit| excerpt(hit, name, room)).collect());
    }
    let mut table = paint::table(&headings);
    for row in 0..hits.len() {
        table.add_row(columns.iter().map(|cells| Cell::new(&cells[row])));
    }
    format!("{}\n", paint::painted(&table.to_string()))
}

/// The characters that fit into one more column.
fn room_left(headings: &[&str], columns: &[Vec<String>]) -> usize {
    let widths = headings.iter().zip(columns).map(|(heading, cells)| {
        cells.iter().map(|cell| paint::width_of(cell)).max().unwrap_or(0).max(paint::width_of(heading)) + 3
    });
    // The padding of the last column, and an ellipsis on both sides.
    paint::width().saturating_sub(widths.sum::<usize>() + 5).max(EXCERPT)
}

fn has(hits: &[Hit], name: &str) -> bool {
    hits.iter().any(|hit| hit.values.contains_key(name))
}

/// The values of a column.
fn values(hit: &Hit, name: &str) -> String {
    let values = hit.values.get(name).into_iter().flatten();
    values.map(|value| paint::clean(&value.to_string())).collect::<Vec<_>>().join(", ")
}

/// The value of a text column with a match in it, or the first one; all of a column of days.
fn excerpt(hit: &Hit, name: &str, room: usize) -> String {
    if hit.text(name).is_none() {
        return values(hit, name);
    }
    let (text, matches) = paint::clean_with(hit.text_with_matches(name));
    // Some characters take two columns.
    let characters = room * text.chars().count() / paint::width_of(&text).max(1);
    paint::marks().excerpt(&text, &matches, characters)
}
