//! The three tables of the demo.

use super::grammar::{Given, Grammar};
use super::prose;
use crate::random::Random;
use std::error::Error;
use std::fmt::Write;
use std::fs;
use std::path::Path;
use unicode_segmentation::UnicodeSegmentation;

/// The number of items.
pub const ITEMS: u64 = 2_500;
const CLAIMS: u64 = 900;
const SEED: u64 = 1_887;
/// So many claims are queries whose answer is known, of so many words at most.
const ASKED: u64 = 40;
const WORDS_ASKED: usize = 12;

/// name, town, degrees north, degrees east
const STATIONS: [(&str, &str, f64, f64); 14] = [
    ("Quillmere Junction", "Quillmere", 52.4101, -0.3120),
    ("Quillmere Market Place", "Quillmere", 52.4163, -0.3044),
    ("Tarnthwick", "Tarnthwick", 52.4389, -0.2871),
    ("Ouselby Bridge", "Ouselby", 52.4527, -0.2630),
    ("Pottlesham Halt", "Pottlesham", 52.4702, -0.2415),
    ("Hobbinfold", "Hobbinfold", 52.4851, -0.2296),
    ("Larkspur Road", "Hobbinfold", 52.4907, -0.2188),
    ("Fennimoor Cross", "Fennimoor", 52.5070, -0.1934),
    ("Sallowgate", "Sallowgate", 52.5243, -0.1702),
    ("Nettlewick Halt", "Sallowgate", 52.5334, -0.1518),
    ("Upper Querne", "Querne", 52.5461, -0.1307),
    ("Brindlemarsh", "Brindlemarsh", 52.5617, -0.1049),
    ("Dapplemere Quay", "Dapplemere", 52.5790, -0.0763),
    ("Dapplemere Sands", "Dapplemere", 52.5822, -0.0591),
];

/// Languages that some describe items in, and what the item is called in them.
const FOREIGN: [(&str, &str); 5] =
    [("de", "de.noun"), ("fr", "fr.noun"), ("es", "es.noun"), ("fi", "fi.noun"), ("ja", "ja.noun")];

const STATUSES: [&str; 8] =
    ["waiting", "waiting", "waiting", "waiting", "claimed", "claimed", "sent on", "auctioned"];

/// Writes `stations.csv`, `items.csv` and `claims.csv` to a folder; and `queries.tsv` with what is asked for in some claims, and
/// `right.qrels` with the items that these are about.
///
/// # Errors
/// If the folder can't be written.
pub fn write_tables(folder: &Path) -> Result<(), Box<dyn Error>> {
    let grammar = Grammar::of_the_clerks();
    let mut stations = csv::Writer::from_path(folder.join("stations.csv"))?;
    stations.write_record(["id", "name", "town", "lat", "lon"])?;
    for (id, (name, town, lat, lon)) in (1..).zip(STATIONS) {
        stations.serialize((id, name, town, lat, lon))?;
    }
    stations.flush()?;

    let mut items = csv::Writer::from_path(folder.join("items.csv"))?;
    let mut found = Vec::new();
    for id in 1..=ITEMS {
        let item = Item::new(&grammar, id);
        items.serialize(&item)?;
        found.push(item);
    }
    items.flush()?;

    let mut claims = csv::Writer::from_path(folder.join("claims.csv"))?;
    claims.write_record(["id", "item_id", "note", "lodged_on"])?;
    let (mut queries, mut right) = (String::new(), String::new());
    for id in 1..=CLAIMS {
        let mut random = Random::for_record(SEED + 1, id);
        let item = &found[random.place(found.len())];
        let (station, other) = (item.station(), random.pick(&STATIONS).0);
        let given = Given::from([
            ("noun", item.noun.as_str()),
            ("colour", item.colour.as_str()),
            ("station", station),
            ("other station", other),
            ("de.noun", "Koffer"),
            ("fr.noun", "parapluie"),
        ]);
        let note = prose::with_articles(&grammar.expand(&mut random, &given, "claim"));
        if id <= ASKED {
            let words: Vec<_> = note.unicode_words().take(WORDS_ASKED).collect();
            writeln!(queries, "{id}\t{}", words.join(" ").to_lowercase())?;
            writeln!(right, "{id} 0 {} 1", item.id)?;
        }
        let lodged = day(item.day + random.below(40));
        claims.serialize((id, item.id, note, lodged))?;
    }
    claims.flush()?;
    fs::write(folder.join("queries.tsv"), queries)?;
    fs::write(folder.join("right.qrels"), right)?;
    Ok(())
}

#[derive(serde::Serialize)]
struct Item {
    id: u64,
    title: String,
    description: String,
    category: String,
    colour: String,
    station_id: usize,
    found_on: String,
    value_pence: Option<u64>,
    status: &'static str,
    updated_at: String,
    #[serde(skip)]
    noun: String,
    #[serde(skip)]
    day: u64,
}

/// The groups of the office's categories.
const GROUPS: [(&str, &[&str]); 4] = [
    ("carried", &["bags", "boxes", "keys", "umbrellas"]),
    ("house", &["books", "kitchen", "tools"]),
    ("pastimes", &["instruments", "sport", "toys"]),
    ("worn", &["clothing", "jewellery", "spectacles"]),
];

/// A category behind its group, if it is in one: `carried/umbrellas`.
fn in_group(category: &str) -> String {
    let group = GROUPS.iter().find(|(_, categories)| categories.contains(&category));
    group.map_or_else(|| category.to_owned(), |(group, _)| format!("{group}/{category}"))
}

impl Item {
    fn new(grammar: &Grammar, id: u64) -> Self {
        let mut random = Random::for_record(SEED, id);
        let random = &mut random;
        let plain = |random: &mut Random, rule: &str| grammar.expand(random, &Given::new(), rule);
        // Umbrellas are what people lose.
        let category = if random.chance(14) { "umbrellas".to_owned() } else { plain(random, "category") };
        let noun = plain(random, &category);
        let colour = plain(random, "colour");
        let station_id = 1 + random.place(STATIONS.len());
        let other = random.pick(&STATIONS).0;
        let foreign = FOREIGN.map(|(language, noun)| {
            let ours = format!("{language}.{category}");
            let rule = if grammar.productions(&ours).is_empty() { format!("{language}.other") } else { ours };
            (noun, plain(random, &rule))
        });
        let mut given = Given::from([
            ("noun", noun.as_str()),
            ("colour", colour.as_str()),
            ("station", STATIONS[station_id - 1].0),
            ("other station", other),
        ]);
        given.extend(foreign.iter().map(|(rule, noun)| (*rule, noun.as_str())));
        let title = prose::with_articles(&grammar.expand(random, &given, "title"));
        let description = prose::description(grammar, random, &given);
        // The office numbers items as they come in, over one year.
        let day_found = id * 364 / ITEMS;
        let value = 25 * (1 + random.below(40) * (1 + random.below(12)));
        let (later, hour, minute) = (random.below(30), 8 + random.below(11), random.below(60));
        Self {
            id,
            title,
            description,
            category: in_group(&category),
            colour: colour.clone(),
            station_id,
            found_on: day(day_found),
            value_pence: random.chance(85).then_some(value),
            status: random.pick(&STATUSES),
            updated_at: format!("{}T{hour:02}:{minute:02}:00Z", day(day_found + later)),
            noun,
            day: day_found,
        }
    }

    fn station(&self) -> &'static str {
        STATIONS[self.station_id - 1].0
    }
}

/// A day of 2031 or after, from 0 for the first of January.
fn day(mut day: u64) -> String {
    const MONTHS: [u64; 12] = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let year = 2031 + day / 365;
    day %= 365;
    for (month, length) in (1..).zip(MONTHS) {
        if day < length {
            return format!("{year}-{month:02}-{:02}", day + 1);
        }
        day -= length;
    }
    unreachable!("twelve months have 365 days")
}
