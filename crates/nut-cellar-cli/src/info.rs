//! `info`: what there is to know about a cellar.

use crate::arguments;
use crate::target::Target;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::{Column, Result, Schema};
use serde_json::{Map, Value, json};

pub fn run(call: &arguments::Info) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let info = open.info()?;
    let total: u64 = info.bytes.iter().map(|(_, bytes)| bytes).sum();
    if call.json {
        let sections: Map<String, Value> =
            info.bytes.iter().map(|(section, bytes)| (section.clone(), Value::from(*bytes))).collect();
        let answer = json!({
            "records": info.records,
            "terms": info.terms,
            "shelves": info.shelves,
            "generation": info.generation,
            "pending": info.pending,
            "bytes": total,
            "sections": sections,
            "schema": open.schema(),
        });
        return say(&format!("{answer}\n"));
    }
    let mut table = paint::table(&["this cellar has", ">"]);
    table.add_row([Cell::new("records"), Cell::new(paint::grouped(info.records))]);
    table.add_row([Cell::new("different terms"), Cell::new(paint::grouped(info.terms))]);
    table.add_row([Cell::new("shelves"), Cell::new(info.shelves)]);
    if let Some(pending) = info.pending {
        table
            .add_row([Cell::new("changed rows that no shelf holds yet"), Cell::new(paint::grouped(pending))]);
    }
    table.add_row([Cell::new("bytes"), Cell::new(paint::size(total))]);
    for (section, bytes) in info.bytes.iter().filter(|(_, bytes)| *bytes > 0) {
        table.add_row([Cell::new(format!("  {section}")), Cell::new(paint::size(*bytes))]);
    }
    say(&format!("{table}\n\n{}\n", columns(open.schema())))
}

fn columns(schema: &Schema) -> comfy_table::Table {
    let mut table = paint::table(&["column", "kind", "language", ">weight"]);
    table.add_row([schema.key(), "the key", "", ""]);
    for (name, column) in schema.columns() {
        let text = column.has_words();
        let language = if text { column.language().to_string() } else { String::new() };
        let weight = if text { Column::weight(column).to_string() } else { String::new() };
        table.add_row([name.to_owned(), column.kind().to_string(), language, weight]);
    }
    table
}
