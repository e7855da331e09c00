//! Search in memory, in twenty lines: `cargo run --example in_memory`

use nut_cellar::{Cellar, Column, Find, Marks, Record, Result, Schema};

fn main() -> Result<()> {
    let schema =
        Schema::new("no").with("title", Column::text("en").weighing(4.0)).with("notes", Column::text("en"));
    let cellar = Cellar::in_memory(schema)?;
    cellar.publish(|batch| {
        batch.put(
            &Record::new(17).with("title", "Walnut box").with("notes", "two brass hinges, one missing"),
        )?;
        batch.put(&Record::new(18).with("title", "Brass doorknob").with("notes", "found in a walnut box"))?;
        batch.put(&Record::new(19).with("title", "Three umbrellas").with("notes", "dripping <since> Tuesday"))
    })?;

    for query in ["walnut boxes", "\"walnut box\" title:brass", "umbrella drips"] {
        println!("{query}");
        let marks = Marks::new("<mark>", "</mark>").escaping_html();
        for hit in cellar.find(query, &Find::new().limit(5).with_marks())?.hits {
            println!("  {}  {:.3}  {}", hit.key, hit.score, hit.marked("notes", &marks));
        }
    }
    Ok(())
}
