//! What queries mean, one case after the other, and what places and batches promise to whoever uses the core directly.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_core::rank::Lengths;
use nut_cellar_core::schema::Ranking;
use nut_cellar_core::search::{Order, Spellings};
use nut_cellar_core::store::PieceWriter;
use nut_cellar_core::text::{Accents, Forms, Pattern, TextSettings};
use nut_cellar_core::{
    Batch, Column, ErrorKind, Expansions, Filter, Find, Found, Highlighter, Kind, Language, Manifest, Marks,
    Memory, Merging, Opened, PieceId, Query, Recipe, Record, Result, Schema, Search, Snapshot, Unit, Value,
    View, Words, search,
};

use proptest::prelude::*;
use std::collections::BTreeSet;
use std::num::NonZero;
use std::sync::Arc;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(3.0))
        .with("notes", Column::text("none"))
        .with("status", Column::of(Kind::Exact))
        .with("secret", Column::text("en").not_kept())
}

/// The lost property of one morning.
fn morning() -> Memory {
    let place = Memory::new();
    publish(&place, |batch| {
        for (id, title, notes, status) in [
            (1, "Walnut box", "two brass hinges", "waiting"),
            (2, "Boxes of walnuts", "brass handle, handles bent", "claimed"),
            (3, "Black umbrella", "handle of brass", "waiting"),
            (4, "Wi-Fi antenna", "wi and fi apart: fi, wi", "waiting"),
            (5, "ＦＵＬＬＷＩＤＴＨ STRASSE", "Straße, café, CAFÉ", "waiting"),
            (6, "駅の傘", "傘が二本", "sent on"),
        ] {
            let record = Record::new(id).with("title", title).with("notes", notes).with("status", status);
            batch.put(&record.with("secret", format!("locker {id}")))?;
        }
        Ok(())
    });
    place
}

fn publish(place: &Memory, work: impl FnOnce(&mut Batch<'_>) -> Result<()>) {
    let opened = Opened::new();
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema()).unwrap();
    work(&mut batch).unwrap();
    batch.publish().unwrap();
    unit.commit().unwrap();
}

fn search(place: &Memory, query: &str, find: &Find) -> Result<Found> {
    let view = place.view();
    let snapshot = Snapshot::open(&view, &Opened::new())?;
    search::run(&view, &mut Search::new(snapshot, &Query::read(query).query, find)?)
}

fn ids(found: &Found) -> Vec<String> {
    let mut ids: Vec<_> = found.hits.iter().map(|hit| hit.key.to_string()).collect();
    ids.sort();
    ids
}

#[test]
fn what_queries_find() {
    let place = morning();
    let all = Find::new();
    let any = || Find::new().words(Words::Any);
    let cases = vec![
        ("walnut box", all.clone(), "1 2"),
        ("box walnut box", all.clone(), "1 2"),
        ("walnut umbrella", all.clone(), ""),
        ("walnut umbrella", any(), "1 2 3"),
        ("walnut brass handle", Find::new().words(Words::AtLeast(2)), "1 2 3"),
        ("walnut brass handle", Find::new().words(Words::AtLeast(3)), "2"),
        ("walnut brass handle", Find::new().words(Words::AtLeast(9)), "2"),
        ("\"brass handle\"", all.clone(), "2"),
        ("\"handle of brass\"", all.clone(), "3"),
        ("\"walnut box\" brass", all.clone(), "1"),
        ("title:brass", all.clone(), ""),
        ("notes:brass", all.clone(), "1 2 3"),
        ("title,notes:handle", all.clone(), "2 3"),
        ("title:\"box of walnut\"", all.clone(), "2"),
        ("walnuts", Find::new().columns(["title"]), "1 2"),
        // No stemming in the notes: only the form as it stands.
        ("notes:handles", all.clone(), "2"),
        ("notes:hinge", all.clone(), ""),
        // A typed word that gives several tokens is a phrase of them.
        ("wi-fi", all.clone(), "4"),
        ("fi-wi", all.clone(), "4"),
        ("notes:wi-fi", all.clone(), ""),
        ("fullwidth strasse", all.clone(), "5"),
        ("STRAßE", all.clone(), "5"),
        ("CAFE\u{301}", all.clone(), "5"),
        ("cafe", all.clone(), ""),
        // Without dictionaries a run of characters is indexed in pairs.
        ("傘", all.clone(), "6"),
        ("の 駅", all.clone(), "6"),
        ("二本の傘", all.clone(), ""),
        ("駅の傘", all.clone(), "6"),
        ("locker", all.clone(), "1 2 3 4 5 6"),
        ("walnut -brass", all.clone(), ""),
        ("locker -brass", all.clone(), "4 5 6"),
        ("walnut OR umbrella", all.clone(), "1 2 3"),
        ("(umbrella OR boxes) handle", all.clone(), "2 3"),
        ("+handle walnut umbrella", any(), "2 3"),
        ("walnut AND claimed OR umbrella", any(), "3"),
        ("\"handle brass\" within 3", all.clone(), "2 3"),
        ("\"handle brass\" within 2", all.clone(), "2"),
        ("umbr* OR w?lnut*", all.clone(), "1 2 3"),
        ("*ASSE", all.clone(), "5"),
        ("title:*n*", all.clone(), "1 2 4"),
        ("~umbrela", all.clone(), "3"),
        ("~hnadle", all.clone(), "2 3"),
        ("status:waiting", all.clone(), "1 3 4 5"),
        ("status:\"sent on\"", all.clone(), "6"),
        ("status:s* OR walnut", all.clone(), "1 2 6"),
        ("brass -status:claimed", all.clone(), "1 3"),
        ("title,status:(claimed OR umbrella)", all.clone(), "2 3"),
        ("walnut brass umbrella", Find::new().words(Words::Share(0.5)), "1 2 3"),
        ("", all.clone(), ""),
        ("- … !", all.clone(), ""),
    ];
    for (query, find, expected) in cases {
        let found = search(&place, query, &find).unwrap();
        assert_eq!(ids(&found).join(" "), expected, "{query}");
        assert_eq!(found.total, found.hits.len() as u64, "{query}");
    }
}

#[test]
fn what_is_taken_otherwise_is_noted() {
    let place = morning();
    for (query, note, expected) in [
        ("colour:walnut", "there is no column `colour`; it was taken as a word", ""),
        ("box:walnut", "there is no column `box`; it was taken as a word", "1 2"),
        ("walnut OR", "`OR` stands where it joins nothing; it was taken as a word", ""),
        ("-walnut", "only says what is not wanted", "3 4 5 6"),
        ("status:w?", "can be looked for by their beginning", ""),
        ("*", "`*` has no letter or digit; it was left out", ""),
        ("*a* *e* walnut", "1 more were left out", "1 2"),
        ("(walnut", "A bracket is not closed", "1 2"),
        ("colour,title:walnut", "there is no column `colour`; it was left out", "1 2"),
        ("walnut — box", "`—` has no letter or digit; it was left out", "1 2"),
        ("", "no word to look for", ""),
        ("\"\"", "no word to look for", ""),
    ] {
        let reading = Query::read(query);
        let mut found = search(&place, query, &Find::new()).unwrap();
        found.notes.extend(reading.notes);
        assert!(found.notes.iter().any(|said| said.to_string().contains(note)), "{query}: {:?}", found.notes);
        assert_eq!(ids(&found).join(" "), expected, "{query}");
    }
}

/// A pattern is one, however many ways the columns read it.
#[test]
fn a_pattern_that_nothing_leads_to_is_read_as_each_column_is() {
    let kept = TextSettings { accents: Some(Accents::Keep), ..TextSettings::default() };
    let schema = Schema::new("id").with("title", Column::text("none")).with("notes", Column::read_as(kept));
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    batch.put(&Record::new(1).with("title", "étui")).unwrap();
    batch.put(&Record::new(2).with("notes", "étui")).unwrap();
    batch.put(&Record::new(3).with("notes", "etui")).unwrap();
    batch.publish().unwrap();
    unit.commit().unwrap();
    let found = search(&place, "*é*", &Find::new()).unwrap();
    assert_eq!((ids(&found).join(" ").as_str(), found.notes.as_slice()), ("1 2", &[][..]));
}

/// What is done when too little is found, in which order, and that it is said.
#[test]
fn a_search_that_finds_too_little_is_loosened() {
    let place = morning();
    let relaxed = || Find::new().relaxed_below(2);
    let near = || Find::new().spellings(Spellings::WhenFewerThan(1));
    for (query, find, expected, note) in [
        ("walnut brass", relaxed(), "1 2", None),
        ("walnut brass claimed", relaxed(), "1 2", Some("2 of them")),
        ("walnut nothing claimed none", relaxed(), "1 2", Some("1 of them")),
        ("umbrela", near(), "3", Some("spelled nearly so")),
        ("umbrella", near(), "3", None),
        ("umbrelas nothing", near().relaxed_below(1), "3", Some("1 of them")),
        ("zzz", relaxed(), "", None),
    ] {
        let found = search(&place, query, &find).unwrap();
        assert_eq!(ids(&found).join(" "), expected, "{query}");
        let said = found.notes.iter().any(|said| note.is_some_and(|note| said.to_string().contains(note)));
        assert_eq!(
            (said, found.notes.is_empty()),
            (note.is_some(), note.is_none()),
            "{query}: {:?}",
            found.notes
        );
    }
}

/// As typed, another form, a beginning, a typing mistake: each weighs less than the one before.
#[test]
fn the_likenesses_of_a_word_are_a_ladder() {
    let place = Memory::new();
    publish(&place, |batch| {
        for (id, title) in [(1, "handles"), (2, "handle"), (3, "handlebars"), (4, "hanlde"), (5, "box")] {
            batch.put(&Record::new(id).with("title", title))?;
        }
        Ok(())
    });
    let find = Find::new().with_beginnings().spellings(Spellings::Near);
    let found = search(&place, "handle", &find).unwrap();
    let order: Vec<_> = found.hits.iter().map(|hit| hit.key.to_string()).collect();
    assert_eq!(order, ["2", "1", "3", "4"]);
    assert_eq!(search(&place, "handle", &Find::new()).unwrap().total, 2);
}

#[test]
fn a_search_ends_when_its_caller_says_so() {
    let place = morning();
    let error = search(&place, "walnut", &Find::new().stop_when(|| true)).unwrap_err();
    assert_eq!(error.kind(), ErrorKind::Stopped);
    assert_eq!(search(&place, "walnut", &Find::new().stop_when(|| false)).unwrap().total, 2);
}

#[test]
fn two_rankings_are_put_side_by_side() {
    let place = morning();
    let view = place.view();
    let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
    let query = Query::read("brass OR handle").query;
    let (flat, notes) =
        (Find::new().weight("title", 0.0).limit(2), Find::new().weight("notes", 0.0).limit(2));
    let same = search::compare(&view, &snapshot, &query, &flat, &flat).unwrap();
    assert!((same.overlap - 1.0).abs() < f64::EPSILON);
    assert!(same.moved.iter().all(|moved| moved.up() == Some(0)));
    let other = search::compare(&view, &snapshot, &query, &flat, &notes).unwrap();
    assert_eq!(other.second.hits.iter().map(|hit| hit.score.to_bits()).max(), Some(0));
    assert!(other.moved.iter().all(|moved| moved.first.is_some() && moved.second.is_some()));
    assert!(other.overlap < 1.0);
}

#[test]
fn what_cannot_be_asked_is_refused() {
    let place = morning();
    for (find, said) in [
        (Find::new().only(Filter::equal("colour", "red")), "There is no column `colour`"),
        (Find::new().only(Filter::equal("title", "red")), "its values can't be compared"),
        (
            Find::new().order(Order::Column { name: "notes".into(), down: false }),
            "its values can't be compared",
        ),
        (Find::new().proximity(-1.0), "proximity is -1"),
        (Find::new().k1(f32::NAN), "k1 is NaN"),
    ] {
        let error = search(&place, "walnut", &find).unwrap_err();
        assert!(error.is_bad_request() && error.to_string().contains(said), "{error}");
    }
    for text in ["", "12", "zz", "0000803f09", "0000803f00"] {
        assert!(text.parse::<search::PagePlace>().unwrap_err().is_bad_request(), "{text}");
    }
}

#[test]
fn the_form_as_typed_comes_first_and_can_be_asked_for_alone() {
    let place = Memory::new();
    publish(&place, |batch| {
        for (id, title) in [(1, "box"), (2, "boxes"), (3, "boxed"), (4, "Café"), (5, "cafe"), (6, "cafés")]
        {
            batch.put(&Record::new(id).with("title", title))?;
        }
        Ok(())
    });
    let best = |query: &str, find: Find| search(&place, query, &find).unwrap();
    for (query, first, all) in
        [("box", "1", 3), ("boxes", "2", 3), ("boxed", "3", 3), ("café", "4", 3), ("CAFE", "5", 3)]
    {
        let found = best(query, Find::new());
        assert_eq!((found.hits[0].key.to_string().as_str(), found.total), (first, all), "{query}");
        assert!(found.hits[0].score > found.hits[1].score, "{query}");
        let exact = best(query, Find::new().exact_forms());
        assert_eq!((ids(&exact).join(" ").as_str(), exact.total), (first, 1), "{query}");
    }
    assert_eq!(best("\"boxes\"", Find::new()).total, 3, "in a phrase, too");
    assert_eq!(best("boxer", Find::new()).total, 0);
}

#[test]
fn words_stand_for_their_synonyms_which_weigh_less() {
    let place = Memory::new();
    publish(&place, |batch| {
        for (id, title) in [
            (1, "umbrella"),
            (2, "brolly"),
            (3, "parasols"),
            (4, "Quillmere Light Railway"),
            (5, "QLR"),
            (6, "light railway of Quillmere"),
            (7, "pair of glasses"),
            (8, "specs"),
        ] {
            batch.put(&Record::new(id).with("title", title))?;
        }
        Ok(())
    });
    let text = "# what passengers say\n\nbrolly = umbrella = parasol\nQLR -> Quillmere Light Railway\n\
                specs -> spectacles, glasses\n quillmere light railway -> QLR";
    let expansions = Arc::new(Expansions::read(text, &schema()).unwrap());
    let expanding = || Find::new().expanding(&expansions);
    for (query, expected, first) in [
        ("brolly", "1 2 3", "2"),
        ("brollies", "1 2 3", "2"),
        ("umbrellas", "1 2 3", "1"),
        ("parasol", "1 2 3", "3"),
        ("qlr", "4 5", "5"),
        ("\"quillmere light railway\"", "4 5", "4"),
        ("quillmere light railways", "4 5 6", "4"),
        ("quillmere railway", "4 6", "4"),
        ("quillmere light", "4 6", "4"),
        ("light quillmere railway", "4 6", "4"),
        ("specs", "7 8", "8"),
        ("glasses", "7", "7"),
        ("title:brolly", "1 2 3", "2"),
        ("notes:brolly", "", ""),
        ("\"pair of specs\"", "", ""),
    ] {
        let found = search(&place, query, &expanding()).unwrap();
        assert_eq!(ids(&found).join(" "), expected, "{query}");
        assert_eq!(found.hits.first().map_or(String::new(), |hit| hit.key.to_string()), first, "{query}");
    }
    assert_eq!(search(&place, "brolly", &Find::new()).unwrap().total, 1);
    let highlighter =
        Highlighter::new(schema().into(), &Query::read("brolly qlr").query, &expanding()).unwrap();
    let marked =
        highlighter.mark("title", "umbrellas of the Quillmere Light Railway", &Marks::new("[", "]")).unwrap();
    assert_eq!(marked, "[umbrellas] of the [Quillmere] [Light] [Railway]");
    for (wrong, line) in [("brolly", 1), ("a = b\nc =", 2), ("-> b", 1), ("a -> , b", 1), ("a = - = b", 1)] {
        let error = Expansions::read(wrong, &schema()).unwrap_err();
        assert!(
            error.is_bad_request() && error.to_string().starts_with(&format!("line {line}: ")),
            "{error}"
        );
    }
}

#[test]
fn a_record_may_say_which_language_it_is_in() {
    let settings = TextSettings {
        languages: ["de", "fr"].map(|code| Language::new(code).unwrap()).to_vec(),
        language_from: Some("lang".into()),
        ..TextSettings::of(Language::new("en").unwrap())
    };
    let schema = Schema::new("id")
        .with("text", Column::read_as(settings.clone()))
        .with("lang", Column::of(Kind::Exact));
    schema.check().unwrap();
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    for (id, text, language) in [
        (1, "l'eau des maisons", Some("fr-CA")),
        (2, "l'eau, said the guard", Some("en")),
        (3, "zwei alte Häuser", Some("DE")),
        (4, "an unknown tongue", Some("xx")),
        (5, "an old house", None),
        (6, "qu'notre", Some("fr")),
    ] {
        let record = Record::new(id).with("text", text);
        let record = if let Some(language) = language { record.with("lang", language) } else { record };
        batch.put(&record).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    for (query, expected) in [
        ("notre", "6"),
        ("l'eau", "1 2"),
        ("haus", "3"),
        ("maison", "1"),
        ("houses", "5"),
        ("unknown tongues", "4"),
    ] {
        assert_eq!(ids(&search(&place, query, &Find::new()).unwrap()).join(" "), expected, "{query}");
    }
    let highlighter =
        Highlighter::new(schema.clone().into(), &Query::read("haus maison").query, &Find::new()).unwrap();
    let marked = |text| highlighter.mark("text", text, &Marks::new("[", "]")).unwrap();
    assert_eq!(
        (marked("zwei Häuser"), marked("des maisons")),
        ("zwei [Häuser]".into(), "des [maisons]".into())
    );
    assert_eq!(Schema::from_toml(&schema.to_toml()).unwrap(), schema);
    let no_column = Schema::new("id").with("text", Column::read_as(settings.clone()));
    assert!(no_column.check().unwrap_err().to_string().contains("`lang`"));
    let alone = TextSettings { language_from: None, ..settings };
    assert!(Schema::new("id").with("text", Column::read_as(alone)).check().is_err());
}

#[test]
fn days_are_found_as_people_write_them() {
    let found_on = Column::of(Kind::Date).in_words("en").written(["day.month.year"]).weighing(0.5);
    let moved = Column::of(Kind::Moment).in_words("de");
    let schema =
        Schema::new("id").with("title", Column::text("en")).with("found_on", found_on).with("moved", moved);
    let place = Memory::new();
    let opened = Opened::new();
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    for (id, found_on, moved) in [
        (1, "2031-04-17", "2031-05-01T23:30:00Z"),
        (2, "2031-03-04", "2031-05-02T00:30:00+02:00"),
        (3, "2030-04-17", "2030-12-24T12:00:00Z"),
    ] {
        let record = Record::new(id).with("title", "a scarf");
        batch.put(&record.with("found_on", found_on).with("moved", moved)).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    for (query, expected) in [
        ("found_on:2031", "1 2"),
        ("april scarf", "1 3"),
        ("april 2031", "1"),
        ("\"april 17, 2031\"", "1"),
        ("2031-04-17", "1"),
        ("17.4.2031", "1"),
        ("17.04.2031", "1"),
        ("4.3.2031 scarf", "2"),
        ("apr 2030", "3"),
        // A moment counts by its day in UTC, in the language of its column.
        ("\"1. mai 2031\"", "1 2"),
        ("dezember", "3"),
        ("december", ""),
        ("scarf 2029", ""),
    ] {
        assert_eq!(ids(&search(&place, query, &Find::new()).unwrap()).join(" "), expected, "{query}");
    }
    let highlighter =
        Highlighter::new(schema.into(), &Query::read("2031 april").query, &Find::new()).unwrap();
    assert_eq!(highlighter.mark("found_on", "2031-04-17", &Marks::new("[", "]")).unwrap(), "[2031]-04-17");
}

/// What one column makes of a few texts: which of them each query finds, by their places from 1.
fn found_in(settings: TextSettings, texts: &[&str], cases: &[(&str, &str)]) {
    let schema = Schema::new("id").with("text", Column::read_as(settings));
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    for (id, text) in (1..).zip(texts) {
        batch.put(&Record::new(id).with("text", *text)).unwrap();
    }
    batch.publish().unwrap();
    unit.commit().unwrap();
    for (query, expected) in cases {
        assert_eq!(ids(&search(&place, query, &Find::new()).unwrap()).join(" "), *expected, "{query}");
    }
}

#[test]
fn symbols_case_and_elision_can_be_switched() {
    let english = TextSettings::of(Language::new("en").unwrap());
    let texts = ["a 😀 hat", "a hat", "C++ and C", "C or D", "€5", "5 coins"];
    let with_symbols = TextSettings { symbols: true, ..english.clone() };
    found_in(
        with_symbols,
        &texts,
        &[("😀", "1"), ("hat 😀", "1"), ("hat", "1 2"), ("C++", "3"), ("c", "3 4"), ("€5", "5")],
    );
    found_in(english.clone(), &texts, &[("😀", ""), ("hat 😀", "1 2"), ("C++", "3 4"), ("€5", "5 6")]);
    let with_case = TextSettings { fold: Some(false), ..english };
    found_in(with_case, &["Polish hat", "polish tin"], &[("Polish", "1"), ("polish", "2")]);
    let french = TextSettings::of(Language::new("fr").unwrap());
    found_in(french.clone(), &["l'eau", "eau"], &[("eau", "1 2"), ("l'eau", "1 2")]);
    let whole = TextSettings { elide: Some(false), stem: Some(false), ..french };
    found_in(whole, &["l'eau", "eau"], &[("eau", "2"), ("l'eau", "1")]);
}

#[test]
fn the_language_of_a_record_may_be_detected() {
    let settings = TextSettings {
        languages: vec![Language::new("de").unwrap()],
        detect: Some(80),
        ..TextSettings::of(Language::new("en").unwrap())
    };
    if cfg!(not(feature = "detection")) {
        let error = Schema::new("id").with("text", Column::read_as(settings)).check().unwrap_err();
        assert!(error.to_string().contains("feature `detection`"), "{error}");
        return;
    }
    let settings = TextSettings { forms: Some(Forms::Same), ..settings };
    let german =
        "Zwei alte Häuser aus Holz, als Spielzeug, gefunden im letzten Wagen des Abendzugs am Freitag";
    let english = "Two old houses of wood, which are toys, found in the last carriage of the evening train";
    // What is too short to tell is English, where `Häusern` is no form of `Haus`.
    let cases = [("house", "2"), ("haus", "1"), ("hauses", "1"), ("toy", "2")];
    found_in(settings.clone(), &[german, english, "Häusern"], &cases);
    let schema = Schema::new("id").with("text", Column::read_as(settings));
    assert!(schema.to_toml().contains("detector = \"whatlang 0.18\""), "{}", schema.to_toml());
    let other = schema.to_toml().replace("whatlang 0.18", "whatlang 0.1");
    assert!(Schema::from_toml(&other).unwrap_err().to_string().contains("rebuild the cellar"));
}

#[test]
fn hits_come_in_pages_with_their_values() {
    let place = morning();
    let whole = search(&place, "locker", &Find::new()).unwrap();
    let ranks: Vec<_> = whole.hits.iter().map(|hit| hit.rank).collect();
    assert_eq!(ranks, [1, 2, 3, 4, 5, 6]);
    let keys: Vec<_> = whole.hits.iter().map(|hit| hit.key.to_string()).collect();
    assert_eq!(keys, ["1", "2", "3", "4", "5", "6"], "equal scores go to the lower key");
    for (skip, limit) in [(0, 2), (2, 2), (4, 9), (6, 3), (100, 1), (0, 0), (usize::MAX, usize::MAX)] {
        let page = search(&place, "locker", &Find::new().skip(skip).limit(limit)).unwrap();
        let expected: Vec<_> = whole.hits.iter().skip(skip).take(limit).cloned().collect();
        assert_eq!((page.total, page.hits), (6, expected), "{skip} {limit}");
    }
    let values = &whole.hits[0].values;
    assert_eq!(values["status"], [Value::from("waiting")]);
    assert!(!values.contains_key("secret"), "it is not kept");
    assert!(search(&place, "locker", &Find::new().without_values()).unwrap().hits[0].values.is_empty());
}

#[test]
fn what_cannot_be_searched_is_refused() {
    let place = morning();
    for find in [
        Find::new().columns(["colour"]),
        Find::new().columns(["status"]),
        Find::new().columns([""; 0]),
        Find::new().weight("colour", 1.0),
        Find::new().weight("title", f32::NAN),
        Find::new().weight("title", -0.5),
        Find::new().k1(-1.0),
        Find::new().b(1.5),
        Find::new().lengths(Lengths::same(0.5).with("colour", 0.5)),
        Find::new().lengths(Lengths::default().with("title", -0.5)),
    ] {
        let error = search(&place, "walnut", &find).unwrap_err();
        assert!(error.is_bad_request(), "{find:?}: {error}");
    }
    let nothing = Memory::new();
    assert_eq!(search(&nothing, "walnut", &Find::new()).unwrap_err().kind(), ErrorKind::NotACellar);
}

/// What the schema says of ranking holds where a search says nothing, and the same numbers give the same scores wherever they stand.
#[test]
fn a_schema_ranks_where_a_search_does_not() {
    let ranking = |text: &str| -> Ranking {
        let schema = format!(
            "key = \"id\"\n[column.title]\nkind = \"text\"\n[column.notes]\nkind = \"text\"\n[ranking]\n{text}"
        );
        Schema::from_toml(&schema).unwrap().ranking().clone()
    };
    let ranked =
        ranking("k1 = 0.3\nproximity = 2.0\nb = { title = 0.1, \"*\" = 0.9 }\nweights = { title = 9.0 }\n");
    let (plain, place) = (morning(), morning());
    let mut unit = place.unit();
    let manifest = unit.manifest().unwrap().unwrap();
    let next = Manifest {
        schema: schema().ranked(ranked).into(),
        generation: manifest.generation + 1,
        ..Manifest::clone(&manifest)
    };
    unit.swap(Some(manifest.generation), &next).unwrap();
    unit.commit().unwrap();

    let said = || {
        let lengths = Lengths::same(0.9).with("title", 0.1);
        Find::new().words(Words::Any).k1(0.3).proximity(2.0).lengths(lengths).weight("title", 9.0)
    };
    let any = || Find::new().words(Words::Any);
    for (by_schema, by_search) in [
        (any(), said()),
        (any().k1(1.0), said().k1(1.0)),
        (any().b(0.5), said().b(0.5)),
        (
            any().lengths(Lengths::default().with("notes", 0.2)),
            said().lengths(Lengths::same(0.9).with("title", 0.1).with("notes", 0.2)),
        ),
        (any().proximity(0.0), said().proximity(0.0)),
        (any().weight("title", 2.0), said().weight("title", 2.0)),
    ] {
        for query in ["walnut box", "handles of brass", "wi-fi"] {
            let hits = |place, find| search(place, query, find).unwrap().hits;
            assert_eq!(hits(&place, &by_schema), hits(&plain, &by_search), "{query} {by_search:?}");
            assert_ne!(hits(&place, &by_schema), hits(&plain, &any()), "{query}");
        }
    }
    for wrong in [
        "k1 = -1",
        "proximity = nan",
        "b = 2.0",
        "b = { title = -1.0 }",
        "weights = { colour = 1.0 }",
        "k2 = 1",
    ] {
        let text = format!("key = \"id\"\n[column.title]\nkind = \"text\"\n[ranking]\n{wrong}\n");
        assert_eq!(Schema::from_toml(&text).unwrap_err().kind(), ErrorKind::BadSchema, "{wrong}");
    }
    let text = schema().ranked(ranking("b = 0.4\n")).to_toml();
    assert_eq!(Schema::from_toml(&text).unwrap().ranking().b, Lengths::same(0.4), "{text}");
}

proptest! {
    /// A column of the first words has what a reading of the whole text has at these positions, however long the text goes on.
    #[test]
    fn the_first_words_are_those_of_the_whole_text(
        text in "((oak|wi-fi|qu'elm|caf\u{e9}|\u{5098}\u{304c}|x{40}|e\u{301}a|[.,] |\n)[ -]?){0,60}",
        words in 1_u16..9,
    ) {
        let words = NonZero::new(words).unwrap();
        let schema = Schema::new("id").with("title", Column::text("none").of_first_words(words));
        let place = Memory::new();
        let mut unit = place.unit();
        let opened = Opened::new();
        let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
        batch.put(&Record::new(1).with("title", text.clone())).unwrap();
        batch.publish().unwrap();
        unit.commit().unwrap();
        let mut expected = BTreeSet::new();
        Recipe::new(&Language::new("none").unwrap()).tokens(&text, |token| {
            if token.position < u32::from(words.get()) {
                expected.insert(token.term.to_owned());
            }
        });
        let snapshot = Snapshot::open(&place.view(), &Opened::new()).unwrap();
        let terms = snapshot.terms(&place.view(), &Pattern::new("*").unwrap(), usize::MAX).unwrap().terms;
        let terms: BTreeSet<_> = terms.into_iter().map(|counted| counted.term).collect();
        prop_assert_eq!(terms, expected);
    }
}

#[test]
fn a_key_put_twice_removed_and_put_again() {
    let place = Memory::new();
    let total = |query: &str| search(&place, query, &Find::new()).unwrap().total;
    let titled = |title: &str| Record::new("k").with("title", title);
    publish(&place, |batch| {
        batch.put(&titled("oak"))?;
        batch.put(&titled("elm"))
    });
    assert_eq!((total("oak"), total("elm")), (0, 1));
    publish(&place, |batch| batch.put(&titled("ash")));
    assert_eq!((total("elm"), total("ash")), (0, 1));
    publish(&place, |batch| batch.remove(&"k".into()));
    assert_eq!(total("ash"), 0);
    publish(&place, |batch| batch.put(&titled("oak")));
    assert_eq!(total("oak"), 1);
    publish(&place, |batch| {
        batch.remove(&"k".into())?;
        batch.put(&titled("beech"))?;
        batch.remove(&"k".into())?;
        batch.put(&titled("birch"))
    });
    assert_eq!((total("oak"), total("beech"), total("birch")), (0, 0, 1));
    publish(&place, |batch| {
        batch.put(&titled("oak"))?;
        batch.remove(&"k".into())
    });
    assert_eq!((total("oak"), total("birch")), (0, 0));
    assert!(place.view().manifest().unwrap().unwrap().shelves.is_empty());
}

#[test]
fn a_batch_that_changes_nothing_publishes_nothing() {
    let place = morning();
    let before = place.view().manifest().unwrap();
    publish(&place, |batch| batch.remove(&99.into()));
    publish(&place, |_| Ok(()));
    assert_eq!(place.view().manifest().unwrap(), before);
}

#[test]
fn a_batch_half_way_leaves_nothing() {
    let place = morning();
    let before = place.view().manifest().unwrap();
    let opened = Opened::new();
    let schema = schema();
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    batch.set_budget(1);
    batch.put(&Record::new(1).with("title", "replaced")).unwrap();
    for (record, says) in [
        (Record::new(7).with("colour", "red"), "`colour`"),
        (Record::new(8).with("title", "x".repeat(10)).with("nowhere", 1), "`nowhere`"),
        (Record::new("k".repeat(3_000)), "3003 bytes"),
    ] {
        let error = batch.put(&record).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::BadRecord);
        assert!(error.to_string().contains(says), "{error}");
    }
    // A record that was refused left nothing in the batch, which can go on; here it is dropped instead.
    drop(batch);
    drop(unit);
    assert_eq!(place.view().manifest().unwrap(), before);
    assert_eq!(search(&place, "walnut", &Find::new()).unwrap().total, 2);
}

#[test]
fn of_two_units_the_second_is_overtaken_and_views_stay() {
    let place = morning();
    let (view, opened, schema) = (place.view(), Opened::new(), schema());
    let mut first = place.unit();
    let mut second = place.unit();
    for (unit, title) in [(&mut first, "first"), (&mut second, "second")] {
        let mut batch = Batch::new(unit, &opened, &schema).unwrap();
        batch.put(&Record::new(9).with("title", title)).unwrap();
        batch.publish().unwrap();
    }
    first.commit().unwrap();
    assert!(second.commit().unwrap_err().is_overtaken());
    assert_eq!(search(&place, "first", &Find::new()).unwrap().total, 1);
    assert_eq!(search(&place, "second", &Find::new()).unwrap().total, 0);
    assert_eq!(view.manifest().unwrap().unwrap().records(), 6);

    let mut unit = place.unit();
    let next = view.manifest().unwrap().unwrap();
    assert!(unit.swap(Some(77), &next).unwrap_err().is_overtaken());
    assert!(unit.swap(None, &next).unwrap_err().is_overtaken());
}

#[test]
fn a_piece_that_is_not_finished_is_not_there() {
    let unit = Memory::new().unit();
    let (dropped, finished) = (PieceId::fresh().unwrap(), PieceId::fresh().unwrap());
    unit.write(dropped).unwrap().append(b"half").unwrap();
    let mut writer: Box<dyn PieceWriter + '_> = unit.write(finished).unwrap();
    writer.append(b"whole").unwrap();
    writer.finish().unwrap();
    assert!(unit.read(&[(dropped, 0..4)]).unwrap_err().is_damaged());
    assert_eq!(unit.read(&[(finished, 1..4)]).unwrap(), ["hol"]);
    assert!(unit.read(&[(finished, 1..6)]).unwrap_err().is_damaged());
    assert_ne!(dropped, finished);
}

/// What could be too much: a value of many megabytes, a million tokens of one letter, words without an end, zero bytes.
#[test]
fn large_and_odd_values_are_read_and_found() {
    let place = Memory::new();
    let letters: String = ('a'..='z').cycle().take(1_000_000).flat_map(|letter| [letter, ' ']).collect();
    publish(&place, |batch| {
        batch.put(&Record::new(1).with("title", format!("{letters} periscope")))?;
        batch.put(&Record::new(2).with("notes", "x".repeat(5_000_000)))?;
        batch.put(&Record::new(3).with("title", "oak\0box \u{fffd} \u{feff}elm\u{202e}"))?;
        batch.put(&Record::new(4).with("title", "'-_.".repeat(200_000)))
    });
    for (query, expected) in [
        ("periscope", "1"),
        ("\"y z a b c\"", "1"),
        ("\"k l periscope\"", ""),
        ("\"m n periscope\"", "1"),
        (&*"x".repeat(300), "2"),
        (&*"x".repeat(254), ""),
        ("oak box elm", "3"),
    ] {
        let found = search(&place, query, &Find::new().without_values()).unwrap();
        let shown: String = query.chars().take(30).collect();
        assert_eq!(ids(&found).join(" "), expected, "{shown}");
    }
    let many: Vec<_> = (0..2_000).map(|n| format!("w{n}")).chain(["periscope".into()]).collect();
    let found = search(&place, &many.join(" "), &Find::new().words(Words::Any).without_values()).unwrap();
    assert_eq!(ids(&found).join(" "), "1", "a query of two thousand words");
}

#[test]
fn a_value_of_fifty_megabytes_is_read_found_and_kept() {
    let place = Memory::new();
    let value = format!("{} periscope", "umbrella stand ".repeat(50_000_000 / 15));
    publish(&place, |batch| batch.put(&Record::new(1).with("title", value.as_str())));
    let found = search(&place, "\"stand periscope\"", &Find::new()).unwrap();
    assert_eq!(found.total, 1);
    assert!(found.hits[0].values["title"] == [Value::from(value)]);
}

/// Every letter there is, each a token of its own, so often that there are a million of them.
#[test]
fn a_million_tokens_of_one_letter_are_no_trouble() {
    let place = Memory::new();
    let letters: String = ('\0'..=char::MAX).filter(|c| c.is_alphabetic()).flat_map(|c| [c, ' ']).collect();
    let times = 1_000_000 / (letters.chars().count() / 2) + 1;
    publish(&place, |batch| batch.put(&Record::new(1).with("notes", letters.repeat(times))));
    for query in ["q", "\"p q r\"", "ж", "ก", "\u{10400}"] {
        assert_eq!(search(&place, query, &Find::new().without_values()).unwrap().total, 1, "{query}");
    }
}

#[test]
fn the_deepest_and_the_widest_queries_go_every_way_in_time_that_grows_with_their_length() {
    // Each sign and bracket once doubled the time of printing: that of the first took an hour.
    let deepest = ["+(a ", "-(a ", "title:(a ", "+title,notes:(-(a OR ", "(a OR (b AND "];
    let nested = deepest.map(|open| open.repeat(32) + "b" + &")".repeat(32 * open.matches('(').count()));
    let signs = ("NOT ".repeat(32) + "(").repeat(32) + "a";
    let widest = ["a ", "a OR ", "+a -b ", "+(a) ", "~a ", "title:(a b) "].map(|part| part.repeat(2_000));
    let place = morning();
    let (view, opened) = (place.view(), Opened::new());
    for text in nested.iter().chain(&widest).chain([&signs]) {
        let query = Query::read(text).query;
        assert_eq!(Query::read(&query.to_string()).query, query);
        let kept = serde_json::to_string(&query).unwrap();
        assert_eq!(serde_json::from_str::<Query>(&kept).unwrap(), query);
        let snapshot = Snapshot::open(&view, &opened).unwrap();
        let find = Find::new();
        search::why(&view, &snapshot, &query, &find, &1.into()).unwrap();
        search::run(&view, &mut Search::new(snapshot, &query, &find).unwrap()).unwrap();
        Highlighter::new(Arc::new(schema()), &query, &find).unwrap().matches("title", "a b").unwrap();
    }
}

#[test]
fn what_a_program_nests_too_deep_is_refused() {
    let place = morning();
    let view = place.view();
    let deep =
        |levels| (0..levels).fold(Query::word("walnut"), |query, _| query.needed().without(Query::word("x")));
    for (levels, refused) in [(50, false), (150, true)] {
        let snapshot = Snapshot::open(&view, &Opened::new()).unwrap();
        let (query, find) = (deep(levels), Find::new());
        let searched = Search::new(snapshot.clone(), &query, &find).map(|_| ());
        let highlighted = Highlighter::new(Arc::new(schema()), &query, &find).map(|_| ());
        let explained = search::why(&view, &snapshot, &query, &find, &1.into()).map(|_| ());
        for done in [searched, highlighted, explained] {
            assert_eq!(
                done.map_err(|error| error.kind()),
                if refused { Err(ErrorKind::BadRequest) } else { Ok(()) }
            );
        }
    }
}

/// Records of different shelves that score nothing stand by their keys, too.
#[test]
fn records_that_score_nothing_stand_by_their_keys() {
    let settings = TextSettings {
        languages: vec![Language::new("fr").unwrap()],
        language_from: Some("lang".into()),
        ..TextSettings::of(Language::new("en").unwrap())
    };
    let schema = Schema::new("id")
        .with("notes", Column::text("none"))
        .with("tags", Column::read_as(settings))
        .with("lang", Column::of(Kind::Exact));
    let (place, opened) = (Memory::new(), Opened::new());
    let mut unit = place.unit();
    let mut batch = Batch::new(&mut unit, &opened, &schema).unwrap();
    batch.set_budget(0);
    batch.set_merging(Merging::Never);
    for title in 0..9 {
        batch.put(&Record::new(0).with("notes", format!("x{title}"))).unwrap();
    }
    batch.put(&Record::new(0).with("lang", "FR").with("tags", "elms oak")).unwrap();
    batch.put(&Record::new("a").with("tags", "elm")).unwrap();
    batch.put(&Record::new(1).with("notes", "oak").with("tags", "elms")).unwrap();
    batch.publish().unwrap();
    unit.commit().unwrap();
    let (view, find) = (place.view(), Find::new().columns(["tags"]).weight("tags", 0.0).limit(2));
    let snapshot = Snapshot::open(&view, &opened).unwrap();
    let query = Query::Any(vec![Query::word("elm"), Query::word("elm")]);
    let found = search::run(&view, &mut Search::new(snapshot, &query, &find).unwrap()).unwrap();
    assert_eq!(found.hits.iter().map(|hit| hit.key.to_string()).collect::<Vec<_>>(), ["0", "1"]);
}
