//! Row-level security: a role is told of the rows that it may see, and of no others.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::counts::Count;
use nut_cellar::lenient::Suggest;
use nut_cellar::postgres::PostgresCellar;
use nut_cellar::search::{Order, Spellings};
use nut_cellar::text::Pattern;
use nut_cellar::{Column, ErrorKind, Find, Join, Key, Kind, Note, Query, Schema, Value};
use postgres::{Client, GenericClient};
use support::{Dice, connect, database, seeds};

const WORDS: [&str; 5] = ["oak", "elm", "box", "brass", "quill"];

fn schema() -> Schema {
    Schema::new("id").with("title", Column::text("en")).with("value", Column::of(Kind::Integer))
}

/// An office whose clerk sees the items of depots that a setting of the session names. Roles belong to the whole server.
fn office() -> (String, Client) {
    let address = database();
    let mut owner = connect(&address);
    owner
        .batch_execute(
            "DO $$ BEGIN CREATE ROLE clerk; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$;
             CREATE TABLE items(id integer PRIMARY KEY, title text, value integer, depot integer);
             ALTER TABLE items ENABLE ROW LEVEL SECURITY; GRANT SELECT, UPDATE ON items TO clerk;
             CREATE POLICY of_depot ON items TO clerk
               USING (depot::text = ANY (string_to_array(current_setting('office.depots', true), ',')))",
        )
        .unwrap();
    (address, owner)
}

fn clerk(address: &str, depots: &str) -> Client {
    let mut client = connect(address);
    client.batch_execute(&format!("SET ROLE clerk; SET office.depots = '{depots}'")).unwrap();
    client
}

type Hits = Vec<(Key, u32)>;

fn hits(found: &nut_cellar::Found) -> Hits {
    found.hits.iter().map(|hit| (hit.key.clone(), hit.score.to_bits())).collect()
}

/// What of an owner's hits the client may see.
fn visible(client: &mut impl GenericClient, all: &Hits) -> Hits {
    let ids = client.query("SELECT id FROM items", &[]).unwrap();
    let ids: Vec<_> = ids.iter().map(|row| Key::from(i64::from(row.get::<_, i32>(0)))).collect();
    all.iter().filter(|(key, _)| ids.contains(key)).cloned().collect()
}

#[test]
fn a_role_finds_what_it_may_see_in_the_order_of_all() {
    for seed in 1..=seeds(6) {
        let (address, mut owner) = office();
        let mut dice = Dice(seed * 0x9e37_79b9 + 1);
        let rows = dice.pick(&[5, 90, 700]);
        for id in 0..rows {
            let title: Vec<_> = (0..dice.roll(5)).map(|_| dice.pick(&WORDS)).collect();
            let (title, value, depot) = (title.join(" "), dice.roll(4), dice.roll(9));
            owner
                .batch_execute(&format!("INSERT INTO items VALUES ({id}, '{title}', {value}, {depot})"))
                .unwrap();
        }
        let cellar = PostgresCellar::adopt(&mut owner, "items", &schema()).unwrap();
        cellar.allow(&mut owner, "clerk").unwrap();
        for step in 0..30 {
            let at = format!("seed {seed}, step {step}");
            let depots: Vec<_> = (0..dice.roll(4)).map(|_| dice.roll(9).to_string()).collect();
            let mut client = clerk(&address, &depots.join(","));
            let words: Vec<_> = (0..=dice.roll(2)).map(|_| dice.pick(&WORDS)).collect();
            let query = words.join(" OR ");
            let find = match dice.roll(2) {
                0 => Find::new(),
                _ => Find::new().order(Order::Column { name: "value".into(), down: dice.roll(2) == 0 }),
            };
            let all = hits(&cellar.find(&mut owner, &query, &find.clone().limit(9_999)).unwrap());
            let expected = visible(&mut client, &all);
            // By number, and on from the last hit of the page before.
            let (skip, limit) = (dice.pick(&[0, 1, 7]), dice.pick(&[0, 1, 10, 300]));
            let found = cellar.find(&mut client, &query, &find.clone().skip(skip).limit(limit)).unwrap();
            let window = expected.get(skip..).unwrap_or_default();
            let window = &window[..window.len().min(limit)];
            assert_eq!(hits(&found), window, "{at}: {query}");
            let ranks: Vec<_> = found.hits.iter().map(|hit| hit.rank).collect();
            assert_eq!(ranks, (skip + 1..=skip + window.len()).collect::<Vec<_>>(), "{at}");
            assert_eq!(found.or_more, expected.len() > skip + limit, "{at}");
            assert_eq!(found.total, expected.len().min(skip + limit) as u64, "{at}");
            let (mut paged, mut page) = (Vec::new(), find.clone().limit(4));
            loop {
                let found = cellar.find(&mut client, &query, &page).unwrap();
                paged.extend(hits(&found));
                let Some(last) = found.last else { break };
                page = page.after(last);
            }
            assert_eq!(paged, expected, "{at}: by pages");
            // What is not caught up with is seen by who may see it, also where somebody else has searched before.
            let (id, word) = (dice.roll(rows), dice.pick(&WORDS));
            let mut transaction = owner.transaction().unwrap();
            transaction
                .batch_execute(&format!(
                    "UPDATE items SET title = '{word} {word}', depot = 8 WHERE id = {id}"
                ))
                .unwrap();
            transaction.commit().unwrap();
            if dice.roll(2) == 0 {
                cellar.find(&mut client, &query, &find).unwrap();
            }
            let all = hits(&cellar.find(&mut owner, &query, &find.clone().limit(9_999)).unwrap());
            let sorted = |hits: Hits| {
                let mut keys: Vec<_> = hits.into_iter().map(|(key, _)| key).collect();
                keys.sort_unstable();
                keys
            };
            let expected = visible(&mut client, &all);
            assert!(visible(&mut owner, &all).len() == all.len());
            let rows_found =
                owner.query_one("SELECT count(*) FROM items WHERE title ~ $1", &[&words.join("|")]).unwrap();
            assert_eq!(all.len(), usize::try_from(rows_found.get::<_, i64>(0)).unwrap(), "{at}: of all");
            let found = cellar.find(&mut client, &query, &find.clone().limit(9_999)).unwrap();
            assert_eq!(sorted(hits(&found)), sorted(expected), "{at}: with changed rows");
            assert_eq!(hits(&cellar.find(&mut owner, &query, &find.limit(9_999)).unwrap()), all, "{at}");
            cellar.sync(&mut owner).unwrap();
        }
    }
}

/// Whatever the rows are that a role may not see: which hits it is told, how many, and what is said, is the same.
#[test]
fn neither_notes_nor_counts_nor_looser_searches_tell_of_hidden_rows() {
    let told = |hidden: &str| {
        let (address, mut owner) = office();
        owner
            .batch_execute(&format!(
                "INSERT INTO items SELECT n, 'oak box', n, 1 FROM generate_series(1, 3) n;
                 INSERT INTO items SELECT n, 'oak quill', n, 1 FROM generate_series(4, 9) n;
                 INSERT INTO items VALUES (10, 'walnuts', 1, 1); {hidden}"
            ))
            .unwrap();
        let cellar = PostgresCellar::adopt(&mut owner, "items", &schema()).unwrap();
        cellar.allow(&mut owner, "clerk").unwrap();
        owner.batch_execute("UPDATE items SET value = value + 1 WHERE id % 2 = 0").unwrap();
        let mut client = clerk(&address, "1");
        let mut told = Vec::new();
        for query in ["oak box", "walnutz", "oak walnutz", "brass box quill", "~oakk box", "o* *x"] {
            for below in [0, 1, 2, 3, 4, 5, 37, 38, 39] {
                for near in [Spellings::AsTyped, Spellings::WhenFewerThan(below), Spellings::Near] {
                    let find = Find::new().relaxed_below(below).spellings(near).limit(4);
                    let found = cellar.find(&mut client, query, &find).unwrap();
                    let all = cellar.find(&mut client, query, &find.limit(99)).unwrap();
                    let mut keys: Vec<_> = all.hits.into_iter().map(|hit| hit.key).collect();
                    keys.sort();
                    told.push((
                        query,
                        below,
                        near,
                        found.total,
                        found.or_more,
                        found.notes,
                        keys,
                        all.total,
                        all.notes,
                    ));
                }
            }
        }
        told
    };
    let alone = told("");
    for hidden in [
        "INSERT INTO items SELECT n, 'oak box', n, 2 FROM generate_series(11, 45) n",
        "INSERT INTO items SELECT n, 'walnutz brass box quill', n, 2 FROM generate_series(11, 60) n",
        "INSERT INTO items SELECT n, 'oakk ox x' || n, n, 2 FROM generate_series(11, 300) n",
    ] {
        for (seen, alone) in told(hidden).into_iter().zip(&alone) {
            assert_eq!(&seen, alone, "{hidden}");
        }
    }
    // And what there is to say of what it sees is said.
    assert!(alone.iter().any(|(_, _, _, _, _, notes, ..)| notes.contains(&Note::SpelledNearly)));
    assert!(
        alone.iter().any(|(_, _, _, _, _, notes, ..)| notes
            .iter()
            .any(|note| matches!(note, Note::FewerWords { .. })))
    );
}

#[test]
fn what_tells_of_all_rows_is_for_roles_that_see_all() {
    let (address, mut owner) = office();
    owner
        .batch_execute("INSERT INTO items VALUES (1, 'Oak box', 1, 1), (2, 'Elm box', 1, 2); CREATE TABLE notes(id integer PRIMARY KEY, item integer, title text, value integer)")
        .unwrap();
    let (cellar, adopted) = PostgresCellar::adopt_with(&mut owner, "items", &schema(), |_| ()).unwrap();
    assert!(adopted.notes[0].contains("row-level security"), "{adopted:?}");
    cellar.allow(&mut owner, "clerk").unwrap();
    let mut client = clerk(&address, "1");
    let (query, find) = (Query::read("box").query, Find::new());
    let found = cellar.find(&mut client, "box", &find).unwrap();
    assert_eq!((found.total, found.hits.len(), found.or_more), (1, 1, false));
    // Counts would tell of the others; who sees all is told them.
    let counting = find.clone().count(Count::of("value"));
    let found = cellar.find(&mut client, "box", &counting).unwrap();
    assert_eq!((found.total, &found.counts[..]), (1, &[][..]));
    assert!(found.notes.contains(&Note::CountsWithheld), "{:?}", found.notes);
    owner.batch_execute("BEGIN; UPDATE items SET value = 7 WHERE id = 2").unwrap();
    let counts = cellar.find(&mut owner, "box", &counting).unwrap().counts;
    let values: Vec<_> = counts[0].values.iter().map(|one| (one.value.clone(), one.records)).collect();
    assert_eq!(values, [(Some(Value::Integer(1)), 1), (Some(Value::Integer(7)), 1)]);
    owner.batch_execute("ROLLBACK").unwrap();
    let refused = [
        cellar.why(&mut client, &query, &find, &Key::from(1)).unwrap_err(),
        cellar.compare(&mut client, &query, &find, &find).unwrap_err(),
        cellar.terms(&mut client, &Pattern::new("*").unwrap(), 9).unwrap_err(),
        cellar.search_reporting(&mut client, &query, &find).unwrap_err(),
        cellar.suggest(&mut client, "bxo", &find, &Suggest::new()).unwrap_err(),
        cellar.info(&mut client).unwrap_err(),
        cellar.check(&mut client).unwrap_err(),
        cellar.differences(&mut client).unwrap_err(),
    ];
    for error in refused {
        assert_eq!(error.kind(), ErrorKind::Withheld, "{error}");
        assert!(error.to_string().contains("Row-level security"), "{error}");
    }
    // For that role a search is strict; for whoever sees all it is not.
    assert_eq!(cellar.find(&mut client, "bxo", &find).unwrap().total, 0);
    let all = cellar.find(&mut owner, "bxo", &find).unwrap();
    assert!(all.total > 1 && all.changed[0].to == ["box"], "{:?}", all.changed);
    let offered = cellar.suggest(&mut owner, "bxo", &find, &Suggest::new()).unwrap();
    assert_eq!((offered.corrections[0].text.as_str(), offered.corrections[0].records), ("box", all.total));
    // Whoever may write to all of it, but does not see all rows, would lose those.
    owner
        .batch_execute("GRANT ALL ON ALL TABLES IN SCHEMA cellar_items TO clerk; UPDATE items SET title = 'Oak chest' WHERE id = 2")
        .unwrap();
    assert_eq!(cellar.sync(&mut client).unwrap_err().kind(), ErrorKind::Withheld);
    assert_eq!(cellar.rebuild(&mut client).unwrap_err().kind(), ErrorKind::Withheld);
    assert_eq!(
        PostgresCellar::adopt(&mut client, "mine", &schema().from_table("items")).unwrap_err().kind(),
        ErrorKind::Withheld
    );
    let schema = schema().from_table("notes").joining(Join::many("items", "items.id = notes.item"));
    let error = PostgresCellar::adopt(&mut owner, "notes", &schema).unwrap_err();
    assert!(error.to_string().contains("join a table without it"), "{error}");
    // An owner on whom it is forced is as any other role; a superuser is not.
    owner.batch_execute("ALTER TABLE items FORCE ROW LEVEL SECURITY").unwrap();
    assert_eq!(cellar.find(&mut owner, "oak", &find).unwrap().total, 2);
    // It is put on later: the cellar has to be adopted again.
    owner.batch_execute("ALTER TABLE items DISABLE ROW LEVEL SECURITY").unwrap();
    assert!(cellar.find(&mut owner, "oak", &find).unwrap_err().is_out_of_step());
    let (cellar, adopted) = PostgresCellar::adopt_with(&mut owner, "items", cellar.schema(), |_| ()).unwrap();
    assert!(adopted.notes.is_empty() && adopted.rebuilt);
    assert_eq!(cellar.find(&mut client, "oak", &find).unwrap().total, 2);
}
