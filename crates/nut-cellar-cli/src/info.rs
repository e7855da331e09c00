//! `info`: what there is to know about a cellar.

use crate::arguments;
use crate::target::Target;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::{Column, Info, Kind, Result, Schema};
use serde_json::{Map, Value, json};
use std::time::Duration;

pub fn run(call: &arguments::Info) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let info = open.info()?;
    let total: u64 = info.bytes.iter().map(|(_, bytes)| bytes).sum();
    if call.json {
        let sections: Map<String, Value> =
            info.bytes.iter().map(|(section, bytes)| (section.clone(), Value::from(*bytes))).collect();
        let answer = json!({
            "records": info.records,
            "terms": info.tally.terms,
            "postings": info.tally.postings,
            "positions": info.tally.occurrences,
            "shelves": info.shelves,
            "generation": info.generation,
            "pending": info.pending,
            "oldest_seconds": info.oldest.map(|age| age.as_secs()),
            "table_bytes": info.table,
            "bytes": total,
            "memory_bytes": info.memory.budget,
            "sections": sections,
            "schema": open.schema(),
        });
        return crate::say_json(&answer);
    }
    let mut table = paint::table(&["this cellar has", ">", ">share", ">bits each"]);
    table.add_row([Cell::new("records"), Cell::new(paint::grouped(info.records))]);
    table.add_row([Cell::new("different terms"), Cell::new(paint::grouped(info.tally.terms))]);
    table
        .add_row([Cell::new("postings: a word in a record"), Cell::new(paint::grouped(info.tally.postings))]);
    table.add_row([
        Cell::new("positions: a term at a place"),
        Cell::new(paint::grouped(info.tally.occurrences)),
    ]);
    table.add_row([Cell::new("shelves"), Cell::new(info.shelves)]);
    if let Some(pending) = info.pending {
        table
            .add_row([Cell::new("changed rows that no shelf holds yet"), Cell::new(paint::grouped(pending))]);
    }
    if let Some(oldest) = info.oldest {
        table.add_row([Cell::new("  the oldest, at most"), Cell::new(age(oldest))]);
    }
    if let Some(bytes) = info.table {
        table.add_row([Cell::new("bytes of the table with the rows"), Cell::new(paint::size(bytes))]);
    }
    table.add_row([Cell::new("memory for searches, at most"), Cell::new(paint::size(info.memory.budget))]);
    table.add_row([Cell::new("bytes"), Cell::new(paint::size(total))]);
    for (section, bytes) in info.bytes.iter().filter(|(_, bytes)| *bytes > 0) {
        let share = 100.0 * *bytes as f64 / total as f64;
        let each = each(&info, section).filter(|count| *count > 0);
        let bits = each.map_or(String::new(), |count| format!("{:.1}", 8.0 * *bytes as f64 / count as f64));
        let share = if share < 0.05 { String::new() } else { format!("{share:.1} %") };
        table.add_row([format!("  {section}"), paint::size(*bytes), share, bits].map(Cell::new));
    }
    say(&format!("{table}\n\n{}\n", columns(open.schema())))
}

/// A time as one reads it from a clock on the wall.
fn age(age: Duration) -> String {
    match age.as_secs() {
        seconds @ 0..120 => format!("{seconds} s"),
        seconds @ 120..7_200 => format!("{} min", seconds / 60),
        seconds @ 7_200..172_800 => format!("{} h", seconds / 3_600),
        seconds => format!("{} days", seconds / 86_400),
    }
}

/// How many there are of what a section holds.
fn each(info: &Info, section: &str) -> Option<u64> {
    match section {
        "keys" | "lengths" => Some(info.records),
        "postings" => Some(info.tally.postings - info.tally.alone),
        "positions" => Some(info.tally.occurrences - info.tally.alone),
        "terms" => Some(info.tally.terms),
        _ => None,
    }
}

fn columns(schema: &Schema) -> comfy_table::Table {
    let mut table = paint::table(&["column", "kind", "language", ">weight"]);
    table.add_row([&schema.key(), "the key", "", ""]);
    for (name, column) in schema.columns() {
        let text = column.has_words();
        let language = if text { column.language().to_string() } else { String::new() };
        let weight = if text { Column::weight(column).to_string() } else { String::new() };
        let but = if column.kind() == Kind::Text && !text { ", shown only" } else { "" };
        table.add_row([name.to_owned(), format!("{}{but}", column.kind()), language, weight]);
    }
    table
}
