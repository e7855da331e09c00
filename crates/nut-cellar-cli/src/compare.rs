//! `compare`: two rankings of one query side by side.

use crate::paint::{self, FAINT};
use crate::settings;
use crate::target::Target;
use crate::{arguments, say};
use comfy_table::Cell;
use nut_cellar::Result;
use nut_cellar::request::Prepared;
use nut_cellar::search::Moved;

pub fn run(call: &arguments::Compare) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let Prepared { query, find, notes, .. } = settings::read(&call.query, &call.settings, open.schema())?;
    let second =
        settings::read(&call.query, &arguments::Settings::changed(&call.against)?, open.schema())?.find;
    let mut compared = open.compare(&query, &find, &second)?;
    compared.first = compared.first.noting(notes);
    if call.json {
        return crate::say_json(&compared);
    }
    for note in &compared.first.notes {
        crate::tell(format_args!("{note}"));
    }
    let title = open.schema().text_columns().next().map_or("", |(name, _)| name);
    let mut table =
        paint::table(&[">first", ">score", ">second", ">score", "moved", &open.schema().key(), title]);
    let hits = || compared.second.hits.iter().chain(&compared.first.hits);
    for moved in &compared.moved {
        let text = hits().find(|hit| hit.key == moved.key).and_then(|hit| hit.values.get(title)?.first());
        let text = text.map_or(String::new(), |text| paint::clean(&text.to_string()));
        let short: String = text.chars().take(48).collect();
        let rank = |place: Option<(usize, f32)>| place.map_or("–".to_owned(), |(rank, _)| rank.to_string());
        let score =
            |place: Option<(usize, f32)>| place.map_or(String::new(), |(_, score)| format!("{score:.3}"));
        table.add_row([
            Cell::new(rank(moved.first)),
            Cell::new(score(moved.first)),
            Cell::new(rank(moved.second)),
            Cell::new(score(moved.second)),
            Cell::new(how(moved)),
            Cell::new(paint::clean(&moved.key.to_string())),
            Cell::new(short),
        ]);
    }
    let overlap = compared.overlap * 100.0;
    say(&format!("{table}\n\n{FAINT}The rankings are {overlap:.0} % alike.{FAINT:#}\n"))
}

fn how(moved: &Moved) -> String {
    match (moved.up(), moved.first) {
        (Some(0), _) => "=".to_owned(),
        (Some(up), _) if up > 0 => format!("▲ {up}"),
        (Some(down), _) => format!("▼ {}", -down),
        (None, None) => "new".to_owned(),
        (None, Some(_)) => "gone".to_owned(),
    }
}
