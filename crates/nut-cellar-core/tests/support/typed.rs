//! Whatever is typed, reading it does no harm: for fuzzing, and for the replay of what fuzzing found.

use nut_cellar_core::lenient::{self, Suggest};
use nut_cellar_core::{
    Batch, Column, Filter, Find, Kind, Memory, Opened, Query, Record, Schema, Search, Snapshot, Words, search,
};
use std::sync::LazyLock;

struct Office {
    schema: Schema,
    place: Memory,
    snapshot: Snapshot,
}

/// A few records of every kind.
static OFFICE: LazyLock<Office> = LazyLock::new(|| {
    let schema = Schema::new("id")
        .with("title", Column::text("en"))
        .with("notes", Column::text("none"))
        .with("station", Column::of(Kind::Exact))
        .with("found_on", Column::of(Kind::Date))
        .with("value", Column::of(Kind::Integer));
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).expect("the schema is right");
    batch.set_block(4);
    for id in 0..40_i64 {
        let title =
            ["oak box", "elm boxes", "walnut umbrella", "wi-fi"][usize::try_from(id % 4).unwrap_or(0)];
        let record = Record::new(id).with("title", title).with("notes", format!("n{id} oak, a brass handle"));
        let record = record.with("station", "Elmfold").with("found_on", "2031-04-17").with("value", id % 7);
        batch.put(&record).expect("the record is right");
    }
    batch.publish().expect("memory is a place");
    unit.commit().expect("nobody else writes");
    let snapshot = Snapshot::open(&place.view(), &opened).expect("it was published");
    Office { schema, place, snapshot }
});

/// A query, and a filter behind a line's end.
pub fn query(input: &[u8]) {
    let text = String::from_utf8_lossy(input);
    let (typed, filter) = text.split_once('\n').unwrap_or((&text, ""));
    let query = Query::read(typed).query;
    assert_eq!(query, query.clone().normal(), "{typed}");
    assert_eq!(Query::read(&query.to_string()).query, query, "{typed}");
    if let Err(misread) = Query::read_exactly(typed, &OFFICE.schema) {
        assert!(typed.get(misread.range.clone()).is_some(), "{misread}");
    }
    let mut find = Find::new().words(if input.len().is_multiple_of(2) { Words::All } else { Words::Any });
    match Filter::read(filter, &OFFICE.schema) {
        Ok(filter) => {
            let again = Filter::read(&filter.to_string(), &OFFICE.schema);
            assert_eq!(again.as_ref(), Ok(&filter), "{filter}");
            find = find.only(filter);
        }
        Err(misread) => assert!(filter.get(misread.range.clone()).is_some(), "{misread}"),
    }
    let mut search = Search::new(OFFICE.snapshot.clone(), &query, &find).expect("a query never fails");
    let found = search::run(&OFFICE.place.view(), &mut search).expect("memory can be read");
    assert!(found.hits.len() <= 10 && found.total <= 40, "{typed}");

    let view = OFFICE.place.view();
    let lenient = lenient::search(&view, &OFFICE.snapshot, &query, &find).expect("a query never fails");
    assert!(lenient.total >= found.total.min(10) && lenient.total <= 40, "{typed}");
    let suggest = Suggest::new().values_of(["station", "notes"]);
    let offered =
        lenient::suggest(&view, &OFFICE.snapshot, typed, &find, &suggest).expect("a text never fails");
    assert!(offered.corrections.iter().all(|correction| correction.records > 0), "{typed}");
    assert!(offered.completions.iter().all(|completion| completion.records > 0), "{typed}");
}
