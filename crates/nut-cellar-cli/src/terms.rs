//! `terms`: the terms of a cellar that fit a pattern.

use crate::arguments;
use crate::target::Target;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::Result;
use nut_cellar::text::Pattern;
use serde_json::json;

pub fn run(call: &arguments::Terms) -> Result<()> {
    let pattern = Pattern::new(&call.pattern)?;
    let open = Target::read(&call.target)?.open()?;
    let found = open.terms(&pattern, call.limit)?;
    if call.json {
        let all: Vec<_> =
            found.terms.iter().map(|one| json!({ "term": one.term, "records": one.records })).collect();
        return crate::say_json(&json!({ "terms": all, "more": found.more, "visited": found.visited }));
    }
    if call.lines {
        let lines = found.terms.iter().flat_map(|one| [one.term.as_str(), "\n"]);
        return say(&lines.collect::<String>());
    }
    let looked = format!("of {} that were looked at", paint::grouped(found.visited));
    if found.terms.is_empty() {
        let hint = if pattern.is_open() {
            String::new()
        } else {
            format!("; `{pattern}*` stands for all that begin so")
        };
        return say(&format!(
            "No term fits `{pattern}`{hint}. Terms are words as the index has them: case folded.\n"
        ));
    }
    let mut table = paint::table(&["term", ">records"]);
    for one in &found.terms {
        table.add_row([Cell::new(&one.term), Cell::new(paint::grouped(one.records))]);
    }
    let more = if found.more { "; there are more, give a higher --limit" } else { "" };
    let count = paint::count(found.terms.len() as u64, "term", "terms");
    say(&format!("{table}\n\n{count} {looked}{more}\n"))
}
