//! `suggest`: what somebody may have meant.

use crate::arguments;
use crate::target::Target;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::lenient::{Correction, Suggest};
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
    let suggest = Suggest::new().offer(call.offer).least_letters(call.least_letters).limit(call.limit);
    let suggested = open.suggest(&call.text, &find, &suggest)?;
    if call.json {
        return crate::say_json(&suggested);
    }
    if suggested.corrections.is_empty() {
        return say("There is nothing to correct, or nothing that would find more.\n");
    }
    let mut table = paint::table(&["correction", "instead of", ">records"]);
    for Correction { text, changed, records, .. } in &suggested.corrections {
        let instead: Vec<_> = changed.iter().map(|changed| paint::clean(&changed.from)).collect();
        table.add_row([
            Cell::new(paint::clean(text)),
            Cell::new(instead.join(", ")),
            Cell::new(paint::grouped(*records)),
        ]);
    }
    say(&format!("{table}\n"))
}
