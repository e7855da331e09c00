//! Records of fields by name: one reader for many objects gives what each object gives by itself.

use nut_cellar_core::{Column, ErrorKind, FieldReader, Key, Kind, Record, Schema};
use proptest::prelude::*;
use serde_json::{Map, Value as Json, json};

fn schema() -> Schema {
    Schema::new("line")
        .with_key("number")
        .with("title", Column::text("en"))
        .with("all", Column::text("none").from_columns(["title", "notes", "number"]))
        .with("line", Column::of(Kind::Exact))
        .with("pence", Column::of(Kind::Integer).from_columns(["value"]))
        .with("found_on", Column::of(Kind::Date))
}

fn field() -> impl Strategy<Value = Json> {
    let one = prop_oneof![
        Just(Json::Null),
        "[a-z\"\\\\é傘]{0,8}".prop_map(Json::from),
        (-3_i64..3).prop_map(Json::from),
        any::<bool>().prop_map(Json::from),
        Just(json!("2031-04-17")),
        Just(json!(1.5)),
        Just(json!({ "lat": 1 })),
    ];
    prop_oneof![3 => one.clone(), 1 => prop::collection::vec(one, 0..3).prop_map(Json::from)]
}

fn object() -> impl Strategy<Value = Map<String, Json>> {
    let name = prop::sample::select(vec!["title", "notes", "value", "found_on", "drawer", "line", "number"]);
    let fields = prop::collection::btree_map(name, field(), 0..6);
    (fields, "[A-C]", 0_i64..9).prop_map(|(fields, line, number)| {
        let mut object: Map<_, _> =
            fields.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        // Most have a key.
        if number < 7 {
            object.insert("line".to_owned(), line.into());
            object.insert("number".to_owned(), number.into());
        }
        object
    })
}

proptest! {
    #[test]
    fn a_reader_of_many_objects_gives_what_each_gives_alone(objects in prop::collection::vec(object(), 0..8)) {
        let schema = schema();
        let (mut reader, mut record) = (FieldReader::new(&schema), Record::new(0));
        for object in &objects {
            let alone = Record::from_fields(object, &schema);
            let read = reader.read(&serde_json::to_string_pretty(object).unwrap(), &mut record);
            match (alone, read) {
                (Ok(alone), Ok(())) => prop_assert_eq!(&record, &alone),
                (Err(alone), Err(read)) => prop_assert_eq!(alone.to_string(), read.to_string()),
                (alone, read) => prop_assert!(false, "{:?} and {:?}", alone, read),
            }
        }
        let drawers = objects.iter().any(|object| object.contains_key("drawer"));
        prop_assert!(reader.unknown().eq(drawers.then_some("drawer")));
    }
}

#[test]
fn what_is_no_object_is_told_and_spoils_nothing() {
    let schema = schema();
    let (mut reader, mut record) = (FieldReader::new(&schema), Record::new(0));
    for (text, says) in [
        ("[1]", "this is no JSON object (invalid type: sequence, expected an object at column 0)."),
        (r#"{"title": "oak", "title": "elm"}"#, "it has two fields `title` at column "),
        (r#"{"drawer": 1, "drawer": 1}"#, "it has two fields `drawer` at column "),
        (r#"{"line": "A", "number": 1} {}"#, "trailing characters at column 28"),
        (r#"{"title": "oak"#, "EOF while parsing a string at column 14"),
        (r#"{"title": "oak"}"#, "the key `line` is not there"),
        (r#"{"line": "A", "number": 1.5}"#, "the key `number` is a number with a fraction"),
        (r#"{"line": "A", "number": 1, "value": "soon"}"#, "column `pence`: `soon` is not"),
    ] {
        let error = reader.read(text, &mut record).unwrap_err();
        assert_eq!(error.kind(), ErrorKind::BadRecord);
        assert!(error.to_string().contains(says), "{error}");
        reader.read(r#"{"line": "A", "number": 1}"#, &mut record).unwrap();
        let key = Key::from_iter(["A".into(), 1.into()]);
        assert_eq!(record, Record::new(key).with("all", "1").with("line", "A"));
    }
}

#[test]
fn texts_by_name_are_read_and_what_is_written_like_a_number_names_one() {
    let schema = schema();
    let (mut reader, mut record) = (FieldReader::new(&schema), Record::new(0));
    for (number, part) in
        [("7", Key::from(7)), ("07", "07".into()), ("7.5", "7.5".into()), ("-7", (-7).into())]
    {
        reader.read_texts([("line", "7"), ("number", number), ("value", " 450 ")], &mut record).unwrap();
        assert_eq!(record.key, Key::from_iter([7.into(), part]));
        assert_eq!((record.values("pence"), record.values("line")), (&[450.into()][..], &["7".into()][..]));
        assert_eq!(record.values("all"), [number.into()]);
    }
    let error = reader.read_texts([("line", "A"), ("line", "B")], &mut record).unwrap_err();
    assert_eq!(error.to_string(), "two fields are called `line`.");
}
