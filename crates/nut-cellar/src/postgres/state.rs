//! The state of a cellar: how it is made and taken away, and what is read of it, of the log and of the logged rows.

use super::derived::{ambiguous, unusable};
use super::failure::{Failure, failed};
use super::functions::{
    KEY, LOGGED_KEYS, STANDING, STATE, WITH_ALL, WITH_LOGGED, drop_functions, functions, row_at,
    with_many_logged,
};
use super::gathered::Gathered;
use super::names::{Names, TABLES, literal, quoted};
use super::reading::Rows;
use super::secured::withheld;
use super::session::{Parameter, Statements, look_at_own_names};
use super::sources::Sources;
use super::triggers::{EVENTS, triggers};
use crate::rows::manifests::Manifests;
use crate::rows::tuning::tuning;
use nut_cellar_core::{Error, ErrorKind, Key, Manifest, Result, Schema};
use postgres::Row;
use postgres::error::SqlState;
use postgres::types::Type;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

/// The functions that our triggers call.
fn our_functions(names: &Names) -> String {
    format!(
        "ARRAY(SELECT p.oid FROM pg_catalog.pg_proc p
               WHERE p.pronamespace OPERATOR(pg_catalog.=) {}::pg_catalog.regnamespace::pg_catalog.oid AND {RETURNS_TRIGGER})",
        literal(&names.schema())
    )
}

/// Whether a function `p` is for triggers.
const RETURNS_TRIGGER: &str =
    "p.prorettype OPERATOR(pg_catalog.=) 'pg_catalog.trigger'::pg_catalog.regtype::pg_catalog.oid";

const MAKING: &str = "Making tables and triggers";

/// Makes the schema of a cellar with its tables, the triggers on the application's table, and the state.
pub(super) fn create(
    client: &mut dyn Statements,
    names: &Names,
    sources: &Sources<'_>,
    rows: &Rows,
) -> Result<()> {
    let (schema, table) = (sources.schema, &sources.table);
    let key = rows.key.renamed("t");
    let sql = format!(
        "CREATE SCHEMA {schema};
         CREATE TABLE {state}(
             one boolean PRIMARY KEY DEFAULT true CHECK (one),
             manifest bytea NOT NULL,
             filled boolean NOT NULL,
             revision integer NOT NULL DEFAULT 0,
             next uuid,
             sources oid[] NOT NULL,
             columns text[] NOT NULL,
             functions oid[] NOT NULL,
             watched text[] NOT NULL,
             types text NOT NULL);
         CREATE TABLE {chunk}(piece bytea, number integer, data bytea NOT NULL, PRIMARY KEY (piece, number));
         ALTER TABLE {chunk} ALTER data SET STORAGE EXTERNAL;
         CREATE TABLE {log} AS SELECT {key} FROM {table} t WITH NO DATA;
         ALTER TABLE {log} ADD seq bigint GENERATED ALWAYS AS IDENTITY, ADD source integer NOT NULL DEFAULT 0, ADD joined text, ADD at timestamptz NOT NULL DEFAULT pg_catalog.now(),
             ADD mark uuid NOT NULL DEFAULT pg_catalog.gen_random_uuid();
         ALTER TABLE {log} SET (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 1000);
         -- Of a table that nobody has looked at, thousands of rows are expected, and queries are compiled for them.
         ANALYZE {log};
         {functions}
         {triggers}",
        schema = names.schema(),
        state = names.inside("state"),
        chunk = names.inside("chunk"),
        log = names.inside("log"),
        table = table.quoted(),
        functions = functions(names, sources, rows)?,
        triggers = triggers(names, sources)?,
    );
    look_at_own_names(client).map_err(failed(MAKING))?;
    client.batch_execute(&sql).map_err(failed(MAKING))?;
    let manifest = Manifest::empty(schema.clone()).encode();
    let (tables, columns) = followed(sources);
    let sql = format!(
        "INSERT INTO {}(manifest, filled, sources, columns, types, functions, watched)
         VALUES ($1, false, $2, $3, $4, '{{}}', '{{}}')",
        names.inside("state")
    );
    let parameters: [Parameter<'_>; 4] = [
        (&manifest, Type::BYTEA),
        (&tables, Type::OID_ARRAY),
        (&columns, Type::TEXT_ARRAY),
        (&rows.types, Type::TEXT),
    ];
    client.execute_typed(&sql, &parameters).map_err(failed(MAKING))?;
    set_watched(client, names, true)?;
    try_query(client, names, sources)
}

/// Calls what reads by a query once: tables are looked for there in no schema that they are not named with.
fn try_query(client: &mut dyn Statements, names: &Names, sources: &Sources<'_>) -> Result<()> {
    if sources.derived.as_ref().is_none_or(|derived| derived.view.is_some()) {
        return Ok(());
    }
    let sql = format!("SELECT 1 FROM {}(NULL, NULL, NULL) LIMIT 1", names.inside(WITH_LOGGED));
    client.query_typed(&sql, &[]).map(|_| ()).map_err(unusable)
}

/// The tables whose changes are followed, and the columns of them that matter.
fn followed<'s>(sources: &'s Sources<'_>) -> (Vec<u32>, Vec<&'s str>) {
    let places = || [None].into_iter().chain((0..sources.joins.len()).map(Some));
    let key = sources.schema.key_columns().iter().map(String::as_str);
    let columns = places().flat_map(|place| sources.watched(place)).chain(key).collect();
    let view = sources.derived.iter().filter_map(|derived| derived.view);
    (places().map(|place| sources.of(place).oid).chain(view).collect(), columns)
}

/// What a cellar that is there is, as far as giving it another schema goes.
pub(super) struct There {
    pub manifest: Manifest,
    pub table: u32,
    pub filled: bool,
    pub revision: i32,
    /// Whether everything is as it was, so that no change can have been missed.
    pub standing: bool,
    /// The types of the parts of keys in the log.
    pub key: Vec<String>,
    /// The schema that the cellar is getting, if it is; whoever gives it another one draws another number.
    pub next: Option<NextMark>,
}

/// Tells an attempt to give a cellar another schema from all others.
pub(super) type NextMark = String;

/// Looks at a cellar, and keeps others from giving it another schema until the transaction ends.
pub(super) fn look(client: &mut dyn Statements, names: &Names) -> Result<Option<There>> {
    if !exists(client, names)? {
        return Ok(None);
    }
    let sql = format!(
        "SELECT manifest, sources[1], filled, revision, (SELECT n.stands FROM {}() n),
           (SELECT coalesce(pg_catalog.array_agg(pg_catalog.format_type(a.atttypid, NULL) ORDER BY a.attnum), '{{}}')
            FROM pg_catalog.pg_attribute a
            WHERE a.attrelid OPERATOR(pg_catalog.=) pg_catalog.to_regclass($1)::pg_catalog.oid
              AND (a.attname OPERATOR(pg_catalog.=) 'key' OR pg_catalog.starts_with(a.attname::pg_catalog.text, 'key_'))),
           next::pg_catalog.text
         FROM {} s FOR UPDATE",
        names.inside(STANDING),
        names.inside("state")
    );
    let row = client.query_typed_opt(&sql, &[(&names.inside("log"), Type::TEXT)]).map_err(failed(OPENING))?;
    let row = row.ok_or_else(|| Error::damaged("the state row is not there"))?;
    Ok(Some(There {
        manifest: Manifest::decode_beside_rows(row.get(0))?,
        table: row.get(1),
        filled: row.get(2),
        revision: row.get(3),
        standing: row.get(4),
        key: row.get(5),
        next: row.get(6),
    }))
}

/// Follows the tables of another schema, too, beside those of the one that the cellar has.
pub(super) fn follow_next(
    client: &mut dyn Statements,
    names: &Names,
    sources: &Sources<'_>,
    there: &There,
) -> Result<NextMark> {
    remove_triggers(client, names, |revision| revision != there.revision)?;
    look_at_own_names(client).map_err(failed(MAKING))?;
    client.batch_execute(&triggers(names, sources)?).map_err(failed(MAKING))?;
    // What was out of step before stays so for those who search with the schema there is.
    let (tables, columns) = followed(sources);
    let sql = format!(
        "UPDATE {} SET sources = sources OPERATOR(pg_catalog.||) $1, columns = columns OPERATOR(pg_catalog.||) $2",
        names.inside("state")
    );
    client
        .execute_typed(&sql, &[(&tables, Type::OID_ARRAY), (&columns, Type::TEXT_ARRAY)])
        .map_err(failed(MAKING))?;
    set_watched(client, names, there.standing)?;
    let sql = format!(
        "UPDATE {} SET next = pg_catalog.gen_random_uuid() RETURNING next::pg_catalog.text",
        names.inside("state")
    );
    Ok(client.query_typed_one(&sql, &[]).map_err(failed(MAKING))?.get(0))
}

/// Follows the tables of the schema that the cellar has, and no others.
pub(super) fn follow_no_next(
    client: &mut dyn Statements,
    names: &Names,
    sources: &Sources<'_>,
    there: &There,
) -> Result<()> {
    remove_triggers(client, names, |revision| revision != there.revision)?;
    set_followed(client, names, sources)?;
    let sql = format!("UPDATE {} SET next = NULL", names.inside("state"));
    client.execute_typed(&sql, &[]).map_err(failed(MAKING))?;
    set_watched(client, names, there.standing)
}

/// Gives the cellar the schema whose tables are followed beside the others: no more are those.
pub(super) fn become_next(
    client: &mut dyn Statements,
    names: &Names,
    sources: &Sources<'_>,
    rows: &Rows,
) -> Result<()> {
    remove_triggers(client, names, |revision| revision != sources.revision)?;
    look_at_own_names(client).map_err(failed(MAKING))?;
    let sql = drop_functions(names).concat() + &functions(names, sources, rows)?;
    client.batch_execute(&sql).map_err(failed(MAKING))?;
    set_followed(client, names, sources)?;
    let sql =
        format!("UPDATE {} SET revision = $1, types = $2, filled = true, next = NULL", names.inside("state"));
    let parameters: [Parameter<'_>; 2] = [(&sources.revision, Type::INT4), (&rows.types, Type::TEXT)];
    client.execute_typed(&sql, &parameters).map_err(failed(MAKING))?;
    set_watched(client, names, true)?;
    try_query(client, names, sources)
}

/// Notes the tables whose changes are followed, and their columns.
fn set_followed(client: &mut dyn Statements, names: &Names, sources: &Sources<'_>) -> Result<()> {
    let (tables, columns) = followed(sources);
    let sql = format!("UPDATE {} SET sources = $1, columns = $2", names.inside("state"));
    let parameters: [Parameter<'_>; 2] = [(&tables, Type::OID_ARRAY), (&columns, Type::TEXT_ARRAY)];
    client.execute_typed(&sql, &parameters).map(|_| ()).map_err(failed(MAKING))
}

/// Notes what stands as what has to.
fn set_watched(client: &mut dyn Statements, names: &Names, standing_before: bool) -> Result<()> {
    let (state, standing) = (names.inside("state"), names.inside(STANDING));
    let watched =
        if standing_before { format!("(SELECT n.now FROM {standing}() n)") } else { "'{}'".to_owned() };
    let functions = our_functions(names);
    let sql = format!("UPDATE {state} SET functions = {functions}; UPDATE {state} SET watched = {watched}");
    client.batch_execute(&sql).map_err(failed(MAKING))
}

/// Drops the triggers of those revisions, and the functions that they call.
fn remove_triggers(client: &mut dyn Statements, names: &Names, of: impl Fn(i32) -> bool) -> Result<()> {
    let sql = without_triggers(client, names, of)?;
    client.batch_execute(&sql).map_err(failed("Dropping triggers"))
}

/// The statements that do so.
fn without_triggers(client: &mut dyn Statements, names: &Names, of: impl Fn(i32) -> bool) -> Result<String> {
    // Whatever calls our functions is ours. The text of a regclass is quoted already.
    let sql = format!(
        "SELECT p.proname, t.tgname, t.tgrelid::pg_catalog.regclass::pg_catalog.text FROM pg_catalog.pg_proc p
               JOIN pg_catalog.pg_namespace n ON n.oid OPERATOR(pg_catalog.=) p.pronamespace
               LEFT JOIN pg_catalog.pg_trigger t
                 ON p.oid OPERATOR(pg_catalog.=) t.tgfoid AND t.tgparentid OPERATOR(pg_catalog.=) '0'::pg_catalog.oid
               WHERE n.nspname OPERATOR(pg_catalog.=) $1 AND {RETURNS_TRIGGER}"
    );
    let rows = client.query_typed(&sql, &[(&names.bare_schema(), Type::TEXT)]);
    let (mut triggers, mut functions) = (Vec::new(), BTreeSet::new());
    for row in rows.map_err(failed("Looking for triggers"))? {
        let function: String = row.get(0);
        if !revision_of(&function).is_some_and(&of) {
            continue;
        }
        if let Some(trigger) = row.get::<_, Option<&str>>(1) {
            triggers.push(format!("DROP TRIGGER {} ON {};", quoted(trigger), row.get::<_, &str>(2)));
        }
        functions.insert(format!("DROP FUNCTION IF EXISTS {}();", names.inside(&function)));
    }
    triggers.extend(functions);
    Ok(triggers.join("\n"))
}

/// The revision of a trigger's function; none if it is none of ours.
fn revision_of(function: &str) -> Option<i32> {
    let (event, rest) = function.split_once('_').unwrap_or((function, ""));
    if !EVENTS.contains(&event) {
        return None;
    }
    let rest =
        rest.strip_prefix("join").map_or(rest, |rest| rest.split_once('_').map_or("", |(_, rest)| rest));
    if rest.is_empty() { Some(0) } else { rest.parse().ok() }
}

/// Takes away what [`create`] made, and nothing else, all at once; what the state says is not read, so that it may be damaged.
pub(super) fn remove(client: &mut dyn Statements, names: &Names) -> Result<()> {
    let mut statements = vec![without_triggers(client, names, |_| true)?];
    statements.extend(drop_functions(names));
    for table in TABLES {
        statements.push(format!("DROP TABLE IF EXISTS {};", names.inside(table)));
    }
    statements.push(format!("DROP SCHEMA IF EXISTS {};", names.schema()));
    client.batch_execute(&statements.join("\n")).map_err(failed("Releasing a table"))
}

const OPENING: &str = "Opening the cellar";

/// Whether there is such a cellar. A statement that reads what is not there would end the application's transaction.
///
/// # Errors
/// [`ErrorKind::Damaged`] if there is a part of it only.
pub(super) fn exists(client: &mut dyn Statements, names: &Names) -> Result<bool> {
    let known = [STATE, STANDING, WITH_LOGGED, WITH_ALL, LOGGED_KEYS];
    let tables: Vec<_> = TABLES.iter().map(|table| names.inside(table)).collect();
    let sql = "SELECT pg_catalog.to_regnamespace($1) IS NOT NULL,
                 (SELECT pg_catalog.count(pg_catalog.to_regclass(t)) FROM pg_catalog.unnest($2) t),
                 (SELECT pg_catalog.count(DISTINCT p.proname) FROM pg_catalog.pg_proc p
                  WHERE p.pronamespace OPERATOR(pg_catalog.=) pg_catalog.to_regnamespace($1)::pg_catalog.oid
                    AND p.proname::pg_catalog.text OPERATOR(pg_catalog.=) ANY ($3))";
    let parameters: [Parameter<'_>; 3] =
        [(&names.schema(), Type::TEXT), (&tables, Type::TEXT_ARRAY), (&&known[..], Type::TEXT_ARRAY)];
    let row = client.query_typed_one(sql, &parameters).map_err(failed(OPENING))?;
    let counted = |at| usize::try_from(row.get::<_, i64>(at)).unwrap_or_default();
    let (there, tables_there, functions) = (row.get(0), counted(1), counted(2));
    if there && (tables_there, functions) != (tables.len(), known.len()) {
        return Err(Error::damaged("a table or a function of it is gone"));
    }
    Ok(there)
}

/// The schema and the table of a cellar, if it is there.
pub(super) fn open(client: &mut dyn Statements, names: &Names) -> Result<Option<(Schema, u32)>> {
    if !exists(client, names)? {
        return Ok(None);
    }
    let state = names.inside("state");
    let sql = format!("SELECT manifest, sources[1] FROM {state}");
    let row = client.query_typed_opt(&sql, &[]).map_err(failed(OPENING))?;
    let row = row.ok_or_else(|| Error::damaged("the state row is not there"))?;
    Ok(Some((Schema::clone(&Manifest::decode_beside_rows(row.get(0))?.schema), row.get(1))))
}

fn is_missing(failure: &Failure) -> bool {
    let Failure::Answered(error) = failure else { return false };
    matches!(
        error.code(),
        Some(&SqlState::UNDEFINED_TABLE | &SqlState::INVALID_SCHEMA_NAME | &SqlState::UNDEFINED_FUNCTION)
    )
}

/// How old the oldest change is that waits, and how many bytes the application's table has.
pub(super) fn age_and_size(
    client: &mut dyn Statements,
    names: &Names,
) -> Result<(Option<Duration>, Option<u64>)> {
    let sql = format!(
        "SELECT (SELECT extract(epoch FROM pg_catalog.clock_timestamp() OPERATOR(pg_catalog.-) pg_catalog.min(at))::double precision FROM {}),
           coalesce((SELECT pg_catalog.sum(pg_catalog.pg_table_size(t.relid))::bigint FROM pg_catalog.pg_partition_tree(sources[1]) t),
                    pg_catalog.pg_table_size(sources[1])) FROM {}",
        names.inside("log"),
        names.inside("state")
    );
    let row = client.query_typed_one(&sql, &[]).map_err(failed("Reading the cellar"))?;
    let (age, size): (Option<f64>, Option<i64>) = (row.get(0), row.get(1));
    let age = age.and_then(|seconds| Duration::try_from_secs_f64(seconds.max(0.0)).ok());
    Ok((age, size.and_then(|bytes| u64::try_from(bytes).ok())))
}

/// What one statement sees of a cellar and of the rows that no shelf holds yet.
pub(super) struct Seen {
    pub manifest: Arc<Manifest>,
    pub filled: bool,
    /// Whether the table was emptied at once, so that no shelf holds anything.
    pub emptied: bool,
    /// None if the log is empty.
    pub log: Option<Logged>,
    /// Whether row-level security keeps the role from seeing all rows.
    pub secured: bool,
    pub pending: Pending,
}

/// The rows that no shelf holds yet.
#[derive(Default)]
pub(super) struct Pending {
    /// Each logged key with its row, if there is one; but for those that were gathered. After the table was emptied, all rows. None if
    /// the log is the one that was known.
    pub rows: Vec<(Key, Row)>,
    /// What was made of rows while others came, if that was wanted.
    pub gathered: Option<Gathered>,
    /// Whether these are those that were logged since the log that was known, and no others.
    pub is_more: bool,
}

impl Pending {
    /// How many keys there are.
    pub fn count(&self) -> u64 {
        self.rows.len() as u64 + self.gathered.as_ref().map_or(0, |gathered| gathered.count)
    }
}

/// What the log has, at one time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Logged {
    /// Tells its entries and the manifest from all others there ever were; begins with how many entries there are.
    pub id: String,
    /// The number of the last of them. Others with lesser numbers may become visible later.
    pub last: i64,
}

impl Logged {
    /// How many entries there are.
    fn entries(&self) -> u64 {
        self.id.split(':').next().and_then(|count| count.parse().ok()).unwrap_or(0)
    }
}

impl Seen {
    /// Refuses what tells or keeps all rows, to a role that may not see them.
    pub fn must_be_all(&self, rows: &Rows) -> Result<()> {
        if self.secured { Err(withheld(rows)) } else { Ok(()) }
    }

    /// The state of the shelves.
    pub fn shelves(&self) -> Arc<Manifest> {
        Arc::clone(&self.manifest)
    }

    /// The state on which what is pending has to be put: the shelves, or nothing if the table was emptied.
    pub fn base(&self) -> Arc<Manifest> {
        if self.emptied {
            Arc::new(Manifest { shelves: Vec::new(), ..Manifest::clone(&self.manifest) })
        } else {
            self.shelves()
        }
    }
}

/// Reads state, log and logged rows; these only if the log is none of those that are `known`. If the first `may_grow`, only those that
/// came behind it, where the others are still the same.
pub(super) fn see(
    client: &mut dyn Statements,
    of: (&Names, &Schema, &Rows),
    manifests: &Manifests,
    (known, may_grow): (&[&Logged], bool),
    gather: &dyn Fn() -> Option<Gathered>,
) -> Result<Seen> {
    let grown = known.first().filter(|_| may_grow);
    let (id, last) = (grown.map(|known| known.id.as_str()), grown.map(|known| known.last));
    loop {
        let call = |function, of_known| format!("SELECT * FROM {}({of_known})", of.0.inside(function));
        let types: Parameter<'_> = (&of.2.types, Type::TEXT);
        let seen = see_by(client, of, manifests, (&call(STATE, "$1"), std::slice::from_ref(&types)), None)?;
        let Some(log) = seen.log.as_ref().filter(|log| !known.contains(log)) else { return Ok(seen) };
        let sql = match seen.emptied {
            true => call(WITH_ALL, "$1, $2, $3"),
            // What is in a view or a query is run by functions alone.
            false if log.entries() >= tuning().joined_from && !of.2.derived => with_many_logged(of.0, of.2),
            false => call(WITH_LOGGED, "$1, $2, $3"),
        };
        let parameters = [types, (&id, Type::TEXT), (&last, Type::INT8)];
        let with_rows = see_by(client, of, manifests, (&sql, &parameters), gather())?;
        // Unless the table was emptied in between, or somebody has caught up with that.
        if with_rows.emptied == seen.emptied {
            return Ok(with_rows);
        }
    }
}

/// Reads what a statement gives, which takes what is known if it gives rows.
fn see_by(
    client: &mut dyn Statements,
    (names, schema, rows): (&Names, &Schema, &Rows),
    manifests: &Manifests,
    (sql, parameters): (&str, &[Parameter<'_>]),
    gathered: Option<Gathered>,
) -> Result<Seen> {
    let with_rows = parameters.len() > 1;
    let (mut state, mut known_keys) = (None, BTreeSet::new());
    let mut pending = Pending { gathered, ..Pending::default() };
    let mut take = |row: Row| -> Result<()> {
        let read = "Reading the cellar";
        let manifest: Option<&[u8]> = row.try_get(0).map_err(failed(read))?;
        if let Some(manifest) = manifest {
            let manifest = manifests.decode(manifest)?;
            let flag = |at| row.try_get::<_, bool>(at).map_err(failed(read));
            let id: Option<String> = row.try_get(4).map_err(failed(read))?;
            let last: Option<i64> = row.try_get(5).map_err(failed(read))?;
            let log = id.zip(last).map(|(id, last)| Logged { id, last });
            pending.is_more = flag(7)?;
            state = Some((manifest, [flag(1)?, flag(2)?, flag(3)?, flag(6)?], log));
        }
        if with_rows && let Some(key) = rows.key.read(&row, KEY)? {
            if rows.derived && !known_keys.insert(key.clone()) {
                return Err(ambiguous(&rows.from, &key));
            }
            match pending.gathered.as_mut().filter(|gathered| !gathered.is_full()) {
                Some(gathered) => gathered.take(&key, (&row, row_at(rows)), rows)?,
                None => pending.rows.push((key, row)),
            }
        }
        Ok(())
    };
    let mut taken = Ok(());
    let all = client.query_each(sql, parameters, &mut |row| {
        if taken.is_ok() {
            taken = take(row);
        }
    });
    all.map_err(|error| {
        if !is_missing(&error) {
            return failed("Reading the cellar")(error);
        }
        let message =
            format!("The cellar `{}` or its table is no longer there; open it again.", names.cellar());
        Error::new(ErrorKind::OutOfStep, message)
    })?;
    let Some((manifest, [filled, standing, emptied, secured], log)) = state else {
        taken?;
        return Err(Error::damaged("the state row is not there"));
    };
    let cellar = names.cellar();
    if *manifest.schema != *schema {
        let message = format!("The cellar `{cellar}` was adopted anew with another schema; open it again.");
        return Err(Error::new(ErrorKind::OutOfStep, message));
    }
    if !standing {
        return Err(Error::new(
            ErrorKind::OutOfStep,
            format!(
                "What keeps the cellar `{cellar}` in step with table {} is gone or altered (was the table renamed or emptied \
                 or rewritten, a searched column or a view changed, a trigger disabled, or row-level security put on?); adopt the table again, or `repair` the \
                 cellar; if that has been done, open it again.",
                rows.table
            ),
        ));
    }
    taken?;
    Ok(Seen { manifest, filled, emptied, log, secured, pending })
}
