//! The functions by which a search sees the state of a cellar, the log and the logged rows: by one statement each, so that these agree with
//! each other whatever the isolation of the transaction is.

use super::key::KeyColumns;
use super::names::{Names, literal};
use super::reading::Rows;
use super::sources::Sources;
use nut_cellar_core::Result;

/// What has to stay as it is for changes to be seen, as an array of three texts, of the state `s`. The first: the names of the tables,
/// whether others inherit from them, their watched columns, the triggers, and how a view is made if there is one. Of the second and the
/// third one may change: the entries of the columns, which every `ALTER COLUMN` writes anew, and the tables' files, which are new when
/// they were rewritten (by `VACUUM FULL`, too). Only a change of a column that has rewritten its values changes both; no trigger sees it.
///
/// It is worked out for each search: sums of hashes need no order, and each catalog that is not asked saves 20 µs.
pub(super) fn standing(sources: &Sources<'_>) -> String {
    let views = "(SELECT pg_catalog.sum(pg_catalog.hashtextextended(r.ev_action::text, 0))
                  FROM pg_catalog.unnest(s.sources[2:]) o(oid) JOIN pg_catalog.pg_rewrite r ON r.ev_class = o.oid)";
    let has_view = sources.derived.as_ref().is_some_and(|derived| derived.view.is_some());
    // The triggers of a partitioned table are in each partition, and may be switched off there.
    let partitions = "(WITH RECURSIVE parts(oid) AS (SELECT o.oid FROM pg_catalog.unnest(s.sources) o(oid) UNION ALL
                         SELECT i.inhrelid FROM parts p JOIN pg_catalog.pg_inherits i ON i.inhparent = p.oid)
                       SELECT pg_catalog.count(*) FROM parts p JOIN pg_catalog.pg_trigger t ON t.tgrelid = p.oid
                       WHERE t.tgfoid = ANY (s.functions) AND t.tgenabled NOT IN ('O', 'A'))";
    let has_partitions = sources.places().any(|place| sources.of(place).partitioned);
    // A partitioned table has no file of its own.
    let files = "(SELECT pg_catalog.sum((c.oid::bigint << 32) + c.relfilenode::bigint)::text
                  FROM pg_catalog.pg_class c WHERE c.oid = ANY (s.sources))";
    format!(
        "ARRAY[pg_catalog.concat_ws(';',
           pg_catalog.array_to_string(ARRAY(
             SELECT (SELECT pg_catalog.concat_ws('.', c.relnamespace::pg_catalog.regnamespace, c.relname, c.relrowsecurity,
                       CASE WHEN c.relhassubclass AND c.relkind = 'r'
                         THEN EXISTS (SELECT 1 FROM pg_catalog.pg_inherits i WHERE i.inhparent = c.oid) ELSE false END)
                     FROM pg_catalog.pg_class c WHERE c.oid = o.oid)
             FROM pg_catalog.unnest(s.sources) o(oid)), ',', '-'),
           (SELECT pg_catalog.sum(pg_catalog.hashint8extended((t.tgrelid::bigint << 32) + t.tgfoid::bigint, t.tgtype))
            FROM pg_catalog.pg_trigger t
            WHERE t.tgrelid = ANY (s.sources) AND t.tgfoid = ANY (s.functions) AND t.tgenabled IN ('O', 'A')),
           a.columns, {views}, {partitions}), a.entries, {files}]
         FROM (SELECT
             pg_catalog.sum(pg_catalog.hashtextextended(a.attname::text, (a.attrelid::bigint << 32) + a.atttypid::bigint)) AS columns,
             pg_catalog.sum(pg_catalog.hashtextextended(a.attname::text, (a.attrelid::bigint << 32) + a.xmin::text::bigint))::text AS entries
           FROM pg_catalog.pg_attribute a
           WHERE a.attrelid = ANY (s.sources) AND a.attname::text = ANY (s.columns)) a",
        views = if has_view { views } else { "NULL" },
        partitions = if has_partitions { partitions } else { "NULL" },
        files = if has_partitions { "NULL" } else { files },
    )
}

/// Whether what stands `now` is what the state `s` says has to.
pub(super) fn stands(now: &str) -> String {
    format!(
        "coalesce({now}[1] = s.watched[1] AND ({now}[2] = s.watched[2] OR {now}[3] = s.watched[3]), false)"
    )
}

/// Where in a row of what they give the logged key begins. Behind it begins the row of the table.
pub(super) const KEY: usize = 8;

/// Where that row begins.
pub(super) fn row_at(rows: &Rows) -> usize {
    KEY + rows.key.len()
}

/// The function that gives what has to stay as it is.
pub(super) const STANDING: &str = "standing";
/// The one that gives the state without rows, which is all that most searches need.
pub(super) const STATE: &str = "state_alone";
/// The one that gives it with the logged rows, each by its key: whatever is expected of the log, the table is never gone through.
pub(super) const WITH_LOGGED: &str = "logged_rows";
/// The one that gives it with all rows, for where the table was emptied at once.
pub(super) const WITH_ALL: &str = "all_rows";
/// The one that gives it with the logged keys, to be joined to their rows by [`with_many_logged`].
pub(super) const LOGGED_KEYS: &str = "logged_keys";
/// The statements that take them away.
pub(super) fn drop_functions(names: &Names) -> [String; 5] {
    const TYPES: &str = "pg_catalog.text";
    const KNOWN: &str = "pg_catalog.text, pg_catalog.text, bigint";
    [(STANDING, ""), (STATE, TYPES), (WITH_LOGGED, KNOWN), (WITH_ALL, KNOWN), (LOGGED_KEYS, KNOWN)]
        .map(|(name, of)| format!("DROP FUNCTION IF EXISTS {}({of});", names.inside(name)))
}

const HOW: &str = "LANGUAGE plpgsql STABLE SET jit = off SET plan_cache_mode = force_generic_plan
                   SET search_path = pg_catalog, pg_temp";

/// The functions by which a search sees state, log and rows. They are functions so that queries that are made for a few rows are not
/// compiled (`jit`) for as many as the planner may expect, which takes a second, and are planned once for each session: planning takes
/// longer than the rest.
/// They run as whoever calls them, but for those that read from a view or by a query.
pub(super) fn functions(names: &Names, sources: &Sources<'_>, rows: &Rows) -> Result<String> {
    let key = &rows.key;
    let (log, state, selected) = (names.inside("log"), names.inside("state"), rows.names());
    let standing = standing(sources);
    let standing_function = format!(
        "CREATE FUNCTION {}(OUT now text[], OUT stands boolean) LANGUAGE sql STABLE SET search_path = pg_catalog, pg_temp AS {};",
        names.inside(STANDING),
        literal(&format!(
            "SELECT s.now, {} FROM (SELECT s.watched, (SELECT {standing}) AS now FROM {state} s OFFSET 0) s",
            stands("s.now")
        )),
    );
    let seen = format!(
        "(SELECT s.manifest, s.filled, {} AND s.types = $1 AS standing, pg_catalog.row_security_active(s.source) AS secured
          FROM (SELECT s.manifest, s.filled, s.watched, s.types, s.sources[1] AS source, (SELECT {standing}) AS now
                FROM {state} s OFFSET 0) s OFFSET 0) s",
        stands("s.now")
    );
    let id = |which: &str| {
        format!(
            "pg_catalog.count(*){which} || ':' || pg_catalog.sum(pg_catalog.uuid_hash_extended(mark, 0)){which} || ':' || pg_catalog.md5(s.manifest)"
        )
    };
    let sums = format!(
        "{} AS log, pg_catalog.max(seq) AS last, pg_catalog.bool_or(key IS NULL AND source = 0) AS emptied",
        id("")
    );
    let columns = "o0 bytea, o1 boolean, o2 boolean, o3 boolean, o4 text, o5 bigint, o6 boolean, o7 boolean";
    let flags = "s.filled, s.standing, coalesce(l.emptied, false) AS emptied, l.log, l.last, s.secured";
    let alone = format!(
        "CREATE FUNCTION {}(text) RETURNS TABLE ({columns}) {HOW} AS {};",
        names.inside(STATE),
        literal(&format!(
            "BEGIN RETURN QUERY SELECT s.manifest, {flags}, false
             FROM {seen} CROSS JOIN LATERAL (SELECT {sums} FROM {log}) l; END"
        ))
    );
    // Where the columns' types are not what they were when the function was made, nothing is read.
    let flags = flags.replace("s.standing", &format!("s.standing AND {} AS standing", rows.gate));
    // What is known already is not read again: the log `$2`, whose last entry has the number `$3`. If its entries are those with such
    // numbers now, only what came behind them is. Names for these could be those of columns of the table.
    let seen = format!(
        "{seen} CROSS JOIN LATERAL (
           SELECT l.log, l.last, l.emptied, coalesce(l.before = $2, false) AS is_more,
             CASE WHEN l.before = $2 THEN $3 ELSE 0 END AS after
           FROM (SELECT {sums}, {} AS before FROM {log}) l OFFSET 0) l",
        id(" FILTER (WHERE seq <= $3)")
    );
    // What is in a view or a query acts as who adopted it, whoever searches.
    let (trusted, rights) = match &sources.derived {
        Some(derived) => (derived.is_trusted(false), "SECURITY DEFINER"),
        None => ("true".to_owned(), ""),
    };
    let function = |name: &str, (is_more, logged): (&str, &str), from: &str| {
        let body = format!(
            "#variable_conflict use_column
             BEGIN RETURN QUERY
             SELECT CASE WHEN pg_catalog.row_number() OVER () = 1 THEN s.manifest END, {flags}, {is_more}, {logged}, {selected} FROM {seen} {from};
             END"
        );
        let texts: String =
            (0..rows.columns()).fold(String::new(), |texts, place| texts + &format!(", c{place} text"));
        format!(
            "CREATE FUNCTION {}(text, text, bigint) RETURNS TABLE ({columns}, {}, {}{texts}) {HOW} {rights} AS {};",
            names.inside(name),
            key.declared('o', KEY),
            key.declared('o', row_at(rows)),
            literal(&body),
        )
    };
    let parts = key.names().join(", ");
    let keys = |after: &str| -> Result<String> {
        let behind = format!("(SELECT * FROM {log} WHERE seq > {after}) behind");
        let mut keys = format!("SELECT DISTINCT {parts} FROM {behind} WHERE key IS NOT NULL");
        for join in 0..sources.joins.len() {
            keys = format!("{keys} UNION {}", sources.expansion(join, &behind)?);
        }
        Ok(keys)
    };
    let logged = format!(
        "LEFT JOIN LATERAL (SELECT {parts} FROM ({}) k WHERE l.log IS DISTINCT FROM $2 OFFSET 0) k ON true
         LEFT JOIN LATERAL ({} OFFSET 0) t ON true",
        keys("l.after")?,
        rows.select(&format!("{trusted} AND {}", key.is("t", "k")))
    );
    let all = format!(
        "LEFT JOIN LATERAL ({} OFFSET 0) t ON true",
        rows.select(&format!("{trusted} AND l.log IS DISTINCT FROM $2"))
    );
    let logged = function(WITH_LOGGED, ("l.is_more", &key.selected_of_ours("k")), &logged);
    let all = function(WITH_ALL, ("false", &rows.key_names()), &all);
    let told = Told { columns, flags: &flags, seen: &seen };
    let logged_keys = logged_keys(names, key, &told, &keys("cellar_seen.after")?);
    Ok([standing_function, alone, logged, all, logged_keys].concat())
}

/// What the functions give besides rows, and how it is selected.
struct Told<'t> {
    columns: &'t str,
    flags: &'t str,
    seen: &'t str,
}

/// The function that gives a row for what is seen, and one for each logged key of those that `keys` selects.
fn logged_keys(names: &Names, key: &KeyColumns, told: &Told<'_>, keys: &str) -> String {
    let Told { columns, flags, seen } = told;
    let [compared, declared] = key.compared("k");
    let nulls = |declared: &str| {
        let kinds = declared.split(", ").filter_map(|column| column.split_once(' '));
        kinds.map(|(_, kind)| format!("NULL::{kind}")).collect::<Vec<_>>().join(", ")
    };
    // Keys are in order, so that rows that lie together are looked up one after the other. They are said to be few, so that what joins
    // them to rows is not compiled.
    let body = format!(
        "#variable_conflict use_column
         DECLARE cellar_seen record;
         BEGIN
         SELECT s.manifest, {flags}, l.is_more, l.after INTO cellar_seen FROM {seen};
         RETURN QUERY SELECT cellar_seen.manifest, cellar_seen.filled, cellar_seen.standing, cellar_seen.emptied, cellar_seen.log,
           cellar_seen.last, cellar_seen.secured, cellar_seen.is_more, {no_key};
         IF cellar_seen.log IS DISTINCT FROM $2 THEN
           RETURN QUERY SELECT {nothing}, {compared} FROM ({keys}) k ORDER BY {order};
         END IF;
         END",
        no_key = nulls(&declared),
        nothing = nulls(columns),
        order = (KEY + 1..=KEY + key.len()).map(|place| place.to_string()).collect::<Vec<_>>().join(", "),
    );
    format!(
        "CREATE FUNCTION {}(text, text, bigint) RETURNS TABLE ({columns}, {declared}) ROWS 10 {HOW} AS {};",
        names.inside(LOGGED_KEYS),
        literal(&body),
    )
}

/// The statement that gives the state with the logged keys, each with its row, if there is one. The database hands over the first
/// while it looks for the next ones, which it does not where a function gives them.
pub(super) fn with_many_logged(names: &Names, rows: &Rows) -> String {
    let seen: Vec<_> = (0..KEY).map(|place| format!("s.o{place}")).collect();
    format!(
        "SELECT {}, {}, {} FROM {}($1, $2, $3) s LEFT JOIN LATERAL ({} OFFSET 0) t ON true",
        seen.join(", "),
        rows.key.selected_of_ours("s"),
        rows.names(),
        names.inside(LOGGED_KEYS),
        rows.select(&rows.key.is("t", "s")),
    )
}
