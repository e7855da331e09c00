//! `suggest`: what somebody may have meant, and what somebody may be going to type.

use crate::arguments;
use crate::settings::text_of;
use crate::target::Target;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::lenient::{Completed, Completion, Correction, Suggest};
use nut_cellar::{Filter, Find, Result};

pub fn run(call: &arguments::Suggest) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let mut find = Find::new().first_letters_right(call.first_letters);
    if let Some(columns) = &call.columns {
        find = find.columns(columns);
    }
    if let Some(filter) = &call.filter {
        find = find.only(Filter::read(filter, open.schema())?);
    }
    let mut suggest = Suggest::new().offer(call.offer).least_letters(call.least_letters).limit(call.limit);
    suggest = suggest.values_of(&call.values_of);
    if let Some(path) = &call.earlier {
        suggest = suggest.earlier(text_of(path, "earlier queries")?.lines());
    }
    let suggested = open.suggest(&call.text, &find, &suggest)?;
    if call.json {
        return crate::say_json(&suggested);
    }
    for note in &suggested.notes {
        crate::tell(format_args!("{note}"));
    }
    let tables = [corrections(&suggested.corrections), completions(&suggested.completions)];
    let tables: Vec<_> = tables.into_iter().filter(|table| !table.is_empty()).collect();
    if tables.is_empty() {
        return say("There is nothing to correct, and nothing that goes on so.\n");
    }
    tables.iter().try_for_each(|table| say(&format!("{table}\n")))
}

fn corrections(corrections: &[Correction]) -> comfy_table::Table {
    let mut table = paint::table(&["correction", "instead of", ">records"]);
    for Correction { text, changed, records, .. } in corrections {
        let instead: Vec<_> = changed.iter().map(|changed| paint::clean(&changed.from)).collect();
        table.add_row([
            Cell::new(paint::clean(text)),
            Cell::new(instead.join(", ")),
            Cell::new(paint::grouped(*records)),
        ]);
    }
    table
}

fn completions(completions: &[Completion]) -> comfy_table::Table {
    let mut table = paint::table(&["completion", "by", ">records"]);
    for Completion { text, kind, records, .. } in completions {
        let by = match kind {
            Completed::Value => "a value",
            Completed::Earlier => "an earlier query",
            _ => "a word",
        };
        table.add_row([Cell::new(paint::clean(text)), Cell::new(by), Cell::new(paint::grouped(*records))]);
    }
    table
}
