//! Rows in SQLite.

use super::{Failure, Finder, Item, Rows, schema, sum};
use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::{Find, Found};
use rusqlite::types::ValueRef;
use rusqlite::{Connection, params};
use std::path::Path;

/// A way in which SQLite makes commits last.
pub struct Journal {
    pub name: &'static str,
    settings: &'static str,
    /// Whether a commit lasts when power fails.
    pub synced: bool,
}

/// A write-ahead log as many programs have it, and what is used where nothing else is set.
pub const JOURNALS: [Journal; 3] = [
    Journal {
        name: "write-ahead log, not synced",
        settings: "PRAGMA journal_mode = wal; PRAGMA synchronous = normal",
        synced: false,
    },
    Journal {
        name: "write-ahead log",
        settings: "PRAGMA journal_mode = wal; PRAGMA synchronous = full",
        synced: true,
    },
    Journal {
        name: "rollback journal",
        settings: "PRAGMA journal_mode = delete; PRAGMA synchronous = full",
        synced: true,
    },
];

const INSERT: &str = "INSERT INTO items(id, title, description, category, found_on, value_pence) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";

pub struct Sqlite {
    connection: Connection,
    cellar: Option<SqliteCellar>,
}

impl Sqlite {
    pub fn create(file: &Path, journal: &Journal) -> Result<Self, Failure> {
        let connection = Connection::open(file)?;
        connection.execute_batch(journal.settings)?;
        connection.execute_batch(
            "CREATE TABLE items(
                 id INTEGER PRIMARY KEY, title TEXT NOT NULL, description TEXT NOT NULL, category TEXT NOT NULL,
                 found_on TEXT NOT NULL, value_pence INTEGER NOT NULL, note TEXT)",
        )?;
        Ok(Self { connection, cellar: None })
    }

    /// With nothing but a trigger that notes the key of each new row in a table of two columns: as little as a log can cost.
    pub fn with_bare_log(self) -> Result<Self, Failure> {
        self.connection.execute_batch(
            "CREATE TABLE bare_log(seq INTEGER PRIMARY KEY, key);
             CREATE TRIGGER logged AFTER INSERT ON items BEGIN INSERT INTO bare_log(key) VALUES (new.id); END",
        )?;
        Ok(self)
    }

    fn cellar(&self) -> Result<&SqliteCellar, Failure> {
        Ok(self.cellar.as_ref().ok_or("no search was put on the table")?)
    }
}

fn insert(connection: &Connection, item: &Item) -> Result<(), Failure> {
    let Item { id, title, description, category, found_on, value_pence, .. } = item;
    let (id, value) = (i64::try_from(*id)?, i64::try_from(*value_pence)?);
    connection.prepare_cached(INSERT)?.execute(params![id, title, description, category, found_on, value])?;
    Ok(())
}

impl Rows for Sqlite {
    const NAME: &'static str = "SQLite";

    fn insert_all(&mut self, items: &[Item]) -> Result<(), Failure> {
        let transaction = self.connection.transaction()?;
        for item in items {
            insert(&transaction, item)?;
        }
        Ok(transaction.commit()?)
    }

    fn insert(&mut self, item: &Item) -> Result<(), Failure> {
        insert(&self.connection, item)
    }

    fn set_note(&mut self, id: u64) -> Result<(), Failure> {
        let mut update =
            self.connection.prepare_cached("UPDATE items SET note = 'seen' || ?1 WHERE id = ?1")?;
        update.execute([i64::try_from(id)?])?;
        Ok(())
    }

    fn retitle(&mut self, items: &[Item]) -> Result<(), Failure> {
        let transaction = self.connection.unchecked_transaction()?;
        let mut update = transaction.prepare("UPDATE items SET title = ?2 WHERE id = ?1")?;
        for item in items {
            update.execute(params![i64::try_from(item.id)?, item.title])?;
        }
        drop(update);
        Ok(transaction.commit()?)
    }

    fn texts(&mut self, ids: &[i64], each: &mut dyn FnMut(&str)) -> Result<(), Failure> {
        let sql = "SELECT title, description, category, found_on, value_pence FROM items WHERE id = ?1";
        let mut select = self.connection.prepare_cached(sql)?;
        for id in ids {
            select.query_row([id], |row| {
                each(row.get_ref(0)?.as_str()?);
                each(row.get_ref(1)?.as_str()?);
                Ok(())
            })?;
        }
        Ok(())
    }

    fn scan(&mut self) -> Result<u64, Failure> {
        let sql = "SELECT id, title, description, category, found_on, value_pence FROM items ORDER BY id";
        let mut scan = self.connection.prepare(sql)?;
        let (mut rows, mut count) = (scan.query([])?, 0);
        while let Some(row) = rows.next()? {
            count +=
                u64::from((0..6).all(|place| !matches!(row.get_ref(place), Ok(ValueRef::Null) | Err(_))));
        }
        Ok(count)
    }

    fn adopt(&mut self) -> Result<(), Failure> {
        self.cellar = Some(SqliteCellar::adopt(&self.connection, "items", &schema())?);
        Ok(())
    }

    fn reopen(&mut self) -> Result<(), Failure> {
        self.cellar = Some(SqliteCellar::open(&self.connection, "items")?);
        Ok(())
    }

    fn find(&mut self, text: &str) -> Result<Found, Failure> {
        Ok(self.cellar()?.find(&self.connection, text, &Find::new())?)
    }

    fn ask(&mut self) -> Result<(), Failure> {
        let mut state = self
            .connection
            .prepare_cached("SELECT manifest, filled, source, triggers FROM cellar_items_state")?;
        state.query_row([], |row| Ok(row.get_ref(0)?.as_blob().map(<[u8]>::len)?))?;
        let mut log = self.connection.prepare_cached("SELECT seq, source, key FROM cellar_items_log")?;
        log.exists([])?;
        Ok(())
    }

    fn fetched(&mut self) -> Result<(u64, u64), Failure> {
        let cellar = self.cellar()?;
        // Before `info` reads everything.
        let fetched = cellar.fetched();
        Ok((fetched, sum(&cellar.info(&self.connection)?)))
    }

    fn sync(&mut self) -> Result<(), Failure> {
        self.cellar()?.sync(&self.connection)?;
        Ok(())
    }

    fn compact(&mut self) -> Result<(), Failure> {
        self.cellar()?.compact(&self.connection)?;
        Ok(())
    }

    fn after_and_before(
        &mut self,
        items: &[Item],
        work: &mut dyn FnMut(Finder<'_>, Finder<'_>) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let file = self.connection.path().ok_or("a database in memory has one connection")?;
        let mut earlier = Connection::open(file)?;
        let earlier = earlier.transaction()?;
        // Reads, and so sees nothing that comes later.
        let cellar = SqliteCellar::open(&earlier, "items")?;
        self.retitle(items)?;
        let later = self.connection.unchecked_transaction()?;
        let find = |cellar: &SqliteCellar, connection: &Connection, text: &str| {
            cellar.find(connection, text, &Find::new())?;
            Ok(())
        };
        work(&mut |text| find(self.cellar()?, &later, text), &mut |text| find(&cellar, &earlier, text))
    }
}
