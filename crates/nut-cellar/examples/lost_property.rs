//! Search inside an application that has its rows in SQLite: `cargo run --example lost_property`
//!
//! The application is the lost-property office of the Quillmere Light Railway. It goes on using its tables with plain SQL,
//! and searches agree with them at every moment.

use nut_cellar::sqlite::SqliteCellar;
use nut_cellar::sqlite::rusqlite::Connection;
use nut_cellar::{Column, Find, Kind, Marks, Schema};
use std::error::Error;

fn main() -> Result<(), Box<dyn Error>> {
    let mut db = Connection::open_in_memory()?;
    fill(&mut db)?;

    // These lines put search on the table.
    let schema = Schema::new("id")
        .with("title", Column::text("en").weighing(4.0))
        .with("description", Column::text("en"))
        .with("found_on", Column::of(Kind::Date));
    let cellar = SqliteCellar::adopt(&db, "items", &schema)?;

    println!("Walnut boxes, best first:");
    show(&cellar, &db, "walnut box", &Find::new().limit(3))?;

    println!("\nThe same words, but the description counts most:");
    show(&cellar, &db, "walnut box", &Find::new().limit(3).weight("title", 0.5).weight("description", 8.0))?;

    println!("\nA row that was put in a moment ago, in a transaction that is still open:");
    let transaction = db.transaction()?;
    transaction.execute(
        "INSERT INTO items VALUES (9001, 'Submarine periscope', 'Dripping. No walnuts inside.', '2031-12-30')",
        [],
    )?;
    show(&cellar, &transaction, "periscopes", &Find::new())?;
    transaction.rollback()?;

    println!("\nAnd after a rollback:");
    show(&cellar, &db, "periscopes", &Find::new())?;

    // Now and then, so that searches need not read changed rows again.
    cellar.sync(&db)?;
    Ok(())
}

fn show(cellar: &SqliteCellar, db: &Connection, query: &str, find: &Find) -> Result<(), Box<dyn Error>> {
    let found = cellar.find(db, query, &find.clone().with_marks())?;
    let marks = Marks::new("[", "]");
    for hit in &found.hits {
        let (title, excerpt) = (hit.marked("title", &marks), hit.excerpt("description", 50, &marks));
        println!("  {:>4}  {:.3}  {}  {title}  {excerpt}", hit.key, hit.score, hit.shown("found_on"));
    }
    println!("  {} found", found.total);
    Ok(())
}

/// The application's own table, filled as applications do.
fn fill(db: &mut Connection) -> Result<(), Box<dyn Error>> {
    db.execute_batch(
        "CREATE TABLE items(id INTEGER PRIMARY KEY, title TEXT, description TEXT, found_on TEXT)",
    )?;
    let transaction = db.transaction()?;
    let mut rows = csv::Reader::from_path(concat!(env!("CARGO_MANIFEST_DIR"), "/../../data/items.csv"))?;
    for row in rows.records() {
        let row = row?;
        transaction
            .execute("INSERT INTO items VALUES (?1, ?2, ?3, ?4)", [&row[0], &row[1], &row[2], &row[6]])?;
    }
    Ok(transaction.commit()?)
}
