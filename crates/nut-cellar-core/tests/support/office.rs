//! A small office with made-up items, for what is asked of the words of records.

use nut_cellar_core::lenient::{self, Suggest, Suggested};
use nut_cellar_core::{
    Batch, Column, Find, Found, Key, Kind, Memory, Opened, Query, Record, Result, Schema, Snapshot,
};
use proptest::prelude::*;
use std::collections::BTreeSet;

pub fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("none").weighing(2.0))
        .with("notes", Column::text("none"))
        .with("value", Column::of(Kind::Integer))
        .with("found_on", Column::of(Kind::Date))
        .with("station", Column::of(Kind::Exact))
}

#[derive(Clone, Debug)]
pub struct Item {
    pub title: Vec<&'static str>,
    pub notes: Vec<&'static str>,
    pub value: i64,
    pub month: Option<&'static str>,
    pub station: Option<&'static str>,
}

impl Item {
    pub fn record(&self, key: i64) -> Record {
        let mut record =
            Record::new(key).with("title", self.title.join(" ")).with("notes", self.notes.join(" "));
        record.add("value", self.value);
        if let Some(month) = self.month {
            let day = format!("{month}-05").parse::<jiff::civil::Date>().unwrap();
            record.add("found_on", day);
        }
        if let Some(station) = self.station {
            record.add("station", station);
        }
        record
    }

    pub fn has(&self, word: &str) -> bool {
        self.title.iter().chain(&self.notes).any(|own| *own == word)
    }

    pub fn has_phrase(&self, first: &str, second: &str) -> bool {
        [&self.title, &self.notes].iter().any(|text| text.windows(2).any(|pair| pair == [first, second]))
    }
}

pub struct Office {
    pub place: Memory,
    pub opened: Opened,
}

impl Office {
    /// Items in two shelves, of which some are there twice and some are gone.
    pub fn of(items: &[Item], gone: &BTreeSet<usize>) -> Self {
        let office = Self { place: Memory::new(), opened: Opened::new() };
        let all = || (0_i64..).zip(items);
        office.change(|batch| {
            all().filter(|(key, _)| key % 3 < 2).try_for_each(|(key, item)| batch.put(&item.record(key)))?;
            let old =
                Item { title: vec!["walnut"], notes: vec!["gone"], value: 1, month: None, station: None };
            gone.iter().try_for_each(|key| batch.put(&old.record(1_000 + i64::try_from(*key).unwrap())))
        });
        office.change(|batch| {
            all().filter(|(key, _)| key % 3 > 0).try_for_each(|(key, item)| batch.put(&item.record(key)))?;
            let key = |key: &usize| Key::from(1_000 + i64::try_from(*key).unwrap());
            gone.iter().try_for_each(|gone| batch.remove(&key(gone)))
        });
        office
    }

    pub fn change(&self, work: impl FnOnce(&mut Batch<'_>) -> Result<()>) {
        let mut unit = self.place.unit();
        let mut batch = Batch::new(&mut unit, &self.opened, &schema()).unwrap();
        work(&mut batch).unwrap();
        batch.publish().unwrap();
        unit.commit().unwrap();
    }

    pub fn search(&self, query: &Query, find: &Find) -> Found {
        self.try_search(query, find).unwrap()
    }

    fn try_search(&self, query: &Query, find: &Find) -> Result<Found> {
        let view = self.place.view();
        let snapshot = Snapshot::open(&view, &self.opened)?;
        lenient::search(&view, &snapshot, query, find)
    }

    pub fn try_find(&self, text: &str, find: &Find) -> Result<Found> {
        self.try_search(&Query::read(text).query, find)
    }

    pub fn suggest(&self, text: &str, find: &Find, suggest: &Suggest) -> Suggested {
        let view = self.place.view();
        let snapshot = Snapshot::open(&view, &self.opened).unwrap();
        lenient::suggest(&view, &snapshot, text, find, suggest).unwrap()
    }

    pub fn find(&self, text: &str, find: &Find) -> Found {
        self.search(&Query::read(text).query, find)
    }
}

pub fn keys(found: &Found) -> Vec<i64> {
    found.hits.iter().map(|hit| hit.key.to_string().parse().unwrap()).collect()
}

pub fn item(title: &'static str, notes: &'static str) -> Item {
    let words = |text: &'static str| text.split_whitespace().collect();
    Item { title: words(title), notes: words(notes), value: 1, month: None, station: None }
}

/// An office of which each test asks something.
pub fn office() -> Office {
    let mut items = vec![
        item("walnut box", "with a brass key"),
        item("walnut writing box", "of the station"),
        item("umbrella", "of the cleaners, lost property"),
        item("oak box", "of the lostproperty office"),
        item("brass key", "of the signal box"),
    ];
    items[0].month = Some("2031-04");
    items[2].value = 9;
    Office::of(&items, &BTreeSet::from([7, 8]))
}

/// Words that the records have, some of them two in one, one a mistake away from others.
pub const WORDS: [&str; 12] = [
    "walnut",
    "wallnut",
    "box",
    "lost",
    "property",
    "lostproperty",
    "the",
    "of",
    "umbrella",
    "umbrellas",
    "oak",
    "walnutbox",
];
/// What is typed.
pub const TYPED: [&str; 18] = [
    "walnut",
    "wlanut",
    "box",
    "bxo",
    "lost",
    "property",
    "lostproperty",
    "oakbox",
    "the",
    "of",
    "umbrela",
    "umbrella",
    "oak",
    "2031-04",
    "2031",
    "zzz",
    "losproperty",
    "x7",
];

pub fn items() -> impl Strategy<Value = Vec<Item>> {
    let text = |most| prop::collection::vec(prop::sample::select(&WORDS[..]), 0..most);
    let month = prop::option::of(prop::sample::select(&["2031-04", "2031-05", "2032-01"][..]));
    let stations = &["Elmfold", "Elm Halt", "elm yard", "Quill Halt"][..];
    let station = prop::option::of(prop::sample::select(stations));
    let item = (text(4), text(6), 0_i64..4, month, station)
        .prop_map(|(title, notes, value, month, station)| Item { title, notes, value, month, station });
    prop::collection::vec(item, 1..40)
}
