//! Rows in PostgreSQL.

use super::{Failure, Finder, Item, Rows, schema, sum};
use nut_cellar::postgres::PostgresCellar;
use nut_cellar::{Find, Found};
use postgres::{Client, IsolationLevel, NoTls, Statement, Transaction};

pub struct PostgreSql {
    client: Client,
    address: String,
    name: String,
    insert: Statement,
    set_note: Statement,
    cellar: Option<PostgresCellar>,
}

impl PostgreSql {
    /// A fresh table, with this name, in a database that is there.
    pub fn create(address: &str, name: &str) -> Result<Self, Failure> {
        let mut client = Client::connect(address, NoTls)?;
        client.batch_execute(&format!(
            "CREATE TABLE {name}(
                 id bigint PRIMARY KEY, title text NOT NULL, description text NOT NULL, category text NOT NULL,
                 found_on date NOT NULL, value_pence bigint NOT NULL, note text)"
        ))?;
        let insert = client.prepare(&format!(
            "INSERT INTO {name}(id, title, description, category, found_on, value_pence)
             VALUES ($1, $2, $3, $4, ($5::text)::date, $6)"
        ))?;
        let set_note = client.prepare(&format!("UPDATE {name} SET note = 'seen' WHERE id = $1"))?;
        Ok(Self {
            client,
            address: address.to_owned(),
            name: name.to_owned(),
            insert,
            set_note,
            cellar: None,
        })
    }
}

impl Rows for PostgreSql {
    const NAME: &'static str = "PostgreSQL";

    fn insert_all(&mut self, items: &[Item]) -> Result<(), Failure> {
        fn all<T>(items: &[Item], of: impl Fn(&Item) -> T) -> Vec<T> {
            items.iter().map(of).collect()
        }
        let number = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        let sql = format!(
            "INSERT INTO {}(id, title, description, category, found_on, value_pence)
             SELECT id, title, description, category, found_on::date, value_pence
             FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::text[], $6::bigint[])
                  AS item(id, title, description, category, found_on, value_pence)",
            self.name
        );
        self.client.execute(
            &sql,
            &[
                &all(items, |item| number(item.id)),
                &all(items, |item| item.title.as_str().to_owned()),
                &all(items, |item| item.description.as_str().to_owned()),
                &all(items, |item| item.category),
                &all(items, |item| item.found_on.as_str().to_owned()),
                &all(items, |item| number(item.value_pence)),
            ],
        )?;
        Ok(())
    }

    fn insert(&mut self, item: &Item) -> Result<(), Failure> {
        let Item { id, title, description, category, found_on, value_pence, .. } = item;
        let (id, value) = (i64::try_from(*id)?, i64::try_from(*value_pence)?);
        self.client.execute(&self.insert, &[&id, title, description, category, found_on, &value])?;
        Ok(())
    }

    fn set_note(&mut self, id: u64) -> Result<(), Failure> {
        self.client.execute(&self.set_note, &[&i64::try_from(id)?])?;
        Ok(())
    }

    fn retitle(&mut self, items: &[Item]) -> Result<(), Failure> {
        let sql = format!(
            "UPDATE {0} SET title = new.title
             FROM unnest($1::bigint[], $2::text[]) AS new(id, title) WHERE {0}.id = new.id",
            self.name
        );
        let ids: Vec<_> = items.iter().map(|item| i64::try_from(item.id)).collect::<Result<_, _>>()?;
        let titles: Vec<_> = items.iter().map(|item| item.title.as_str()).collect();
        self.client.execute(&sql, &[&ids, &titles])?;
        Ok(())
    }

    fn texts(&mut self, ids: &[i64], each: &mut dyn FnMut(&str)) -> Result<(), Failure> {
        let sql = format!(
            "SELECT title, description, category, found_on::text, value_pence FROM {} WHERE id = ANY ($1)",
            self.name
        );
        for row in self.client.query(&sql, &[&ids])? {
            each(row.try_get(0)?);
            each(row.try_get(1)?);
        }
        Ok(())
    }

    fn scan(&mut self) -> Result<u64, Failure> {
        let mut transaction = self.client.transaction()?;
        let sql = format!(
            "DECLARE scan NO SCROLL CURSOR FOR
             SELECT id, title, description, category, found_on::text, value_pence::text FROM {}",
            self.name
        );
        transaction.batch_execute(&sql)?;
        let mut count = 0;
        loop {
            let rows = transaction.query("FETCH 1000 FROM scan", &[])?;
            if rows.is_empty() {
                return Ok(count);
            }
            for row in rows {
                count += u64::from(!row.try_get::<_, &str>(1)?.is_empty());
            }
        }
    }

    fn adopt(&mut self) -> Result<(), Failure> {
        let schema = schema().from_table(&self.name);
        self.cellar = Some(PostgresCellar::adopt(&mut self.client, &self.name, &schema)?);
        self.client.batch_execute("ANALYZE")?;
        Ok(())
    }

    fn reopen(&mut self) -> Result<(), Failure> {
        self.cellar = Some(PostgresCellar::open(&mut self.client, &self.name)?);
        Ok(())
    }

    fn find(&mut self, text: &str) -> Result<Found, Failure> {
        let cellar = self.cellar.as_ref().ok_or("no search was put on the table")?;
        Ok(cellar.find(&mut self.client, text, &Find::new())?)
    }

    fn ask(&mut self) -> Result<(), Failure> {
        self.client.query_typed("SELECT 1", &[])?;
        Ok(())
    }

    fn fetched(&mut self) -> Result<(u64, u64), Failure> {
        let cellar = self.cellar.as_ref().ok_or("no search was put on the table")?;
        // Before `info` reads everything.
        let fetched = cellar.fetched();
        Ok((fetched, sum(&cellar.info(&mut self.client)?)))
    }

    fn sync(&mut self) -> Result<(), Failure> {
        let cellar = self.cellar.as_ref().ok_or("no search was put on the table")?;
        cellar.sync(&mut self.client)?;
        Ok(())
    }

    fn compact(&mut self) -> Result<(), Failure> {
        let cellar = self.cellar.as_ref().ok_or("no search was put on the table")?;
        cellar.compact(&mut self.client)?;
        Ok(())
    }

    fn after_and_before(
        &mut self,
        items: &[Item],
        work: &mut dyn FnMut(Finder<'_>, Finder<'_>) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        let mut earlier = Client::connect(&self.address, NoTls)?;
        let mut earlier =
            earlier.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start()?;
        // Reads, and so sees nothing that comes later.
        let cellar = PostgresCellar::open(&mut earlier, &self.name)?;
        self.retitle(items)?;
        let own = self.cellar.as_ref().ok_or("no search was put on the table")?;
        let mut later =
            self.client.build_transaction().isolation_level(IsolationLevel::RepeatableRead).start()?;
        let find = |cellar: &PostgresCellar, transaction: &mut Transaction<'_>, text: &str| {
            cellar.find(transaction, text, &Find::new())?;
            Ok(())
        };
        work(&mut |text| find(own, &mut later, text), &mut |text| find(&cellar, &mut earlier, text))
    }
}
