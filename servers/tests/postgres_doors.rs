//! What an owner of a table makes of its types, casts, operators, views and search path is never run with rights that the owner does not
//! have: whoever writes, searches, catches up, checks, repairs or adopts.
//!
//! Code of the owner's that runs tells as whom: by a lock that outlives whatever becomes of the statement.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::rows::tune;
use nut_cellar::schema::Condition;
use nut_cellar::{Column, ErrorKind, Find, Join, Key, Kind, Schema};
use postgres::{Client, NoTls};
use support::{connect, database};

/// Roles belong to the whole server.
const ROLES: &str = "DO $$ BEGIN CREATE ROLE app LOGIN; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$;
     DO $$ BEGIN CREATE ROLE visitor LOGIN; EXCEPTION WHEN duplicate_object OR unique_violation THEN NULL; END $$;";

/// Tables that `app` owns, with functions of its own that tell who runs them.
const OFFICE: &str = "
     GRANT ALL ON SCHEMA public TO app;
     SET SESSION AUTHORIZATION app;
     CREATE TABLE items(id integer PRIMARY KEY, title text, status text DEFAULT 'waiting', station_id integer, value numeric);
     CREATE TABLE stations(id integer PRIMARY KEY, name text);
     CREATE TABLE claims(item_id integer, note text);
     INSERT INTO stations VALUES (1, 'Elmfold'), (2, 'Saltmarsh');
     INSERT INTO items SELECT n, 'walnut box ' || n, 'waiting', 1 + n % 2, n FROM generate_series(1, 5) n;
     INSERT INTO claims SELECT n, 'brass' FROM generate_series(1, 5) n;
     CREATE FUNCTION tell() RETURNS void LANGUAGE plpgsql SET search_path = pg_catalog AS $$ BEGIN
       PERFORM pg_catalog.pg_advisory_lock_shared(4242, (SELECT r.oid::integer FROM pg_catalog.pg_roles r WHERE r.rolname = current_user)); END $$;
     CREATE TYPE evil AS ENUM ('a', 'b');
     CREATE TYPE evils AS (one evil, two text);
     CREATE FUNCTION evil_text(evil) RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 'walnut'; END $$;
     CREATE FUNCTION evil_json(evil) RETURNS json LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN '1'; END $$;
     CREATE FUNCTION evil_number(evil) RETURNS integer LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 1; END $$;
     CREATE FUNCTION evil_large(evil) RETURNS bigint LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 1; END $$;
     CREATE FUNCTION evil_of(text) RETURNS evil LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 'a'; END $$;
     CREATE FUNCTION evil_same(evil, evil) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN true; END $$;
     CREATE FUNCTION all_json(evils) RETURNS json LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN '1'; END $$;
     CREATE FUNCTION checked(text) RETURNS boolean LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN true; END $$;
     CREATE CAST (evil AS text) WITH FUNCTION evil_text(evil) AS IMPLICIT;
     CREATE CAST (evil AS json) WITH FUNCTION evil_json(evil) AS IMPLICIT;
     CREATE CAST (evil AS integer) WITH FUNCTION evil_number(evil) AS IMPLICIT;
     CREATE CAST (evil AS bigint) WITH FUNCTION evil_large(evil) AS IMPLICIT;
     CREATE CAST (text AS evil) WITH FUNCTION evil_of(text) AS IMPLICIT;
     CREATE CAST (evils AS json) WITH FUNCTION all_json(evils) AS IMPLICIT;
     CREATE OPERATOR = (LEFTARG = evil, RIGHTARG = evil, PROCEDURE = evil_same);
     CREATE OPERATOR <> (LEFTARG = evil, RIGHTARG = evil, PROCEDURE = evil_same);
     CREATE DOMAIN checked_text AS text CHECK (checked(VALUE));
     RESET SESSION AUTHORIZATION";

fn schema() -> Schema {
    Schema::new("id")
        .with("title", Column::text("en"))
        .with("value", Column::of(Kind::Float))
        .with("station", Column::text("en").from_columns(["stations.name"]))
        .with("claims", Column::text("en").from_columns(["claims.note"]))
        .from_table("items")
        .joining(Join::one("stations", "stations.id = items.station_id"))
        .joining(Join::many("claims", "claims.item_id = items.id"))
        .only(Condition { column: "status".into(), isnt: Some(vec!["gone".into()]), ..Condition::default() })
}

/// A database with these tables, where `app` may make what it likes.
fn office() -> (String, Client) {
    let address = database();
    let mut superuser = connect(&address);
    let name = address.rsplit('=').next().unwrap();
    superuser.batch_execute(&format!("{ROLES}{OFFICE}; GRANT CREATE ON DATABASE {name} TO app")).unwrap();
    (address, superuser)
}

/// A client that is the role from the beginning.
fn connect_as(address: &str, role: &str) -> Client {
    Client::connect(&address.replace("user=postgres", &format!("user={role}")), NoTls).unwrap()
}

/// The roles as which code of `app`'s has run; forgets them.
fn run_as(superuser: &mut Client, clients: &mut [&mut Client]) -> Vec<String> {
    let sql = "SELECT DISTINCT r.rolname::text FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_roles r ON r.oid = l.objid
               WHERE l.locktype = 'advisory' AND l.classid = 4242 AND r.rolname <> 'app' ORDER BY 1";
    let roles = superuser.query(sql, &[]).unwrap().iter().map(|row| row.get(0)).collect();
    for client in clients {
        client.batch_execute("SELECT pg_catalog.pg_advisory_unlock_all()").unwrap();
    }
    superuser.batch_execute("SELECT pg_catalog.pg_advisory_unlock_all()").unwrap();
    roles
}

/// Does everything that there is to do, whatever comes of it.
fn everything(client: &mut Client, known: &PostgresCellar, schema: &Schema) {
    let find = Find::new().strict();
    for _ in 0..2 {
        for (written, statement) in [
            "UPDATE items SET value = value + 1 WHERE id = (SELECT min(i.id::text)::integer FROM items i)",
            "UPDATE stations SET name = name || ' Road'",
            "UPDATE claims SET note = 'handle'",
            "DELETE FROM items WHERE value = 3",
        ]
        .into_iter()
        .enumerate()
        {
            // What the statement itself calls is the caller's own.
            let as_writer = if written == 0 { "SET LOCAL search_path = public; " } else { "" };
            let _ = client.batch_execute(&format!("BEGIN; {as_writer}{statement}; COMMIT"));
            let _ = client.batch_execute("ROLLBACK");
        }
        for most in [1, 1_000] {
            tune(|tuning| tuning.joined_from = most);
            let _ = known.find(client, "walnut", &find);
            let _ = PostgresCellar::open(client, "items")
                .and_then(|opened| opened.find(client, "walnut OR brass", &find));
        }
        let _ = known.info(client);
        let _ = known.differences(client);
        let _ = known.touch(client, [&Key::from(1), &Key::from(2)]);
        let _ = known.find(client, "brass", &find);
        let _ = known.sync(client);
        let _ = known.rebuild(client);
        let _ = known.check(client);
        let _ = PostgresCellar::adopt(client, "items", schema);
        let _ = known.repair(client);
        let _ = PostgresCellar::open(client, "items").and_then(|opened| opened.repair(client));
    }
}

#[test]
fn no_type_of_an_owner_runs_with_the_rights_of_others() {
    let doors = [
        "ALTER TABLE items ALTER title TYPE evil USING 'a'::evil",
        "ALTER TABLE items ALTER title TYPE evil[] USING ARRAY['a'::evil]",
        "ALTER TABLE items ALTER title TYPE evils USING ROW('a', 'b')::evils",
        "ALTER TABLE items ALTER value TYPE evil USING 'b'::evil",
        "ALTER TABLE items ALTER title TYPE checked_text",
        "ALTER TABLE items DROP CONSTRAINT items_pkey, ALTER id TYPE evil USING 'a'::evil",
        "ALTER TABLE items ALTER station_id TYPE evil USING 'a'::evil",
        "ALTER TABLE items ALTER status DROP DEFAULT, ALTER status TYPE evil USING 'a'::evil",
        "ALTER TABLE stations DROP CONSTRAINT stations_pkey, ALTER id TYPE evil USING 'a'::evil",
        "ALTER TABLE stations ALTER name TYPE evil USING 'a'::evil",
        "ALTER TABLE claims ALTER item_id TYPE evil USING 'a'::evil",
        "ALTER TABLE claims ALTER note TYPE evil USING 'a'::evil",
    ];
    for door in doors {
        let (address, mut superuser) = office();
        let cellar = PostgresCellar::adopt(&mut superuser, "items", &schema()).unwrap();
        assert_eq!(
            cellar.find(&mut superuser, "walnut elmfold brass", &Find::new().strict()).unwrap().total,
            2
        );
        connect_as(&address, "app").batch_execute(door).unwrap();
        assert_eq!(run_as(&mut superuser, &mut []), [""; 0], "{door}");
        everything(&mut superuser, &cellar, &schema());
        let mut watcher = connect(&address);
        assert_eq!(run_as(&mut watcher, &mut [&mut superuser]), [""; 0], "{door}");
        // And of a table that was so before.
        let _ = PostgresCellar::release(&mut superuser, "items");
        let _ = PostgresCellar::adopt(&mut superuser, "items", &schema());
        everything(&mut superuser, &cellar, &schema());
        assert_eq!(run_as(&mut watcher, &mut [&mut superuser]), [""; 0], "{door}, adopted so");
    }
}

#[test]
fn types_of_others_are_read_as_they_are_shown() {
    let (address, mut superuser) = office();
    superuser
        .batch_execute(
            "ALTER TABLE items ADD kinds evil[] DEFAULT '{a,b}', ADD kind evil DEFAULT 'b', ADD checked checked_text DEFAULT 'quill',
               ADD pair evils DEFAULT ROW('a', 'tin')::evils; SELECT pg_advisory_unlock_all()",
        )
        .unwrap();
    let schema = ["kinds", "kind", "checked", "pair"]
        .into_iter()
        .fold(Schema::new("id"), |schema, column| schema.with(column, Column::text("none")));
    let cellar = PostgresCellar::adopt(&mut superuser, "items", &schema).unwrap();
    superuser.batch_execute("UPDATE items SET kind = 'a' WHERE id = 2").unwrap();
    for (query, total) in
        [("kinds:a kinds:b", 5), ("kind:b", 4), ("kind:a", 1), ("checked:quill", 5), ("pair:tin", 5)]
    {
        assert_eq!(
            cellar.find(&mut superuser, query, &Find::new().strict()).unwrap().total,
            total,
            "{query}"
        );
    }
    assert_eq!(run_as(&mut connect(&address), &mut [&mut superuser]), [""; 0]);
    assert_eq!(cellar.differences(&mut superuser).unwrap(), []);
}

/// Everything that a search path could put in front of PostgreSQL's own.
const IN_FRONT: &str = "
     CREATE SCHEMA front; GRANT USAGE ON SCHEMA front TO PUBLIC;
     DO $$ DECLARE o record; n integer := 0; BEGIN
       FOR o IN SELECT DISTINCT p.oprname, l.v AS l, r.v AS r FROM pg_catalog.pg_operator p,
                  unnest(ARRAY['oid','integer','bigint','text','name','\"char\"','bytea','boolean','timestamptz','regnamespace','regtype','smallint','uuid']) l(v),
                  unnest(ARRAY['oid','integer','bigint','text','name','\"char\"','bytea','boolean','timestamptz','regnamespace','regtype','smallint','uuid']) r(v)
                WHERE p.oprname IN ('=', '<>', '||', '+', '-', '~~', '>=', '>', '<') LOOP
         n := n + 1;
         EXECUTE format('CREATE FUNCTION front.f%s(%s, %s) RETURNS boolean LANGUAGE plpgsql AS $f$ BEGIN PERFORM public.tell(); RETURN true; END $f$', n, o.l, o.r);
         EXECUTE format('CREATE OPERATOR front.%s (LEFTARG = %s, RIGHTARG = %s, PROCEDURE = front.f%s)', o.oprname, o.l, o.r, n);
       END LOOP;
     END $$;
     CREATE FUNCTION front.substr(name, integer) RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 'x'; END $$;
     CREATE FUNCTION front.count(bigint) RETURNS bigint LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN 1; END $$;
     CREATE FUNCTION front.min(timestamptz) RETURNS timestamptz LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN now(); END $$;
     CREATE FUNCTION front.to_jsonb(text) RETURNS jsonb LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN '1'; END $$;
     CREATE FUNCTION front.unnest(text[]) RETURNS SETOF text LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); END $$;
     CREATE DOMAIN front.text AS pg_catalog.text CHECK (public.checked(VALUE::pg_catalog.text));
     CREATE DOMAIN front.bytea AS pg_catalog.bytea CHECK (public.checked('x'));
     CREATE DOMAIN front.uuid AS pg_catalog.uuid CHECK (public.checked('x'));
     CREATE DOMAIN front.oid AS pg_catalog.oid CHECK (public.checked('x'));
     CREATE DOMAIN front.regclass AS pg_catalog.regclass CHECK (public.checked('x'))";

#[test]
fn no_search_path_puts_anything_in_front() {
    for path in ["front, public", "front, pg_catalog, public", "pg_temp, front, pg_catalog, public"] {
        let (address, mut superuser) = office();
        connect_as(&address, "app").batch_execute(IN_FRONT).unwrap();
        let cellar = PostgresCellar::adopt(&mut superuser, "items", &schema()).unwrap();
        superuser
            .batch_execute(&format!(
                "CREATE TEMP TABLE log(key integer); CREATE TEMP TABLE state(manifest text); CREATE TEMP TABLE fresh(id integer);
                 SET search_path = {path}"
            ))
            .unwrap();
        let mut watcher = connect(&address);
        let find = Find::new().strict();
        let mut held = |superuser: &mut Client, what: &str| {
            assert_eq!(run_as(&mut watcher, &mut [superuser]), [""; 0], "{path}: {what}");
        };
        assert_eq!(cellar.find(&mut superuser, "walnut", &find).unwrap().total, 5);
        held(&mut superuser, "find");
        connect_as(&address, "app")
            .batch_execute(
                "UPDATE items SET title = 'elm' WHERE id < 3; DELETE FROM claims WHERE item_id < 2",
            )
            .unwrap();
        for most in [1, 1_000] {
            tune(|tuning| tuning.joined_from = most);
            let opened = PostgresCellar::open(&mut superuser, "items").unwrap();
            held(&mut superuser, "open");
            assert_eq!(opened.find(&mut superuser, "walnut brass", &find).unwrap().total, 3);
            held(&mut superuser, "find with changes");
        }
        cellar.info(&mut superuser).unwrap();
        held(&mut superuser, "info");
        cellar.touch(&mut superuser, [&Key::from(4)]).unwrap();
        held(&mut superuser, "touch");
        cellar.sync(&mut superuser).unwrap();
        held(&mut superuser, "sync");
        cellar.rebuild(&mut superuser).unwrap();
        held(&mut superuser, "rebuild");
        assert_eq!(cellar.differences(&mut superuser).unwrap(), []);
        held(&mut superuser, "differences");
        PostgresCellar::adopt(&mut superuser, "items", &schema().with("status", Column::text("none")))
            .unwrap();
        held(&mut superuser, "adopt");
        nut_cellar::postgres::cellars(&mut superuser).unwrap();
        let _ = PostgresCellar::open(&mut superuser, "nothing");
        held(&mut superuser, "cellars");
        PostgresCellar::release(&mut superuser, "items").unwrap();
        held(&mut superuser, "release");
    }
}

#[test]
fn what_is_in_a_view_acts_as_its_owner() {
    let (address, mut superuser) = office();
    let mut app = connect_as(&address, "app");
    app.batch_execute(
        "CREATE FUNCTION shown(text) RETURNS text LANGUAGE plpgsql AS $$ BEGIN PERFORM public.tell(); RETURN $1; END $$;
         CREATE VIEW cards AS SELECT id, shown(title) AS title FROM items;
         GRANT SELECT ON cards, items, stations, claims TO visitor",
    )
    .unwrap();
    let of_view =
        Schema::new("id").with("title", Column::text("en")).from_table("items").through_view("cards");
    let of_query = Schema::new("id")
        .with("title", Column::text("en"))
        .from_table("items")
        .through_query("SELECT id, public.shown(title) AS title FROM public.items");
    let (mut watcher, find) = (connect(&address), Find::new());

    // Who has more rights than the owner of a view does not run it.
    let error = PostgresCellar::adopt(&mut superuser, "items", &of_view).unwrap_err();
    assert_eq!(
        (error.kind(), error.to_string().contains("connect as its owner `app`")),
        (ErrorKind::BadRequest, true),
        "{error}"
    );
    superuser.batch_execute("SET ROLE app").unwrap();
    assert_eq!(
        PostgresCellar::adopt(&mut superuser, "items", &of_view).unwrap_err().kind(),
        ErrorKind::BadRequest
    );
    superuser.batch_execute("RESET ROLE").unwrap();
    assert_eq!(run_as(&mut watcher, &mut [&mut superuser]), [""; 0]);

    for schema in [of_view, of_query] {
        let cellar = PostgresCellar::adopt(&mut app, "items", &schema).unwrap();
        cellar.allow(&mut app, "visitor").unwrap();
        let mut visitor = connect_as(&address, "visitor");
        for client in [&mut superuser, &mut visitor] {
            app.batch_execute("UPDATE items SET title = title || ' elm' WHERE id < 4").unwrap();
            for most in [1, 1_000] {
                tune(|tuning| tuning.joined_from = most);
                let opened = PostgresCellar::open(client, "items").unwrap();
                let rows =
                    watcher.query_one("SELECT count(*) FROM items WHERE title LIKE '% elm'", &[]).unwrap();
                let found = opened.find(client, "elm", &find).unwrap();
                assert_eq!(i64::try_from(found.total), Ok(rows.get(0)));
                let refused = [
                    opened.rebuild(client).is_err(),
                    opened.differences(client).is_err(),
                    opened.repair(client).is_err(),
                ];
                assert_eq!(refused, [true; 3]);
            }
            assert_eq!(run_as(&mut watcher, &mut [client]), [""; 0]);
            let opened = PostgresCellar::open(&mut app, "items").unwrap();
            opened.sync(&mut app).unwrap();
            opened.rebuild(&mut app).unwrap();
            assert_eq!(opened.differences(&mut app).unwrap(), []);
        }
        // (What a query calls is of whoever adopts it anew.)
        everything(&mut superuser, &cellar, &schema);
        everything(&mut visitor, &cellar, &schema);
        assert_eq!(run_as(&mut watcher, &mut [&mut superuser, &mut visitor]), [""; 0]);
        let _ = PostgresCellar::release(&mut superuser, "items");
    }
}
