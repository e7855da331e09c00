//! An application that keeps its rows with sqlx, in PostgreSQL, and searches them:
//! `cargo run -p nut-cellar-examples --bin beside_sqlx -- postgres://…`, with an empty database.
//!
//! sqlx has its pool; searches have connections of their own, on threads where they may block. Nothing tells the search of a change:
//! triggers do, whoever writes.

use nut_cellar::postgres::PostgresCellar;
use nut_cellar::{Column, Find, Key, Schema};
use postgres::{Client, NoTls};
use sqlx::PgPool;
use std::error::Error;
use std::sync::{Arc, Mutex, PoisonError};

type Failure = Box<dyn Error + Send + Sync>;

/// The search, for as many tasks as there are.
struct Search {
    address: String,
    cellar: PostgresCellar,
    /// Connections that no task uses at the moment.
    idle: Mutex<Vec<Client>>,
}

impl Search {
    fn adopt(address: String) -> Result<Self, Failure> {
        let mut client = Client::connect(&address, NoTls)?;
        let schema = Schema::new("id")
            .with("title", Column::text("en").weighing(4.0))
            .with("remarks", Column::text("en"));
        let cellar = PostgresCellar::adopt(&mut client, "items", &schema)?;
        Ok(Self { address, cellar, idle: Mutex::new(vec![client]) })
    }

    /// The keys of the rows that fit best, in order.
    async fn keys(self: &Arc<Self>, typed: &str) -> Result<Vec<i64>, Failure> {
        let (search, typed) = (Arc::clone(self), typed.to_owned());
        let found = tokio::task::spawn_blocking(move || -> Result<_, Failure> {
            let idle = || search.idle.lock().unwrap_or_else(PoisonError::into_inner);
            let waiting = idle().pop();
            let mut client = match waiting {
                Some(client) => client,
                None => Client::connect(&search.address, NoTls)?,
            };
            let found = search.cellar.find(&mut client, &typed, &Find::new().without_values())?;
            idle().push(client);
            Ok(found)
        });
        let keys = found.await??.hits.into_iter().filter_map(|hit| match hit.key {
            Key::Integer(key) => Some(key),
            _ => None,
        });
        Ok(keys.collect())
    }
}

/// The rows of keys, with whatever else the application knows of them.
async fn rows(pool: &PgPool, keys: &[i64]) -> Result<Vec<(i64, String)>, Failure> {
    let sql = "SELECT items.id, items.title FROM unnest($1) WITH ORDINALITY AS hit(id, rank)
               JOIN items USING (id) ORDER BY hit.rank";
    Ok(sqlx::query_as(sql).bind(keys).fetch_all(pool).await?)
}

async fn show(search: &Arc<Search>, pool: &PgPool, typed: &str) -> Result<(), Failure> {
    let keys = search.keys(typed).await?;
    println!("{typed}:");
    for (id, title) in rows(pool, &keys).await? {
        println!("  {id}  {title}");
    }
    Ok(())
}

#[tokio::main]
async fn main() -> Result<(), Failure> {
    let address = std::env::args().nth(1).ok_or("name an empty database: beside_sqlx postgres://…")?;
    if address == "--help" {
        println!("beside_sqlx postgres://…: rows that sqlx keeps in an empty database, and search on them");
        return Ok(());
    }
    let pool = PgPool::connect(&address).await?;
    sqlx::query("CREATE TABLE items(id bigint PRIMARY KEY, title text NOT NULL, remarks text NOT NULL)")
        .execute(&pool)
        .await?;
    sqlx::query(
        "INSERT INTO items VALUES (1, 'Walnut box', 'brass hinge'), (2, 'Umbrella', 'walnut handle'),
           (3, 'Left glove', 'smells of kippers')",
    )
    .execute(&pool)
    .await?;
    let search = tokio::task::spawn_blocking(move || Search::adopt(address)).await??;
    let search = Arc::new(search);
    show(&search, &pool, "walnut").await?;

    // What is not committed yet, others don't find.
    let mut transaction = pool.begin().await?;
    sqlx::query("INSERT INTO items VALUES (4, 'Two walnuts', '')").execute(&mut *transaction).await?;
    show(&search, &pool, "walnuts").await?;
    transaction.commit().await?;
    show(&search, &pool, "walnuts").await?;

    // Several at once.
    let (boxes, gloves) = tokio::try_join!(search.keys("box"), search.keys("glove OR umbrella"))?;
    println!("{} and {} found at once.", boxes.len(), gloves.len());
    Ok(())
}
