//! Searching from SQL: joins, settings, errors, and agreement with what a statement sees.
#![cfg(feature = "sqlite-functions")]
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar::lenient::Suggest;
use nut_cellar::sqlite::{SqlFunctions, SqliteCellar};
use nut_cellar::{Column, Filter, Find, Found, Kind, Request, Schema};
use rusqlite::Connection;

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("notes", Column::text("en"))
        .with("status", Column::of(Kind::Exact))
}

/// The lost-property office, with search on its table, and its functions.
fn office() -> Connection {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch(
        "CREATE TABLE stations(id INTEGER PRIMARY KEY, name TEXT);
         INSERT INTO stations VALUES (1, 'Elmfold'), (2, 'Quill Halt');
         CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, notes TEXT, status TEXT, station INTEGER);
         INSERT INTO items VALUES
           (1, 'Walnut box', 'brass hinge', 'waiting', 1),
           (2, 'Oak box', 'smells of walnuts', 'claimed', 2),
           (3, 'Umbrella', 'walnut handle', 'waiting', 2),
           (4, 'Tin box', NULL, 'waiting', NULL);",
    )
    .unwrap();
    SqliteCellar::adopt(&db, "items", &schema()).unwrap();
    SqlFunctions::new().register(&db).unwrap();
    db
}

/// What a statement gives, the columns of a row separated by spaces and the rows by commas.
fn said(db: &Connection, sql: &str) -> Result<String, String> {
    let read = || {
        let mut statement = db.prepare(sql)?;
        let columns = statement.column_count();
        let mut rows = statement.query([])?;
        let mut all = Vec::new();
        while let Some(row) = rows.next()? {
            let values = (0..columns).map(|column| {
                Ok(match row.get(column)? {
                    rusqlite::types::Value::Null => "-".to_owned(),
                    rusqlite::types::Value::Integer(number) => number.to_string(),
                    rusqlite::types::Value::Real(number) => format!("{number:.2}"),
                    rusqlite::types::Value::Text(text) => text,
                    rusqlite::types::Value::Blob(_) => "bytes".to_owned(),
                })
            });
            all.push(values.collect::<rusqlite::Result<Vec<_>>>()?.join(" "));
        }
        Ok(all.join(", "))
    };
    read().map_err(|error: rusqlite::Error| error.to_string())
}

#[test]
fn hits_are_joined_to_tables_in_whatever_order() {
    let db = office();
    for (sql, expected) in [
        ("SELECT key, rank FROM cellar_find('items', 'walnut')", "1 1, 3 2, 2 3"),
        ("SELECT key FROM cellar_find('items', 'walnut', 2) ORDER BY score DESC", "1, 3"),
        ("SELECT key FROM cellar_find('items', 'walnut') ORDER BY key DESC", "3, 2, 1"),
        (
            "SELECT i.title, s.name FROM cellar_find('items', 'walnut') f JOIN items i ON i.id = f.key
             LEFT JOIN stations s ON s.id = i.station ORDER BY f.rank",
            "Walnut box Elmfold, Umbrella Quill Halt, Oak box Quill Halt",
        ),
        (
            "SELECT i.id, f.rank FROM items i LEFT JOIN cellar_find('items', 'walnut') f ON f.key = i.id ORDER BY i.id",
            "1 1, 2 3, 3 2, 4 -",
        ),
        (
            "SELECT i.id FROM items i CROSS JOIN cellar_find('items', 'walnut') f WHERE f.key = i.id AND f.rank < 3",
            "1, 3",
        ),
        (
            "SELECT id FROM items WHERE id IN (SELECT key FROM cellar_find('items', 'box')) ORDER BY id",
            "1, 2, 4",
        ),
        (
            "SELECT s.name, (SELECT count(*) FROM cellar_find('items', replace(s.name, ' ', ' OR ') || ' OR walnut')) FROM stations s",
            "Elmfold 3, Quill Halt 3",
        ),
        (
            "SELECT a.key FROM cellar_find('items', 'walnut') a JOIN cellar_find('items', 'box') b ON a.key = b.key ORDER BY 1",
            "1, 2",
        ),
        ("SELECT rank FROM cellar_find('items', 'walnut') WHERE key = '3'", ""),
        ("SELECT rank FROM cellar_find('items', 'walnut') WHERE key IN (3, 2, 7) ORDER BY 1", "2, 3"),
        ("SELECT key FROM cellar_find WHERE cellar = 'items' AND query = 'tin'", "4"),
        ("SELECT count(*) FROM cellar_find(NULL, 'walnut'), cellar_find('items', 'oak')", "0"),
        ("SELECT count(*) FROM cellar_find('items', NULL)", "0"),
        ("SELECT key FROM cellar_find('items', 'walnut', NULL, NULL)", "1, 3, 2"),
        ("SELECT key FROM cellar_find('items', '\" (walnut')", "1, 3, 2"),
    ] {
        assert_eq!(said(&db, sql).unwrap(), expected, "{sql}");
    }
    db.execute_batch("CREATE VIEW boxes AS SELECT key FROM cellar_find('items', 'box')").unwrap();
    assert_eq!(said(&db, "SELECT count(*) FROM boxes").unwrap(), "3");
}

#[test]
fn settings_are_those_of_a_search() {
    let db = office();
    let find = |query: &str, settings: &str| {
        said(&db, &format!("SELECT key FROM cellar_find('items', '{query}', 10, '{settings}')"))
    };
    for (query, settings, expected) in [
        ("walnut box", r#"{"words": "any"}"#, "1, 2, 4, 3"),
        ("walnut", r#"{"columns": ["title"]}"#, "1"),
        ("walnut", r#"{"weights": {"title": 0, "notes": 1}}"#, "3, 2, 1"),
        ("walnut", r#"{"where": "status = waiting"}"#, "1, 3"),
        ("walnut", r#"{"sort": "status", "skip": 1}"#, "1, 3"),
        ("wallnut", r#"{"near": "always"}"#, "1, 3"),
        ("wal", r#"{"beginnings": "last"}"#, "1, 3, 2"),
        ("walnuts", r#"{"exact_forms": true}"#, "2"),
        ("walnut tin brass", r#"{"relax": 1, "k1": 0.5, "b": 0, "proximity": 1}"#, "1"),
    ] {
        assert_eq!(find(query, &settings.replace("''''", "''")).unwrap(), expected, "{query} {settings}");
    }
    for (query, settings, part) in [
        ("walnut", r#"{"wieghts": {"title": 1}}"#, "unknown field `wieghts`"),
        ("walnut", r#"{"words": "most"}"#, "`most` can't be used"),
        ("walnut", r#"{"columns": ["titel"]}"#, "`titel`"),
        ("walnut", r#"{"sort": "title"}"#, "title"),
        ("(walnut", r#"{"exacting": true}"#, "bracket"),
        ("walnut", "words=any", "JSON object"),
    ] {
        let error = find(query, settings).unwrap_err();
        assert!(error.contains(part), "{query} {settings}: {error}");
    }
}

#[test]
fn what_is_found_is_counted_as_a_statement_sees_it() {
    let db = office();
    let counted = |call: &str| {
        said(&db, &format!("SELECT value, records, what, begins, ends FROM cellar_count({call})"))
    };
    for (call, expected) in [
        ("'items', 'walnut', 'status'", "waiting 2 value - -, claimed 1 value - -"),
        ("'items', 'walnut', 'status most 1'", "waiting 2 value - -, - 1 others - -"),
        ("'items', 'box', 'status by value', '{\"where\": \"status = ''waiting''\"}'", "waiting 2 value - -"),
        (
            "'items', 'box', 'status without own filter', '{\"where\": \"status = ''waiting''\"}'",
            "waiting 2 value - -, claimed 1 value - -",
        ),
        ("'items', 'periscope', 'status'", ""),
        ("NULL, 'walnut', 'status'", ""),
    ] {
        assert_eq!(counted(call).unwrap(), expected, "{call}");
    }
    db.execute_batch(
        "BEGIN; UPDATE items SET status = 'sent on' WHERE id = 1; DELETE FROM items WHERE id = 3;",
    )
    .unwrap();
    assert_eq!(counted("'items', 'walnut', 'status'").unwrap(), "claimed 1 value - -, sent on 1 value - -");
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(counted("'items', 'walnut', 'status'").unwrap(), "waiting 2 value - -, claimed 1 value - -");
    db.execute_batch(
        "CREATE TABLE loans(id INTEGER PRIMARY KEY, title TEXT, pence INTEGER, lent TEXT);
         INSERT INTO loans VALUES (1, 'oak', 50, '2031-01-31'), (2, 'oak', 250, '2031-02-01'), (3, 'oak', NULL, '2031-02-28');",
    )
    .unwrap();
    let schema = Schema::new("id").with("title", Column::text("en")).with("pence", Column::of(Kind::Integer));
    SqliteCellar::adopt(&db, "loans", &schema.with("lent", Column::of(Kind::Date))).unwrap();
    assert_eq!(
        counted("'loans', 'oak', 'lent by month'").unwrap(),
        "2031-01 1 value 2031-01-01 2031-02-01, 2031-02 2 value 2031-02-01 2031-03-01"
    );
    assert_eq!(
        counted("'loans', 'oak', 'pence ranges 100'").unwrap(),
        "- 1 value - 100, - 1 value 100 -, - 1 missing - -"
    );
    assert_eq!(
        counted("'loans', 'oak', 'pence statistics at 0.5'").unwrap(),
        "2 - count - -, 50 - least - -, 250 - greatest - -, 300 - sum - -, 150.00 - mean - -, \
         50 - quantile 0.5 - -, - 1 missing - -"
    );
    for (call, part) in [
        ("'items', 'walnut'", "needs a cellar, a query and what is counted"),
        ("'items', 'walnut', 'colour'", "There is no column `colour`"),
        ("'items', 'walnut', 'status most'", "how many values to list"),
        ("'items', 'walnut', 7", "all of them are texts"),
        ("'items', 'walnut', 'status', '{\"limit\": 3}'", "said outside of them"),
    ] {
        let error = counted(call).unwrap_err();
        assert!(error.contains(part), "{call}: {error}");
    }
}

#[test]
fn what_is_missing_or_wrong_is_said() {
    let db = office();
    for (sql, part) in [
        ("SELECT * FROM cellar_find", "needs a cellar and a query"),
        ("SELECT * FROM cellar_find('items')", "needs a cellar and a query"),
        ("SELECT * FROM cellar_find('attic', 'walnut')", "There is no cellar `attic`"),
        ("SELECT * FROM cellar_find('x\"; DROP TABLE items; --', 'walnut')", "There is no cellar"),
        ("SELECT * FROM cellar_find('items', 'walnut', -1)", "no number of hits"),
        ("SELECT * FROM cellar_find('items', 5)", "the query is no text"),
        ("SELECT * FROM cellar_find(''  , 'walnut')", "needs a name"),
        ("SELECT cellar_mark('items', 'walnut', 'status', 'walnut')", "text column `status`"),
        ("SELECT cellar_mark('items', 'walnut', 'title', x'00')", "are texts"),
        ("SELECT cellar_excerpt('items', 'walnut', 'title', 'walnut', 0)", "number of characters"),
        ("SELECT * FROM cellar_tokens", "needs a text"),
        ("SELECT * FROM cellar_tokens('oak', 'zz')", "zz"),
        ("SELECT * FROM cellar_tokens('oak', 5)", "no code"),
    ] {
        let error = said(&db, sql).unwrap_err();
        assert!(error.contains(part), "{sql}: {error}");
    }
    assert_eq!(said(&db, "SELECT count(*) FROM items").unwrap(), "4");
}

#[test]
fn texts_are_marked_and_taken_apart() {
    let db = office();
    for (sql, expected) in [
        (
            "SELECT cellar_mark('items', 'walnuts', 'title', title) FROM items WHERE id = 1",
            "<mark>Walnut</mark> box",
        ),
        ("SELECT cellar_mark('items', 'oak', 'title', '<i>oak</i>')", "&lt;i&gt;<mark>oak</mark>&lt;/i&gt;"),
        ("SELECT cellar_mark('items', 'oak', 'title', '<i>oak</i>', '[', ']')", "<i>[oak]</i>"),
        ("SELECT cellar_mark('items', 'oak', 'title', NULL)", "-"),
        ("SELECT cellar_mark(NULL, 'oak', 'title', 'oak')", "-"),
        (
            "SELECT cellar_excerpt('items', 'elm', 'notes', 'a very long text and then an elm in it', 10, '[', ']')",
            "…an [elm] in…",
        ),
        ("SELECT cellar_excerpt('items', 'elm', 'notes', 'an elm')", "an <mark>elm</mark>"),
        (
            "SELECT term, start, end, position FROM cellar_tokens('Two Umbrellas', 'en')",
            "two 0 3 0, umbrellas 4 13 1",
        ),
        ("SELECT term, shared FROM cellar_tokens('Two Umbrellas', 'en')", "two two, umbrellas umbrella"),
        ("SELECT term, shared FROM cellar_tokens('Two Umbrellas')", "two -, umbrellas -"),
        ("SELECT count(*) FROM cellar_tokens(NULL)", "0"),
        (
            "SELECT i.id, count(*) FROM items i, cellar_tokens(i.notes) GROUP BY i.id ORDER BY i.id",
            "1 2, 2 3, 3 2",
        ),
    ] {
        assert_eq!(said(&db, sql).unwrap(), expected, "{sql}");
    }
}

#[test]
fn order_by_rank_sorts_nothing_and_a_join_looks_keys_up() {
    let db = office();
    let plan = |sql: &str| said(&db, &format!("EXPLAIN QUERY PLAN {sql}")).unwrap();
    let joined =
        "SELECT i.title FROM items i JOIN cellar_find('items', 'walnut') f ON f.key = i.id ORDER BY ";
    for (order, sorts) in
        [("f.rank", false), ("f.score DESC", false), ("f.score", true), ("f.rank, i.id", true)]
    {
        let plan = plan(&format!("{joined}{order}"));
        assert_eq!(plan.contains("TEMP B-TREE"), sorts, "{order}: {plan}");
        assert!(plan.contains("SEARCH i USING INTEGER PRIMARY KEY"), "{plan}");
    }
    let sorted = plan("SELECT key FROM cellar_find('items', 'box', 5, '{}') ORDER BY score DESC");
    assert!(sorted.contains("TEMP B-TREE"), "{sorted}");
}

#[test]
fn a_statement_sees_its_own_transaction_and_what_was_rolled_back_is_gone() {
    let db = office();
    let oaks = || said(&db, "SELECT key FROM cellar_find('items', 'oak', 100) ORDER BY key").unwrap();
    db.execute_batch("BEGIN; INSERT INTO items(id, title) VALUES (5, 'Oak chest'); SAVEPOINT s").unwrap();
    assert_eq!(oaks(), "2, 5");
    db.execute_batch("DELETE FROM items WHERE id = 2").unwrap();
    assert_eq!(oaks(), "5");
    db.execute_batch("ROLLBACK TO s").unwrap();
    assert_eq!(oaks(), "2, 5");
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(oaks(), "2");
    // A statement that changes what it searches has searched before it changes anything.
    db.execute_batch(
        "INSERT INTO items(id, title) VALUES (11, 'Oak chest');
         INSERT INTO items(id, title) SELECT value, 'Oak chest' FROM json_each('[12, 13, 14]')
           LEFT JOIN cellar_find('items', 'oak', 100) f ON f.key = value - 1 WHERE f.key IS NOT NULL",
    )
    .unwrap();
    assert_eq!(oaks(), "2, 11, 12");
    db.execute_batch(
        "DELETE FROM items WHERE id IN (SELECT key FROM cellar_find('items', 'oak chest', 100, '{\"strict\": true}'))",
    )
    .unwrap();
    assert_eq!(oaks(), "2");
}

#[test]
fn a_join_that_is_read_while_its_connection_writes_is_never_stale() {
    let db = office();
    db.execute_batch("INSERT INTO items(id, title) VALUES (5, 'Box of brass'), (6, 'Box of tin')").unwrap();
    let mut joined = db
        .prepare("SELECT i.id, f.rank FROM items i LEFT JOIN cellar_find('items', 'box') f ON f.key = i.id")
        .unwrap();
    let mut rows = joined.query([]).unwrap();
    let mut next = || {
        let row = rows.next().unwrap().unwrap();
        (row.get(0).unwrap(), row.get(1).unwrap())
    };
    let mut expect = |id: i64, found: bool| {
        let (at, rank): (i64, Option<i64>) = next();
        assert_eq!((at, rank.is_some()), (id, found));
    };
    expect(1, true);
    db.execute_batch("SAVEPOINT s; UPDATE items SET title = 'Oak chest' WHERE id = 2").unwrap();
    expect(2, false);
    db.execute_batch("UPDATE items SET title = 'Box of umbrellas' WHERE id = 3").unwrap();
    expect(3, true);
    db.execute_batch("UPDATE items SET title = 'Chest' WHERE id >= 4").unwrap();
    expect(4, false);
    // The log is as long as it was, and says something else.
    db.execute_batch(
        "ROLLBACK TO s; SAVEPOINT t; UPDATE items SET title = iif(id = 6, 'Chest', 'Box') WHERE id >= 2",
    )
    .unwrap();
    expect(5, true);
    // The connection's count of changes stays where it is.
    db.execute_batch("ROLLBACK TO t").unwrap();
    expect(6, true);
}

#[test]
fn a_table_that_was_adopted_anew_is_searched_by_its_new_schema() {
    let db = office();
    assert_eq!(said(&db, "SELECT key FROM cellar_find('items', 'brass')").unwrap(), "1");
    assert_eq!(
        said(&db, "SELECT cellar_mark('items', 'boxes', 'title', 'Box')").unwrap(),
        "<mark>Box</mark>"
    );
    SqliteCellar::release(&db, "items").unwrap();
    assert!(said(&db, "SELECT key FROM cellar_find('items', 'brass')").unwrap_err().contains("no cellar"));
    SqliteCellar::adopt(&db, "items", &Schema::new("id").with("title", Column::text("none"))).unwrap();
    assert_eq!(said(&db, "SELECT key FROM cellar_find('items', 'brass')").unwrap(), "");
    assert_eq!(said(&db, "SELECT cellar_mark('items', 'boxes', 'title', 'Box')").unwrap(), "Box");
}

#[test]
fn a_request_is_answered_with_the_document_that_the_library_gives() {
    let db = office();
    let cellar = SqliteCellar::open(&db, "items").unwrap();
    for request in [
        r#"{"query": "walnut"}"#,
        r#"{"query": "walnut \"oak", "words": "any", "weights": {"notes": 9}, "limit": 2}"#,
        r#"{"query": {"any": [{"word": "tin"}, {"pattern": "umb*"}]}, "where": "status = 'waiting'", "values": false}"#,
        r#"{"query": "wallnut box", "near": "always", "relax": 5, "sort": {"by": "key"}, "total": {"at_least": 1}}"#,
    ] {
        let of_library = cellar.answer(&db, &Request::read(request).unwrap()).unwrap();
        let quoted = request.replace('\'', "''");
        let of_sql = said(&db, &format!("SELECT cellar_response('items', '{quoted}')")).unwrap();
        assert_eq!(of_sql, serde_json::to_string(&of_library).unwrap(), "{request}");
        assert_eq!(serde_json::from_str::<Found>(&of_sql).unwrap(), of_library);
        assert!(!of_library.hits.is_empty(), "{request}");
    }
    assert_eq!(
        said(&db, "SELECT cellar_response('items', NULL), cellar_response(NULL, '{}')").unwrap(),
        "- -"
    );
    for (call, part) in [
        ("cellar_response('items', '{\"quer\": \"oak\"}')", "unknown field `quer`"),
        (
            "cellar_response('items', '{\"query\": \"oak\", \"where\": \"colour = 1\"}')",
            "There is no column `colour`",
        ),
        ("cellar_response('nothing', '{}')", "nothing"),
        ("cellar_response('items', 7)", "all that it is given is texts"),
        ("cellar_suggest('items', 'oak', '{\"limt\": 1}')", "unknown field `limt`"),
        ("cellar_suggest('items', 'oak', '{\"where\": \"colour = 1\"}')", "There is no column `colour`"),
        ("cellar_suggest('items', 7)", "all that it is given is texts"),
        ("(SELECT key FROM cellar_find('items', 'oak', 10, '{\"query\": \"elm\"}'))", "said outside of them"),
    ] {
        let error = said(&db, &format!("SELECT {call}")).unwrap_err();
        assert!(error.contains(part), "{call}: {error}");
    }
    let suggested = r#"cellar_suggest('items', 'walnt', '{"where": "status = ''waiting''", "limit": 1}')"#;
    let find = Find::new().only(Filter::equal("status", "waiting"));
    let of_library = cellar.suggest(&db, "walnt", &find, &Suggest::new().limit(1)).unwrap();
    assert_eq!(
        said(&db, &format!("SELECT {suggested}")).unwrap(),
        serde_json::to_string(&of_library).unwrap()
    );
    assert_eq!(of_library.corrections[0].text, "walnut");
    let begun = "SELECT json_extract(cellar_suggest('items', 'wal'), '$.completions[0].text')";
    assert_eq!(said(&db, begun).unwrap(), "walnut");
    assert_eq!(said(&db, "SELECT cellar_suggest('items', NULL)").unwrap(), "-");
    // It sees what its own transaction wrote, as every statement does.
    db.execute_batch("BEGIN; INSERT INTO items VALUES (9, 'Walnut stool', NULL, 'waiting', 1)").unwrap();
    let total = "SELECT json_extract(cellar_response('items', '{\"query\": \"stool\"}'), '$.total')";
    assert_eq!(said(&db, total).unwrap(), "1");
    db.execute_batch("ROLLBACK").unwrap();
    assert_eq!(said(&db, total).unwrap(), "0");
}
